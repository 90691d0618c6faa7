import { chmodSync, lstatSync, mkdirSync, mkdtempSync, rmSync } from 'node:fs';
import { homedir, tmpdir } from 'node:os';
import { join } from 'node:path';

/**
 * Where this user keeps what can be made again: `JEXO_CACHE`, or `jexo` in the user's cache folder. Nobody else may write there,
 * since files in it are run. Where there is no such folder, or it is not this user's alone, it is one that lives as long as the process.
 */
export function cacheFolder(): string {
  const { JEXO_CACHE, XDG_CACHE_HOME } = process.env;
  const home = homedir();
  const wanted = JEXO_CACHE || (XDG_CACHE_HOME || home ? join(XDG_CACHE_HOME || join(home, '.cache'), 'jexo') : undefined);
  return wanted !== undefined && isOurs(wanted) ? wanted : passingFolder();
}

/** Makes a folder for this user alone; false when it is somebody else's, or others may write to it. */
export function isOurs(folder: string): boolean {
  try {
    mkdirSync(folder, { recursive: true, mode: 0o700 });
    const found = lstatSync(folder);
    if (!found.isDirectory()) return false;
    const user = process.getuid?.();
    if (user === undefined) return true; // Windows: a profile's folders are the user's
    if (found.uid !== user) return false;
    if ((found.mode & 0o022) !== 0) chmodSync(folder, found.mode & ~0o022);
    return true;
  } catch {
    return false;
  }
}

/** True for a file that this user has written: what somebody else could put there is not run. */
export function isOwnFile(path: string): boolean {
  try {
    const found = lstatSync(path);
    const user = process.getuid?.();
    return found.isFile() && (user === undefined || (found.uid === user && (found.mode & 0o022) === 0));
  } catch {
    return false;
  }
}

let passing: string | undefined;

function passingFolder(): string {
  if (passing === undefined) {
    const made = mkdtempSync(join(tmpdir(), 'jexo-'));
    passing = made;
    process.once('exit', () => rmSync(made, { recursive: true, force: true }));
  }
  return passing;
}
