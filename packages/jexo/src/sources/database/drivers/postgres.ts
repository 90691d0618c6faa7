import type { Client, ClientConfig, FieldDef } from 'pg';
import { JexoError, messageOf } from '../../../errors.js';
import type { Described, Driver, PoolOptions, ReadLimits, ResultColumn, Rows, Written } from '../driver.js';
import { lender } from '../lend.js';
import { collectRows } from '../limited-rows.js';
import { loadPackage } from '../../../optional-package.js';
import { withoutSecrets, type Place } from '../place.js';
import { postgresRefused, postgresVolatile } from '../safe-functions.js';
import { waitingLine, type WaitingLine } from '../waiting-line.js';
import { describePostgres } from './postgres-describe.js';
import { readPostgresTables } from './postgres-tables.js';
import { postgresType, readPostgresTypes, type PostgresTypes } from './postgres-types.js';
import { postgresParameter, postgresToJson } from './postgres-values.js';
import { tooSlow } from './sqlite-child.js';

type Line = WaitingLine<Client>;
/** What is read off a socket, and how it is ended. */
interface Wire {
  readonly bytesRead: number;
  destroy(error: Error): void;
}
type Driven = { readonly Client: new (config: ClientConfig) => Client };

/** Rows that are taken from a cursor at once. */
const batch = 500;
/** Connections on which statements of somebody unknown run at once. */
const mostUntrusted = 4;
/** Bytes that may come over the wire for one statement; more of them end the connection. */
const mostWireBytes = 64 * 1024 * 1024;

const quote = (name: string) => `"${name.replaceAll('"', '""')}"`;

/** A database of PostgreSQL. */
// eslint-disable-next-line max-lines-per-function -- the operations share the connections
export function postgresDriver(place: Place, options: PoolOptions): Driver {
  const what = `The database ${place.shown}`;
  let types: Promise<PostgresTypes> | undefined;
  const watching = new Set<() => void>();

  const session = `set default_transaction_read_only = on; set statement_timeout = ${options.timeoutMs}; set standard_conforming_strings = on; set intervalstyle = 'iso_8601'; set datestyle = 'ISO, YMD'; set timezone = 'UTC'; set bytea_output = 'hex'; set extra_float_digits = 1`;
  const connect = async (): Promise<Client> => {
    const { Client } = await loadPackage<Driven>('pg');
    const client = new Client({
      connectionString: place.address,
      connectionTimeoutMillis: options.connectMs,
      application_name: 'jexo',
      keepAlive: true,
    });
    // A connection that breaks while nobody uses it is noticed by the next who does.
    client.on('error', () => undefined);
    try {
      await client.connect();
      await client.query(session);
      return client;
    } catch (error) {
      await client.end().catch(() => undefined); // it did not come up
      throw fault(error);
    }
  };
  const fault = (error: unknown): Error => {
    if (error instanceof JexoError || (error as Error).name === 'AbortError') return error as Error;
    const { code = '', position, hint, detail } = error as { code?: string; position?: string; hint?: string; detail?: string };
    const message = withoutSecrets(messageOf(error), place);
    if (code === '57014') return new JexoError('JEXO_SQL', message, { cause: error });
    // Classes 08, 53, 57 and 58 and what the socket says: the connection or the server, not the statement.
    if (/^(?:08|53|57|58|28|3D)/.test(code) || !/^[0-9A-Z]{5}$/.test(code))
      return new JexoError('JEXO_DATABASE', `${place.shown} does not answer as it should: ${message}.`, {
        where: place.shown,
        cause: error,
      });
    const words = [message, detail, hint]
      .flatMap((each) => (each === undefined || each === '' ? [] : [each.replace(/[^.!?]$/, '$&.')]))
      .join(' ');
    return new JexoError('JEXO_SQL', words, { ...(position && { where: `character ${position}` }), cause: error, data: { code } });
  };
  const isBroken = (error: unknown) => !(error instanceof JexoError && error.code === 'JEXO_SQL');
  const line = (most: number): Line =>
    waitingLine<Client>({
      most,
      queue: options.queue,
      idleMs: options.idleMs,
      open: connect,
      close: (client) => client.end().catch(() => undefined), // it was gone already
      what,
    });
  const trusted = line(options.connections);
  const untrusted = line(Math.min(options.connections, mostUntrusted));
  const names = new Map<string, string>();
  const nameOf = (sql: string): string | undefined => {
    let name = names.get(sql);
    if (name === undefined && names.size < 1000) names.set(sql, (name = `jexo_${names.size + 1}`));
    return name;
  };
  const typesOf = (client: Client) =>
    (types ??= readPostgresTypes(client)).catch((error: unknown) => {
      types = undefined;
      throw error;
    });

  /** Stops what a connection is doing, over another one. */
  const cancel = async (client: Client) => {
    const { processID } = client as unknown as { processID: number };
    const other = await connect().catch(() => undefined); // the statement's own time limit ends it then
    await other?.query('select pg_cancel_backend($1)', [processID]).catch(() => undefined);
    await other?.end().catch(() => undefined);
  };

  const lend = lender<Client>({
    cancel,
    translate: (error, timeoutMs) => (timedOut(error) ? tooSlow(timeoutMs) : fault(error)),
    isBroken,
    isLost,
    neverSent,
    attempts: options.connections,
  });
  /** Lends a connection inside a transaction, which is rolled back unless `work` commits. */
  const within = <T>(
    line: Line,
    begin: string,
    limits: Pick<ReadLimits, 'timeoutMs' | 'signal'>,
    work: (client: Client) => Promise<T>,
  ): Promise<T> =>
    lend(
      line,
      limits,
      async (client) => {
        const { timeoutMs } = limits;
        const { stream } = (client as unknown as { connection: { stream: Wire } }).connection;
        const from = stream.bytesRead;
        const measure = setInterval(() => {
          if (stream.bytesRead - from > mostWireBytes) stream.destroy(new Error(`more than ${mostWireBytes} bytes came for one statement`));
        }, 20);
        try {
          await client.query(
            `${begin}; set local statement_timeout = ${timeoutMs}; set local lock_timeout = ${Math.min(timeoutMs, 5000)}; set local idle_in_transaction_session_timeout = ${timeoutMs + 5000}`,
          );
          return await work(client);
        } finally {
          clearInterval(measure);
          await client.query('rollback').catch(() => undefined); // a broken connection is dropped anyway
        }
      },
      begin.endsWith('read write') ? 'writes' : 'reads',
    );
  const columnsOf = (fields: readonly FieldDef[], known: PostgresTypes): ResultColumn[] =>
    fields.map(({ name, dataTypeID, dataTypeModifier }) => ({
      name,
      type: postgresType(dataTypeID, dataTypeModifier, known),
      nullable: true,
    }));
  const parsers = (known: PostgresTypes) => {
    const made = new Map<number, (text: string | null) => unknown>();
    return {
      getTypeParser(oid: number) {
        let parser = made.get(oid);
        if (parser === undefined) {
          const type = postgresType(oid, -1, known);
          made.set(oid, (parser = (text) => postgresToJson(text, type, options.maxBlobBytes)));
        }
        return parser;
      },
    };
  };
  let parsing: { readonly known: PostgresTypes; readonly types: ReturnType<typeof parsers> } | undefined;
  const parsersFor = (known: PostgresTypes) => (parsing?.known === known ? parsing : (parsing = { known, types: parsers(known) })).types;
  const arrays = async (client: Client, query: { name?: string | undefined; text: string; values?: unknown[] }, known: PostgresTypes) =>
    (await client.query({ ...query, rowMode: 'array', types: parsersFor(known) } as never)) as unknown as {
      readonly rows: readonly (readonly unknown[])[];
      readonly fields: readonly FieldDef[];
      readonly rowCount: number | null;
    };

  /** A cursor takes queries only, and none that writes in a WITH. Places in its errors are those of the statement itself. */
  const declare = async (client: Client, sql: string, values: readonly unknown[]) => {
    const before = 'declare jexo no scroll cursor for ';
    await client.query({ text: before + sql, values: [...values] }).catch((error: { position?: string }) => {
      if (error.position !== undefined) error.position = String(Number(error.position) - before.length);
      throw error;
    });
  };

  /** Reads from a cursor of the database, as many rows as are wanted. */
  const readIn = async (client: Client, sql: string, values: readonly unknown[], limits: ReadLimits): Promise<Rows> => {
    const known = await typesOf(client);
    await declare(client, sql, values);
    if (limits.skip) await client.query(`move forward ${limits.skip} in jexo`);
    const collected = collectRows(limits);
    const wanted = Math.min(batch, limits.maxRows + 1);
    for (;;) {
      const { rows, fields } = await arrays(client, { text: `fetch forward ${wanted} from jexo` }, known);
      if (rows.some((row) => !collected.add(row)) || rows.length < wanted) return collected.rows(columnsOf(fields, known));
    }
  };
  /** Runs a bounded statement in one go: the session's own settings make it read only and stop it in time. */
  const readAtOnce = (sql: string, values: readonly unknown[], limits: ReadLimits): Promise<Rows> =>
    lend(trusted, limits, async (client) => {
      const known = await typesOf(client);
      const { rows, fields } = await arrays(client, { name: nameOf(sql), text: sql, values: [...values] }, known);
      const collected = collectRows(limits);
      rows.every((row) => collected.add(row));
      return collected.rows(columnsOf(fields, known));
    });
  const read = (sql: string, values: readonly unknown[], limits: ReadLimits) =>
    limits.isBounded && limits.skip === undefined && limits.timeoutMs === options.timeoutMs
      ? readAtOnce(sql, values, limits)
      : within(trusted, 'begin read only', limits, (client) => readIn(client, sql, values, limits));

  return {
    place,
    quote,
    tables: (signal) =>
      within(trusted, 'begin read only', { timeoutMs: 60_000, signal }, async (client) =>
        readPostgresTables(client, await typesOf(client)),
      ),
    describe: (sql) =>
      lend(trusted, { timeoutMs: 30_000, signal: new AbortController().signal }, async (client): Promise<Described> =>
        describePostgres(client, sql, await typesOf(client)),
      ),
    read,
    readUntrusted: (sql, values, limits) =>
      within(untrusted, 'begin read only', limits, async (client) => {
        try {
          return await readIn(client, sql, values, limits);
        } finally {
          // Whatever a statement may have left in the session goes with it: locks, settings, prepared statements.
          for (const text of ['rollback', 'discard all', session]) await client.query(text).catch(() => undefined); // a broken one is dropped
        }
      }),
    write: (sql, values, limits) =>
      within(trusted, 'begin read write', limits, async (client): Promise<Written> => {
        const known = await typesOf(client);
        const { rows, fields, rowCount } = await arrays(client, { text: sql, values: [...values] }, known);
        const collected = collectRows(limits);
        rows.every((row) => collected.add(row));
        if (limits.keep) await client.query('commit');
        return { ...collected.rows(columnsOf(fields, known)), affected: rowCount ?? 0 };
      }),
    toParameter: postgresParameter,
    async functions() {
      return within(trusted, 'begin read only', { timeoutMs: 30_000, signal: new AbortController().signal }, async (client) => {
        const { rows } = await client.query(
          `select proname from pg_proc where pronamespace = 'pg_catalog'::regnamespace group by proname
             having bool_and(provolatile in ('i', 's') and prorettype not in ('trigger'::regtype, 'event_trigger'::regtype, 'internal'::regtype))`,
        );
        const names = (rows as { proname: string }[]).map(({ proname }) => proname).filter((name) => !postgresRefused.test(name));
        return new Set([...names, ...postgresVolatile, ...special]);
      });
    },
    schemas: () =>
      within(trusted, 'begin read only', { timeoutMs: 30_000, signal: new AbortController().signal }, async (client) => {
        const { rows } = await client.query('select nspname from pg_namespace');
        const own = (rows as { nspname: string }[]).map(({ nspname }) => nspname.toLowerCase());
        return { own: [...own, place.name.toLowerCase()], others: [] };
      }),
    power: () =>
      within(trusted, 'begin read only', { timeoutMs: 30_000, signal: new AbortController().signal }, async (client) => {
        const { rows } = await client.query(
          `select r.rolsuper as super, r.rolreplication as replication, r.rolcreaterole as roles,
             pg_has_role('pg_read_server_files', 'member') or pg_has_role('pg_write_server_files', 'member') or pg_has_role('pg_execute_server_program', 'member') as files,
             pg_has_role('pg_signal_backend', 'member') as signals from pg_roles r where r.rolname = current_user`,
        );
        const [found] = rows as Record<string, boolean>[];
        const reasons = {
          super: 'is a superuser',
          replication: 'may replicate',
          roles: 'may make roles',
          files: 'may read or write files of the server',
          signals: 'may end the sessions of others',
        };
        const [, why] = Object.entries(reasons).find(([name]) => found?.[name]) ?? [];
        return why;
      }),
    watch(changed, everyMs) {
      let client: Client | undefined;
      let isStopped = false;
      const listen = async () => {
        try {
          client = await connect();
          client.on('notification', ({ payload }) => changed(payload === undefined || payload === '' ? undefined : payload));
          client.on('end', () => !isStopped && again());
          await client.query('listen jexo_changes');
        } catch {
          again(); // the server is away: it is asked again
        }
      };
      let timer: NodeJS.Timeout | undefined;
      const again = () => {
        clearTimeout(timer);
        timer = setTimeout(() => void listen(), everyMs);
        timer.unref();
      };
      void listen();
      const stop = () => {
        isStopped = true;
        watching.delete(stop);
        clearTimeout(timer);
        void client?.end().catch(() => undefined); // it was gone already
      };
      watching.add(stop);
      return stop;
    },
    explain: (sql, values, limits) =>
      within(untrusted, 'begin read only', limits, async (client) => {
        // The cursor is declared first: it accepts queries only.
        await declare(client, sql, values);
        const { rows } = await client.query({ text: `explain ${sql}`, values: [...values], rowMode: 'array' } as never);
        return (rows as unknown as string[][]).map(([text]) => text).join('\n');
      }),
    open: () => trusted.count() + untrusted.count(),
    waiting: () => trusted.waiting() + untrusted.waiting(),
    async close() {
      for (const stop of watching) stop();
      await Promise.all([trusted.close(), untrusted.close()]);
      types = undefined;
    },
  };
}

/** Called like functions, and known to the grammar rather than to the catalogue. */
const special = [
  'coalesce',
  'nullif',
  'greatest',
  'least',
  'cast',
  'extract',
  'overlay',
  'position',
  'substring',
  'trim',
  'grouping',
  'json_object',
  'row',
  'treat',
  'normalize',
  'date',
  'time',
  'timestamp',
  'interval',
];

const timedOut = (error: unknown) => (error as { code?: string }).code === '57014' && /timeout/.test(messageOf(error));

/** The driver's own words for a connection that it has found dead before it sent anything. */
const neverSent = (error: unknown) => /not queryable|Client was closed/i.test(messageOf(error));
function isLost(error: unknown): boolean {
  const { code = '' } = ((error as Error).cause ?? {}) as { code?: string };
  return (
    neverSent(error) ||
    /^(?:57P0[123]|08\w{3}|ECONNRESET|EPIPE)$/.test(code) ||
    /Connection terminated|socket.*ended/i.test(messageOf(error))
  );
}
