import type { JsonSchema } from '../../protocol/json-schema.js';
import type { JsonKind, Revive } from './shape.js';

/** A type that has no counterpart in JSON Schema. */
export class Unreadable extends Error {
  constructor(
    readonly why: string,
    readonly next: string,
  ) {
    super(why);
  }
}

export interface Converted {
  readonly schema: JsonSchema;
  readonly revive?: Revive;
  /** What a reference stands for, where it is one kind of JSON. */
  readonly kind?: JsonKind | undefined;
}

export interface Definitions {
  /** What `convert` has referred to so far, for `$defs`. */
  readonly schemas?: Record<string, JsonSchema>;
  readonly revives?: Record<string, Revive>;
}

/** The kind of JSON a type is sent as, when it is one. */
export function kindOf({ schema, kind }: Converted): JsonKind | undefined {
  if (kind !== undefined) return kind;
  const type = typeof schema.type === 'string' ? schema.type : typeof schema.const;
  return type === 'string' || type === 'number' || type === 'boolean' || type === 'array' || type === 'object' ? type : undefined;
}

/** False when reviving would only copy: a type that contains itself and nothing but JSON. */
export function doesWork(revive: Revive, self: string | undefined): boolean {
  switch (revive.to) {
    case 'ref':
      return revive.name !== self;
    case 'list':
      return doesWork(revive.item, self);
    case 'tuple':
      return revive.items.some((item) => item !== null && doesWork(item, self));
    case 'object':
      return [...Object.values(revive.properties), ...(revive.rest ? [revive.rest] : [])].some((each) => doesWork(each, self));
    case 'case':
      return Object.values(revive.cases).some((each) => doesWork(each, self));
    case 'kind':
      return Object.values(revive.kinds).some((each) => doesWork(each, self));
    default:
      return true;
  }
}

/** The same, or null. */
export function orNull(schema: JsonSchema): JsonSchema {
  const { type, enum: values } = schema;
  if (Object.keys(schema).length === 0) return schema;
  const types = [type].flat().filter((each) => each !== undefined);
  if (types.includes('null')) return schema;
  if (type === undefined || schema.anyOf !== undefined || schema.oneOf !== undefined || schema.const !== undefined)
    return schema.anyOf !== undefined && type === undefined
      ? { ...schema, anyOf: [...schema.anyOf.filter((each) => each.type !== 'null'), { type: 'null' }] }
      : { anyOf: [schema, { type: 'null' }] };
  return { ...schema, type: [...types, 'null'], ...(values !== undefined && { enum: [...values, null] }) };
}
