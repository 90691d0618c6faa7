import { randomBytes } from 'node:crypto';
import { closeSync, fsyncSync, openSync, readFileSync, renameSync, rmSync, writeSync } from 'node:fs';

/** Writes a file in one step, for its owner alone, and reads it back. @throws what the file system throws; nothing has changed then */
export function writePrivate(file: string, text: string): void {
  const passing = `${file}.${randomBytes(4).toString('hex')}.new`;
  try {
    const handle = openSync(passing, 'wx', 0o600);
    try {
      writeSync(handle, text);
      fsyncSync(handle);
    } finally {
      closeSync(handle);
    }
    renameSync(passing, file);
    if (readFileSync(file, 'utf8') !== text) throw new Error('it holds something else than was written');
  } catch (error) {
    rmSync(passing, { force: true });
    throw error;
  }
}
