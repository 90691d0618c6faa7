import { constants } from 'node:fs';
import { lstat, open, realpath, type FileHandle } from 'node:fs/promises';
import { join, sep } from 'node:path';

/** Names that Windows takes for devices, whatever their ending. */
const devices = /^(?:con|prn|aux|nul|com\d|lpt\d|conin\$|conout\$)(?:\..*)?$/i;

/**
 * A path within a folder, as it stands in a URI: parts joined by slashes. Undefined for one that could mean anything else: absolute,
 * with `.` or `..`, empty parts, backslashes, colons, control characters, names of devices, or a dot or space at the end of a part.
 */
export function plainPath(text: string): string | undefined {
  if (text === '' || text.length > 4096 || text.normalize('NFC') !== text) return undefined;
  const parts = text.split('/');
  const isBad = (part: string) =>
    part === '' || /^\.\.?$|[\\:\u0000-\u001f\u007f\u2215\u2044\uff0f\ufffd]|[. ]$/.test(part) || devices.test(part);
  return parts.some(isBad) ? undefined : text;
}

/** What was opened, and how many names the file has. */
export interface OpenedFile {
  readonly handle: FileHandle;
  readonly links: number;
}

/**
 * Opens a file inside a folder and nowhere else: what was opened is compared with what lies at the path, so that nothing can be
 * put in its place meanwhile. Undefined when it is not there, is no plain file, or lies outside.
 *
 * @param root the folder's own real path
 */
export async function openInside(root: string, path: string): Promise<OpenedFile | undefined> {
  const plain = plainPath(path);
  if (plain === undefined) return undefined;
  let handle: FileHandle | undefined;
  try {
    const real = await realpath(join(root, plain));
    // A link inside the folder, and a name in other letters on a file system that takes them for the same, are not the file itself.
    if (real !== join(root, ...plain.split('/')) || !real.startsWith(root + sep)) return undefined;
    handle = await open(real, constants.O_RDONLY | constants.O_NOFOLLOW | constants.O_NONBLOCK);
    const opened = await handle.stat();
    // A folder on the way may have become a link after it was looked at, and be a folder again by now: the file itself tells.
    const there = await lstat(real);
    const isSame = there.ino === opened.ino && there.dev === opened.dev && (await realpath(real)) === real;
    if (!opened.isFile() || !isSame) throw new Error('not a file of the folder');
    return { handle, links: opened.nlink };
  } catch {
    await handle?.close();
    return undefined; // whoever asked is told that there is no such file
  }
}
