import { createHash } from 'node:crypto';
import { existsSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { basename, dirname, extname, join } from 'node:path';
import { fileURLToPath, pathToFileURL } from 'node:url';
import { cacheFolder, isOurs, isOwnFile } from '../own-folder.js';

/** A module's compiled file, and the files it was made of. */
export interface Compiled {
  /** A `file:` URL to import. */
  readonly entry: string;
  readonly files: readonly string[];
}

interface Note {
  readonly made: number;
  /** Hashes of all it was made of, and of the configuration that changes what it means; empty for a file that is not there. */
  readonly files: Readonly<Record<string, string>>;
  readonly sources: readonly string[];
  /** Packages that are loaded from their places. */
  readonly packages: readonly string[];
  readonly code: string;
}

/** Raised whenever the same files would be compiled otherwise. */
const made = 2;

/**
 * The compiled file of an earlier start, when nothing has changed that it was made of. Starting the bundler costs more than all else
 * a start does.
 */
export function compiledBefore(file: string): Compiled | undefined {
  const folder = compiledFolder();
  try {
    const place = join(folder, `${nameOf(file)}.json`);
    if (!isOwnFile(place)) return undefined;
    const note = JSON.parse(readFileSync(place, 'utf8')) as Note;
    if (note.made !== made || !Object.entries(note.files).every(([path, content]) => hashFile(path) === content)) return undefined;
    if (!note.packages.every((path) => existsSync(path))) return undefined;
    const target = join(folder, `${nameOf(file)}-${note.code}.mjs`);
    return isOwnFile(target) && hashFile(target) === note.code ? { entry: pathToFileURL(target).href, files: note.sources } : undefined;
  } catch {
    return undefined; // not compiled yet, or cut short
  }
}

/** Writes a compiled module down for this start and later ones. */
export function keepCompiled(file: string, code: string, files: readonly string[], imports: readonly string[]): Compiled {
  const folder = compiledFolder();
  const content = hash(code);
  const target = join(folder, `${nameOf(file)}-${content}.mjs`);
  if (!isOwnFile(target) || hashFile(target) !== content) writeWhole(target, code);
  const note: Note = {
    made,
    files: Object.fromEntries([...files, ...configurationOf(file)].map((path) => [path, hashFile(path)])),
    sources: files,
    packages: imports.filter((path) => path.startsWith('file:')).map((path) => fileURLToPath(path)),
    code: content,
  };
  writeWhole(join(folder, `${nameOf(file)}.json`), JSON.stringify(note));
  return { entry: pathToFileURL(target).href, files };
}

function compiledFolder(): string {
  const folder = join(cacheFolder(), 'compiled');
  isOurs(folder);
  return folder;
}

/** Configuration of the project that changes how a module is compiled, whether it is there or not. */
function configurationOf(file: string): string[] {
  const found: string[] = [];
  for (let folder = dirname(file); ; folder = dirname(folder)) {
    found.push(join(folder, 'tsconfig.json'), join(folder, 'package.json'));
    if (folder === dirname(folder)) return found;
  }
}

/** Beside it first, so that another process never reads half of it. */
function writeWhole(target: string, text: string): void {
  const draft = `${target}.${process.pid}`;
  writeFileSync(draft, text, { mode: 0o600 });
  renameSync(draft, target);
}

const nameOf = (file: string) => `${basename(file, extname(file))}-${hash(file)}`;

function hashFile(path: string): string {
  try {
    return hash(readFileSync(path));
  } catch {
    return '';
  }
}

function hash(content: string | Buffer): string {
  return createHash('sha256').update(content).digest('hex').slice(0, 24);
}
