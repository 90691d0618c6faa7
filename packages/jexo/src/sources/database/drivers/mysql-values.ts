import { bytesToJson, isSafe, type ColumnType } from '../column-types.js';

/** A column as the wire describes it. */
export interface Field {
  readonly name: string;
  readonly columnType: number;
  readonly characterSet: number;
  readonly flags: number;
  readonly columnLength: number;
  readonly decimals: number;
  readonly orgTable?: string;
  readonly orgName?: string;
  readonly schema?: string;
}

/** The driver's means to say of which type a value is sent. */
export type TypedParameter = Readonly<Record<string, (value: unknown) => unknown>>;

const binary = 63;
const isText = (field: Field) => field.characterSet !== binary;

/** The type of a column of a result. */
export function mysqlType(field: Field, jsonColumns: ReadonlySet<string>, enums: ReadonlyMap<string, readonly string[]>): ColumnType {
  const origin = `${field.orgTable ?? ''}.${field.orgName ?? ''}`;
  switch (field.columnType) {
    case 8:
      return { kind: 'integer', isLarge: true };
    case 1:
    case 2:
    case 3:
    case 9:
    case 13:
    case 16:
      return { kind: 'integer' };
    case 4:
    case 5:
      return { kind: 'number' };
    case 0:
    case 246:
      return { kind: 'decimal' };
    case 7:
      return { kind: 'timestamptz' };
    case 10:
    case 14:
      return { kind: 'date' };
    case 11:
      return { kind: 'time' };
    case 12:
      return { kind: 'timestamp' };
    case 245:
      return { kind: 'json' };
    case 255:
      return { kind: 'bytes' };
    default:
      if (jsonColumns.has(origin)) return { kind: 'json' };
      if ((field.flags & 256) !== 0) return { kind: 'enum', ...(enums.has(origin) && { values: enums.get(origin)! }) };
      return isText(field) ? { kind: 'text' } : { kind: 'bytes' };
  }
}

/** `2026-06-01 06:00:00` with a T in the middle. */
function withT(value: unknown): string {
  const text = String(value);
  return `${text.slice(0, 10)}T${text.slice(11)}`;
}

/** A value as the driver gives it, as JSON. */
export function mysqlToJson(value: unknown, { kind }: ColumnType, maxBlobBytes: number): unknown {
  if (value === null || value === undefined) return null;
  if (typeof value === 'bigint') return isSafe(value) ? Number(value) : String(value);
  if (Buffer.isBuffer(value)) {
    // BIT comes as bytes.
    if (kind === 'integer') return Number(BigInt(`0x${value.toString('hex') || '0'}`));
    return kind === 'bytes' ? bytesToJson(value, maxBlobBytes) : value.toString('utf8');
  }
  if (kind === 'timestamp') return withT(value);
  if (kind === 'timestamptz') return `${withT(value)}Z`;
  if (kind === 'decimal') return String(value);
  if (kind === 'json' && typeof value === 'string') {
    try {
      return JSON.parse(value) as unknown;
    } catch {
      return value; // a check that was turned off
    }
  }
  return value;
}

/** What was given as JSON, as the driver sends it. */
export function mysqlParameter(value: unknown, { kind }: ColumnType, typed: TypedParameter | undefined): unknown {
  if (value === null || value === undefined) return null;
  if (kind === 'bytes' && typeof value === 'string') return Buffer.from(value, 'base64');
  if (kind === 'json') return JSON.stringify(value);
  if (typeof value === 'number' && Number.isSafeInteger(value)) return typed?.BIGINT?.(value) ?? value;
  if ((kind === 'timestamptz' || kind === 'timestamp') && typeof value === 'string') return value.replace('T', ' ').replace(/Z$/, '');
  return typeof value === 'object' ? JSON.stringify(value) : value;
}
