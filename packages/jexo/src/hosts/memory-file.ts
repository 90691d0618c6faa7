import { appendFile, chmod, open, readFile, rm, stat } from 'node:fs/promises';
import { isTalkEntry, type Memory } from '../conversation/memory.js';
import { JexoError, messageOf } from '../errors.js';
import type { TalkEntry } from '../models/model.js';

/** A memory in a file, and what of it could not be read. */
export interface FileMemory extends Memory {
  /** Lines that are not entries of a conversation, by their number; they are passed over and stay in the file. */
  unreadable(): readonly number[];
}

/**
 * Keeps a conversation in a file, a line of JSON for each entry. It goes on where it ended, also after the process was killed. The file can be
 * read by its owner alone.
 *
 * @throws JexoError JEXO_MEMORY when the file cannot be read or written
 * @example
 * await converse({ clients, request, memory: fileMemory('conversation.jsonl') });
 */
export function fileMemory(file: string): FileMemory {
  let bad: number[] = [];
  const fail = (what: string, error: unknown) =>
    new JexoError('JEXO_MEMORY', `The conversation in ${file} cannot be ${what}: ${messageOf(error)}`, { where: file, cause: error });
  return {
    unreadable: () => bad,
    async entries() {
      let text: string;
      try {
        text = await readFile(file, 'utf8');
      } catch (error) {
        if ((error as NodeJS.ErrnoException).code === 'ENOENT') return [];
        throw fail('read', error);
      }
      bad = [];
      return text.split('\n').flatMap((line, index): TalkEntry[] => {
        if (line.trim() === '') return [];
        const entry = parsed(line);
        if (isTalkEntry(entry)) return [entry];
        bad.push(index + 1);
        return [];
      });
    },
    async add(entries) {
      const text = entries.map((entry) => `${JSON.stringify(entry)}\n`).join('');
      try {
        // What a killed process left without an end must not swallow the next line.
        const start = (await endsWithLine(file)) ? text : `\n${text}`;
        const before = await stat(file).then(
          ({ size }) => size,
          () => 0,
        );
        await appendFile(file, start, { mode: 0o600 });
        await chmod(file, 0o600);
        if ((await stat(file)).size < before + Buffer.byteLength(start)) throw new Error('it does not hold what was written');
      } catch (error) {
        throw fail('written', error);
      }
    },
    async clear() {
      try {
        await rm(file, { force: true });
      } catch (error) {
        throw fail('removed', error);
      }
      bad = [];
    },
  };
}

function parsed(line: string): unknown {
  try {
    return JSON.parse(line);
  } catch {
    return undefined; // counted as unreadable by whoever asks
  }
}

async function endsWithLine(file: string): Promise<boolean> {
  let handle;
  try {
    handle = await open(file, 'r');
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === 'ENOENT') return true;
    throw error;
  }
  try {
    const { size } = await handle.stat();
    if (size === 0) return true;
    const { buffer } = await handle.read(Buffer.alloc(1), 0, 1, size - 1);
    return buffer[0] === 0x0a;
  } finally {
    await handle.close();
  }
}
