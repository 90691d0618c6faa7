import { isDeepStrictEqual } from 'node:util';
import { JexoError, messageOf } from '../errors.js';
import { readHostText, type HostText } from './edit-text.js';

/** One change of a configuration: the entry that is put in, or undefined for one that is taken out. */
export interface Edit {
  readonly name: string;
  readonly path: readonly string[];
  readonly entry: object | undefined;
}

/**
 * The text of the first way of editing whose result reads as the configuration with just this change. A host's file is somebody's
 * work: a text that reads otherwise is never written.
 *
 * @throws JexoError JEXO_HOST_FILE when no way does
 */
export function firstThatReads(
  file: string,
  before: HostText,
  edit: Edit,
  ways: readonly ((before: HostText, edit: Edit) => string | undefined)[],
): string {
  const wanted = withoutEmpty(changed(before.value, edit), edit.path);
  let why: unknown;
  for (const way of ways) {
    try {
      const text = way(before, edit);
      if (text === undefined) continue;
      if (isDeepStrictEqual(withoutEmpty(plain(readHostText(text, file).value), edit.path), wanted)) return text;
    } catch (error) {
      why = error;
    }
  }
  throw new JexoError(
    'JEXO_HOST_FILE',
    `${file} cannot be changed without touching more than ${edit.name}${why === undefined ? '' : `: ${messageOf(why)}`}.`,
    { where: `${file}#${edit.name}`, next: 'Nothing was changed. Print the entry with --print and put it in by hand.', cause: why },
  );
}

/** Plain objects and lists, whatever a parser makes of tables and dates. */
function plain(value: unknown): unknown {
  return value === undefined ? {} : (JSON.parse(JSON.stringify(value)) as unknown);
}

/** The value as it is to read after the change. */
export function changed(value: unknown, { name, path, entry }: Edit): unknown {
  const root = (plain(value) ?? {}) as Record<string, unknown>;
  let map = root;
  for (const key of path) {
    const inner = Object.hasOwn(map, key) ? map[key] : undefined;
    const next = typeof inner === 'object' && inner !== null ? (inner as Record<string, unknown>) : {};
    Object.defineProperty(map, key, { value: next, enumerable: true, configurable: true, writable: true });
    map = next;
  }
  if (entry === undefined) delete map[name];
  else Object.defineProperty(map, name, { value: plain(entry), enumerable: true, configurable: true, writable: true });
  return root;
}

/** A map that holds nothing may be there, be null, or be gone: it means the same. */
function withoutEmpty(value: unknown, path: readonly string[]): unknown {
  const [key, ...rest] = path;
  if (key === undefined || typeof value !== 'object' || value === null || !Object.hasOwn(value, key)) return value;
  const { [key]: inner, ...others } = value as Record<string, unknown>;
  const kept = withoutEmpty(inner, rest);
  const isEmpty = kept === null || (typeof kept === 'object' && Object.keys(kept as object).length === 0);
  return isEmpty ? others : { ...others, [key]: kept };
}
