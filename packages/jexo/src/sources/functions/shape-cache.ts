import { createHash } from 'node:crypto';
import { mkdirSync, readFileSync, renameSync, statSync, writeFileSync } from 'node:fs';
import { dirname, join, resolve } from 'node:path';
import { cacheFolder } from '../../own-folder.js';
import { isPackageName } from './package-name.js';
import type { ModuleShape } from './shape.js';

/** Raised whenever the reader would read the same file differently. */
const readerVersion = 3;

interface Stored {
  readonly shape: ModuleShape;
  /** The content of every file the shapes came from, as a hash. */
  readonly files: Readonly<Record<string, string>>;
}

/** Reads a module's shape; a second time from the cache, without the compiler, as long as no file it came from has changed. */
export async function readCached(file: string): Promise<{ readonly shape: ModuleShape; readonly files: readonly string[] }> {
  const root = isPackageName(file) ? `${file} from ${process.cwd()}` : resolve(file);
  const place = join(cacheFolder(), `${hash(`${readerVersion} ${root}`)}.json`);
  const stored = readStored(place);
  if (stored !== undefined && Object.entries(stored.files).every(([path, content]) => hashFile(path) === content))
    return { shape: stored.shape, files: Object.keys(stored.files) };
  const { readModule } = await import('./read-module.js');
  const { files, ...shape } = readModule(file);
  const config = projectFiles(files[0] ?? root);
  store(place, { shape, files: Object.fromEntries([...files, ...config].map((path) => [path, hashFile(path)])) });
  return { shape, files };
}

/** Configuration that may change what a type means, whether it is there now or not. */
function projectFiles(root: string): string[] {
  const found: string[] = [];
  for (let folder = dirname(root); ; folder = dirname(folder)) {
    found.push(join(folder, 'tsconfig.json'));
    if (folder === dirname(folder)) return found;
  }
}

function readStored(place: string): Stored | undefined {
  try {
    return JSON.parse(readFileSync(place, 'utf8')) as Stored;
  } catch {
    return undefined; // not there yet, or cut short: it is read again
  }
}

function store(place: string, value: Stored): void {
  try {
    mkdirSync(dirname(place), { recursive: true, mode: 0o700 });
    const draft = `${place}.${process.pid}`;
    writeFileSync(draft, JSON.stringify(value), { mode: 0o600 });
    renameSync(draft, place);
  } catch {
    // A cache that cannot be written costs time, nothing else.
  }
}

function hashFile(path: string): string {
  try {
    return statSync(path).isFile() ? hash(readFileSync(path)) : '';
  } catch {
    return '';
  }
}

function hash(content: string | Buffer): string {
  return createHash('sha256').update(content).digest('hex').slice(0, 32);
}
