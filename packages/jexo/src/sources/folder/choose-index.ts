import { createHash } from 'node:crypto';
import { closeSync, existsSync, openSync, readSync, statSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { JexoError } from '../../errors.js';
import { cacheFolder } from '../../own-folder.js';
import { findPackage } from '../../optional-package.js';
import { diskIndex, indexMark, IndexLost, removeIndex } from './disk-index.js';
import { isDocument } from './documents.js';
import type { FolderIndex } from './folder-index.js';
import { memoryIndex } from './memory-index.js';
import type { FolderFile, ScanOptions } from './scan-folder.js';

/** An index that can be opened, and thrown away. */
export interface ChosenIndex {
  open(): Promise<FolderIndex>;
  discard(): void;
  /** True for one that is lost with the process. */
  readonly isInMemory: boolean;
  /** What is worth knowing about the choice, as a sentence. */
  readonly note?: string;
}

/** A folder is small up to here: its index is built at every start. */
const smallDocuments = 1000;
const smallBytes = 8 * 1024 * 1024;

/**
 * Where the index of a folder is kept.
 *
 * @throws JexoError JEXO_PACKAGE_MISSING when it shall be on disk and the package for that is missing
 * @throws JexoError JEXO_TARGET_MISSING for a path that is not ours to write to
 */
export function chooseIndex(
  wanted: string | undefined,
  {
    root,
    slug,
    options,
    files,
    embeds,
  }: { root: string; slug: string; options: ScanOptions; files: readonly FolderFile[]; embeds: boolean },
): ChosenIndex {
  const inMemory = (note?: string): ChosenIndex => ({
    open: () => Promise.resolve(memoryIndex()),
    discard: () => undefined,
    isInMemory: true,
    ...(note !== undefined && { note }),
  });
  if (wanted === 'memory') return inMemory();
  const documents = files.filter(isDocument);
  const isSmall = documents.length <= smallDocuments && documents.reduce((sum, { size }) => sum + size, 0) <= smallBytes;
  if (wanted === undefined && isSmall && !embeds) return inMemory();
  try {
    findPackage('libsql', 'libsql', 'An index on disk');
  } catch (error) {
    if (wanted !== undefined) throw error;
    return inMemory(`Its index is in memory, and is built at every start. To keep it on disk: ${(error as JexoError).next}`);
  }
  const { only, except, ignoreFiles } = options;
  const owner = JSON.stringify({ root, only, except, ignoreFiles });
  const digest = createHash('sha256').update(`2 ${owner}`).digest('hex').slice(0, 20);
  const isOwn = wanted === undefined || wanted === 'disk';
  const file = isOwn ? join(cacheFolder(), 'indexes', `${slug}-${digest}.sqlite`) : resolve(wanted);
  return {
    async open() {
      if (!isOwn) refuseForeign(file);
      try {
        return await diskIndex(file, owner);
      } catch (error) {
        if (error instanceof IndexLost && !isOwn && /another folder/.test(error.message))
          throw new JexoError('JEXO_TARGET_MISSING', `${file} cannot be the index of this folder: ${error.message}.`, {
            where: file,
            next: 'Give another path for the index.',
          });
        throw error;
      }
    },
    discard: () => removeIndex(file),
    isInMemory: false,
  };
}

/** A file that was named by hand is written to only if it can be an index. */
function refuseForeign(file: string): void {
  if (!existsSync(file) || statSync(file).size === 0) return;
  const handle = openSync(file, 'r');
  try {
    const head = Buffer.alloc(100);
    readSync(handle, head, 0, 100, 0);
    if (head.toString('latin1', 0, 16) === 'SQLite format 3\0' && head.readUInt32BE(68) === indexMark) return;
  } finally {
    closeSync(handle);
  }
  throw new JexoError('JEXO_TARGET_MISSING', `${file} is not an index of Jexo, and is left as it is.`, {
    where: file,
    next: 'Give another path for the index, or remove the file.',
  });
}
