import { nearest } from '../../offers/nearest.js';
import { JexoError } from '../../errors.js';
import type { JsonSchema } from '../../protocol/types.js';
import { splitText } from '../functions/doc-comment.js';
import { snakeCase } from '../functions/snake-case.js';
import { anyType, parameterSchema, type ColumnType } from './column-types.js';
import type { Dialect } from './place.js';
import type { SeenTable } from './restrict.js';
import { tokensOf, trimmed, withPlaceholders, type Token } from './sql-text.js';

/** A query as it is written: the comment above it is read as the comment above a function is. */
export interface QueryText {
  readonly name: string;
  readonly sql: string;
  readonly tokens: readonly Token[];
  readonly where: string;
  readonly title?: string;
  readonly description?: string;
  readonly parameters: ReadonlyMap<string, ParameterText>;
  readonly examples: readonly string[];
  /** Rows in one answer. */
  readonly limit?: number;
  readonly writes: boolean;
  readonly idempotent: boolean;
  readonly preview: boolean;
  readonly confirm?: string;
  /** Columns of the result that tell its rows apart: pages go on behind the last row. */
  readonly key: readonly string[];
  readonly tags: readonly string[];
}

interface ParameterText {
  readonly description?: string;
  readonly keywords: Readonly<Record<string, unknown>>;
  readonly type?: ColumnType;
  readonly isOptional: boolean;
}

const flags = new Set(['writes', 'idempotent', 'preview']);
const texts = new Set(['title', 'example', 'limit', 'confirm', 'key', 'tag']);
const typeNames: Readonly<Record<string, ColumnType>> = {
  text: { kind: 'text' },
  string: { kind: 'text' },
  integer: { kind: 'integer' },
  number: { kind: 'number' },
  decimal: { kind: 'decimal' },
  boolean: { kind: 'boolean' },
  date: { kind: 'date' },
  time: { kind: 'time' },
  timestamp: { kind: 'timestamp' },
  timestamptz: { kind: 'timestamptz' },
  json: { kind: 'json' },
  bytes: { kind: 'bytes' },
  uuid: { kind: 'uuid' },
};

/**
 * Reads one query with the comment above it.
 *
 * @param where its file, for messages
 * @throws JexoError JEXO_DEFINITION, with the line
 */
export function readQuery(name: string, text: string, where: string, dialect: Dialect): QueryText {
  const { comment, start } = leadingComment(text);
  const tokens = tokensOf(text, dialect).filter(({ at }) => at >= start);
  const body = trimmed(text, tokens);
  const kept = tokens.filter(({ at }) => at < body.length);
  const lineAt = (at: number) => text.slice(0, at).split('\n').length;
  const fail = (line: number, why: string, next: string): never => {
    throw new JexoError('JEXO_DEFINITION', `${why}.`, { where: `${where}:${line}`, next });
  };
  if (kept.length === 0) fail(1, 'The file holds no statement', 'Write one SELECT, or a statement that writes and says @writes.');
  const second = kept.find(({ kind, value }) => kind === 'sign' && value === ';');
  if (second !== undefined)
    fail(lineAt(second.at), 'A query is one statement, and a second one begins here', 'Write each in a file of its own.');
  const from = kept[0]!.at;
  const doc = readTags(comment, (line, why, next) => fail(line, why, next));
  const one = (tag: string) => doc.tags.get(tag)?.at(-1);
  const limitText = one('limit');
  if (limitText !== undefined && !/^[1-9]\d*$/.test(limitText))
    fail(1, `@limit is ${limitText}, which is no number of rows`, 'Write it as @limit 100.');
  const used = new Set(kept.filter(({ kind }) => kind === 'parameter').map(({ value }) => value));
  for (const given of doc.parameters.keys())
    if (!used.has(given)) {
      const like = nearest(given, used);
      fail(
        1,
        `@param describes ${given}, which the statement does not use`,
        like === undefined ? 'Remove the tag.' : `Did you mean ${like}?`,
      );
    }
  const confirm = one('confirm');
  return {
    name: snakeCase(name),
    sql: body.slice(from),
    tokens: kept.map((token) => ({ ...token, at: token.at - from })),
    where: `${where}:${lineAt(from)}`,
    ...(one('title') !== undefined && { title: one('title')! }),
    ...(doc.description !== '' && { description: doc.description }),
    parameters: doc.parameters,
    examples: doc.tags.get('example') ?? [],
    ...(limitText !== undefined && { limit: Number(limitText) }),
    writes: doc.tags.has('writes'),
    idempotent: doc.tags.has('idempotent'),
    preview: doc.tags.has('preview'),
    ...(confirm !== undefined && { confirm }),
    key:
      one('key')
        ?.split(/[\s,]+/)
        .filter(Boolean) ?? [],
    tags: doc.tags.get('tag') ?? [],
  };
}

/** The comments above the first word of a statement, as lines without their marks. */
function leadingComment(text: string): { readonly comment: readonly string[]; readonly start: number } {
  const [whole = ''] = /^(?:\s*(?:--[^\n]*(?:\n|$)|\/\*[\s\S]*?\*\/))*/.exec(text) ?? [];
  const comment = whole
    .replaceAll(/\/\*+|\*+\//g, '')
    .split('\n')
    .map((line) => line.replace(/^\s*(?:--|\*)?[ \t]?/, '').trimEnd());
  return { comment, start: whole.length };
}

function readTags(lines: readonly string[], fail: (line: number, why: string, next: string) => void) {
  const parameters = new Map<string, ParameterText>();
  const tags = new Map<string, string[]>();
  const blocks: { tag?: string; text: string; line: number }[] = [{ text: '', line: 1 }];
  lines.forEach((line, index) => {
    const [, tag, rest = ''] = /^@(\w+)\s*(.*)$/.exec(line) ?? [];
    if (tag === undefined) blocks.at(-1)!.text += `\n${line}`;
    else blocks.push({ tag, text: rest, line: index + 1 });
  });
  for (const { tag, text, line } of blocks) {
    if (tag === undefined) continue;
    if (tag === 'param' || tag === 'parameter') {
      const [, type, name, optional, rest = ''] = /^(?:\{([\w[\]]+)\}\s*)?:?(\w+)(\?)?\s*([\s\S]*)$/.exec(text.trim()) ?? [];
      if (name === undefined) fail(line, '@param names no parameter', 'Write it as @param hive which hive, as MR-03.');
      else
        parameters.set(
          name,
          readParameter(type, optional !== undefined, rest, (why, next) => fail(line, why, next)),
        );
    } else if (flags.has(tag) || texts.has(tag)) tags.set(tag, [...(tags.get(tag) ?? []), text.trim()]);
    else {
      const like = nearest(tag, ['param', ...flags, ...texts]);
      fail(line, `@${tag} is no tag of a query`, like === undefined ? 'Remove it.' : `Did you mean @${like}?`);
    }
  }
  return { description: blocks[0]!.text.trim(), parameters, tags };
}

function readParameter(
  typeText: string | undefined,
  isOptional: boolean,
  text: string,
  fail: (why: string, next: string) => void,
): ParameterText {
  const { description, keywords } = splitText(` ${text.replaceAll('\n', ' ')}`);
  const isList = typeText?.endsWith('[]') ?? false;
  const named = typeText === undefined ? undefined : typeNames[typeText.replace('[]', '').toLowerCase()];
  if (typeText !== undefined && named === undefined)
    fail(`{${typeText}} is no type of a parameter`, `Write one of: ${Object.keys(typeNames).join(', ')}.`);
  const type = named === undefined ? undefined : isList ? ({ kind: 'list', of: named } as const) : named;
  return {
    ...(description !== undefined && { description }),
    keywords,
    isOptional: isOptional || 'default' in keywords,
    ...(type && { type }),
  };
}

/** Parameters that stand alone in the parentheses of an IN: lists. */
export function listParameters(tokens: readonly Token[]): ReadonlySet<string> {
  return new Set(
    tokens
      .filter(
        ({ kind }, index) =>
          kind === 'parameter' && tokens[index - 1]?.value === '(' && tokens[index - 2]?.value === 'in' && tokens[index + 1]?.value === ')',
      )
      .map(({ value }) => value),
  );
}

/** The type of a parameter by the column it stands beside: `hive = :hive`, `kg between :low and :high`, `hive in (:hives)`. */
export function inferType(tokens: readonly Token[], name: string, tables: readonly SeenTable[]): ColumnType | undefined {
  const words = new Set(tokens.map(({ value }) => value.toLowerCase()));
  const named = tables.filter((table) => words.has(table.name.toLowerCase()));
  const columnAt = (index: number): ColumnType | undefined => {
    const token = tokens[index];
    if (token?.kind !== 'word' && token?.kind !== 'quoted') return undefined;
    const found = named.flatMap(({ columns }) => columns.filter((column) => column.name.toLowerCase() === token.value.toLowerCase()));
    const kinds = new Set(found.map(({ type }) => type.kind));
    return kinds.size === 1 ? found[0]!.type : undefined;
  };
  for (const [index, { kind, value }] of tokens.entries()) {
    if (kind !== 'parameter' || value !== name) continue;
    const before = tokens[index - 1]?.value ?? '';
    const candidates = /^(?:[<>=!]+|like|between|is)$/.test(before)
      ? [index - 2]
      : before === '('
        ? [index - 3]
        : before === 'and' && tokens[index - 3]?.value === 'between'
          ? [index - 4]
          : [];
    const after = /^[<>=!]+$/.test(tokens[index + 1]?.value ?? '') ? [index + 2] : [];
    for (const at of [...candidates, ...after]) {
      const type = columnAt(at);
      if (type !== undefined) return type;
    }
  }
  return undefined;
}

/** A parameter that is ready to be called with. */
export interface Parameter {
  readonly name: string;
  readonly type: ColumnType;
  readonly isList: boolean;
  readonly isRequired: boolean;
  readonly schema: JsonSchema;
}

/** The parameters of a query, typed by its tags, by the database, or by the columns they are compared with. */
export function parametersOf(query: QueryText, told: ReadonlyMap<string, ColumnType>, tables: readonly SeenTable[]): Parameter[] {
  const lists = listParameters(query.tokens);
  // In the order in which the comment describes them, then as they are used.
  const names = [
    ...new Set([...query.parameters.keys(), ...query.tokens.filter(({ kind }) => kind === 'parameter').map(({ value }) => value)]),
  ];
  return names.map((name) => {
    const doc = query.parameters.get(name);
    const type = doc?.type ?? usable(told.get(name)) ?? inferType(query.tokens, name, tables) ?? typeByWords(doc) ?? anyType;
    const isList = lists.has(name) || type.kind === 'list';
    const element = type.kind === 'list' ? (type.of ?? anyType) : type;
    const { description, keywords = {}, isOptional = false } = doc ?? {};
    const { examples, default: usual, title, minItems, maxItems, ...inner } = keywords;
    const plain = { ...parameterSchema(element), ...inner } as JsonSchema;
    // A list of the database's own may hold nulls, and so may what is optional.
    const base = type.kind === 'list' || (isOptional && usual === undefined && !isList) ? orNull(plain) : plain;
    const schema: JsonSchema = {
      ...(isList
        ? { type: 'array', items: base, ...(minItems !== undefined && { minItems }), ...(maxItems !== undefined && { maxItems }) }
        : base),
      ...(title !== undefined && { title }),
      ...(description !== undefined && { description }),
      ...(examples !== undefined && { examples }),
      ...(usual !== undefined && { default: usual }),
    } as JsonSchema;
    return { name, type: element, isList, isRequired: !isOptional, schema };
  });
}

/** What has a pattern or a format is a text, what has bounds a number. */
function typeByWords(doc: ParameterText | undefined): ColumnType | undefined {
  const { format, pattern, minLength, maxLength, minimum, maximum, type } = doc?.keywords ?? {};
  if (type === 'integer') return { kind: 'integer' };
  if ([format, pattern, minLength, maxLength].some((each) => each !== undefined)) return { kind: 'text' };
  return minimum !== undefined || maximum !== undefined ? { kind: 'number' } : undefined;
}

function orNull(schema: JsonSchema): JsonSchema {
  if (schema.type === undefined || [schema.type].flat().includes('null')) return schema;
  return {
    ...schema,
    type: [...[schema.type].flat(), 'null'],
    ...(Array.isArray(schema.enum) && { enum: [...(schema.enum as unknown[]), null] }),
  };
}

const usable = (type: ColumnType | undefined) => (type?.kind === 'any' ? undefined : type);

/** The statement with one placeholder for each list, for the database to describe. */
export function forDescribing(query: QueryText, dialect: Dialect) {
  const lists = listParameters(query.tokens);
  return withPlaceholders(query.sql, query.tokens, dialect, Object.fromEntries([...lists].map((name) => [name, 1])));
}
