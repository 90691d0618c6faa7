import type { JsonSchema } from '../../protocol/json-schema.js';

/** A description and keywords beside a schema; beside a `$ref` they are allowed since 2019-09. */
export function withDoc(schema: JsonSchema, description: string | undefined, keywords: Readonly<Record<string, unknown>>): JsonSchema {
  const { type, default: given, ...rest } = keywords;
  const usual = given === undefined ? undefined : defaultFor(schema, given);
  const others = usual === undefined ? rest : { ...rest, default: usual.value };
  return {
    ...schema,
    ...(type === 'integer' && schema.type === 'number' && { type }),
    ...(description !== undefined && { description }),
    ...others,
  };
}

/** A default as a comment writes it: of an enum its member's value, and nothing that the schema would refuse, as the word `undefined`. */
function defaultFor(schema: JsonSchema, given: unknown): { readonly value: unknown } | undefined {
  const { oneOf: members = [] } = schema;
  if (typeof given === 'string' && members.length > 0) {
    const member = members.find(({ title, const: value }) => title === given.split('.').at(-1) || String(value) === given);
    return member === undefined ? undefined : { value: member.const };
  }
  if (schema.enum !== undefined) return schema.enum.includes(given) ? { value: given } : undefined;
  const types: readonly string[] = [schema.type].flat().filter((each) => each !== undefined);
  const kind = given === null ? 'null' : Array.isArray(given) ? 'array' : typeof given;
  const fits = types.length === 0 || types.includes(kind) || (kind === 'number' && types.includes('integer'));
  return fits && given !== 'undefined' ? { value: given } : undefined;
}
