import { createReadStream } from 'node:fs';
import { createInterface } from 'node:readline';
import type { FileHandle } from 'node:fs/promises';
import { JexoError } from '../../errors.js';
import type { FilePart } from './folder-uri.js';

/** Reads a part of an opened file. @throws JexoError JEXO_TOO_LARGE for more than `most` bytes */
export async function readPart(handle: FileHandle, { of, from, to }: FilePart, most: number): Promise<Buffer> {
  if (of === 'bytes') {
    const wanted = Math.max(0, to - from + 1);
    if (wanted > most) throw tooMuch(most);
    const into = Buffer.alloc(wanted);
    const { bytesRead } = await handle.read(into, 0, wanted, from);
    return into.subarray(0, bytesRead);
  }
  const lines: string[] = [];
  let [number, size] = [0, 0];
  const stream = createReadStream('', { fd: handle, autoClose: false, start: 0 });
  const reader = createInterface({ input: stream, crlfDelay: Infinity });
  try {
    for await (const line of reader) {
      number += 1;
      if (number < from) continue;
      if (number > to) break;
      size += line.length;
      if (size > most) throw tooMuch(most);
      lines.push(line);
    }
  } finally {
    reader.close();
    stream.destroy();
  }
  return Buffer.from(lines.join('\n'));
}

const tooMuch = (most: number) =>
  new JexoError('JEXO_TOO_LARGE', `The part has more than ${most.toLocaleString('en')} bytes, the most that is read at once.`, {
    next: 'Ask for fewer lines or bytes.',
  });
