import type { Caller } from '../../engine/servable.js';
import { JexoError } from '../../errors.js';
import { nearest } from '../../offers/nearest.js';
import type { Column, Driver, Table } from './driver.js';
import { tokensOf, withPlaceholders } from './sql-text.js';

/** Rows of a table that a caller may see. */
export interface RowFilter {
  /** A condition in the database's own SQL, with `:name` for each value: `apiary = :apiary`. */
  readonly where: string;
  /** The values, by who calls. Undefined hides every row. */
  readonly values: (caller: Caller) => Readonly<Record<string, string | number | boolean | null>> | undefined;
}

/** What may be seen of a database. */
export interface Restrictions {
  /** Only tables, and columns, that one of these names: `readings`, `public.readings`, `log_*`, `keepers.name`. */
  readonly only?: readonly string[];
  /** All but what these name. */
  readonly except?: readonly string[];
  /** Columns whose values are shown as `***`: `keepers.phone`. */
  readonly mask?: readonly string[];
  /** Rows that a caller may see, by table. */
  readonly rows?: Readonly<Record<string, RowFilter>>;
}

/** A table as it may be seen. */
export interface SeenTable extends Table {
  readonly masked: ReadonlySet<string>;
  readonly filter?: RowFilter;
  /** True when something of it may not be seen. */
  readonly isReduced: boolean;
}

/** What is left of a database when the restrictions are applied. */
export interface Seen {
  readonly tables: readonly SeenTable[];
  /** Names of tables that may not be seen, in lower case. */
  readonly hidden: ReadonlySet<string>;
  /** True when some table is reduced: statements are then run against what may be seen of it. */
  readonly isReduced: boolean;
}

const pattern = (text: string) =>
  new RegExp(
    `^${text
      .split('*')
      .map((part) => part.replaceAll(/[.+?^${}()|[\]\\]/g, '\\$&'))
      .join('.*')}$`,
    'i',
  );

/** The ways a table, or a column of it, may be named. */
const namesOf = ({ schema, name }: Table, column?: string): string[] => {
  const tables = schema === undefined ? [name] : [name, `${schema}.${name}`];
  return column === undefined ? tables : tables.map((table) => `${table}.${column}`);
};

/** @throws JexoError JEXO_CHOICE when a restriction names nothing */
export function restrict(tables: readonly Table[], { only, except = [], mask = [], rows = {} }: Restrictions): Seen {
  const used = new Set<string>();
  const matches = (patterns: readonly string[], names: readonly string[]) =>
    patterns.filter((each) => names.some((name) => pattern(each).test(name))).map((each) => used.add(each)).length > 0;
  const seen: SeenTable[] = [];
  const hidden = new Set<string>();
  for (const table of tables) {
    const names = namesOf(table);
    const isWhole = only === undefined || matches(only, names);
    const columns = table.columns.filter(({ name }) => {
      const own = namesOf(table, name);
      const isKept = isWhole || matches(only, own);
      return !matches(except, own) && isKept;
    });
    if (matches(except, names) || columns.length === 0) {
      hidden.add(table.name.toLowerCase());
      continue;
    }
    const masked = new Set(columns.filter(({ name }) => matches(mask, namesOf(table, name))).map(({ name }) => name));
    const filterName = Object.keys(rows).find((each) => names.some((name) => name.toLowerCase() === each.toLowerCase()));
    if (filterName !== undefined) used.add(filterName);
    const left = new Set(columns.map(({ name }) => name));
    const isKeyVisible = table.key.every((name) => left.has(name) && !masked.has(name));
    seen.push({
      ...table,
      columns: columns.map((column) => (masked.has(column.name) ? maskedColumn(column) : column)),
      key: isKeyVisible ? table.key : [],
      relations: table.relations.filter(({ columns: own }) => own.every((name) => left.has(name) && !masked.has(name))),
      masked,
      ...(filterName !== undefined && { filter: rows[filterName]! }),
      isReduced: columns.length < table.columns.length || masked.size > 0 || filterName !== undefined,
    });
  }
  checkUsed([...(only ?? []), ...except, ...mask, ...Object.keys(rows)], used, tables);
  for (const { name } of seen) hidden.delete(name.toLowerCase());
  // Relations to what is hidden say that it is there.
  const visible = new Set(seen.map(({ name }) => name));
  return {
    tables: seen.map((table) => ({ ...table, relations: table.relations.filter(({ table: to }) => visible.has(to)) })),
    hidden,
    isReduced: seen.some(({ isReduced }) => isReduced),
  };
}

const maskedColumn = (column: Column): Column => ({ ...column, type: { kind: 'text', declared: 'masked' } });

function checkUsed(patterns: readonly string[], used: ReadonlySet<string>, tables: readonly Table[]): void {
  for (const each of patterns) {
    if (used.has(each)) continue;
    const names = tables.flatMap((table) => [...namesOf(table), ...table.columns.flatMap(({ name }) => namesOf(table, name))]);
    const like = nearest(each, names);
    throw new JexoError('JEXO_CHOICE', `${each} names no table and no column of the database.`, {
      where: each,
      next:
        like === undefined
          ? `There is: ${
              tables
                .map(({ name }) => name)
                .slice(0, 20)
                .join(', ') || 'no table'
            }.`
          : `Did you mean ${like}?`,
    });
  }
}

/** A statement with the values of its placeholders. */
export interface Bound {
  readonly sql: string;
  readonly values: readonly unknown[];
}

/** What may be seen of a table, as a query: `select "hive", "kg" from "readings" where …`. */
export function seenRows(table: SeenTable, driver: Driver, caller: Caller | undefined, first = 1): Bound {
  const { quote } = driver;
  const columns = table.columns.map(({ name }) =>
    table.masked.has(name) ? `case when ${quote(name)} is null then null else '***' end as ${quote(name)}` : quote(name),
  );
  const from = `select ${columns.join(', ')} from ${qualified(table, driver)}`;
  if (table.filter === undefined) return { sql: from, values: [] };
  const values = caller === undefined ? undefined : table.filter.values(caller);
  if (values === undefined) return { sql: `${from} where 1 = 0`, values: [] };
  const { dialect } = driver.place;
  const { sql, order } = withPlaceholders(table.filter.where, tokensOf(table.filter.where, dialect), dialect);
  const bound = order.map((name) => {
    if (!Object.hasOwn(values, name))
      throw new JexoError('JEXO_DEFINITION', `The filter of ${table.name} names :${name}, which its values do not have.`, {
        where: table.name,
      });
    return driver.toParameter(values[name], { kind: 'any' });
  });
  const shifted = dialect === 'postgres' ? sql.replaceAll(/\$(\d+)/g, (_, number: string) => `$${Number(number) + first - 1}`) : sql;
  return { sql: `${from} where (${shifted})`, values: bound };
}

export const qualified = ({ schema, name }: Table, { quote }: Driver) =>
  schema === undefined ? quote(name) : `${quote(schema)}.${quote(name)}`;

/**
 * A statement that finds, under the name of each reduced table, only what may be seen of it: common table expressions of those names
 * stand before its own. The database holds to them, wherever the statement names the table.
 *
 * @param values of the statement's own placeholders
 */
export function overSeen(sql: string, values: readonly unknown[], seen: Seen, driver: Driver, caller: Caller | undefined): Bound {
  const reduced = seen.tables.filter(({ isReduced }) => isReduced);
  if (reduced.length === 0) return { sql, values };
  const { dialect } = driver.place;
  let before: unknown[] = [];
  const parts = reduced.map((table) => {
    const inner = seenRows(qualifyForShadow(table, driver), driver, caller, values.length + before.length + 1);
    before = [...before, ...inner.values];
    return `${driver.quote(table.name)} as (${inner.sql})`;
  });
  const [first, second] = tokensOf(sql, dialect);
  const isWith = first?.kind === 'word' && first.value === 'with';
  const isRecursive = isWith && second?.kind === 'word' && second.value === 'recursive';
  const rest = isRecursive ? sql.slice(second.at + second.raw.length) : isWith ? sql.slice(first.at + first.raw.length) : undefined;
  const head = `with ${isRecursive ? 'recursive ' : ''}${parts.join(', ')}`;
  return {
    sql: rest === undefined ? `${head} ${sql}` : `${head}, ${rest}`,
    // Numbered placeholders may stand in any order; others come in the order of the text.
    values: dialect === 'postgres' ? [...values, ...before] : [...before, ...values],
  };
}

/** The table itself, by a name that the expression of the same name does not hide. */
function qualifyForShadow(table: SeenTable, { place }: Driver): SeenTable {
  if (table.schema !== undefined) return table;
  return { ...table, schema: place.dialect === 'sqlite' ? 'main' : place.name };
}
