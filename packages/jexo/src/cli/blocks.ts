import { readFile, writeFile } from 'node:fs/promises';
import { join, parse } from 'node:path';
import { JexoError, messageOf } from '../errors.js';
import type { CallToolResult, ContentBlock } from '../protocol/types.js';
import { note, onErr, symbols } from './terminal.js';

/** A block of content as a terminal can show it. */
export function blockText(block: ContentBlock): string {
  switch (block.type) {
    case 'text':
      return block.text;
    case 'image':
    case 'audio':
      return `[${block.type} ${block.mimeType}, ${Math.floor((block.data.length * 3) / 4)} bytes]`;
    case 'resource':
      return 'text' in block.resource
        ? block.resource.text
        : `[${block.resource.uri}, ${Math.floor((block.resource.blob.length * 3) / 4)} bytes]`;
    case 'resource_link':
      return `${block.title ?? block.name}: ${block.uri}`;
  }
}

/** Writes what came into a file, and reads it back. @throws JexoError JEXO_USAGE */
export async function writeOut(file: string, contents: string | Uint8Array): Promise<void> {
  const bytes = Buffer.from(contents as Uint8Array);
  try {
    await writeFile(file, bytes);
    if (!(await readFile(file)).equals(bytes)) throw new Error('it does not hold what was written');
  } catch (error) {
    throw new JexoError('JEXO_USAGE', `${file} cannot be written: ${messageOf(error)}`, { where: file, cause: error });
  }
}

/**
 * Writes the images, sounds and files of an answer: into `file`, or numbered beside it when there are several. The answer has been shown
 * already, so what goes wrong is said on stderr.
 *
 * @returns true when all of them are saved
 */
export async function saveMedia({ content }: CallToolResult, file: string): Promise<boolean> {
  const found = content.flatMap((block) => {
    if (block.type === 'image' || block.type === 'audio') return [block.data];
    return block.type === 'resource' && 'blob' in block.resource ? [block.resource.blob] : [];
  });
  if (found.length === 0) note(`${onErr('ochre', symbols.warn)} The answer has no image, sound or file to save in ${file}.`);
  const { dir, name, ext } = parse(file);
  let saved = found.length > 0;
  for (const [index, data] of found.entries()) {
    const place = found.length === 1 ? file : join(dir, `${name}-${index + 1}${ext}`);
    const bytes = Buffer.from(data, 'base64');
    try {
      await writeOut(place, bytes);
      note(`${onErr('moss', symbols.ok)} ${onErr('quiet', `${place}: ${bytes.length} bytes`)}`);
    } catch (error) {
      saved = false;
      note(`${onErr('brick', symbols.failed)} ${messageOf(error)}`);
    }
  }
  return saved;
}
