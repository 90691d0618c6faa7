import { readdirSync, readFileSync, statSync, type Dirent } from 'node:fs';
import { realpath, stat } from 'node:fs/promises';
import { setImmediate } from 'node:timers/promises';
import ignore, { type Ignore } from 'ignore';
import { JexoError, messageOf } from '../../errors.js';
import { plainPath } from './safe-path.js';

/** A file of a folder. */
export interface FolderFile {
  /** Parts joined by slashes, from the folder on. */
  readonly path: string;
  readonly size: number;
  readonly modified: Date;
  /** How many names it has, all of them in the folder. */
  readonly links: number;
}

/** Which files of a folder are offered. */
export interface ScanOptions {
  /** Only files that one of these patterns matches, as in an ignore file: `*.md`, `plans/**`. */
  readonly only?: readonly string[];
  /** All but what these match. */
  readonly except?: readonly string[];
  /** Obeys `.gitignore` and `.ignore` files. Default true. */
  readonly ignoreFiles?: boolean;
  /** Files at most; what is beyond is not offered. Default 10,000. */
  readonly maxFiles?: number;
  /** Bytes of one file; larger ones are not offered. Default 64 MB. */
  readonly maxFileBytes?: number;
}

/** What a scan has found. */
export interface Scan {
  readonly files: readonly FolderFile[];
  /** How many were passed over, by the reason. */
  readonly passed: Readonly<Record<string, number>>;
}

/** @throws JexoError JEXO_TARGET_MISSING when the folder is not there or is none */
export async function realFolder(path: string): Promise<string> {
  try {
    const real = await realpath(path);
    if (!(await stat(real)).isDirectory()) throw new Error('it is a file');
    return real;
  } catch (error) {
    throw new JexoError('JEXO_TARGET_MISSING', `The folder ${path} cannot be read: ${messageOf(error)}`, { where: path, cause: error });
  }
}

/** The scan reads synchronously, which takes a tenth of the time, and lets others go on after so many milliseconds. */
const portionMs = 10;

interface Rule {
  readonly base: string;
  readonly rule: Ignore;
}

/** Lists the files of a folder. Hidden ones, `node_modules` and links are passed over. */
export async function scanFolder(root: string, options: ScanOptions, signal: AbortSignal): Promise<Scan> {
  const { only, except = [], ignoreFiles = true, maxFiles = 10_000, maxFileBytes = 64 * 1024 * 1024 } = options;
  const wanted = only && ignore().add([...only]);
  const unwanted = ignore().add([...except]);
  const files: FolderFile[] = [];
  const passed: Record<string, number> = {};
  const pass = (why: string) => void (passed[why] = (passed[why] ?? 0) + 1);
  const names = new Map<string, string[]>();
  let until = performance.now() + portionMs;
  const visit = async (folder: string, above: readonly Rule[]): Promise<void> => {
    if (performance.now() > until) {
      await setImmediate();
      until = performance.now() + portionMs;
    }
    signal.throwIfAborted();
    const entries = readdirSync(`${root}/${folder}`, { withFileTypes: true });
    const rules = ignoreFiles ? [...above, ...rulesIn(root, folder, entries)] : above;
    for (const entry of entries.sort((a, b) => (a.name < b.name ? -1 : 1))) {
      const path = folder === '' ? entry.name : `${folder}/${entry.name}`;
      if (entry.name.startsWith('.') || entry.name === 'node_modules') continue;
      if (entry.isSymbolicLink()) pass('links');
      else if (plainPath(path) === undefined) pass('names');
      else if (
        rules.some(({ base, rule }) =>
          rule.ignores(
            base === '' ? path + (entry.isDirectory() ? '/' : '') : path.slice(base.length + 1) + (entry.isDirectory() ? '/' : ''),
          ),
        )
      )
        pass('ignored');
      else if (entry.isDirectory()) await visit(path, rules);
      else if (!entry.isFile()) pass('special files');
      else if ((except.length > 0 && unwanted.ignores(path)) || (wanted !== undefined && !wanted.ignores(path))) pass('excluded');
      else {
        const found = statSync(`${root}/${path}`, { throwIfNoEntry: false });
        if (found === undefined) continue; // removed while the folder was read
        if (found.size > maxFileBytes) pass('too large');
        else if (files.length >= maxFiles) pass('too many');
        else {
          files.push({ path, size: found.size, modified: found.mtime, links: found.nlink });
          if (found.nlink > 1)
            names.set(`${found.dev} ${found.ino} ${found.nlink}`, [...(names.get(`${found.dev} ${found.ino} ${found.nlink}`) ?? []), path]);
        }
      }
    }
  };
  await visit('', []);
  // A file with more names than lie in the folder has one elsewhere.
  const outside = new Set([...names].flatMap(([id, own]) => (Number(id.split(' ')[2]) > own.length ? own : [])));
  for (const _ of outside) pass('hard links');
  return { files: files.filter(({ path }) => !outside.has(path)), passed };
}

function rulesIn(root: string, folder: string, entries: readonly Dirent[]): Rule[] {
  const found = entries.filter((entry) => entry.isFile() && (entry.name === '.gitignore' || entry.name === '.ignore'));
  return found.map(({ name }) => ({ base: folder, rule: ignore().add(readFileSync(`${root}/${folder}/${name}`, 'utf8')) }));
}
