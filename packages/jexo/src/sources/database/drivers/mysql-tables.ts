import type { ColumnType } from '../column-types.js';
import type { Column, Relation, Table } from '../driver.js';

type List = <T extends readonly unknown[]>(sql: string) => Promise<T[]>;

/** Reads the tables of the database, with keys, relations and comments. */
export async function readMysqlTables(
  list: List,
  jsonColumns: ReadonlySet<string>,
  enums: ReadonlyMap<string, readonly string[]>,
): Promise<Table[]> {
  const found = await list<[string, string, string, number | null]>(
    `select table_name, table_type, table_comment, table_rows from information_schema.tables where table_schema = database() order by table_name`,
  );
  const columns = await list<[string, string, string, string, string, string | null, string, string]>(
    `select table_name, column_name, data_type, column_type, is_nullable, column_default, column_comment, extra from information_schema.columns where table_schema = database() order by table_name, ordinal_position`,
  );
  const keys = await list<[string, string, string, string | null, string | null]>(
    `select table_name, constraint_name, column_name, referenced_table_name, referenced_column_name from information_schema.key_column_usage where table_schema = database() order by table_name, constraint_name, ordinal_position`,
  );
  return found.map(([name, type, comment, rows]): Table => {
    const own = columns.filter(([table]) => table === name);
    const isView = type === 'VIEW';
    return {
      name,
      kind: isView ? 'view' : 'table',
      ...(!isView && comment !== '' && { comment }),
      columns: own.map(([, column, dataType, columnType, nullable, given, remark, extra]): Column => ({
        name: column,
        type: { ...declaredType(dataType, `${name}.${column}`, jsonColumns, enums), declared: columnType },
        nullable: nullable === 'YES',
        hasDefault: given !== null || extra.includes('auto_increment'),
        ...(remark !== '' && { comment: remark }),
      })),
      key: keys.filter(([table, constraint]) => table === name && constraint === 'PRIMARY').map(([, , column]) => column),
      relations: relationsOf(keys.filter(([table, , , to]) => table === name && to !== null)),
      ...(rows !== null && !isView && { rows: Number(rows) }),
    };
  });
}

function relationsOf(rows: readonly [string, string, string, string | null, string | null][]): Relation[] {
  const groups = new Map<string, Relation & { columns: string[]; to: string[] }>();
  for (const [, constraint, column, table, to] of rows) {
    const group = groups.get(constraint) ?? { table: table!, columns: [], to: [] };
    group.columns.push(column);
    group.to.push(to!);
    groups.set(constraint, group);
  }
  return [...groups.values()];
}

function declaredType(
  name: string,
  origin: string,
  jsonColumns: ReadonlySet<string>,
  enums: ReadonlyMap<string, readonly string[]>,
): ColumnType {
  if (jsonColumns.has(origin)) return { kind: 'json' };
  if (name === 'enum') return { kind: 'enum', values: enums.get(origin) ?? [] };
  if (name === 'bigint') return { kind: 'integer', isLarge: true };
  if (/int$|^year$|^bit$/.test(name)) return { kind: 'integer' };
  if (name === 'float' || name === 'double') return { kind: 'number' };
  if (name === 'uuid') return { kind: 'uuid' };
  if (/blob$|binary$/.test(name)) return { kind: 'bytes' };
  const kinds = { decimal: 'decimal', date: 'date', time: 'time', datetime: 'timestamp', timestamp: 'timestamptz', json: 'json' } as const;
  return { kind: (kinds as Record<string, ColumnType['kind']>)[name] ?? 'text' };
}
