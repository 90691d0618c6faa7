import { isRecord } from '../protocol/is-record.js';
import { propertiesOf, requiredOf, resolveRef } from '../protocol/json-schema.js';
import type { JsonSchema } from '../protocol/types.js';

const deepest = 12;

/** A JSON Schema as a type of TypeScript; what has no type there is `unknown`. @param indent of the line it begins in */
export function typeOfSchema(schema: JsonSchema, indent: string, root: JsonSchema = schema, depth = 0): string {
  if (depth > deepest) return 'unknown';
  const inner = (each: JsonSchema, more = '') => typeOfSchema(each, indent + more, root, depth + 1);
  const { const: only, enum: values, type } = schema;
  if (schema.$ref !== undefined) {
    const found = resolveRef(schema.$ref, root);
    return found === undefined || found === schema ? 'unknown' : inner(found);
  }
  if (only !== undefined) return JSON.stringify(only);
  if (values !== undefined) return values.map((value) => JSON.stringify(value)).join(' | ') || 'never';
  const alternatives = schema.anyOf ?? schema.oneOf;
  if (alternatives !== undefined) return [...new Set(alternatives.map((each) => inner(each)))].join(' | ');
  if (Array.isArray(type)) return [...new Set((type as string[]).map((each) => inner({ ...schema, type: each as 'string' })))].join(' | ');
  switch (type) {
    case 'string':
    case 'boolean':
    case 'null':
      return type;
    case 'number':
    case 'integer':
      return 'number';
    case 'array':
      return isRecord(schema.items) ? `readonly (${inner(schema.items as JsonSchema)})[]` : 'readonly unknown[]';
    case 'object':
      return objectType(schema, indent, inner);
    default:
      return schema.properties === undefined ? 'unknown' : objectType(schema, indent, inner);
  }
}

function objectType(schema: JsonSchema, indent: string, inner: (each: JsonSchema, more?: string) => string): string {
  const properties = Object.entries(propertiesOf(schema));
  const { additionalProperties } = schema;
  if (properties.length === 0)
    return `Readonly<Record<string, ${isRecord(additionalProperties) ? inner(additionalProperties as JsonSchema) : 'unknown'}>>`;
  const required = new Set(requiredOf(schema));
  const lines = properties.map(([name, each]) => {
    const key = /^[A-Za-z_$][\w$]*$/.test(name) ? name : JSON.stringify(name);
    const about =
      isRecord(each) && typeof each.description === 'string'
        ? `${indent}  /** ${each.description.replaceAll('*/', '* /').replaceAll(/\s+/g, ' ')} */\n`
        : '';
    return `${about}${indent}  readonly ${key}${required.has(name) ? '' : '?'}: ${inner(each, '  ')};`;
  });
  return `{\n${lines.join('\n')}\n${indent}}`;
}
