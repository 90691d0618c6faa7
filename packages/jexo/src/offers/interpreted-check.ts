import { Validator, type OutputUnit } from '@cfworker/json-schema';
import type { ErrorObject } from 'ajv';
import { isRecord } from '../protocol/is-record.js';
import { withDefaults } from './first-check.js';
import type { JsonSchemaInput } from './schema.js';

/** What only says that something below does not fit. */
const wrappers = new Set([
  'properties',
  'items',
  'prefixItems',
  'patternProperties',
  'allOf',
  '$ref',
  '$dynamicRef',
  'if',
  'then',
  'else',
  'false',
]);

/**
 * Checks by reading the schema, where the runtime makes no code of texts: hosts of functions, pages with a strict policy. Slower than a
 * compiled check; defaults of the fields at the top are filled in.
 *
 * @returns the errors, none when the value fits
 */
export function interpretedCheck(
  schema: JsonSchemaInput,
  isDraft07: boolean,
  fillDefaults: boolean,
): (value: unknown) => readonly ErrorObject[] {
  const validator = new Validator(schema as ConstructorParameters<typeof Validator>[0], isDraft07 ? '7' : '2020-12', false);
  return (value) => {
    if (fillDefaults && isRecord(value)) Object.assign(value, withDefaults(schema, value));
    const { valid, errors } = validator.validate(value);
    return valid ? [] : errors.filter(({ keyword }) => !wrappers.has(keyword)).map((error) => asCompiled(error, schema, value));
  };
}

function asCompiled(
  { keyword, keywordLocation, instanceLocation, error }: OutputUnit,
  schema: JsonSchemaInput,
  value: unknown,
): ErrorObject {
  const parent = at(schema, keywordLocation.replace(/\/[^/]*$/, ''));
  const stated = isRecord(parent) ? parent[keyword] : undefined;
  const [, named] = /"((?:[^"\\]|\\.)*)"/.exec(error) ?? [];
  const params = {
    type: { type: stated },
    enum: { allowedValues: stated ?? [] },
    const: { allowedValue: stated },
    required: { missingProperty: named },
    additionalProperties: { additionalProperty: named },
    unevaluatedProperties: { unevaluatedProperty: named },
    pattern: { pattern: stated },
    format: { format: stated },
  }[keyword] ?? { limit: stated };
  return {
    keyword,
    instancePath: instanceLocation.slice(1),
    schemaPath: keywordLocation,
    params,
    message: error.replace(/\.$/, ''),
    data: at(value, instanceLocation),
    ...(isRecord(parent) && { parentSchema: parent }),
  } as ErrorObject;
}

/** What a JSON pointer in a fragment leads to (RFC 6901, 6). */
function at(root: unknown, pointer: string): unknown {
  let found = root;
  for (const step of pointer.split('/').slice(1)) {
    const key = decodeURIComponent(step).replaceAll('~1', '/').replaceAll('~0', '~');
    if (typeof found !== 'object' || found === null || !Object.hasOwn(found, key)) return undefined;
    found = (found as Record<string, unknown>)[key];
  }
  return found;
}
