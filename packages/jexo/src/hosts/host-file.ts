import { lstat, readFile, realpath, rename, rm, stat, writeFile } from 'node:fs/promises';
import { JexoError, messageOf } from '../errors.js';
import { readHostText, type HostText } from './edit-text.js';
import { changed, firstThatReads } from './verify-edit.js';
import { isEntry, readEntry, styleOf, writeEntry, type HostEntry } from './host-entry.js';

export interface HostFile {
  readonly file: string;
  /** The name by which it is read as JSON, YAML or TOML. */
  readonly named: string;
  /** The bytes as text; undefined when there is no such file. */
  readonly text: string | undefined;
  /** Where its map of servers is. Undefined when it has none and nobody has said where one goes. */
  readonly path: readonly string[] | undefined;
  readonly entries: Readonly<Record<string, HostEntry>>;
  readonly parsed: HostText;
}

/**
 * @param named the name by which it is read as JSON, YAML or TOML. Default: its own
 * @throws JexoError JEXO_HOST_FILE
 */
export async function openHostFile(file: string, under?: string, named = file): Promise<HostFile> {
  let text: string | undefined;
  try {
    text = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true }).decode(await readFile(file));
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code !== 'ENOENT')
      throw new JexoError(
        'JEXO_HOST_FILE',
        `${file} cannot be read: ${(error as NodeJS.ErrnoException).code === undefined ? 'it is not UTF-8' : messageOf(error)}.`,
        { where: file, cause: error },
      );
  }
  const parsed = readHostText(text ?? '', named);
  const path = under?.split('.') ?? parsed.path;
  const map = mapAt(parsed.value, path ?? []);
  const entries = Object.entries(path === undefined ? {} : map).flatMap(([name, value]) =>
    isEntry(value) ? [[name, readEntry(value)!] as const] : [],
  );
  return { file, named, text, path, entries: Object.fromEntries(entries), parsed };
}

function mapAt(value: unknown, path: readonly string[]): Record<string, unknown> {
  const found = path.reduce<unknown>((at, key) => (at as Record<string, unknown> | undefined)?.[key], value);
  return (found ?? {}) as Record<string, unknown>;
}

/** @throws JexoError JEXO_HOST_FILE when the file has no map of servers and nobody has said where one goes */
function knownPath({ file, path }: HostFile): readonly string[] {
  if (path !== undefined) return path;
  throw new JexoError('JEXO_HOST_FILE', `${file} has no map of servers yet, so it is not known where the entry goes.`, {
    where: file,
    next: 'Name the map your host application’s documentation gives: --under servers, or --under tools.servers for a nested one.',
  });
}

/** How the entries of a file are written. */
export const styleIn = ({ parsed, path }: HostFile) => styleOf(Object.values(path === undefined ? {} : mapAt(parsed.value, path)));

/** The text with an entry put in, written as the others are. @throws JexoError JEXO_HOST_FILE when the name is taken and may not be replaced */
export function withEntry(opened: HostFile, name: string, entry: HostEntry, replace: boolean): string {
  const { file, named, entries, parsed } = opened;
  const path = knownPath(opened);
  if (Object.hasOwn(entries, name) && !replace)
    throw new JexoError('JEXO_HOST_FILE', `${file} has an entry ${name} already.`, {
      where: `${file}#${name}`,
      next: 'Put another in its place with --replace, or choose a name with --name.',
    });
  const written = writeEntry(entry, styleIn(opened));
  return firstThatReads(named, parsed, { name, path, entry: written }, [
    (before, edit) => before.set(edit.name, written, edit.path),
    (before, edit) => before.patch?.(changed(before.value, edit) as object),
  ]);
}

/** @throws JexoError JEXO_HOST_FILE when there is no such entry */
export function entryOf({ file, entries }: HostFile, name: string): HostEntry {
  const found = Object.hasOwn(entries, name) ? entries[name] : undefined;
  if (found === undefined)
    throw new JexoError('JEXO_HOST_FILE', `${file} has no entry ${name}.`, {
      where: `${file}#${name}`,
      next: `Its entries are: ${Object.keys(entries).join(', ') || 'none'}.`,
    });
  return found;
}

/** The entry of a name in a configuration. @throws JexoError JEXO_HOST_FILE */
export async function readEntryOf(file: string, name: string): Promise<HostEntry> {
  return entryOf(await openHostFile(file), name);
}

export const backupOf = (file: string) => `${file}.before-jexo`;

/**
 * The text without an entry. Where the entry is the only thing that was changed since the backup, that is given back to the byte.
 */
export async function withoutEntry(opened: HostFile, name: string): Promise<string> {
  const entry = entryOf(opened, name);
  const path = knownPath(opened);
  const backup = await openHostFile(backupOf(opened.file), path.join('.'), opened.file).catch(() => undefined); // none that can be read
  if (backup?.text !== undefined && !Object.hasOwn(backup.entries, name)) {
    if (withEntry(backup, name, entry, false) === opened.text) return backup.text;
  }
  return firstThatReads(opened.named, opened.parsed, { name, path, entry: undefined }, [
    (before, edit) => before.remove(edit.name, edit.path),
    (before, edit) => before.patch?.(changed(before.value, edit) as object),
  ]);
}

/**
 * Writes it beside and moves it into place, through links, with the file's own rights, and reads it back. What was there is kept in a
 * backup, which is a file of its own: a link that lies in its place is not followed.
 */
export async function writeHostFile({ file, text: before }: HostFile, text: string): Promise<string | undefined> {
  try {
    const isLink = await lstat(file).then(
      (found) => found.isSymbolicLink(),
      () => false,
    );
    const real = isLink ? await realpath(file) : file;
    const mode = before === undefined ? 0o600 : (await stat(real)).mode;
    if (before !== undefined && (mode & 0o200) === 0) throw new Error('it may not be written to');
    const place = async (target: string, contents: string | Uint8Array) => {
      const beside = `${target}.${process.pid}.tmp`;
      await rm(beside, { force: true });
      await writeFile(beside, contents, { mode, flag: 'wx' });
      await rename(beside, target);
    };
    if (before !== undefined) await place(backupOf(file), await readFile(real));
    await place(real, text);
    if ((await readFile(real, 'utf8')) !== text) throw new Error('it does not hold what was written');
    return before === undefined ? undefined : backupOf(file);
  } catch (error) {
    throw new JexoError('JEXO_HOST_FILE', `${file} cannot be written: ${messageOf(error)}.`, {
      where: file,
      next: 'Change its rights, or print the entry with --print and put it in by hand.',
      cause: error,
    });
  }
}
