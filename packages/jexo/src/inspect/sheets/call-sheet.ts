import type { Document } from 'yaml';
import type { JsonSchema } from '../../protocol/types.js';
import { isRecord } from '../../protocol/is-record.js';
import { parsePath } from '../value-path.js';
import { callSheetSchema } from './schemas.js';
import { patternOf, readSheetText, sheetError, type SheetIssue } from './sheet-text.js';

export type KeptKind = 'tool' | 'resource' | 'prompt';

/** What an answer must be; every part that is given must hold. */
export interface Must {
  readonly be?: unknown;
  readonly have?: unknown;
  readonly say?: string | readonly string[];
  readonly fit?: JsonSchema;
  readonly at?: Readonly<Record<string, unknown>>;
  readonly fail?: true | string | readonly string[];
  /** Milliseconds. */
  readonly maxMs?: number;
}

/** An answer to what the server asks meanwhile. */
export interface KeptReply {
  readonly to?: string;
  readonly action: 'accept' | 'decline' | 'cancel';
  readonly with?: Readonly<Record<string, unknown>>;
  readonly say?: string;
}

export interface KeptCall {
  /** Its place on the sheet, from 0, and the line it begins at. */
  readonly index: number;
  readonly line: number;
  readonly name: string;
  readonly kind: KeptKind;
  /** A tool's name, a resource's URI, a prompt's name. */
  readonly subject: string;
  readonly input: Readonly<Record<string, unknown>>;
  readonly must?: Must;
  readonly replies: readonly KeptReply[];
  readonly capture: Readonly<Record<string, string>>;
  readonly masks: readonly string[];
  readonly seconds: number;
  /** Names of captured values it uses, and of calls that must come before it. */
  readonly uses: readonly string[];
  readonly after: readonly string[];
}

export interface CallSheetFile {
  readonly file: string;
  readonly target?: string | readonly string[];
  readonly calls: readonly KeptCall[];
  readonly text: string;
  readonly document: Document;
}

interface Written {
  readonly name?: string;
  readonly call?: string;
  readonly read?: string;
  readonly render?: string;
  readonly with?: Record<string, unknown>;
  readonly must?: Must;
  readonly replies?: readonly (KeptReply['action'] | Partial<KeptReply>)[];
  readonly capture?: Record<string, string>;
  readonly masks?: readonly string[];
  readonly after?: string | readonly string[];
  readonly seconds?: number;
}

const kinds = [
  ['call', 'tool'],
  ['read', 'resource'],
  ['render', 'prompt'],
] as const;

/**
 * Reads a call sheet.
 * @throws JexoError JEXO_SHEET, which names every line that is wrong
 */
export async function readCallSheet(text: string, file: string): Promise<CallSheetFile> {
  const { document, value, lineOf } = await readSheetText(text, file, callSheetSchema);
  const { target, masks = [], calls } = value as { target?: string | string[]; masks?: string[]; calls: Written[] };
  const issues: SheetIssue[] = [];
  const refuse = (path: readonly (string | number)[], message: string) => issues.push({ line: lineOf(path), message });
  const tryAt = (path: readonly (string | number)[], read: () => unknown) => {
    try {
      read();
    } catch (error) {
      refuse(path, (error as Error).message);
    }
  };
  const names = new Set<string>();
  const captured = new Set<string>();
  masks.forEach((mask, index) => tryAt(['masks', index], () => checkMask(mask)));
  const kept = calls.map((each, index): KeptCall => {
    const at = (...rest: (string | number)[]) => ['calls', index, ...rest];
    const [verb, kind] = kinds.find(([key]) => each[key] !== undefined)!;
    const subject = each[verb]!;
    const name = each.name ?? ownName(subject, names);
    if (each.name !== undefined && names.has(name)) refuse(at('name'), `another call is called ${JSON.stringify(name)} already`);
    const after = [each.after ?? []].flat();
    for (const earlier of after)
      if (!names.has(earlier)) refuse(at('after'), `no call before this one is called ${JSON.stringify(earlier)}`);
    names.add(name);
    const uses = [...new Set(referencesIn([subject, each.with, each.must, each.replies]))];
    for (const use of uses)
      if (!use.startsWith('env.') && !captured.has(use))
        refuse(at(), `no call before this one captures ${use}, which stands here as \${${use}}`);
    for (const [key, path] of Object.entries(each.capture ?? {})) {
      tryAt(at('capture', key), () => parsePath(path));
      captured.add(key);
    }
    each.masks?.forEach((mask, place) => tryAt(at('masks', place), () => checkMask(mask)));
    const { say, fail, at: places } = each.must ?? {};
    for (const text of [say, fail].flat()) if (typeof text === 'string') tryAt(at('must'), () => patternOf(text));
    for (const path of Object.keys(places ?? {})) tryAt(at('must', 'at'), () => parsePath(path));
    if (fail !== undefined && ['be', 'have', 'fit', 'at', 'say'].some((key) => key in each.must!))
      refuse(at('must'), 'an answer that must fail can be nothing else');
    return {
      index,
      line: lineOf(at()),
      name,
      kind,
      subject,
      input: each.with ?? {},
      ...(each.must && { must: each.must }),
      replies: (each.replies ?? []).map((reply) => (typeof reply === 'string' ? { action: reply } : { action: 'accept', ...reply })),
      capture: each.capture ?? {},
      masks: [...masks, ...(each.masks ?? [])],
      seconds: each.seconds ?? 60,
      after,
      uses: uses.filter((use) => !use.startsWith('env.')),
    };
  });
  if (issues.length > 0) throw sheetError(file, issues);
  return { file, ...(target !== undefined && { target }), calls: kept, text, document };
}

function ownName(subject: string, taken: ReadonlySet<string>): string {
  let name = subject;
  for (let count = 2; taken.has(name); count++) name = `${subject} (${count})`;
  return name;
}

function checkMask(mask: string): void {
  if (mask === 'times' || mask === 'ids' || patternOf(mask) !== undefined) return;
  parsePath(mask);
}

const reference = /\$\{(env\.\w+|[A-Za-z_]\w*)\}/g;

function referencesIn(value: unknown): string[] {
  if (typeof value === 'string') return [...value.matchAll(reference)].map(([, name]) => name!);
  if (Array.isArray(value)) return value.flatMap(referencesIn);
  return isRecord(value) ? Object.values(value).flatMap(referencesIn) : [];
}

/**
 * Puts captured values in. A text that is one reference and nothing else becomes the value itself, of whatever kind.
 * @throws Error naming what is not known
 */
export function fillIn<T>(value: T, known: ReadonlyMap<string, unknown>, env: Readonly<Record<string, string | undefined>>): T {
  const look = (name: string): unknown => {
    if (name.startsWith('env.')) {
      const found = env[name.slice(4)];
      if (found === undefined) throw new Error(`The environment has no variable ${name.slice(4)}.`);
      return found;
    }
    if (!known.has(name)) throw new Error(`${name} was not captured: the call that should have done so did not answer as it must.`);
    return known.get(name);
  };
  const fill = (each: unknown): unknown => {
    if (typeof each === 'string') {
      const [whole, only] = /^\$\{(env\.\w+|[A-Za-z_]\w*)\}$/.exec(each) ?? [];
      if (whole !== undefined) return look(only!);
      return each.replaceAll(reference, (_, name: string) => {
        const found = look(name);
        return typeof found === 'string' ? found : JSON.stringify(found);
      });
    }
    if (Array.isArray(each)) return each.map(fill);
    return isRecord(each) ? Object.fromEntries(Object.entries(each).map(([key, item]) => [key, fill(item)])) : each;
  };
  return fill(value) as T;
}
