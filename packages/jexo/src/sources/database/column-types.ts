import type { JsonType } from '../../protocol/json-schema.js';
import type { JsonSchema } from '../../protocol/types.js';

/** What a column holds, in terms that all databases share. docs/databases.md has the table of what becomes of each. */
export type ColumnKind =
  | 'integer'
  | 'number'
  | 'decimal'
  | 'text'
  | 'boolean'
  | 'date'
  | 'time'
  | 'timestamp'
  | 'timestamptz'
  | 'interval'
  | 'json'
  | 'bytes'
  | 'uuid'
  | 'list'
  | 'enum'
  | 'any';

/** The type of a column or of a parameter. */
export interface ColumnType {
  readonly kind: ColumnKind;
  /** Of the entries of a list. */
  readonly of?: ColumnType;
  /** Of an enum. */
  readonly values?: readonly string[];
  /** True for integers that a JSON number may not carry exactly: those beyond it are texts of digits. */
  readonly isLarge?: boolean;
  /** As the database writes it: `numeric(6,2)`. */
  readonly declared?: string;
}

export const anyType: ColumnType = { kind: 'any' };

/** Integers that a JSON number carries exactly. Others are texts of digits. */
export const isSafe = (value: bigint) => value >= BigInt(Number.MIN_SAFE_INTEGER) && value <= BigInt(Number.MAX_SAFE_INTEGER);

const scalars: readonly JsonType[] = ['string', 'number', 'boolean', 'null'];

/** The schema of a value as it is answered. */
export function valueSchema(type: ColumnType, nullable: boolean): JsonSchema {
  const plain = plainSchema(type);
  if (!nullable || plain.type === undefined) return plain;
  return {
    ...plain,
    type: [...([plain.type].flat() as JsonType[]), 'null'],
    ...(Array.isArray(plain.enum) && { enum: [...(plain.enum as unknown[]), null] }),
  };
}

function plainSchema({ kind, of, values, isLarge }: ColumnType): JsonSchema {
  switch (kind) {
    case 'integer':
      return { type: isLarge ? ['integer', 'string'] : 'integer' };
    case 'number':
      return { type: ['number', 'string'] };
    case 'boolean':
      return { type: 'boolean' };
    case 'list':
      return { type: 'array', items: of === undefined ? {} : valueSchema(of, true) };
    case 'enum':
      return { type: 'string', ...(values && { enum: [...values] }) };
    case 'json':
    case 'any':
      return {};
    case 'bytes':
      return { type: ['string', 'object'], contentEncoding: 'base64' };
    default:
      return { type: 'string' };
  }
}

const formats: Partial<Record<ColumnKind, JsonSchema>> = {
  date: { type: 'string', format: 'date' },
  uuid: { type: 'string', format: 'uuid' },
  decimal: { type: ['number', 'string'] },
  integer: { type: 'integer' },
  number: { type: 'number' },
  bytes: { type: 'string', contentEncoding: 'base64' },
  timestamptz: { type: 'string', description: 'a moment, as 2026-06-01T06:00:00Z' },
  timestamp: { type: 'string', description: 'a local date and time, as 2026-06-01T06:00:00' },
};

/** The schema of a parameter as it is given. */
export function parameterSchema(type: ColumnType): JsonSchema {
  if (type.kind === 'any') return { type: scalars };
  if (type.kind === 'integer' && type.isLarge && !/^integer$/i.test(type.declared ?? ''))
    return { type: ['integer', 'string'], pattern: '^-?\\d+$' };
  if (type.kind === 'list') return { type: 'array', items: parameterSchema(type.of ?? anyType) };
  return formats[type.kind] ?? plainSchema(type);
}

/** How a type is named to a model, in a word or two. */
export function typeWords({ kind, of, values, declared }: ColumnType): string {
  if (kind === 'list') return `list of ${typeWords(of ?? anyType)}`;
  if (kind === 'enum' && values !== undefined)
    return values
      .slice(0, 8)
      .map((value) => `'${value}'`)
      .join('|');
  return declared?.toLowerCase() ?? kind;
}

/** Bytes as base64; more than `most` of them as their number alone. */
export function bytesToJson(value: Uint8Array, most: number): unknown {
  if (value.byteLength > most) return { bytes: value.byteLength, omitted: `longer than ${most} bytes` };
  return Buffer.from(value.buffer, value.byteOffset, value.byteLength).toString('base64');
}
