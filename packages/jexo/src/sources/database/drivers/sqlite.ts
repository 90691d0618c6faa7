import { statSync } from 'node:fs';
import { pathToFileURL } from 'node:url';
import { JexoError, messageOf } from '../../../errors.js';
import { bytesToJson, isSafe, type ColumnType } from '../column-types.js';
import type { Column, Described, Driver, PoolOptions, ReadLimits, Relation, ResultColumn, Rows, Table, Written } from '../driver.js';
import { collectRows } from '../limited-rows.js';
import { findPackage, loadPackage } from '../../../optional-package.js';
import type { Place } from '../place.js';
import { sqliteFunctions } from '../safe-functions.js';
import { sqliteType } from '../sqlite-types.js';
import { waitingLine } from '../waiting-line.js';
import { startSqliteChild, tooSlow, type Found, type SqliteChild } from './sqlite-child.js';

/** The parts of the driver that are used. */
interface Statement {
  raw(on: boolean): Statement;
  safeIntegers(on: boolean): Statement;
  columns(): { name: string; column: string | null; table: string | null; type: string | null }[];
  iterate(values: readonly unknown[]): Promise<AsyncIterable<unknown[]>>;
  all(values: readonly unknown[]): Promise<unknown[][]>;
  run(values: readonly unknown[]): Promise<{ changes: number }>;
  readonly reader: boolean;
}
interface Connection {
  prepare(sql: string): Promise<Statement>;
  exec(sql: string): Promise<void>;
  interrupt(): void;
  close(): void;
}
type Opener = new (file: string) => Connection;

/** A statement that was prepared, with its columns. */
interface Ready {
  readonly statement: Statement;
  readonly columns: readonly ResultColumn[];
}
/** A connection with the statements it has prepared. */
interface Lent {
  readonly connection: Connection;
  readonly statements: Map<string, Ready>;
  /** The file it was opened on: another may lie in its place by now. */
  readonly file: string;
}

const childHeapBytes = 256 * 1024 * 1024;
const keptStatements = 100;
/** Statements whose pace is remembered, and what is quick. */
const keptPaces = 500;
const quickMs = 30;
const untrustedChildren = 2;

const quote = (name: string) => `"${name.replaceAll('"', '""')}"`;

/** A file of SQLite: read over connections that cannot write, and by child processes where the statement is somebody else's. */
// eslint-disable-next-line max-lines-per-function -- the operations share the connections
export function sqliteDriver(place: Place, options: PoolOptions): Driver {
  const uri = pathToFileURL(place.address).href;
  const what = `The database ${place.shown}`;
  const identity = () => {
    const { ino, dev } = statSync(place.address);
    return `${dev} ${ino}`;
  };
  const fault = (error: unknown): JexoError => {
    if (error instanceof JexoError) return error;
    const message = messageOf(error);
    if (/not a database|malformed|disk image/i.test(message))
      return new JexoError('JEXO_DATABASE', `${place.shown} cannot be read: ${message}.`, { where: place.shown, cause: error });
    if ((error as NodeJS.ErrnoException).code === 'ENOENT')
      return new JexoError('JEXO_DATABASE', `There is no file ${place.shown} any more.`, { where: place.shown, cause: error });
    if (/locked|busy/i.test(message))
      return new JexoError('JEXO_DATABASE', `${place.shown} is locked by another program: ${message}.`, {
        where: place.shown,
        next: 'Try again when it is done.',
        cause: error,
      });
    if (/full|readonly|I\/O/i.test(message))
      return new JexoError('JEXO_DATABASE', `${place.shown} could not be written: ${message}.`, { where: place.shown, cause: error });
    return new JexoError('JEXO_SQL', message, { cause: error });
  };
  const opening = (mode: 'ro' | 'rw') => async (): Promise<Lent> => {
    const Database = await loadPackage<Opener>('libsql', 'libsql/promise');
    try {
      const file = identity();
      const connection = new Database(`${uri}?mode=${mode}`);
      await connection.exec('pragma busy_timeout = 5000; pragma foreign_keys = 1');
      return { connection, statements: new Map(), file };
    } catch (error) {
      throw fault(error);
    }
  };
  const line = (mode: 'ro' | 'rw', most: number) =>
    waitingLine<Lent>({
      most,
      queue: options.queue,
      idleMs: options.idleMs,
      open: opening(mode),
      close: ({ connection }) => connection.close(),
      what,
    });
  const readers = line('ro', options.connections);
  const writers = line('rw', 1);
  const children = waitingLine<{ readonly child: SqliteChild; readonly file: string }>({
    most: untrustedChildren,
    queue: options.queue,
    idleMs: options.idleMs,
    open: async () => {
      const file = identity();
      return { file, child: await startSqliteChild(findPackage('libsql'), `${uri}?mode=ro`, childHeapBytes) };
    },
    close: ({ child }) => child.close(),
    what,
  });
  const paces = new Map<string, number>();
  /** The file that lies there now. @throws JexoError JEXO_DATABASE */
  const fileNow = (): string => {
    try {
      return identity();
    } catch (error) {
      throw fault(error);
    }
  };

  /** Lends a connection on the file that lies there now. */
  const using = async <T>(
    from: typeof readers,
    work: (lent: Lent) => Promise<T>,
    { timeoutMs, signal }: Pick<ReadLimits, 'timeoutMs' | 'signal'>,
  ) => {
    for (;;) {
      const now = fileNow();
      const isStale = Symbol('stale');
      let isLate = false;
      try {
        return await from.use(
          async (lent) => {
            if (lent.file !== now) throw isStale;
            const interrupt = () => lent.connection.interrupt();
            const timer = setTimeout(() => {
              isLate = true;
              interrupt();
            }, timeoutMs);
            signal.addEventListener('abort', interrupt, { once: true });
            try {
              return await work(lent);
            } finally {
              clearTimeout(timer);
              signal.removeEventListener('abort', interrupt);
            }
          },
          signal,
          (error) => error === isStale || /not a database|malformed/i.test(messageOf(error)),
        );
      } catch (error) {
        if (error === isStale) continue;
        if (signal.aborted) throw signal.reason;
        if (isLate) throw tooSlow(timeoutMs);
        throw fault(error);
      }
    }
  };
  const columnsOf = (found: ReturnType<Statement['columns']>): ResultColumn[] =>
    found.map(({ name, type }) => ({ name, type: sqliteType(type), nullable: true }));
  const prepared = async ({ connection, statements }: Lent, sql: string): Promise<Ready> => {
    const known = statements.get(sql);
    if (known !== undefined) return known;
    const statement = (await connection.prepare(sql)).raw(true).safeIntegers(true);
    const ready = { statement, columns: columnsOf(statement.columns()) };
    if (statements.size >= keptStatements) statements.delete(statements.keys().next().value!);
    statements.set(sql, ready);
    return ready;
  };
  const toJson = (row: readonly unknown[], columns: readonly ResultColumn[]) =>
    row.map((value, index) => sqliteToJson(value, columns[index]!.type, options.maxBlobBytes));

  const rowsOf = async ({ statement, columns }: Ready, values: readonly unknown[], limits: ReadLimits): Promise<Rows> => {
    const collected = collectRows(limits);
    let passed = 0;
    for await (const row of await statement.iterate(values)) {
      if (passed++ < (limits.skip ?? 0)) continue;
      if (!collected.add(toJson(row, columns))) break;
    }
    return collected.rows(columns);
  };
  const askChild = async (asked: Parameters<SqliteChild['run']>[0], timeoutMs: number, signal: AbortSignal): Promise<Found> => {
    for (;;) {
      const now = fileNow();
      const isStale = Symbol('stale');
      try {
        return await children.use(
          async ({ child, file }) => {
            if (file !== now || !child.isAlive) throw isStale;
            return child.run(asked, timeoutMs, signal);
          },
          signal,
          (error, { child }) => error === isStale || !child.isAlive || /not a database|malformed/i.test(messageOf(error)),
        );
      } catch (error) {
        if (error === isStale) continue;
        if (signal.aborted) throw error;
        throw fault(error);
      }
    }
  };
  const readUntrusted = async (sql: string, values: readonly unknown[], limits: ReadLimits): Promise<Rows> => {
    const { maxRows, skip = 0, timeoutMs, signal } = limits;
    const found = await askChild({ sql, values, skip, maxRows }, timeoutMs, signal);
    const columns = found.columns.map(({ name, type }) => ({ name, type: sqliteType(type), nullable: true }));
    const collected = collectRows(limits);
    for (const row of found.rows) if (!collected.add(toJson(row, columns))) break;
    return collected.rows(columns);
  };
  const all = async (sql: string, signal: AbortSignal, values: readonly unknown[] = []): Promise<unknown[][]> =>
    using(readers, async (lent) => (await prepared(lent, sql)).statement.all(values), { timeoutMs: 30_000, signal });

  return {
    place,
    quote,
    tables: (signal) => readTables(all, signal),
    describe: (sql) =>
      using(
        readers,
        async ({ connection }): Promise<Described> => {
          const statement = await connection.prepare(sql);
          return { columns: columnsOf(statement.reader ? statement.columns() : []), parameters: [] };
        },
        { timeoutMs: 30_000, signal: new AbortController().signal },
      ),
    // Only the first row of a statement is found off the main thread. A statement runs in a child until it has shown that it is quick.
    async read(sql, values, limits) {
      const began = performance.now();
      const isQuick = (paces.get(sql) ?? Infinity) < quickMs;
      const found = isQuick
        ? await using(readers, async (lent) => rowsOf(await prepared(lent, sql), values, limits), limits)
        : await readUntrusted(sql, values, limits);
      if (paces.size >= keptPaces) paces.delete(paces.keys().next().value!);
      paces.set(sql, performance.now() - began);
      return found;
    },
    readUntrusted,
    write: (sql, values, limits) =>
      using(
        writers,
        async ({ connection }): Promise<Written> => {
          await connection.exec('begin immediate');
          try {
            const statement = await connection.prepare(sql);
            if (statement.reader) statement.raw(true).safeIntegers(true);
            const before = statement.reader
              ? await rowsOf({ statement, columns: columnsOf(statement.columns()) }, values, limits)
              : undefined;
            const affected = before?.rows.length ?? (await statement.run(values)).changes;
            await connection.exec(limits.keep ? 'commit' : 'rollback');
            return { columns: [], rows: [], ...before, affected };
          } catch (error) {
            await connection.exec('rollback').catch(() => undefined); // it was rolled back by the error itself
            throw error;
          }
        },
        limits,
      ),
    toParameter: sqliteParameter,
    functions: async () => sqliteFunctions,
    schemas: async () => ({ own: ['main', 'temp'], others: [] }),
    power: async () => undefined,
    async explain(sql, values, limits) {
      const { rows } = await readUntrusted(`explain query plan ${sql}`, values, { ...limits, maxRows: 200 });
      return rows.map((row) => String(row[3])).join('\n');
    },
    watch(changed, everyMs) {
      let before = stampOf(place.address);
      const timer = setInterval(() => {
        const now = stampOf(place.address);
        if (now === before) return;
        before = now;
        changed(undefined);
      }, everyMs);
      return () => clearInterval(timer);
    },
    open: () => readers.count() + writers.count() + children.count(),
    waiting: () => readers.waiting() + writers.waiting() + children.waiting(),
    close: async () => void (await Promise.all([readers.close(), writers.close(), children.close()])),
  };
}

/** What differs after every write: a commit changes the file, or its journal of writes ahead. */
function stampOf(path: string): string {
  return ['', '-wal']
    .map((end) => {
      const found = statSync(`${path}${end}`, { bigint: true, throwIfNoEntry: false });
      return found === undefined ? 'none' : `${found.ino} ${found.size} ${found.mtimeNs}`;
    })
    .join(', ');
}

function sqliteToJson(value: unknown, { kind }: ColumnType, maxBlobBytes: number): unknown {
  if (value === null || value === undefined) return null;
  if (typeof value === 'string' && kind !== 'json') return value;
  if (typeof value === 'bigint') {
    if (kind === 'boolean' && (value === 0n || value === 1n)) return value === 1n;
    return isSafe(value) ? Number(value) : String(value);
  }
  if (typeof value === 'number') return Number.isFinite(value) ? value : String(value);
  if (value instanceof ArrayBuffer) return bytesToJson(new Uint8Array(value), maxBlobBytes);
  if (value instanceof Uint8Array) return bytesToJson(value, maxBlobBytes);
  if (kind === 'json' && typeof value === 'string') {
    try {
      return JSON.parse(value) as unknown;
    } catch {
      return value; // the column promises nothing
    }
  }
  return value;
}

function sqliteParameter(value: unknown, { kind }: ColumnType): unknown {
  if (value === null || value === undefined) return null;
  if (kind === 'json') return JSON.stringify(value);
  if (typeof value === 'boolean') return value ? 1 : 0;
  if (kind === 'bytes' && typeof value === 'string') return Buffer.from(value, 'base64');
  if (kind === 'integer' && typeof value === 'string' && /^-?\d+$/.test(value)) return BigInt(value);
  if (typeof value === 'number' && Number.isInteger(value)) return BigInt(value);
  return typeof value === 'object' ? JSON.stringify(value) : value;
}

type All = (sql: string, signal: AbortSignal, values?: readonly unknown[]) => Promise<unknown[][]>;

async function readTables(all: All, signal: AbortSignal): Promise<Table[]> {
  const found = await all(
    `select name, type from pragma_table_list where schema = 'main' and type in ('table', 'view', 'virtual') and name not like 'sqlite\\_%' escape '\\' order by name`,
    signal,
  );
  const counts = await estimates(all, signal);
  const tables: Table[] = [];
  for (const [name, type] of found as [string, string][]) {
    const columns = (await all(`select name, type, "notnull", dflt_value, pk from pragma_table_info(?)`, signal, [name])) as [
      string,
      string,
      bigint,
      string | null,
      bigint,
    ][];
    const relations = (await all(`select id, "table", "from", "to" from pragma_foreign_key_list(?) order by id, seq`, signal, [name])) as [
      bigint,
      string,
      string,
      string | null,
    ][];
    const key = columns.filter(([, , , , pk]) => pk > 0n).sort((a, b) => Number(a[4] - b[4]));
    const rows = type === 'view' ? undefined : (counts.get(name) ?? (await lastRow(all, name, signal)));
    tables.push({
      name,
      kind: type === 'view' ? 'view' : 'table',
      columns: columns.map(([column, declared, notnull, given, pk]): Column => ({
        name: column,
        type: sqliteType(declared),
        nullable: notnull === 0n && pk === 0n,
        hasDefault: given !== null,
      })),
      key: key.map(([column]) => column),
      relations: groupRelations(relations),
      ...(rows !== undefined && { rows }),
    });
  }
  return tables;
}

/** What ANALYZE has noted, where it was run. */
async function estimates(all: All, signal: AbortSignal): Promise<ReadonlyMap<string, number>> {
  const rows = await all('select tbl, stat from sqlite_stat1', signal).catch(() => []);
  return new Map((rows as [string, string][]).map(([table, stat]) => [table, Number(stat.split(' ')[0])]));
}

/** The highest row number: about as many rows as there are, and found at once. Undefined for a table without row numbers. */
async function lastRow(all: All, name: string, signal: AbortSignal): Promise<number | undefined> {
  const [row] = await all(`select max(rowid) from ${quote(name)}`, signal).catch(() => []);
  return row?.[0] === null || row === undefined ? undefined : Number(row[0]);
}

function groupRelations(rows: readonly [bigint, string, string, string | null][]): Relation[] {
  const groups = new Map<bigint, [bigint, string, string, string | null][]>();
  for (const row of rows) groups.set(row[0], [...(groups.get(row[0]) ?? []), row]);
  return [...groups.values()].map((own) => ({
    table: own[0]![1],
    columns: own.map(([, , from]) => from),
    to: own.map(([, , from, to]) => to ?? from),
  }));
}
