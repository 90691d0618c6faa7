import type { Client } from 'pg';
import type { Column, Relation, Table } from '../driver.js';
import { postgresType, type PostgresTypes } from './postgres-types.js';

interface ColumnRow {
  readonly schema: string;
  readonly name: string;
  readonly relkind: string;
  readonly comment: string | null;
  readonly rows: string;
  readonly column: string;
  readonly oid: number;
  readonly modifier: number;
  readonly declared: string;
  readonly notnull: boolean;
  readonly given: boolean;
  readonly remark: string | null;
  readonly key: number | null;
}

interface KeyRow {
  readonly schema: string;
  readonly name: string;
  readonly foreign_schema: string;
  readonly foreign_table: string;
  readonly columns: readonly string[];
  readonly to: readonly string[];
}

/** Reads the tables that the user may select from, with keys, relations and comments. */
export async function readPostgresTables(client: Client, types: PostgresTypes): Promise<Table[]> {
  const { rows } = await client.query(
    `select n.nspname as schema, c.relname as name, c.relkind, obj_description(c.oid, 'pg_class') as comment, c.reltuples::bigint::text as rows,
       a.attname as column, a.atttypid::int as oid, a.atttypmod as modifier, format_type(a.atttypid, a.atttypmod) as declared, a.attnotnull as notnull,
       (a.atthasdef or a.attidentity <> '') as given, col_description(c.oid, a.attnum) as remark, array_position(i.indkey::int2[], a.attnum) as key
     from pg_class c join pg_namespace n on n.oid = c.relnamespace join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped
       left join pg_index i on i.indrelid = c.oid and i.indisprimary
     where c.relkind in ('r', 'v', 'm', 'p', 'f') and not c.relispartition and n.nspname not in ('pg_catalog', 'information_schema') and n.nspname not like 'pg\\_toast%'
       and n.nspname not like 'pg\\_temp%' and has_schema_privilege(n.oid, 'usage') and has_any_column_privilege(c.oid, 'select')
       and has_column_privilege(c.oid, a.attnum, 'select')
     order by n.nspname, c.relname, a.attnum`,
  );
  const { rows: keys } = await client.query(
    `select n.nspname as schema, c.relname as name, fn.nspname as foreign_schema, fc.relname as foreign_table,
       (select array_agg(attname::text order by ord) from unnest(k.conkey) with ordinality u(num, ord) join pg_attribute on attrelid = k.conrelid and attnum = num) as columns,
       (select array_agg(attname::text order by ord) from unnest(k.confkey) with ordinality u(num, ord) join pg_attribute on attrelid = k.confrelid and attnum = num) as to
     from pg_constraint k join pg_class c on c.oid = k.conrelid join pg_namespace n on n.oid = c.relnamespace
       join pg_class fc on fc.oid = k.confrelid join pg_namespace fn on fn.oid = fc.relnamespace where k.contype = 'f' order by k.conname`,
  );
  const relations = new Map<string, Relation[]>();
  for (const { schema, name, foreign_schema, foreign_table, columns, to } of keys as KeyRow[]) {
    const id = `${schema}.${name}`;
    relations.set(id, [...(relations.get(id) ?? []), { table: foreign_table, schema: foreign_schema, columns, to }]);
  }
  const tables = new Map<string, Table & { columns: Column[]; keyed: [number, string][] }>();
  for (const row of rows as ColumnRow[]) {
    const id = `${row.schema}.${row.name}`;
    let table = tables.get(id);
    if (table === undefined) {
      const count = Number(row.rows);
      table = {
        schema: row.schema,
        name: row.name,
        kind: row.relkind === 'v' || row.relkind === 'm' ? 'view' : 'table',
        ...(row.comment !== null && { comment: row.comment }),
        columns: [],
        key: [],
        keyed: [],
        relations: relations.get(id) ?? [],
        ...(count >= 0 && row.relkind !== 'v' && { rows: count }),
      };
      tables.set(id, table);
    }
    table.columns.push({
      name: row.column,
      type: { ...postgresType(row.oid, row.modifier, types), declared: row.declared },
      nullable: !row.notnull,
      hasDefault: row.given,
      ...(row.remark !== null && { comment: row.remark }),
    });
    if (row.key !== null) table.keyed.push([row.key, row.column]);
  }
  return [...tables.values()].map(({ keyed, ...table }) => ({
    ...table,
    key: keyed.sort((a, b) => a[0] - b[0]).map(([, column]) => column),
  }));
}
