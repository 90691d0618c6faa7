import {
  chmodSync,
  cpSync,
  existsSync,
  lstatSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { dirname, join, resolve, sep } from 'node:path';
import { JexoError, messageOf } from '../errors.js';

/** One file of an artefact. */
export interface ArtefactFile {
  readonly text: string;
  /** True for what is run. */
  readonly isRun?: boolean;
}

/** What a form of packing makes. */
export interface Artefact {
  /** By their paths in the artefact, with slashes. */
  readonly files: Readonly<Record<string, ArtefactFile>>;
  /** What is copied into it as it is. */
  readonly copies: readonly { readonly path: string; readonly as: string }[];
  /** The file that starts the server; undefined when none does by itself. */
  readonly start: string | undefined;
  /** How to use it, a sentence a line. */
  readonly next: readonly string[];
}

/** A file that was written. */
export interface WrittenFile {
  /** Its path in the artefact. */
  readonly path: string;
  readonly bytes: number;
}

/** Writes an artefact into a new folder of the system, for trying it. */
export function writeForTrial(artefact: Artefact, folder: string): void {
  for (const [path, { text, isRun }] of Object.entries(artefact.files)) {
    const file = join(folder, path);
    mkdirSync(dirname(file), { recursive: true });
    writeFileSync(file, text, { mode: isRun ? 0o755 : 0o644, flag: 'wx' });
    // What the shell's mask took away is given back: the same input gives the same artefact everywhere.
    chmodSync(file, isRun ? 0o755 : 0o644);
    if (readFileSync(file, 'utf8') !== text) throw new Error(`${path} does not hold what was written`);
  }
  for (const { path, as } of artefact.copies) cpSync(path, join(folder, as), { recursive: true, errorOnExist: true, filter: isCarried });
}

/** Secrets and what tools keep for themselves stay where they are. */
export const isCarried = (path: string): boolean => !/(?:^|[\\/])(?:\.env(?:\..*)?|\.git|node_modules|\.DS_Store)$/.test(path);

/**
 * Puts an artefact into its place, all of it or nothing. Links that lie there are replaced, not followed.
 *
 * @param from files that must not be overwritten
 * @throws JexoError JEXO_PACK
 */
export function writeArtefact(artefact: Artefact, out: string, from: readonly string[], replace: boolean): readonly WrittenFile[] {
  const folder = resolve(out);
  const paths = [...Object.keys(artefact.files), ...artefact.copies.map(({ as }) => as)];
  for (const path of paths) {
    const target = join(folder, path);
    const hit = from.find((each) => each === target || each.startsWith(target + sep));
    if (hit !== undefined || artefact.copies.some((copy) => copy.path === target))
      throw new JexoError('JEXO_PACK', `Packing into ${folder} would overwrite ${hit ?? target} itself.`, {
        where: target,
        next: 'Choose another folder for --out.',
      });
    if (!replace && isThere(target))
      throw new JexoError('JEXO_PACK', `${target} is there already, and nothing is overwritten.`, {
        where: target,
        next: 'Put the new one in its place with --replace, or choose another folder.',
      });
  }
  let beside: string | undefined;
  try {
    mkdirSync(folder, { recursive: true });
    beside = mkdtempSync(join(folder, '.packing-'));
    writeForTrial(artefact, beside);
    // Tops of paths are moved into place: a folder is replaced as a whole.
    for (const top of new Set(paths)) {
      const target = join(folder, top);
      mkdirSync(dirname(target), { recursive: true });
      rmSync(target, { recursive: true, force: true });
      renameSync(join(beside, top), target);
    }
  } catch (error) {
    throw new JexoError('JEXO_PACK', `${folder} cannot be written: ${messageOf(error)}`, { where: folder, cause: error });
  } finally {
    if (beside !== undefined) rmSync(beside, { recursive: true, force: true });
  }
  return paths.map((path) => ({ path, bytes: sizeOf(join(folder, path)) })).sort((a, b) => (a.path < b.path ? -1 : 1));
}

function sizeOf(path: string): number {
  const found = statSync(path);
  return found.isDirectory() ? readdirSync(path).reduce((sum, each) => sum + sizeOf(join(path, each)), 0) : found.size;
}

function isThere(path: string): boolean {
  if (existsSync(path)) return true;
  try {
    lstatSync(path);
    return true;
  } catch {
    return false;
  }
}
