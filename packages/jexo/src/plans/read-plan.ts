import { readFile } from 'node:fs/promises';
import { dirname, resolve } from 'node:path';
import { LineCounter, parseDocument, type Document } from 'yaml';
import { JexoError, messageOf } from '../errors.js';
import { nearest } from '../offers/nearest.js';
import { compileSchema } from '../offers/schema.js';
import { isRecord } from '../protocol/is-record.js';
import { isSecretSetting } from '../protocol/secret-names.js';
import { entryKeys, entrySchemas, planKeys, planSchema } from './plan-schema.js';
import { serveSettings, type ServeDefaults } from './serve-settings.js';
import { readEnvFile } from './variables.js';

/** One entry of a plan's offers. */
export interface PlanEntry {
  /** The key that says what it is: `rest`, `tool`. */
  readonly kind: string;
  readonly value: Readonly<Record<string, unknown>>;
  /** Its file, with line and column. */
  readonly where: string;
  /** Paths start here. */
  readonly folder: string;
}

/** A plan that was read, with those it includes. */
export interface Plan {
  readonly file: string;
  readonly name?: string;
  readonly title?: string;
  readonly version?: string;
  readonly instructions?: string;
  readonly entries: readonly PlanEntry[];
  /** What runs around every call, the first outermost. */
  readonly middleware?: readonly Readonly<Record<string, unknown>>[];
  readonly serve?: ServeDefaults;
  readonly files: readonly string[];
  /** Places where a secret is written down. */
  readonly secrets: readonly { readonly where: string; readonly key: string }[];
  /** Variables of `.env` beside the plan, where the environment does not have them. */
  readonly variables: Readonly<Record<string, string>>;
}

interface Issue {
  readonly line: number;
  readonly column: number;
  readonly message: string;
}

const mostIncludes = 50;

/**
 * Reads a plan file and those it includes.
 * @throws JexoError JEXO_TARGET_MISSING, JEXO_SYNTAX with every line and column that is wrong
 */
export async function readPlan(path: string, above: readonly string[] = []): Promise<Plan> {
  const file = resolve(path);
  if (above.includes(file) || above.length > mostIncludes)
    throw new JexoError('JEXO_SYNTAX', `${path} includes itself: ${[...above, file].join(' → ')}.`, { where: path });
  let text: string;
  try {
    text = await readFile(file, 'utf8');
  } catch (error) {
    throw new JexoError('JEXO_TARGET_MISSING', `The plan ${path} cannot be read: ${messageOf(error)}`, { where: path, cause: error });
  }
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines, prettyErrors: false });
  const [broken] = document.errors;
  const at = (offset: number) => {
    const { line, col } = lines.linePos(offset);
    return { line, column: col };
  };
  if (broken !== undefined) throw planError(path, [{ ...at(broken.pos[0]), message: broken.message }]);
  const placeOf = placesIn(document, at);
  const value: unknown = document.toJS({ maxAliasCount: 50 }) ?? {};
  const issues = await issuesOf(value, placeOf);
  if (issues.length > 0) throw planError(path, issues);
  const {
    include = [],
    offers = [],
    ...rest
  } = value as Record<string, unknown> & { include?: string | string[]; offers?: Record<string, unknown>[] };
  const folder = dirname(file);
  const included: Plan[] = [];
  for (const each of [include].flat()) included.push(await readPlan(resolve(folder, each), [...above, file]));
  const own = offers.map((entry, index): PlanEntry => {
    const { line, column } = placeOf(['offers', index]);
    return { kind: kindOf(entry)!, value: entry, where: `${path}:${line}:${column}`, folder };
  });
  const secrets = secretsIn(offers, ['offers']).map((steps) => {
    const { line, column } = placeOf(steps);
    return { where: `${path}:${line}:${column}`, key: String(steps.at(-1)) };
  });
  const inherited = Object.assign(
    {},
    ...included.map(({ name, title, version, instructions, middleware, serve }) =>
      defined({ name, title, version, instructions, middleware, serve }),
    ),
  ) as Partial<Plan>;
  return {
    ...inherited,
    ...(rest as Partial<Plan>),
    file,
    entries: [...included.flatMap(({ entries }) => entries), ...own],
    files: [file, ...included.flatMap(({ files }) => files)],
    ...(rest.serve !== undefined && { serve: servedFrom(rest.serve as ServeDefaults, folder) }),
    secrets: [...included.flatMap((each) => each.secrets), ...secrets],
    variables: { ...(Object.assign({}, ...included.map((each) => each.variables)) as object), ...(await readEnvFile(folder)) },
  };
}

/** Files are looked for from the plan's folder on. */
const servedFrom = (serve: ServeDefaults, folder: string): ServeDefaults => ({
  ...serve,
  ...Object.fromEntries(
    serveSettings.flatMap(({ name, type }) => {
      const file = serve[name];
      return (type === 'file' || type === 'log') && typeof file === 'string' ? [[name, resolve(folder, file)]] : [];
    }),
  ),
});

const defined = (value: object) => Object.fromEntries(Object.entries(value).filter(([, each]) => each !== undefined));

const kindOf = (entry: unknown): string | undefined =>
  isRecord(entry) ? Object.keys(entrySchemas).find((key) => Object.hasOwn(entry, key)) : undefined;

type Steps = readonly (string | number)[];
type PlaceOf = (steps: Steps, isKey?: boolean) => { readonly line: number; readonly column: number };

function placesIn(document: Document, at: (offset: number) => { line: number; column: number }): PlaceOf {
  return (steps, isKey = false) => {
    if (isKey) {
      const parent = document.getIn(steps.slice(0, -1), true) as { items?: { key?: { value?: unknown; range?: number[] } }[] } | undefined;
      const range = parent?.items?.find(({ key }) => key?.value === steps.at(-1))?.key?.range;
      if (range !== undefined) return at(range[0]!);
    }
    for (let length = steps.length; length >= 0; length--) {
      const node = (length === 0 ? document.contents : document.getIn(steps.slice(0, length), true)) as
        { range?: [number, number, number] } | null | undefined;
      if (node?.range) return at(node.range[0]);
    }
    return { line: 1, column: 1 };
  };
}

async function issuesOf(value: unknown, placeOf: PlaceOf): Promise<Issue[]> {
  if (!isRecord(value)) return [{ ...placeOf([]), message: 'a plan is a map with name and offers' }];
  const issues: Issue[] = unknownKeys(value, planKeys, [], placeOf);
  const offers = Array.isArray(value.offers) ? (value.offers as unknown[]) : [];
  for (const [index, entry] of offers.entries()) issues.push(...(await issuesOfEntry(entry, ['offers', index], placeOf)));
  if (issues.length > 0) return issues;
  // The entries were checked one by one, where a message can name the kind.
  const checked = await compileSchema(planSchema, 'input', 'plan').check({ ...value, ...(Array.isArray(value.offers) && { offers: [] }) });
  return checked.ok
    ? []
    : checked.issues.map(({ path, expected, got }) => ({
        ...placeOf(stepsOf(path)),
        message: `${path || 'the plan'}: ${expected}; got ${got}`,
      }));
}

async function issuesOfEntry(entry: unknown, steps: Steps, placeOf: PlaceOf): Promise<Issue[]> {
  const kind = kindOf(entry);
  if (kind === undefined) {
    const given = isRecord(entry) ? Object.keys(entry) : [];
    const like = given.map((key) => nearest(key, Object.keys(entrySchemas))).find((each) => each !== undefined);
    const message = `an entry says what it is by one of ${Object.keys(entrySchemas).join(', ')}${like === undefined ? '' : `; did you mean ${like}?`}`;
    return [{ ...placeOf(steps), message }];
  }
  const unknown = unknownKeys(entry as Record<string, unknown>, entryKeys[kind]!, steps, placeOf);
  if (unknown.length > 0) return unknown;
  const checked = await compileSchema(entrySchemas[kind]!, 'input', kind).check(structuredClone(entry));
  if (!checked.ok)
    return checked.issues.map(({ path, expected, got }) => ({
      ...placeOf([...steps, ...stepsOf(path)]),
      message: `${kind}${path === '' ? '' : ` ${path}`}: ${expected}; got ${got}`,
    }));
  if (kind === 'tool') {
    const { call, steps: list } = entry as { call?: unknown; steps?: unknown };
    if ((call === undefined) === (list === undefined)) return [{ ...placeOf(steps), message: 'a tool has either call or steps' }];
  }
  if (kind === 'view' && ((entry as { file?: unknown }).file === undefined) === ((entry as { folder?: unknown }).folder === undefined))
    return [{ ...placeOf(steps), message: 'a view has either file or folder' }];
  if (kind === 'resource') {
    const { text, file } = entry as { text?: unknown; file?: unknown };
    if ((text === undefined) === (file === undefined)) return [{ ...placeOf(steps), message: 'a resource has either text or file' }];
  }
  if (kind === 'prompt') {
    const { text, messages } = entry as { text?: unknown; messages?: unknown };
    if ((text === undefined) === (messages === undefined)) return [{ ...placeOf(steps), message: 'a prompt has either text or messages' }];
  }
  return [];
}

function unknownKeys(value: Readonly<Record<string, unknown>>, known: readonly string[], steps: Steps, placeOf: PlaceOf): Issue[] {
  return Object.keys(value)
    .filter((key) => !known.includes(key))
    .map((key) => {
      const like = nearest(key, known);
      return {
        ...placeOf([...steps, key], true),
        message: `${key} is no key here${like === undefined ? `; there are ${known.join(', ')}` : `; did you mean ${like}?`}`,
      };
    });
}

const stepsOf = (path: string): (string | number)[] =>
  [...path.matchAll(/([^.[\]]+)|\[(\d+)\]/g)].map(([, name, index]) => (index === undefined ? name! : Number(index)));

/** Places whose key means a secret, and whose value is written down instead of read from the environment. */
function secretsIn(value: unknown, steps: Steps): Steps[] {
  if (Array.isArray(value)) return value.flatMap((each, index) => secretsIn(each, [...steps, index]));
  if (!isRecord(value)) return [];
  return Object.entries(value).flatMap(([key, each]): Steps[] => {
    const isSecret = isSecretSetting(key) || ['bearer', 'apiKey', 'secret', 'password'].includes(key);
    if (typeof each === 'string')
      return isSecret && !/^\$\{[^}]+\}$/.test(each) ? [[...steps, key]] : hasPassword(each) ? [[...steps, key]] : [];
    return secretsIn(each, [...steps, key]);
  });
}

const hasPassword = (text: string) => /^[a-z][a-z0-9+.-]*:\/\/[^/@:\s]*:[^/@\s$]+@/i.test(text);

function planError(file: string, issues: readonly Issue[]): JexoError {
  const [first] = issues;
  return new JexoError('JEXO_SYNTAX', issues.map(({ line, column, message }) => `${file}:${line}:${column}: ${message}`).join('\n'), {
    where: `${file}:${first!.line}:${first!.column}`,
    next: 'The schema shipped with the package (jexo/plan.schema.json) lets editors complete and check plans.',
    data: { issues },
  });
}
