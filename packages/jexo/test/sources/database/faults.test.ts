import { copyFileSync, renameSync, rmSync, truncateSync, writeFileSync } from 'node:fs';
import { connect as connectSocket, createServer, type Server as NetServer, type Socket } from 'node:net';
import type { AddressInfo } from 'node:net';
import { connect, defineServer, wrapDatabase, type Client, type WrapDatabaseOptions } from '../../../src/index.js';
import { dialects, makeDatabase, on, scales, type TestDatabase } from '../../support/databases.js';

const open: (() => Promise<unknown>)[] = [];
afterAll(async () => {
  for (const close of open.reverse()) await close();
});
async function serve(place: string, options: WrapDatabaseOptions = {}): Promise<{ client: Client; close(): Promise<void> }> {
  const server = defineServer({
    name: 'scales',
    version: '1.0.0',
    maxCalls: 500,
    offers: [wrapDatabase(place, { name: 'scales', ...options })],
  });
  const client = await connect(server);
  let isClosed = false;
  const close = async () => {
    if (isClosed) return;
    isClosed = true;
    await client.close();
    await server.close();
  };
  open.push(close);
  return { client, close };
}
const fresh = async (dialect: Parameters<typeof makeDatabase>[0]): Promise<TestDatabase> => {
  const database = await makeDatabase(dialect, scales(dialect));
  open.push(() => database.drop());
  return database;
};
const textOf = (result: { content: readonly unknown[] }) => (result.content[0] as { text?: string } | undefined)?.text ?? '';
const query = (client: Client, sql: string) => client.call('query_scales', { sql });

/** Statements that a user runs now, and connections that they hold, as the database itself tells. */
async function load({ dialect, run, reader }: TestDatabase): Promise<{ running: string[]; connections: number }> {
  const user = new URL(reader).username;
  const rows =
    dialect === 'postgres'
      ? await run(`select query, state from pg_stat_activity where usename = '${user}'`)
      : await run(`select info as query, command as state from information_schema.processlist where user = '${user}'`);
  const running = rows
    .filter(({ state }) => state === 'active' || state === 'Query' || state === 'Execute')
    .map(({ query: text }) => String(text));
  return { running, connections: rows.length };
}
async function until(what: string, check: () => Promise<boolean>): Promise<void> {
  for (let tries = 0; tries < 200; tries++) {
    if (await check()) return;
    await new Promise((resolve) => setTimeout(resolve, 25));
  }
  throw new Error(`It never came to be that ${what}.`);
}
const heavy = 'select count(*) from readings a, readings b, readings c, readings d';

for (const dialect of ['postgres', 'mysql'] as const) {
  on(dialect)(`${dialect}: a call that is cancelled ends in the database too, and its connection is used again`, async () => {
    const database = await fresh(dialect);
    const { client, close } = await serve(database.reader, {
      pool: { connections: 2 },
      queries: { heavy: `-- Heavy.\n${heavy}` },
      timeoutMs: 60_000,
    });
    for (const call of [
      (signal: AbortSignal) => client.call('query_scales', { sql: heavy }, { signal }),
      (signal: AbortSignal) => client.call('heavy', {}, { signal }),
    ]) {
      const stop = new AbortController();
      const calling = call(stop.signal).then(
        () => 'answered',
        () => 'stopped',
      );
      await until('it runs', async () => (await load(database)).running.some((text) => /readings a|fetch forward/.test(text)));
      stop.abort();
      expect(await calling).toBe('stopped');
      await until('nothing runs', async () => !(await load(database)).running.some((text) => /readings a|fetch forward/.test(text)));
    }
    expect((await query(client, 'select count(*) as n from hives')).structuredContent).toEqual({ rows: [{ n: 5 }] });
    expect((await load(database)).connections).toBeLessThanOrEqual(4);
    await close();
    await until('no connection is left', async () => (await load(database)).connections === 0);
  });

  on(dialect)(`${dialect}: a pool is shared, its line is bounded, and idle connections are closed`, async () => {
    const database = await fresh(dialect);
    const sleep = dialect === 'postgres' ? 'select pg_sleep(0.3)::text as s' : 'select sleep(0.3) as s';
    const { client } = await serve(database.reader, {
      queries: { wait: `-- Waits.\n${sleep}` },
      pool: { connections: 3, queue: 4, idleMs: 200 },
    });
    await client.tools();
    const results = await Promise.all(Array.from({ length: 12 }, () => client.call('wait')));
    const refused = results.filter(({ isError }) => isError);
    expect([results.length - refused.length, refused.length]).toEqual([7, 5]);
    expect(textOf(refused[0]!)).toContain('is busy: 3 connections are in use and 4 calls wait');
    await until('idle connections are closed', async () => (await load(database)).connections === 0);
    expect((await client.call('wait')).isError).toBeUndefined();
  });

  on(dialect)(`${dialect}: a connection that is cut, and a server that was away, are told and recovered from`, async () => {
    const database = await fresh(dialect);
    const proxy = await cutter(database.reader);
    const { client } = await serve(proxy.address, {
      queries: { count: '-- Counts.\nselect count(*) as n from hives' },
      pool: { connections: 2, connectMs: 1000 },
      timeoutMs: 3000,
    });
    expect((await client.call('count')).structuredContent).toEqual({ rows: [{ n: 5 }] });
    // Cut while idle: nobody notices.
    proxy.cut();
    expect((await client.call('count')).structuredContent).toEqual({ rows: [{ n: 5 }] });
    // Cut in the middle of a statement.
    const calling = query(client, heavy);
    await until('it runs', async () => (await load(database)).running.some((text) => /readings a|fetch forward/.test(text)));
    proxy.cut();
    const cut = await calling;
    expect([cut.isError, textOf(cut)]).toEqual([true, expect.stringMatching(/does not answer as it should: .*\(JEXO_DATABASE\)/)]);
    expect(textOf(cut)).not.toContain('s/e@c');
    // Away altogether.
    await proxy.stop();
    const away = await client.call('count');
    expect([away.isError, textOf(away)]).toEqual([true, expect.stringMatching(/JEXO_DATABASE/)]);
    await proxy.start();
    expect((await client.call('count')).structuredContent).toEqual({ rows: [{ n: 5 }] });
    await proxy.stop();
  });

  on(dialect)(`${dialect}: a lock that another holds ends a write in time`, async () => {
    const database = await fresh(dialect);
    const { client } = await serve(database.owner, {
      query: false,
      queries: { weaken: '-- @writes\nupdate hives set strength = 1' },
      timeoutMs: 1500,
    });
    await database.run(dialect === 'postgres' ? 'begin; lock table hives' : 'begin');
    if (dialect === 'mysql') await database.run('select * from hives for update');
    const start = performance.now();
    const blocked = await client.call('weaken');
    expect([blocked.isError, performance.now() - start < 10_000]).toEqual([true, true]);
    await database.run('rollback');
    expect((await client.call('weaken')).structuredContent).toEqual({ affected: 5 });
  });
}

interface Cutter {
  readonly address: string;
  cut(): void;
  stop(): Promise<void>;
  start(): Promise<void>;
}

/** A proxy before a database, whose connections can be cut and which can be away. */
async function cutter(place: string): Promise<Cutter> {
  const url = new URL(place);
  const target = { host: url.hostname, port: Number(url.port) };
  const sockets = new Set<Socket>();
  let port = 0;
  let server: NetServer;
  const start = async () => {
    server = createServer((socket) => {
      const behind = connectSocket(target);
      for (const each of [socket, behind]) {
        sockets.add(each);
        each.once('close', () => sockets.delete(each));
        each.on('error', () => undefined);
      }
      socket.pipe(behind).pipe(socket);
    });
    await new Promise<void>((resolve) => server.listen(port, '127.0.0.1', resolve));
    port = (server.address() as AddressInfo).port;
  };
  const cut = () => sockets.forEach((socket) => socket.destroy());
  await start();
  url.hostname = '127.0.0.1';
  url.port = String(port);
  return {
    address: url.href,
    cut,
    async stop() {
      cut();
      await new Promise((resolve) => server.close(resolve));
    },
    start,
  };
}

on('sqlite')('a file that is replaced, damaged or gone is reported, and read again when it is back', async () => {
  const database = await makeDatabase('sqlite', scales('sqlite'));
  const other = await makeDatabase('sqlite', [
    ...scales('sqlite'),
    `delete from keepers`,
    "delete from readings where hive = 'MR-05'",
    "delete from hives where id = 'MR-05'",
  ]);
  for (const { run } of [database, other]) await run('pragma wal_checkpoint(truncate)');
  const path = database.owner;
  const { client } = await serve(path, { queries: { count: '-- Counts.\nselect count(*) as n from hives' } });
  const both = async () => [
    (await client.call('count')).structuredContent ?? 'failed',
    (await query(client, 'select count(*) as n from hives')).structuredContent ?? 'failed',
  ];
  expect(await both()).toEqual([{ rows: [{ n: 5 }] }, { rows: [{ n: 5 }] }]);
  copyFileSync(other.owner, `${path}.next`);
  for (const end of ['-wal', '-shm']) rmSync(`${path}${end}`, { force: true });
  renameSync(`${path}.next`, path);
  expect((await client.call('count')).structuredContent).toEqual({ rows: [{ n: 4 }] });
  expect((await query(client, 'select count(*) as n from hives')).structuredContent).toEqual({ rows: [{ n: 4 }] });
  renameSync(path, `${path}.away`);
  const gone = await client.call('count');
  expect([gone.isError, textOf(gone)]).toEqual([true, expect.stringMatching(/There is no file .* any more.*JEXO_DATABASE/)]);
  writeFileSync(path, 'this is no database, and longer than the sixteen bytes of a header');
  const damaged = await client.call('count');
  expect([damaged.isError, textOf(damaged)]).toEqual([true, expect.stringMatching(/cannot be read: .*JEXO_DATABASE/)]);
  // A statement of the model's own runs in a child, whose faults mean the same.
  const inChild = await query(client, 'select count(*) as n from hives');
  expect([inChild.isError, textOf(inChild)]).toEqual([
    true,
    expect.stringMatching(/(?:cannot be read|could not be opened): .*JEXO_DATABASE/),
  ]);
  truncateSync(path, 0);
  rmSync(path);
  renameSync(`${path}.away`, path);
  expect((await client.call('count')).structuredContent).toEqual({ rows: [{ n: 4 }] });
});

on('sqlite')('a child that was killed is replaced, and heavy statements leave the server itself free', async () => {
  const database = await makeDatabase('sqlite', scales('sqlite'));
  const { client, close } = await serve(database.owner, {
    timeoutMs: 800,
    queries: { count: '-- Counts.\nselect count(*) as n from hives' },
  });
  const start = performance.now();
  const slow = query(client, heavy);
  const quick = await client.call('count');
  expect([quick.structuredContent, performance.now() - start < 700]).toEqual([{ rows: [{ n: 5 }] }, true]);
  expect(textOf(await slow)).toContain('ran longer than 0.8 s');
  expect((await query(client, 'select count(*) as n from hives')).structuredContent).toEqual({ rows: [{ n: 5 }] });
  const stop = new AbortController();
  const cancelled = client.call('query_scales', { sql: heavy }, { signal: stop.signal }).catch(() => 'stopped');
  setTimeout(() => stop.abort(), 50);
  expect(await cancelled).toBe('stopped');
  expect((await query(client, 'select 1 as one')).structuredContent).toEqual({ rows: [{ one: 1 }] });
  await close();
});

for (const dialect of dialects)
  on(dialect)(`${dialect}: wrong addresses are told without the password`, async () => {
    const context = { settings: {}, signal: new AbortController().signal, progress: () => undefined };
    const tell = async (place: string) => {
      const source = wrapDatabase(place, { pool: { connectMs: 1000 } });
      const error = (await source.read(context).catch((thrown: unknown) => thrown)) as Error & { code: string };
      await source.close!();
      expect(JSON.stringify(error) + error.message + String(error.stack)).not.toMatch(/s%2Fe|s\/e@c/);
      return `${error.code} ${error.message}`;
    };
    if (dialect === 'sqlite') {
      expect(await tell('/nowhere/scales.sqlite')).toContain('JEXO_TARGET_MISSING There is no file /nowhere/scales.sqlite');
      expect(await tell('redis://127.0.0.1/0')).toContain('JEXO_TARGET_UNKNOWN');
      return;
    }
    const { reader } = await fresh(dialect);
    const wrong = (change: (url: URL) => void) => {
      const url = new URL(reader);
      change(url);
      return url.href;
    };
    expect(await tell(wrong((url) => (url.port = '9')))).toMatch(/^JEXO_DATABASE .*ECONNREFUSED/);
    expect(await tell(wrong((url) => (url.pathname = '/nothing_such')))).toMatch(/^JEXO_DATABASE /);
    if (dialect === 'mysql') {
      expect(await tell(wrong((url) => (url.password = 's%2Fe%40c-wrong')))).toMatch(/^JEXO_DATABASE .*Access denied/);
      expect(await tell(wrong((url) => (url.pathname = '')))).toContain('names no database');
    }
  });
