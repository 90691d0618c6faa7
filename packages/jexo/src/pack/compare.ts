import { existsSync, readFileSync } from 'node:fs';
import type { Client } from '../client/connect-link.js';
import { JexoError, messageOf } from '../errors.js';
import { isRecord } from '../protocol/is-record.js';
import type { JsonSchema, Prompt, Resource, ResourceTemplate, Tool } from '../protocol/types.js';

/** What a server offers, as callers see it. */
export interface Listing {
  readonly tools: readonly Tool[];
  readonly resources: readonly Resource[];
  readonly templates: readonly ResourceTemplate[];
  readonly prompts: readonly Prompt[];
}

/** One thing that is different for callers. */
export interface Change {
  /** True when a call that worked before may fail now, or its answer be misread. */
  readonly breaking: boolean;
  /** `tool mix_syrup`. */
  readonly subject: string;
  /** What has changed, without a full stop. */
  readonly what: string;
}

/** Everything a connected server lists. */
export async function listingOf(client: Client): Promise<Listing> {
  const { capabilities } = client.server;
  const [tools, resources, templates, prompts] = await Promise.all([
    capabilities.tools === undefined ? [] : client.tools(),
    capabilities.resources === undefined ? [] : client.resources(),
    capabilities.resources === undefined ? [] : client.templates(),
    capabilities.prompts === undefined ? [] : client.prompts(),
  ]);
  return { tools, resources, templates, prompts };
}

/**
 * A listing from a file: what `jexo list --json` prints, or a wire log, whose last answers count.
 * @returns undefined when the file is neither
 * @throws JexoError JEXO_SYNTAX
 */
export function listingFromFile(file: string): Listing | undefined {
  if (!existsSync(file) || !/\.(?:json|jsonl|ndjson|log)$/.test(file)) return undefined;
  const text = readFileSync(file, 'utf8');
  try {
    const value: unknown = JSON.parse(text);
    if (isRecord(value) && Array.isArray(value.tools)) return filled(value);
    if (!isRecord(value) || !('message' in value)) return undefined;
  } catch {
    // It has a line for each message, perhaps.
  }
  return fromWireLog(text, file);
}

const filled = (value: Partial<Record<keyof Listing, unknown>>): Listing => ({
  tools: (value.tools ?? []) as Tool[],
  resources: (value.resources ?? []) as Resource[],
  templates: (value.templates ?? []) as ResourceTemplate[],
  prompts: (value.prompts ?? []) as Prompt[],
});

const lists = {
  'tools/list': 'tools',
  'resources/list': 'resources',
  'resources/templates/list': 'templates',
  'prompts/list': 'prompts',
} as const;
type ListMethod = keyof typeof lists;

function fromWireLog(text: string, file: string): Listing {
  const asked = new Map<unknown, { readonly method: ListMethod; readonly isFirst: boolean }>();
  const found: Record<keyof Listing, unknown[]> = { tools: [], resources: [], templates: [], prompts: [] };
  let count = 0;
  for (const [index, line] of text.split('\n').entries()) {
    if (line.trim() === '') continue;
    let event: { message?: { id?: unknown; method?: string; params?: { cursor?: unknown }; result?: Record<string, unknown> } };
    try {
      event = JSON.parse(line) as typeof event;
    } catch (error) {
      throw new JexoError('JEXO_SYNTAX', `${file}:${index + 1}: ${messageOf(error)}`, { where: `${file}:${index + 1}`, cause: error });
    }
    const { id, method, params, result } = event.message ?? {};
    if (method !== undefined && method in lists) asked.set(id, { method: method as ListMethod, isFirst: params?.cursor === undefined });
    const question = method === undefined ? asked.get(id) : undefined;
    if (question === undefined || result === undefined) continue;
    asked.delete(id);
    const kind = lists[question.method];
    const entries = result[kind === 'templates' ? 'resourceTemplates' : kind];
    if (!Array.isArray(entries)) continue;
    if (question.isFirst) found[kind] = [];
    found[kind].push(...(entries as unknown[]));
    count++;
  }
  if (count === 0)
    throw new JexoError('JEXO_SYNTAX', `${file} holds no listing: nothing in it answers tools/list.`, {
      where: file,
      next: 'Write one with: jexo list <target> --wire-log calls.jsonl, or jexo list <target> --json > list.json',
    });
  return filled(found);
}

/** What has changed for callers, the breaking changes first. */
export function compareListings(before: Listing, after: Listing): readonly Change[] {
  const changes = [
    ...compareTools(before.tools, after.tools),
    ...gone('resource', before.resources, after.resources, ({ uri }) => uri),
    ...gone('template', before.templates, after.templates, ({ uriTemplate }) => uriTemplate),
    ...comparePrompts(before.prompts, after.prompts),
  ];
  return [...changes.filter(({ breaking }) => breaking), ...changes.filter(({ breaking }) => !breaking)];
}

function gone<T>(kind: string, before: readonly T[], after: readonly T[], key: (each: T) => string): Change[] {
  const [old, fresh] = [new Set(before.map(key)), new Set(after.map(key))];
  return [
    ...[...old].filter((each) => !fresh.has(each)).map((each) => ({ breaking: true, subject: `${kind} ${each}`, what: 'is gone' })),
    ...[...fresh].filter((each) => !old.has(each)).map((each) => ({ breaking: false, subject: `${kind} ${each}`, what: 'is new' })),
  ];
}

function compareTools(before: readonly Tool[], after: readonly Tool[]): Change[] {
  const fresh = new Map(after.map((each) => [each.name, each]));
  const both = before.flatMap((old): Change[] => {
    const now = fresh.get(old.name);
    if (now === undefined) return [];
    const subject = `tool ${old.name}`;
    const say = (breaking: boolean, what: string): Change => ({ breaking, subject, what });
    const output =
      old.outputSchema === undefined && now.outputSchema !== undefined
        ? [say(false, 'says now what it answers with')]
        : old.outputSchema !== undefined && now.outputSchema === undefined
          ? [say(true, 'no longer says what it answers with')]
          : narrowed(now.outputSchema ?? {}, old.outputSchema ?? {}, 'output', 'out').map((each) => ({ ...each, subject }));
    const isReadOnly = (each: Tool) => each.annotations?.readOnlyHint === true;
    return [
      ...narrowed(old.inputSchema, now.inputSchema, 'input', 'in').map((each) => ({ ...each, subject })),
      ...output,
      ...(isReadOnly(old) && !isReadOnly(now) ? [say(true, 'no longer says that it only reads')] : []),
      ...(old.execution?.taskSupport !== 'required' && now.execution?.taskSupport === 'required'
        ? [say(true, 'must be run as a task now')]
        : []),
      ...(old.description !== now.description ? [say(false, 'has another description: models may choose differently')] : []),
    ];
  });
  return [...gone('tool', before, after, ({ name }) => name), ...both];
}

function comparePrompts(before: readonly Prompt[], after: readonly Prompt[]): Change[] {
  const fresh = new Map(after.map((each) => [each.name, each]));
  const both = before.flatMap((old): Change[] => {
    const now = fresh.get(old.name);
    if (now === undefined) return [];
    const subject = `prompt ${old.name}`;
    const known = new Map((old.arguments ?? []).map((each) => [each.name, each]));
    return (now.arguments ?? []).flatMap((each): Change[] =>
      each.required && known.get(each.name)?.required !== true ? [{ breaking: true, subject, what: `${each.name} is required now` }] : [],
    );
  });
  return [...gone('prompt', before, after, ({ name }) => name), ...both];
}

type Way = 'in' | 'out';
type Said = Omit<Change, 'subject'>;
const mostDepth = 20;

/**
 * Where `now` takes less than `old` did. Of an answer, the roles are the other way about: callers rely on what it holds.
 * @param way `in` for what callers send, `out` for what they read: it decides the words
 */
function narrowed(old: JsonSchema, now: JsonSchema, path: string, way: Way, depth = 0): Said[] {
  if (depth > mostDepth || JSON.stringify(old) === JSON.stringify(now)) return [];
  const said: Said[] = [];
  const add = (breaking: boolean, what: string) => said.push({ breaking, what });
  const [types, nowTypes] = [typesOf(old), typesOf(now)];
  const lost = types?.filter(
    (type) => nowTypes !== undefined && !nowTypes.some((each) => each === type || (each === 'number' && type === 'integer')),
  );
  if (nowTypes !== undefined && (types === undefined || lost!.length > 0))
    add(
      true,
      way === 'in'
        ? `${path} takes no ${(lost ?? ['other type']).join(' or ')} any more`
        : `${path} may be a ${(lost ?? ['value of any type']).join(' or ')} now`,
    );
  const [values, nowValues] = [valuesOf(old), valuesOf(now)];
  if (nowValues !== undefined) {
    const missing = values?.filter((value) => !nowValues.includes(value));
    if (values === undefined || missing!.length > 0)
      add(
        true,
        way === 'in'
          ? `${path} takes ${missing === undefined ? 'only certain values now' : `${missing.join(', ')} no more`}`
          : `${path} may be ${missing?.join(', ') ?? 'any value'} now`,
      );
  }
  for (const [word, isLess] of bounds) {
    const [was, is] = [old[word], now[word]];
    if (typeof is === 'number' && (typeof was !== 'number' || isLess(is, was)))
      add(
        true,
        way === 'in'
          ? `${path}: ${word} is ${is} now, and was ${was ?? 'not set'}`
          : `${path}: ${word} is ${was ?? 'not set'} now, and was ${is}`,
      );
  }
  if (now.pattern !== undefined && now.pattern !== old.pattern) add(true, `${path} must fit another pattern`);
  said.push(...narrowedProperties(old, now, path, way, depth));
  if (isRecord(old.items) && isRecord(now.items)) said.push(...narrowed(old.items, now.items, `${path}[]`, way, depth + 1));
  return said;
}

const bounds: readonly (readonly [
  'minimum' | 'maximum' | 'minLength' | 'maxLength' | 'minItems' | 'maxItems',
  (is: number, was: number) => boolean,
])[] = [
  ['minimum', (is, was) => is > was],
  ['maximum', (is, was) => is < was],
  ['minLength', (is, was) => is > was],
  ['maxLength', (is, was) => is < was],
  ['minItems', (is, was) => is > was],
  ['maxItems', (is, was) => is < was],
];

function narrowedProperties(old: JsonSchema, now: JsonSchema, path: string, way: Way, depth: number): Said[] {
  const [was, is] = [old.properties ?? {}, now.properties ?? {}];
  const [needed, neededNow] = [new Set(old.required ?? []), new Set(now.required ?? [])];
  const isClosed = now.additionalProperties === false;
  return [
    ...[...neededNow]
      .filter((name) => !needed.has(name))
      .map((name) => ({ breaking: true, what: way === 'in' ? `${path}.${name} is required now` : `${path}.${name} may be missing now` })),
    ...Object.keys(was)
      .filter((name) => !Object.hasOwn(is, name))
      .map((name) => ({
        breaking: way === 'in' ? isClosed || needed.has(name) : false,
        what: way === 'in' ? `${path}.${name} is gone` : `${path}.${name} is new`,
      })),
    ...(way === 'out'
      ? Object.keys(is)
          .filter((name) => !Object.hasOwn(was, name) && !neededNow.has(name))
          .map((name) => ({ breaking: true, what: `${path}.${name} is gone` }))
      : Object.keys(is)
          .filter((name) => !Object.hasOwn(was, name) && !neededNow.has(name))
          .map((name) => ({ breaking: false, what: `${path}.${name} is new` }))),
    ...Object.entries(was).flatMap(([name, schema]) =>
      Object.hasOwn(is, name) ? narrowed(schema, is[name]!, `${path}.${name}`, way, depth + 1) : [],
    ),
  ];
}

const typesOf = ({ type }: JsonSchema): readonly string[] | undefined => (type === undefined ? undefined : [type].flat());

function valuesOf({ enum: listed, const: only }: JsonSchema): string[] | undefined {
  if (only !== undefined) return [JSON.stringify(only)];
  return listed?.map((value) => JSON.stringify(value));
}
