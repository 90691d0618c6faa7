import { propertiesOf } from '../protocol/json-schema.js';
import { JexoError } from '../errors.js';
import type { JsonSchema } from '../protocol/types.js';
import type { CompiledSchema } from './schema.js';

const kept: Readonly<Record<string, readonly string[]>> = {
  string: ['title', 'description', 'minLength', 'maxLength', 'format', 'enum', 'oneOf', 'default'],
  number: ['title', 'description', 'minimum', 'maximum', 'default'],
  integer: ['title', 'description', 'minimum', 'maximum', 'default'],
  boolean: ['title', 'description', 'default'],
  array: ['title', 'description', 'minItems', 'maxItems', 'items', 'default'],
};
const formats: readonly unknown[] = ['email', 'uri', 'date', 'date-time'];

/**
 * The form a client can show for a schema: flat, with fields of plain kinds (Client features, "Elicitation", "Requested
 * Schema"). What the form cannot say, as a pattern, is still checked when the answer comes.
 *
 * @throws JexoError JEXO_SCHEMA_INVALID for a field no form has
 */
export function formOf(schema: CompiledSchema, where: string): JsonSchema {
  const properties = Object.entries(propertiesOf(schema.json)).map(([name, field]) => [name, fieldOf(name, field, where)] as const);
  const required = schema.json.required as string[] | undefined;
  return { type: 'object', properties: Object.fromEntries(properties), ...(required !== undefined && required.length > 0 && { required }) };
}

export function fieldOf(name: string, field: JsonSchema, where: string): JsonSchema {
  const type = typeof field.type === 'string' ? field.type : Array.isArray(field.enum) || Array.isArray(field.oneOf) ? 'string' : undefined;
  const refuse = (why: string): never => {
    throw new JexoError('JEXO_SCHEMA_INVALID', `${where}: ${name} ${why}. A form has texts, numbers, yes or no, and choices.`, {
      where,
      next: 'Ask for it in flat fields, or in several questions.',
    });
  };
  const known = type === undefined ? undefined : kept[type];
  if (type === undefined || known === undefined)
    return refuse(`is of the kind ${JSON.stringify(field.type ?? 'mixed')}, which no form can show`);
  if (type === 'array' && !isChoice(field.items as JsonSchema | undefined)) return refuse('is a list of something else than choices');
  if (Array.isArray(field.enum) && !field.enum.every((value) => typeof value === 'string')) return refuse('has choices that are not texts');
  const members = Object.entries(field).filter(
    ([keyword, value]) => known.includes(keyword) && (keyword !== 'format' || formats.includes(value)),
  );
  return { type, ...Object.fromEntries(members) };
}

function isChoice(items: JsonSchema | undefined): boolean {
  return items !== undefined && (Array.isArray(items.enum) || Array.isArray(items.anyOf));
}
