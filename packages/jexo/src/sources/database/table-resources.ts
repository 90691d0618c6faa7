import type { Caller } from '../../engine/servable.js';
import { JexoError } from '../../errors.js';
import type { Call } from '../../offers/call.js';
import type { Offer } from '../../offers/offer.js';
import { resource, template } from '../../offers/resource.js';
import { rowObjects } from './answer-rows.js';
import type { ColumnType } from './column-types.js';
import { tableGuide } from './guide.js';
import { behind, type DatabaseContext } from './query-tool.js';
import { seenRows, type SeenTable } from './restrict.js';

/** What the resources of a database are made of. */
export interface ResourceContext extends DatabaseContext {
  /** The scheme of their URIs: `scales`. */
  readonly scheme: string;
  readonly pageRows: number;
  /** Milliseconds between two looks for changes, where the database tells nothing. */
  readonly changesMs: number;
  /** A query whose answer differs when something has changed. */
  readonly changesQuery?: string;
}

/** The schema, every table as pages of rows, and every row by its key. */
// eslint-disable-next-line max-lines-per-function -- the offers share the tables by their names
export function tableResources(context: ResourceContext): Offer[] {
  const { scheme, seen, driver } = context;
  const tables = new Map(seen.tables.map((table) => [uriName(table), table]));
  const names = [...tables.keys()];
  const keyed = names.filter((name) => tables.get(name)!.key.length > 0);
  const find = (name: string) => tables.get(name);
  const watch = (read: () => Promise<unknown>) => (changed: () => void) => watchRows(context, read, changed);
  const pageOf = (name: string, query: PageQuery, caller: Caller | undefined, signal: AbortSignal) => {
    const table = find(name);
    return table === undefined ? undefined : readPage(table, query, context, caller, signal);
  };
  const where = { where: driver.place.shown };
  const own = [
    resource(
      `${scheme}://schema`,
      {
        name: 'schema',
        title: `Schema of ${scheme}`,
        description: 'Tables, columns, keys and relations, as text.',
        mimeType: 'text/markdown',
      },
      () => seen.tables.map((table) => `- ${tableGuide(table, 'full')}`).join('\n'),
    ),
    ...names.map((name) =>
      resource(
        `${scheme}://tables/${encodeURIComponent(name)}`,
        {
          name,
          title: titleOf(find(name)!),
          description: describeTable(find(name)!),
          mimeType: 'application/json',
          watch: watch(() => pageOf(name, {}, undefined, never()) ?? none),
        },
        (_request, call) => pageOf(name, {}, call.caller, call.signal),
      ),
    ),
    template(
      `${scheme}://tables/{table}{?after,limit}`,
      {
        name: 'rows of a table',
        description: `Rows of a table in the order of its key, ${context.pageRows} at a time: follow \`next\` for those that come after.`,
        mimeType: 'application/json',
        complete: { table: names },
        watch: (changed, uri) => {
          const [, name = '', query = ''] = /:\/\/tables\/([^?]+)\??(.*)$/.exec(uri) ?? [];
          return watchRows(
            context,
            () => pageOf(decodeURIComponent(name), Object.fromEntries(new URLSearchParams(query)), undefined, never()) ?? none,
            changed,
          );
        },
      },
      ({ table, after, limit }, call: Call) =>
        pageOf(table, { ...(after !== undefined && { after }), ...(limit !== undefined && { limit }) }, call.caller, call.signal),
    ),
    ...(keyed.length === 0
      ? []
      : [
          template(
            `${scheme}://rows/{table}/{+key}`,
            {
              name: 'row by key',
              description: `One row of ${keyed.slice(0, 12).join(', ')}${keyed.length > 12 ? ' and others' : ''} by its key; several columns of a key are joined by a comma.`,
              mimeType: 'application/json',
              complete: {
                table: keyed,
                key: (typed, { arguments: { table = '' } }) => {
                  const found = find(table);
                  return found === undefined || found.key.length === 0 ? [] : completeKey(found, typed, context);
                },
              },
              watch: (changed, uri) => {
                const [, name = '', key = ''] = /:\/\/rows\/([^/]+)\/(.*)$/.exec(uri) ?? [];
                const table = find(decodeURIComponent(name));
                return table === undefined
                  ? () => undefined
                  : watchRows(context, () => readRow(table, decodeURIComponent(key), context, undefined, never()), changed);
              },
            },
            ({ table, key }, call: Call) => {
              const found = find(table);
              return found === undefined || found.key.length === 0 ? undefined : readRow(found, key, context, call.caller, call.signal);
            },
          ),
        ]),
  ];
  return own.map((offer) => ({ ...offer, ...where }));
}

const never = () => new AbortController().signal;
const none = Promise.resolve(undefined);

/** A table in a URI: with its schema where that is not the usual one. */
const uriName = ({ schema, name }: SeenTable) => (schema === undefined || schema === 'public' ? name : `${schema}.${name}`);
const titleOf = ({ name, kind }: SeenTable) => `${kind === 'view' ? 'View' : 'Table'} ${name}`;
const describeTable = (table: SeenTable) =>
  [
    table.comment,
    `${table.rows === undefined ? '' : `About ${table.rows.toLocaleString('en')} rows. `}Columns: ${table.columns.map(({ name }) => name).join(', ')}.`,
  ]
    .filter(Boolean)
    .join(' ');

interface PageQuery {
  readonly after?: string;
  readonly limit?: string;
}

const typeIn = (table: SeenTable, name: string): ColumnType => table.columns.find((column) => column.name === name)!.type;
const holders = (count: number, from: number, isNumbered: boolean) =>
  Array.from({ length: count }, (_, index) => (isNumbered ? `$${from + index}` : '?'));

async function readPage(
  table: SeenTable,
  { after, limit }: PageQuery,
  context: ResourceContext,
  caller: Caller | undefined,
  signal: AbortSignal,
): Promise<object> {
  const { driver, limits, pageRows, scheme } = context;
  const { dialect } = driver.place;
  const maxRows = Math.min(pageRows, Math.max(1, Number(limit ?? pageRows) || pageRows));
  const inner = seenRows(table, driver, caller);
  const keys = table.key.map(driver.quote);
  const position = after === undefined ? undefined : readAfter(after, table);
  const isSpelledOut = dialect === 'mysql';
  const from = inner.values.length + 1;
  const order = keys.length === 0 ? '' : ` order by ${keys.join(', ')}`;
  const values = position?.map((value, index) => driver.toParameter(value, typeIn(table, table.key[index]!))) ?? [];
  const marks = holders(values.length, from, dialect === 'postgres');
  const condition = position === undefined ? '' : ` where ${behind(keys, marks, isSpelledOut)}`;
  // Spelled out, the values of a key stand in the text more than once.
  const repeated = isSpelledOut && values.length > 1 ? spelled(values) : values;
  const sql = `select * from (${inner.sql}) as page${condition}${order} limit ${maxRows + 1}`;
  const found = await driver.read(sql, [...inner.values, ...repeated], { ...limits, maxRows, signal, isBounded: true });
  const rows = rowObjects(found);
  const last = rows.at(-1);
  const hasMore = found.cut !== undefined && last !== undefined;
  const next =
    hasMore && keys.length > 0
      ? `${scheme}://tables/${encodeURIComponent(uriName(table))}?after=${encodeURIComponent(JSON.stringify(table.key.map((name) => last[name])))}`
      : undefined;
  return {
    table: uriName(table),
    rows,
    ...(next !== undefined && { next }),
    ...(hasMore && next === undefined && { note: 'There are more rows. The table has no key to page by: ask with a query.' }),
  };
}

/** The values of `behind` when it is spelled out: `a >= ? and (a > ? or (b > ?))`. */
function spelled(values: readonly unknown[]): unknown[] {
  const [first, ...rest] = values;
  return rest.length === 0 ? [first] : [first, first, ...spelled(rest)];
}

function readAfter(text: string, table: SeenTable): readonly unknown[] {
  let read: unknown;
  try {
    read = JSON.parse(text);
  } catch {
    read = undefined; // reported below
  }
  if (!Array.isArray(read) || read.length !== table.key.length || table.key.length === 0)
    throw new JexoError('JEXO_INPUT_INVALID', `\`after\` is no key of ${table.name}.`, {
      where: 'after',
      next: 'Follow the `next` of a page.',
    });
  return read as unknown[];
}

/** Columns of a key in a URI: joined by a comma; a comma of their own stands behind a `~`. */
const joinKey = (values: readonly unknown[]) => values.map((value) => String(value).replaceAll(/[~,]/g, '~$&')).join(',');
const splitKey = (text: string): string[] => {
  const parts: string[] = [];
  let part = '';
  for (let at = 0; at < text.length; at++) {
    if (text[at] === ',') {
      parts.push(part);
      part = '';
    } else part += text[at] === '~' ? (text[++at] ?? '') : text[at];
  }
  return [...parts, part];
};

async function readRow(
  table: SeenTable,
  key: string,
  context: ResourceContext,
  caller: Caller | undefined,
  signal: AbortSignal,
): Promise<object | undefined> {
  const { driver, limits } = context;
  const parts = splitKey(key);
  if (parts.length !== table.key.length) return undefined;
  const inner = seenRows(table, driver, caller);
  const marks = holders(parts.length, inner.values.length + 1, driver.place.dialect === 'postgres');
  const condition = table.key.map((name, index) => `${driver.quote(name)} = ${marks[index]}`).join(' and ');
  const values = parts.map((part, index) =>
    driver.toParameter(keyValue(part, typeIn(table, table.key[index]!)), typeIn(table, table.key[index]!)),
  );
  const found = await driver
    .read(`select * from (${inner.sql}) as one where ${condition} limit 1`, [...inner.values, ...values], {
      ...limits,
      maxRows: 1,
      signal,
      isBounded: true,
    })
    .catch((error: unknown) => {
      // A text that is no value of the key's type names no row.
      if (error instanceof JexoError && error.code === 'JEXO_SQL' && /invalid input|out of range|Incorrect|Truncated/i.test(error.message))
        return undefined;
      throw error;
    });
  const [row] = found === undefined ? [] : rowObjects(found);
  if (row === undefined) return undefined;
  const links = linksOf(table, row, context);
  return { table: uriName(table), row, ...(Object.keys(links).length > 0 && { links }) };
}

const keyValue = (text: string, { kind }: ColumnType): unknown =>
  kind === 'number' && text !== '' && Number.isFinite(Number(text)) ? Number(text) : text;

/** The URIs of the rows that a row points to, by the columns that do. */
function linksOf(table: SeenTable, row: Readonly<Record<string, unknown>>, { scheme, seen }: ResourceContext): Record<string, string> {
  return Object.fromEntries(
    table.relations.flatMap(({ columns, table: to, schema, to: target }) => {
      const other = seen.tables.find(({ name, schema: own }) => name === to && (schema === undefined || own === schema));
      const values = columns.map((column) => row[column]);
      if (other === undefined || values.some((value) => value === null || value === undefined)) return [];
      const ordered = other.key.map((name) => values[target.indexOf(name)]);
      if (other.key.length === 0 || ordered.includes(undefined)) return [];
      return [[columns.join(','), `${scheme}://rows/${encodeURIComponent(uriName(other))}/${encodeURIComponent(joinKey(ordered))}`]];
    }),
  );
}

async function completeKey(table: SeenTable, typed: string, { driver, limits }: ResourceContext): Promise<readonly string[]> {
  // Suggestions are the same for every caller, so a filtered table gives none.
  if (table.filter !== undefined) return [];
  const parts = splitKey(typed);
  const before = parts.slice(0, -1);
  const column = table.key[Math.min(before.length, table.key.length - 1)]!;
  const isNumbered = driver.place.dialect === 'postgres';
  const known = table.key.slice(0, before.length);
  const marks = holders(before.length + 1, 1, isNumbered);
  const cast = driver.place.dialect === 'mysql' ? 'char' : 'text';
  const conditions = [
    ...known.map((name, index) => `${driver.quote(name)} = ${marks[index]}`),
    `cast(${driver.quote(column)} as ${cast}) like ${marks.at(-1)}`,
  ];
  const inner = seenRows(table, driver, undefined);
  const values = [
    ...before.map((part, index) => driver.toParameter(keyValue(part, typeIn(table, known[index]!)), typeIn(table, known[index]!))),
    `${parts.at(-1)!.replaceAll(/[\\%_]/g, '\\$&')}%`,
  ];
  const escape = driver.place.dialect === 'sqlite' ? ` escape '\\'` : '';
  const { rows } = await driver.read(
    `select distinct ${driver.quote(column)} from (${inner.sql}) as one where ${conditions.join(' and ')}${escape} order by 1 limit 100`,
    values,
    { ...limits, maxRows: 100, signal: AbortSignal.timeout(3000), isBounded: true },
  );
  return rows.map(([value]) => joinKey([...before, value]));
}

/** Reads again when the database has changed, and tells only when something differs. */
function watchRows(
  { driver, changesMs, changesQuery, limits }: ResourceContext,
  read: () => Promise<unknown>,
  changed: () => void,
): () => void {
  let before: string | undefined;
  let isReading = false;
  let again = false;
  const look = async (isFirst: boolean): Promise<void> => {
    if (isReading) return void (again = true);
    isReading = true;
    try {
      const now = JSON.stringify(await read());
      if (!isFirst && now !== before) changed();
      before = now;
    } catch {
      // It is read again at the next change; whoever reads it is told what is wrong.
    } finally {
      isReading = false;
    }
    if (again) {
      again = false;
      await look(false);
    }
  };
  void look(true);
  const stop = driver.watch(() => void look(false), changesMs);
  if (changesQuery === undefined) return stop;
  let answer: string | undefined;
  const ask = async () => {
    const { rows } = await driver.read(changesQuery, [], { ...limits, signal: AbortSignal.timeout(limits.timeoutMs) });
    const now = JSON.stringify(rows);
    if (answer !== undefined && now !== answer) void look(false);
    answer = now;
  };
  const timer = setInterval(() => void ask().catch(() => undefined), changesMs); // a database that is away is asked again
  return () => {
    clearInterval(timer);
    stop();
  };
}
