import { JexoError, messageOf } from '../../../errors.js';
import type { ColumnType } from '../column-types.js';
import type { Described, Driver, PoolOptions, ReadLimits, ResultColumn, Rows, Written } from '../driver.js';
import { lender } from '../lend.js';
import { collectRows } from '../limited-rows.js';
import { loadPackage } from '../../../optional-package.js';
import { withoutSecrets, type Place } from '../place.js';
import { mysqlFunctions } from '../safe-functions.js';
import { waitingLine, type WaitingLine } from '../waiting-line.js';
import { readMysqlTables } from './mysql-tables.js';
import { mysqlParameter, mysqlToJson, mysqlType, type Field, type TypedParameter } from './mysql-values.js';
import { tooSlow } from './sqlite-child.js';

interface Command {
  on(event: 'result', take: (row: unknown) => void): Command;
  on(event: 'fields', take: (fields: readonly Field[] | undefined) => void): Command;
  on(event: 'error', take: (error: Error) => void): Command;
  on(event: 'end', take: () => void): Command;
}
/** The parts of the driver that are used. */
interface Connection {
  readonly threadId: number;
  execute(options: { sql: string; values: readonly unknown[]; rowsAsArray: boolean }): Command;
  query(options: { sql: string; rowsAsArray: boolean }): Command;
  prepare(
    options: string,
    take: (error: Error | null, statement: { columns: readonly Field[]; parameters: readonly Field[]; close(): void }) => void,
  ): void;
  reset(done: (error: Error | null) => void): void;
  on(event: 'error', take: (error: Error) => void): void;
  end(done: () => void): void;
  destroy(): void;
  readonly stream: { readonly bytesRead: number; on(event: 'close', take: () => void): void };
}
interface Driven {
  createConnection(options: object): Connection & { connect(done: (error: Error | null) => void): void };
  readonly TypedParameter: TypedParameter;
}
type Line = WaitingLine<Connection>;

const mostUntrusted = 4;
const mostWireBytes = 64 * 1024 * 1024;
const quote = (name: string) => `\`${name.replaceAll('`', '``')}\``;

interface Result {
  readonly fields: readonly Field[];
  readonly affected: number;
}

/** A database of MariaDB or MySQL. */
// eslint-disable-next-line max-lines-per-function -- the operations share the connections
export function mysqlDriver(place: Place, options: PoolOptions): Driver {
  const what = `The database ${place.shown}`;
  let typed: TypedParameter | undefined;
  let isMaria = true;
  let jsonColumns: ReadonlySet<string> = new Set();
  let enums: ReadonlyMap<string, readonly string[]> = new Map();

  const fault = (error: unknown): Error => {
    if (error instanceof JexoError || (error as Error).name === 'AbortError') return error as Error;
    const { code = '', errno = 0, sqlState = '' } = error as { code?: string; errno?: number; sqlState?: string };
    const message = withoutSecrets(messageOf(error), place);
    const isServer =
      errno === 0 ||
      errno < 1000 ||
      /^(?:08|28)/.test(sqlState) ||
      [1040, 1044, 1045, 1049, 1053, 1203, 1226, 1927, 2006, 2013].includes(errno);
    if (isServer)
      return new JexoError('JEXO_DATABASE', `${place.shown} does not answer as it should: ${message}.`, {
        where: place.shown,
        cause: error,
      });
    return new JexoError('JEXO_SQL', message, { cause: error, data: { code } });
  };
  const isBroken = (error: unknown) => !(error instanceof JexoError && error.code === 'JEXO_SQL');

  /** What has to end when a connection breaks: the driver itself says so to the connection alone. */
  const pending = new WeakMap<Connection, Set<(error: Error) => void>>();

  /** Runs one statement; rows are handed on as they come. */
  const run = (
    connection: Connection,
    sql: string,
    values: readonly unknown[] | undefined,
    onRow: (row: readonly unknown[], fields: readonly Field[]) => void = () => undefined,
  ) =>
    new Promise<Result>((resolve, reject) => {
      let fields: readonly Field[] = [];
      let affected = 0;
      const waiting = pending.get(connection);
      const fail = (error: Error) => {
        waiting?.delete(fail);
        reject(error);
      };
      waiting?.add(fail);
      const command =
        values === undefined ? connection.query({ sql, rowsAsArray: true }) : connection.execute({ sql, values, rowsAsArray: true });
      command
        .on('fields', (found) => (fields = found ?? fields))
        .on('result', (row) => {
          if (Array.isArray(row)) onRow(row, fields);
          else affected = (row as { affectedRows?: number }).affectedRows ?? 0;
        })
        .on('error', fail)
        .on('end', () => {
          waiting?.delete(fail);
          resolve({ fields, affected });
        });
    });

  const session = () =>
    `set session sql_mode = 'STRICT_ALL_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION', time_zone = '+00:00', group_concat_max_len = 1048576, ${
      isMaria ? `max_statement_time = ${options.timeoutMs / 1000}` : `max_execution_time = ${options.timeoutMs}`
    }`;
  const connect = async (): Promise<Connection> => {
    const driver = await loadPackage<Driven>('mysql2');
    typed = driver.TypedParameter;
    const url = new URL(place.address);
    const connection = driver.createConnection({
      host: url.hostname,
      ...(url.port !== '' && { port: Number(url.port) }),
      user: decodeURIComponent(url.username) || undefined,
      password: decodeURIComponent(url.password),
      database: decodeURIComponent(url.pathname.slice(1)),
      ...(url.searchParams.has('socket') && { socketPath: url.searchParams.get('socket') }),
      ...(url.searchParams.get('ssl') === 'true' && { ssl: {} }),
      connectTimeout: options.connectMs,
      dateStrings: true,
      supportBigNumbers: true,
      bigNumberStrings: false,
      multipleStatements: false,
      infileStreamFactory: () => {
        throw new Error('Files of this machine are not sent');
      },
      flags: ['-LOCAL_FILES'],
    });
    const waiting = new Set<(error: Error) => void>();
    pending.set(connection, waiting);
    const broken = (error: Error) => [...waiting].forEach((fail) => fail(error));
    // A connection that breaks while nobody uses it is noticed by the next who does.
    connection.on('error', broken);
    connection.stream.on('close', () => broken(new Error('Connection lost: it was closed')));
    try {
      await new Promise<void>((resolve, reject) => connection.connect((error) => (error === null ? resolve() : reject(error))));
      await run(connection, 'select version()', undefined, ([version]) => (isMaria = /mariadb/i.test(String(version))));
      await run(connection, session(), undefined);
      await run(connection, 'set session transaction read only', undefined);
      return connection;
    } catch (error) {
      connection.destroy();
      throw fault(error);
    }
  };
  const line = (most: number): Line =>
    waitingLine<Connection>({
      most,
      queue: options.queue,
      idleMs: options.idleMs,
      open: connect,
      close: (connection) =>
        new Promise<void>((done) => {
          const timer = setTimeout(() => (connection.destroy(), done()), 500);
          connection.end(() => (clearTimeout(timer), done()));
        }),
      what,
    });
  const trusted = line(options.connections);
  const untrusted = line(Math.min(options.connections, mostUntrusted));

  /** Stops what a connection is doing, over another one. */
  const cancel = async ({ threadId }: Connection) => {
    const other = await connect().catch(() => undefined); // the statement's own time limit ends it then
    await (other && run(other, `kill query ${threadId}`, undefined).catch(() => undefined));
    other?.destroy();
  };
  const lend = lender<Connection>({
    cancel,
    translate: (error, timeoutMs) => (timedOut(error) ? tooSlow(timeoutMs) : fault(error)),
    isBroken,
    isLost,
    neverSent,
    attempts: options.connections,
  });
  const within = <T>(
    from: Line,
    begin: string,
    limits: Pick<ReadLimits, 'timeoutMs' | 'signal'>,
    work: (connection: Connection) => Promise<T>,
  ): Promise<T> =>
    lend(
      from,
      limits,
      async (connection) => {
        await run(
          connection,
          isMaria ? `set session max_statement_time = ${limits.timeoutMs / 1000}` : `set session max_execution_time = ${limits.timeoutMs}`,
          undefined,
        );
        await run(connection, begin, undefined);
        try {
          return await work(connection);
        } finally {
          await run(connection, 'rollback', undefined).catch(() => undefined); // a broken connection is dropped anyway
        }
      },
      begin.endsWith('read write') ? 'writes' : 'reads',
    );
  const typeOf = (field: Field): ColumnType => mysqlType(field, jsonColumns, enums);
  const columnsOf = (fields: readonly Field[]): ResultColumn[] =>
    fields.map((field) => ({ name: field.name, type: typeOf(field), nullable: (field.flags & 1) === 0 }));

  /** Reads until a limit is reached; what still comes then is stopped in the database. */
  const readIn = async (connection: Connection, sql: string, values: readonly unknown[], limits: ReadLimits): Promise<Rows> => {
    const collected = collectRows(limits);
    const from = connection.stream.bytesRead;
    let passed = 0;
    let types: readonly ColumnType[] | undefined;
    let stopping: Promise<void> | undefined;
    let refused: unknown;
    const take = (row: readonly unknown[], fields: readonly Field[]) => {
      if (stopping !== undefined || passed++ < (limits.skip ?? 0)) return;
      types ??= fields.map(typeOf);
      try {
        if (connection.stream.bytesRead - from > mostWireBytes)
          throw new JexoError('JEXO_SQL', `More than ${mostWireBytes} bytes came for one statement.`);
        if (collected.add(row.map((value, index) => mysqlToJson(value, types![index]!, options.maxBlobBytes)))) return;
      } catch (error) {
        refused = error;
      }
      stopping = limits.isBounded ? Promise.resolve() : cancel(connection);
    };
    let fields: readonly Field[] = [];
    try {
      ({ fields } = await run(connection, sql, values, (row, own) => {
        fields = own;
        take(row, own);
      }));
    } catch (error) {
      if (stopping === undefined) throw error; // it was stopped by us
    } finally {
      await stopping;
    }
    if (refused !== undefined) throw refused;
    return collected.rows(columnsOf(fields));
  };
  const list = async <T extends readonly unknown[]>(connection: Connection, sql: string): Promise<T[]> => {
    const rows: T[] = [];
    await run(connection, sql, undefined, (row) => rows.push(row as T));
    return rows;
  };
  const readKinds = async (connection: Connection) => {
    const json = await list<[string, string]>(
      connection,
      isMaria
        ? `select table_name, check_clause from information_schema.check_constraints where constraint_schema = database() and check_clause like 'json_valid(%'`
        : `select table_name, column_name from information_schema.columns where table_schema = database() and data_type = 'json'`,
    ).catch(() => []);
    jsonColumns = new Set(json.map(([table, text]) => `${table}.${/`([^`]+)`/.exec(text)?.[1] ?? text}`));
    const found = await list<[string, string, string]>(
      connection,
      `select table_name, column_name, column_type from information_schema.columns where table_schema = database() and data_type = 'enum'`,
    );
    enums = new Map(
      found.map(([table, column, type]) => [
        `${table}.${column}`,
        [...type.matchAll(/'((?:[^']|'')*)'/g)].map(([, value]) => value!.replaceAll("''", "'")),
      ]),
    );
  };

  return {
    place,
    quote,
    tables: (signal) =>
      within(trusted, 'start transaction read only', { timeoutMs: 60_000, signal }, async (connection) => {
        await readKinds(connection);
        return readMysqlTables((sql) => list(connection, sql), jsonColumns, enums);
      }),
    // A statement that writes is not even prepared where nothing may be written.
    describe: (sql) =>
      within(
        trusted,
        'start transaction read write',
        { timeoutMs: 30_000, signal: new AbortController().signal },
        (connection) =>
          new Promise<Described>((resolve, reject) =>
            connection.prepare(sql, (error, statement) => {
              if (error) return reject(error);
              const { columns, parameters } = statement;
              statement.close();
              resolve({ columns: columnsOf(columns), parameters: parameters.map(() => undefined) });
            }),
          ),
      ),
    read: (sql, values, limits) =>
      limits.timeoutMs === options.timeoutMs
        ? lend(trusted, limits, (connection) => readIn(connection, sql, values, limits))
        : within(trusted, 'start transaction read only', limits, (connection) => readIn(connection, sql, values, limits)),
    readUntrusted: (sql, values, limits) =>
      within(untrusted, 'start transaction read only', limits, async (connection) => {
        try {
          await run(connection, `set session sql_select_limit = ${limits.maxRows + (limits.skip ?? 0) + 1}`, undefined);
          return await readIn(connection, sql, values, limits);
        } finally {
          // Whatever a statement may have left in the session goes with it: locks, variables, settings.
          await new Promise<void>((done) => connection.reset(() => done()));
          await run(connection, session(), undefined).catch(() => undefined); // a broken connection is dropped
          await run(connection, 'set session transaction read only', undefined).catch(() => undefined);
        }
      }),
    write: (sql, values, limits) =>
      within(trusted, 'start transaction read write', limits, async (connection): Promise<Written> => {
        const collected = collectRows(limits);
        const { fields, affected } = await run(connection, sql, values, (row, own) => {
          collected.add(row.map((value, index) => mysqlToJson(value, typeOf(own[index]!), options.maxBlobBytes)));
        });
        const rows = collected.rows(columnsOf(fields));
        if (limits.keep) await run(connection, 'commit', undefined);
        return { ...rows, affected: affected || rows.rows.length };
      }),
    toParameter: (value, type) => mysqlParameter(value, type, typed),
    functions: async () => mysqlFunctions,
    schemas: () =>
      lend(trusted, { timeoutMs: 30_000, signal: new AbortController().signal }, async (connection) => {
        const all = (await list<[string]>(connection, 'show databases')).map(([name]) => name.toLowerCase());
        const own = place.name.toLowerCase();
        return { own: [own], others: all.filter((name) => name !== own) };
      }),
    power: () =>
      lend(trusted, { timeoutMs: 30_000, signal: new AbortController().signal }, async (connection) => {
        const grants = (await list<[string]>(connection, 'show grants')).map(([text]) => text);
        const everywhere = grants.filter((text) => / ON \*\.\* /.test(text)).join(' ');
        const found = /\b(ALL PRIVILEGES|SUPER|FILE|PROCESS|SHUTDOWN|RELOAD|CREATE USER|CONNECTION ADMIN|BINLOG ADMIN|SET USER)\b/.exec(
          everywhere,
        );
        return found === null ? undefined : `has the privilege ${found[1]} on the whole server`;
      }),
    watch(changed, everyMs) {
      let before: ReadonlyMap<string, string> | undefined;
      let isAsking = false;
      const ask = async () => {
        const rows = await lend(trusted, { timeoutMs: 10_000, signal: AbortSignal.timeout(10_000) }, (connection) =>
          list<[string, string | null]>(
            connection,
            `select table_name, update_time from information_schema.tables where table_schema = database()`,
          ),
        );
        const now = new Map(rows.map(([table, time]) => [table, time ?? '']));
        for (const [table, time] of now) if (before !== undefined && before.get(table) !== time) changed(table);
        before = now;
      };
      const timer = setInterval(() => {
        if (isAsking) return;
        isAsking = true;
        ask()
          .catch(() => undefined) // a server that is away for a moment is asked again
          .finally(() => (isAsking = false));
      }, everyMs);
      void ask().catch(() => undefined); // it is asked again
      return () => clearInterval(timer);
    },
    explain: (sql, values, limits) =>
      within(untrusted, 'start transaction read only', limits, async (connection) => {
        const lines: string[] = [];
        await run(connection, `explain ${sql}`, [...values], (row, fields) =>
          lines.push(fields.map(({ name }, index) => `${name}: ${row[index] === null ? '-' : String(row[index])}`).join(', ')),
        );
        return lines.join('\n');
      }),
    open: () => trusted.count() + untrusted.count(),
    waiting: () => trusted.waiting() + untrusted.waiting(),
    close: async () => void (await Promise.all([trusted.close(), untrusted.close()])),
  };
}

/** The driver's own words for a connection that it has found dead before it sent anything. */
const neverSent = (error: unknown) => /closed state/i.test(messageOf(error));
const isLost = (error: unknown) => neverSent(error) || /Connection lost|ECONNRESET|EPIPE|closed the connection/i.test(messageOf(error));

/** Stopped by its time limit: MariaDB's 1969, MySQL's 3024. */
const timedOut = (error: unknown) => [1969, 3024].includes((error as { errno?: number }).errno ?? 0);
