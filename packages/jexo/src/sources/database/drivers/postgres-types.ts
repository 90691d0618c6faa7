import type { Client } from 'pg';
import { anyType, type ColumnKind, type ColumnType } from '../column-types.js';

/** What the catalogue says of types beyond the built-in ones: arrays, enums, domains. */
export interface PostgresTypes {
  readonly arrays: ReadonlyMap<number, number>;
  readonly enums: ReadonlyMap<number, readonly string[]>;
  readonly domains: ReadonlyMap<number, number>;
}

const kinds: Readonly<Record<number, ColumnKind>> = {
  16: 'boolean',
  17: 'bytes',
  20: 'integer',
  21: 'integer',
  23: 'integer',
  26: 'integer',
  18: 'text',
  19: 'text',
  25: 'text',
  1042: 'text',
  1043: 'text',
  114: 'json',
  3802: 'json',
  700: 'number',
  701: 'number',
  1700: 'decimal',
  1082: 'date',
  1083: 'time',
  1266: 'time',
  1114: 'timestamp',
  1184: 'timestamptz',
  1186: 'interval',
  2950: 'uuid',
};

/** The type of an object identifier. */
export function postgresType(oid: number, modifier: number, types: PostgresTypes): ColumnType {
  const kind = kinds[oid];
  if (kind === 'decimal' && modifier > 4)
    return { kind, declared: `numeric(${((modifier - 4) >> 16) & 0xffff},${(modifier - 4) & 0xffff})` };
  if (oid === 20) return { kind: 'integer', isLarge: true };
  if (kind !== undefined) return { kind };
  const element = types.arrays.get(oid);
  if (element !== undefined) return { kind: 'list', of: postgresType(element, modifier, types) };
  const values = types.enums.get(oid);
  if (values !== undefined) return { kind: 'enum', values };
  const base = types.domains.get(oid);
  return base === undefined ? anyType : postgresType(base, modifier, types);
}

interface TypeRow {
  readonly oid: number;
  readonly typtype: string;
  readonly element: number;
  readonly base: number;
  readonly category: string;
  readonly labels: readonly string[] | null;
}

/** Reads them once. */
export async function readPostgresTypes(client: Client): Promise<PostgresTypes> {
  const { rows } = await client.query(
    `select t.oid::int as oid, t.typtype, t.typelem::int as element, t.typbasetype::int as base, t.typcategory as category,
       (select array_agg(e.enumlabel::text order by e.enumsortorder) from pg_enum e where e.enumtypid = t.oid) as labels
     from pg_type t where t.typcategory = 'A' and t.typelem <> 0 or t.typtype in ('e', 'd')`,
  );
  const arrays = new Map<number, number>();
  const enums = new Map<number, readonly string[]>();
  const domains = new Map<number, number>();
  for (const { oid, typtype, element, base, category, labels } of rows as TypeRow[]) {
    if (typtype === 'e') enums.set(oid, labels ?? []);
    else if (typtype === 'd') domains.set(oid, base);
    else if (category === 'A') arrays.set(oid, element);
  }
  return { arrays, enums, domains };
}
