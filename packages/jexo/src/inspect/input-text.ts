import { propertiesOf, requiredOf } from '../protocol/json-schema.js';
import { JexoError, messageOf } from '../errors.js';
import type { JsonSchema, Tool } from '../protocol/types.js';

/**
 * Reads `key=value` pairs into an input, each value typed by the tool's schema: `colonies=12` is a number where the
 * schema says so. `place.apiary=MR` sets a nested field; a key given twice makes a list.
 *
 * @throws JexoError JEXO_INPUT_INVALID
 */
export function readPairs(pairs: readonly string[], schema: JsonSchema): Record<string, unknown> {
  const input: Record<string, unknown> = {};
  for (const pair of pairs) {
    const at = pair.indexOf('=');
    if (at < 1)
      throw new JexoError('JEXO_INPUT_INVALID', `${JSON.stringify(pair)} is not of the form key=value.`, {
        where: pair,
        next: 'Write each argument as key=value, as in colonies=12.',
      });
    const path = pair.slice(0, at).split('.');
    const text = pair.slice(at + 1);
    let place = input;
    let described: JsonSchema | undefined = schema;
    for (const step of path.slice(0, -1)) {
      described = propertyOf(described, step);
      const inner = Object.hasOwn(place, step) ? place[step] : undefined;
      if (inner !== undefined && (typeof inner !== 'object' || inner === null))
        throw new JexoError('JEXO_INPUT_INVALID', `${pair.slice(0, at)} sets a field of ${step}, which already has a plain value.`, {
          where: pair,
        });
      if (inner === undefined) Object.defineProperty(place, step, { value: {}, enumerable: true, writable: true, configurable: true });
      place = place[step] as Record<string, unknown>;
    }
    const key = path.at(-1)!;
    described = propertyOf(described, key);
    const list = described !== undefined && kinds(described).includes('array');
    const value =
      list && !text.startsWith('[')
        ? [readValue(text, typeof described?.items === 'object' ? described.items : undefined, pair)]
        : readValue(text, described, pair);
    const before = Object.hasOwn(place, key) ? place[key] : undefined;
    const next =
      before === undefined ? value : [...(Array.isArray(before) ? before : [before]), ...(Array.isArray(value) ? value : [value])];
    Object.defineProperty(place, key, { value: next, enumerable: true, writable: true, configurable: true });
  }
  return input;
}

function propertyOf(schema: JsonSchema | undefined, name: string): JsonSchema | undefined {
  const properties = schema?.properties;
  return properties !== undefined && Object.hasOwn(properties, name) ? properties[name] : undefined;
}

/** The JSON types a schema lets through, as far as they are written out. */
function kinds(schema: JsonSchema): string[] {
  const { type, enum: values, const: only, anyOf, oneOf } = schema;
  if (type !== undefined) return [type].flat();
  if (Array.isArray(values)) return [...new Set(values.map((value) => (value === null ? 'null' : typeof value)))];
  if (only !== undefined) return [only === null ? 'null' : typeof only];
  return [...(anyOf ?? []), ...(oneOf ?? [])].flatMap(kinds);
}

function readValue(text: string, schema: JsonSchema | undefined, pair: string): unknown {
  const wanted = schema === undefined ? [] : kinds(schema);
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

/** Reads one value as its schema wants it; what is of another kind stays a text. @throws JexoError JEXO_INPUT_INVALID */
export function readField(name: string, text: string, schema: JsonSchema): unknown {
  return readValue(text, schema, `${name}=${text}`);
}

function parseOr(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return text; // no schema says what it is: what is no JSON is a text
  }
}

/** An input that shows what a tool needs: its required fields, each with an example, a default or something of the right kind. */
export function exampleInput({ inputSchema }: Tool): Record<string, unknown> {
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
