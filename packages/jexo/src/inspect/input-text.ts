import { isRecord } from '../protocol/is-record.js';
import { branchesOf, propertiesOf, requiredOf } from '../protocol/json-schema.js';
import { JexoError, messageOf } from '../errors.js';
import type { JsonSchema, Tool } from '../protocol/types.js';

/** Reads a file that an argument names: `photo=@hive.png`. Bytes are wanted as base64. @throws an error that says why it cannot */
export type ReadArgumentFile = (path: string, as: 'base64' | 'utf8') => string;

interface Reading {
  /** The pair as it was given, for errors. */
  readonly pair: string;
  readonly root: JsonSchema;
  readonly readFile: ReadArgumentFile | undefined;
}

/**
 * Reads `key=value` pairs into arguments, each value typed by the tool's schema: `colonies=12` is a number where the schema says
 * so. `place.apiary=MR` sets a nested field, `rows[0].kg=31` or `rows.0.kg=31` one of an item, and `rows.kg=31` one of the first item. A
 * key given twice makes a list. `photo=@hive.png` reads a file; `@@` begins a text with `@`.
 *
 * @throws JexoError JEXO_INPUT_INVALID
 */
export function readPairs(pairs: readonly string[], schema: JsonSchema, readFile?: ReadArgumentFile): Record<string, unknown> {
  let input: unknown = {};
  for (const pair of pairs) {
    const at = pair.indexOf('=');
    if (at < 1)
      throw new JexoError('JEXO_INPUT_INVALID', `${JSON.stringify(pair)} is not of the form key=value.`, {
        where: pair,
        next: 'Write each argument as key=value, as in colonies=12.',
      });
    const steps = pair
      .slice(0, at)
      .replaceAll(/\[(\d*)\]/g, '.$1')
      .split('.');
    input = place(input, steps, schema, pair.slice(at + 1), { pair, root: schema, readFile });
  }
  return input as Record<string, unknown>;
}

/** What stands at a place once the value behind `steps` has been set in it. */
function place(current: unknown, steps: readonly string[], schema: JsonSchema | undefined, text: string, reading: Reading): unknown {
  if (steps.length === 0) return leaf(current, schema, text, reading);
  const wanted = schema === undefined ? [] : kinds(schema, reading.root);
  if (Array.isArray(current) || (current === undefined && wanted.includes('array') && !wanted.includes('object')))
    return placeInList((current as unknown[] | undefined) ?? [], steps, schema, text, reading);
  if (current !== undefined && (typeof current !== 'object' || current === null))
    throw new JexoError('JEXO_INPUT_INVALID', `${reading.pair} sets a field of something that already has a plain value.`, {
      where: reading.pair,
    });
  // A field whose own name has dots is found whole.
  const whole = steps.join('.');
  const isWhole = fieldOf(schema, whole, reading.root) !== undefined;
  const [key, rest] = isWhole ? [whole, []] : [steps[0]!, steps.slice(1)];
  const before = (current ?? {}) as Record<string, unknown>;
  const value = place(Object.hasOwn(before, key) ? before[key] : undefined, rest, fieldOf(schema, key, reading.root), text, reading);
  return Object.defineProperty({ ...before }, key, { value, enumerable: true, writable: true, configurable: true });
}

function placeInList(
  current: readonly unknown[],
  steps: readonly string[],
  schema: JsonSchema | undefined,
  text: string,
  reading: Reading,
): unknown[] {
  const isIndex = /^\d*$/.test(steps[0]!);
  const index = !isIndex ? 0 : steps[0] === '' ? current.length : Number(steps[0]);
  if (index > current.length)
    throw new JexoError('JEXO_INPUT_INVALID', `${reading.pair} sets item ${index}, but there are only ${current.length} before it.`, {
      where: reading.pair,
      next: 'Count from 0, and give the items in order.',
    });
  const list = [...current];
  list[index] = place(list[index], isIndex ? steps.slice(1) : steps, itemOf(schema, index, reading.root), text, reading);
  return list;
}

function leaf(current: unknown, schema: JsonSchema | undefined, text: string, reading: Reading): unknown {
  const isList = schema !== undefined && kinds(schema, reading.root).includes('array');
  const value =
    isList && !text.startsWith('[') ? [readValue(text, itemOf(schema, 0, reading.root), reading)] : readValue(text, schema, reading);
  if (current === undefined) return value;
  return [...(Array.isArray(current) ? current : [current]), ...(Array.isArray(value) ? value : [value])];
}

function fieldOf(schema: JsonSchema | undefined, name: string, root: JsonSchema): JsonSchema | undefined {
  for (const { properties } of branchesOf(schema, root))
    if (properties !== undefined && Object.hasOwn(properties, name)) return properties[name];
  return undefined;
}

function itemOf(schema: JsonSchema | undefined, index: number, root: JsonSchema): JsonSchema | undefined {
  for (const { items, prefixItems } of branchesOf(schema, root)) {
    const own = (prefixItems as JsonSchema[] | undefined)?.[index] ?? items;
    if (typeof own === 'object') return own as JsonSchema;
  }
  return undefined;
}

/** The JSON types a schema lets through, as far as they are written out. */
function kinds(schema: JsonSchema, root: JsonSchema = schema): string[] {
  const found = branchesOf(schema, root).flatMap(({ type, enum: values, const: only }) => {
    if (type !== undefined) return [type].flat();
    if (Array.isArray(values)) return values.map((value) => (value === null ? 'null' : typeof value));
    return only === undefined ? [] : [only === null ? 'null' : typeof only];
  });
  return [...new Set(found)];
}

function readValue(given: string, schema: JsonSchema | undefined, reading: Reading): unknown {
  const { pair } = reading;
  const wanted = schema === undefined ? [] : kinds(schema, reading.root);
  if (given.startsWith('@') && !given.startsWith('@@') && given.length > 1 && isBytes(schema, reading.root))
    return readNamed(given.slice(1), 'base64', reading);
  const text = given.startsWith('@@')
    ? given.slice(1)
    : given.startsWith('@') && given.length > 1
      ? readNamed(given.slice(1), 'utf8', reading)
      : given;
  if (wanted.length === 0) return parseOr(text);
  if (wanted.includes('null') && text === 'null') return null;
  if ((wanted.includes('number') || wanted.includes('integer')) && text.trim() !== '' && Number.isFinite(Number(text))) return Number(text);
  if (wanted.includes('boolean') && /^(true|false|yes|no)$/i.test(text)) return /^(true|yes)$/i.test(text);
  if ((wanted.includes('object') && text.startsWith('{')) || (wanted.includes('array') && text.startsWith('['))) {
    try {
      return JSON.parse(text);
    } catch (error) {
      throw new JexoError('JEXO_INPUT_INVALID', `${pair} holds JSON that cannot be read: ${messageOf(error)}`, { where: pair });
    }
  }
  return text; // a text, or a value of the wrong kind, which the server refuses with the reason
}

/** True for a text that holds bytes as base64. */
function isBytes(schema: JsonSchema | undefined, root: JsonSchema): boolean {
  return branchesOf(schema, root).some(
    ({ contentEncoding, format }) => contentEncoding === 'base64' || format === 'byte' || format === 'binary',
  );
}

function readNamed(path: string, as: 'base64' | 'utf8', { pair, readFile }: Reading): string {
  try {
    if (readFile === undefined) throw new Error('there are no files here');
    return readFile(path, as);
  } catch (error) {
    throw new JexoError('JEXO_INPUT_INVALID', `${pair}: the file ${path} cannot be read: ${messageOf(error)}`, {
      where: pair,
      next: 'Check the path. A text that begins with @ is written with two of them: @@.',
      cause: error,
    });
  }
}

/** Reads one value as its schema wants it; what is of another kind stays a text. @throws JexoError JEXO_INPUT_INVALID */
export function readField(name: string, text: string, schema: JsonSchema): unknown {
  // What is typed at a question is taken as it stands: only arguments name files.
  return readValue(text.startsWith('@') ? `@${text}` : text, schema, { pair: `${name}=${text}`, root: schema, readFile: undefined });
}

function parseOr(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return text; // no schema says what it is: what is no JSON is a text
  }
}

/** An input that shows what a tool needs: the first example of its schema, or its required fields, each with an example, a default or something of the right kind. */
export function exampleInput({ inputSchema }: Tool): Record<string, unknown> {
  const [whole] = (inputSchema.examples as unknown[] | undefined) ?? [];
  if (isRecord(whole)) return whole;
  const properties = propertiesOf(inputSchema);
  const required = new Set(requiredOf(inputSchema));
  return Object.fromEntries(
    Object.entries(properties)
      .filter(([name]) => required.has(name))
      .map(([name, schema]) => [name, exampleValue(schema)]),
  );
}

function exampleValue(schema: JsonSchema): unknown {
  const known =
    (schema.examples as unknown[] | undefined)?.[0] ?? schema.default ?? (schema.enum as unknown[] | undefined)?.[0] ?? schema.const;
  if (known !== undefined) return known;
  const [kind] = kinds(schema);
  if (kind === 'number' || kind === 'integer') return Math.max(Number(schema.minimum ?? 1), 1);
  if (kind === 'boolean') return true;
  if (kind === 'array') return [];
  if (kind === 'object') return {};
  return schema.format === 'date-time' ? '2026-06-01T00:00:00Z' : schema.format === 'date' ? '2026-06-01' : 'text';
}

export function quoteForShell(text: string): string {
  return /^[\w@%+=:,./-]+$/.test(text) ? text : `'${text.replaceAll("'", String.raw`'\''`)}'`;
}
