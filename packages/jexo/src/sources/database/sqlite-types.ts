import { type ColumnType, anyType } from './column-types.js';

/** The type a column of SQLite was declared with; what it holds may differ. */
export function sqliteType(declared: string | null | undefined): ColumnType {
  const name = (declared ?? '').toLowerCase().replace(/\(.*$/, '').trim();
  const type = sqliteKind(name);
  return declared === null || declared === undefined || declared === '' ? anyType : { ...type, declared };
}

function sqliteKind(name: string): ColumnType {
  if (/^bool/.test(name)) return { kind: 'boolean' };
  if (/int/.test(name)) return { kind: 'integer', isLarge: true };
  if (/char|clob|text/.test(name)) return { kind: 'text' };
  if (/blob/.test(name)) return { kind: 'bytes' };
  if (/real|floa|doub/.test(name)) return { kind: 'number' };
  if (/^(?:numeric|decimal)/.test(name)) return { kind: 'number' };
  if (/^json/.test(name)) return { kind: 'json' };
  // Dates are whatever text was put there.
  if (/^(?:date|time|uuid)/.test(name)) return { kind: 'text' };
  return anyType;
}
