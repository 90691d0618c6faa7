import { existsSync, readFileSync } from 'node:fs';
import { dirname, join, resolve } from 'node:path';
import { pathToFileURL } from 'node:url';
import { JexoError, messageOf } from '../errors.js';
import { isRecord } from '../protocol/is-record.js';
import type { TargetKind } from './target-kind.js';

/** What a package says of the targets it can open, as `jexo` in its package.json. */
interface Declared {
  readonly packageName: string;
  readonly folder: string;
  /** The module that exports the kinds, from the package's folder on. */
  readonly kinds: string;
  /** Endings and beginnings of targets: `*.parquet`, `lake://*`. */
  readonly targets: readonly string[];
}

/**
 * Kinds of target that a package brings which the project depends on. Nothing of a package is loaded unless it says in its
 * package.json that the target is one of its own.
 *
 * @param loads false only tells that a package has the target, by a kind that runs code
 * @throws JexoError JEXO_MODULE_FAILED when the package's module cannot be loaded, or has no kinds
 */
export async function installedKinds(target: string, loads: boolean): Promise<readonly TargetKind[]> {
  const found = declarations(process.cwd()).filter(({ targets }) => targets.some((pattern) => matches(pattern, target)));
  if (!loads)
    return found.map(({ packageName }) => ({
      kind: packageName,
      noun: `a target of ${packageName}`,
      example: '',
      about: '',
      runsCode: true,
      matches: () => true,
    }));
  return (await Promise.all(found.map(loadKinds))).flat();
}

const matches = (pattern: string, target: string) =>
  pattern.startsWith('*')
    ? target.endsWith(pattern.slice(1))
    : pattern.endsWith('*')
      ? target.startsWith(pattern.slice(0, -1))
      : target === pattern;

/** What the packages declare that the nearest package.json depends on. */
function declarations(from: string): Declared[] {
  const folder = nearestPackage(from);
  if (folder === undefined) return [];
  const own = readJson(join(folder, 'package.json'));
  const names = ['dependencies', 'devDependencies', 'optionalDependencies'].flatMap((group) => {
    const wanted = own?.[group];
    return isRecord(wanted) ? Object.keys(wanted) : [];
  });
  return [...new Set(names)].flatMap((packageName) => {
    const place = placeOf(packageName, folder);
    const declared = place && readJson(join(place, 'package.json'))?.jexo;
    if (place === undefined || !isRecord(declared)) return [];
    const { kinds, targets } = declared;
    const isRight =
      typeof kinds === 'string' &&
      Array.isArray(targets) &&
      targets.every((each) => typeof each === 'string' && each.replaceAll('*', '').length > 1);
    return isRight ? [{ packageName, folder: place, kinds, targets: targets as string[] }] : [];
  });
}

function nearestPackage(from: string): string | undefined {
  for (let folder = resolve(from); ; folder = dirname(folder)) {
    if (existsSync(join(folder, 'package.json'))) return folder;
    if (folder === dirname(folder)) return undefined;
  }
}

function placeOf(name: string, from: string): string | undefined {
  for (let folder = from; ; folder = dirname(folder)) {
    const place = join(folder, 'node_modules', name);
    if (existsSync(join(place, 'package.json'))) return place;
    if (folder === dirname(folder)) return undefined;
  }
}

function readJson(file: string): Record<string, unknown> | undefined {
  try {
    const value: unknown = JSON.parse(readFileSync(file, 'utf8'));
    return isRecord(value) ? value : undefined;
  } catch {
    return undefined; // npm itself complains of it
  }
}

async function loadKinds({ packageName, folder, kinds }: Declared): Promise<readonly TargetKind[]> {
  const file = join(folder, kinds);
  const failed = (why: string, cause?: unknown) =>
    new JexoError('JEXO_MODULE_FAILED', `The package ${packageName} says that it opens this target, but ${why}`, {
      where: file,
      next: `Update ${packageName}, or remove it.`,
      ...(cause !== undefined && { cause }),
    });
  let loaded: Record<string, unknown>;
  try {
    loaded = (await import(pathToFileURL(file).href)) as Record<string, unknown>;
  } catch (error) {
    throw failed(`its module failed while it was loading: ${messageOf(error)}`, error);
  }
  const given = [loaded.default ?? loaded.kinds ?? []].flat() as Partial<TargetKind>[];
  const isKind = ({ kind, noun, matches: match, open, connect }: Partial<TargetKind>) =>
    typeof kind === 'string' && typeof noun === 'string' && typeof match === 'function' && (open ?? connect) !== undefined;
  if (given.length === 0 || !given.every(isKind))
    throw failed('its module exports no kind of target: an object with kind, noun, matches and open.');
  return given.map((each) => ({ example: '', about: '', ...each, runsCode: true }) as TargetKind);
}
