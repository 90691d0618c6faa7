import { validate } from '@cfworker/json-schema';
import type { JsonSchemaInput } from './schema.js';
import { isRecord } from '../protocol/is-record.js';

/**
 * Whether a value passes, told without compiling anything: compiling a schema takes a millisecond, and many tools are called once.
 * `undefined` when it does not pass or cannot be told so: then the compiled check says what is wrong. Defaults of the fields at the
 * top are filled in, as the compiled check does, unless `fillDefaults` is false.
 */
export function passesAtOnce(schema: JsonSchemaInput, value: unknown, fillDefaults = true): true | undefined {
  if (!isPlain(schema, true) || partsOf(value, mostParts) > mostParts) return undefined;
  try {
    const filled = fillDefaults && isRecord(value) ? withDefaults(schema, value) : value;
    if (!validate(filled, schema as Parameters<typeof validate>[1], '2020-12', {}).valid) return undefined;
    if (filled !== value) Object.assign(value as object, filled);
    return true;
  } catch {
    return undefined; // a value that is no JSON, an undefined field for one
  }
}

/** Values of more parts are checked faster by compiling first. */
const mostParts = 300;

/** How many values there are in a value; counting stops beyond `most`. */
function partsOf(value: unknown, most: number): number {
  let parts = 1;
  if (typeof value !== 'object' || value === null) return parts;
  for (const each of Object.values(value)) {
    if (parts > most) break;
    parts += partsOf(each, most - parts);
  }
  return parts;
}

const types = new Set(['string', 'number', 'integer', 'boolean', 'object', 'array', 'null']);
const isCount = (value: unknown) => Number.isInteger(value) && (value as number) >= 0;
const isNumber = (value: unknown) => Number.isFinite(value);
const isAny = () => true;
const isSchema = (value: unknown) => typeof value === 'boolean' || (isRecord(value) && isPlain(value));
const areSchemas = (value: unknown) => Array.isArray(value) && value.length > 0 && value.every(isSchema);

/** The keywords on which both checks agree, with what each must hold. The others, `format` for one, are left to the compiled check. */
const keywords: Readonly<Record<string, (value: unknown) => boolean>> = {
  type: (value) => [value].flat().every((each) => types.has(each as string)),
  properties: (value) => isRecord(value) && Object.keys(value).every((name) => !(name in {})) && Object.values(value).every(isSchema),
  required: (value) => Array.isArray(value) && value.every((name) => typeof name === 'string' && !(name in {})),
  additionalProperties: isSchema,
  items: isSchema,
  anyOf: areSchemas,
  oneOf: areSchemas,
  enum: (value) => Array.isArray(value) && value.length > 0 && value.every((each) => typeof each !== 'object' || each === null),
  const: (value) => typeof value !== 'object' || value === null,
  minimum: isNumber,
  maximum: isNumber,
  exclusiveMinimum: isNumber,
  exclusiveMaximum: isNumber,
  minLength: isCount,
  maxLength: isCount,
  minItems: isCount,
  maxItems: isCount,
  minProperties: isCount,
  maxProperties: isCount,
  title: isAny,
  description: isAny,
  examples: isAny,
  deprecated: isAny,
  contentEncoding: isAny,
  contentMediaType: isAny,
};

function isPlain(schema: JsonSchemaInput, isTop = false): boolean {
  return Object.entries(schema).every(([keyword, value]) => {
    // Beside a union, defaults are filled in only after the union was checked.
    if (isTop && keyword === 'properties' && isRecord(value) && !('anyOf' in schema || 'oneOf' in schema))
      return keywords.properties!(Object.fromEntries(Object.entries(value).map(([name, part]) => [name, withoutDefault(part)])));
    return Object.hasOwn(keywords, keyword) && keywords[keyword]!(value);
  });
}

function withoutDefault(schema: unknown): unknown {
  if (!isRecord(schema) || !('default' in schema)) return schema;
  const { default: _, ...rest } = schema;
  return rest;
}

export function withDefaults({ properties }: JsonSchemaInput, value: Record<string, unknown>): Record<string, unknown> {
  const filled = { ...value };
  for (const [name, schema] of Object.entries((properties ?? {}) as Record<string, unknown>))
    if (filled[name] === undefined && isRecord(schema) && 'default' in schema) filled[name] = structuredClone(schema.default);
  return filled;
}
