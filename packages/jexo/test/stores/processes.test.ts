import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { z } from 'zod';
import { defineServer, redis, resource, serveHttp, tool, type Client, type Store } from '../../src/index.js';
import { freshFolder, jexo, start } from '../support/command-line.js';
import { connect } from '../support/connect.js';
import { freePort } from '../support/nginx.js';
import { makeRedis, withRedis, type RedisServer } from '../support/redis-server.js';

let server: RedisServer;
beforeAll(async () => (server = await makeRedis()));
afterAll(() => server.stop());
const open: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});

/** One of several processes, as far as a test in one process goes: a server, a store and a port of its own. */
async function process(prefix: string, more: { store?: Store } = {}) {
  const finish: ((kg: number) => void)[] = [];
  const own = defineServer({
    name: 'apiary',
    version: '1.0.0',
    offers: [
      tool('count', { description: 'Counts calls of the session.' }, async (_input, call) =>
        String((await call.session.state.update<{ n: number }>((before) => ({ n: (before?.n ?? 0) + 1 }))).n),
      ),
      tool('weigh', { description: 'Weighs, when it is told to.', taskSupport: 'optional' }, async (_input, call) => {
        call.progress(1, 2, 'weighing');
        return `${await new Promise<number>((resolve) => finish.push(resolve))} kg`;
      }),
      tool('move', { description: 'Asks where to.', taskSupport: 'optional' }, async (_input, call) => {
        const { to } = await call.ask('Where to?', z.object({ to: z.string() }));
        return `moved to ${to}`;
      }),
      resource('scale://MR-03', {}, () => '31 kg'),
    ],
  });
  const store = more.store ?? redis(server.url, { prefix, commandTimeoutMs: 5000 });
  const service = await serveHttp(own, { store, graceMs: 100 });
  const close = async () => {
    await service.close();
    await store.close();
  };
  open.push(close);
  return { own, service, store, finish, url: service.url, close };
}

/** A fetch that goes to one process after the other, as a balancer that knows nothing of sessions would. */
function roundRobin(urls: readonly string[]): typeof fetch {
  let next = 0;
  return (input, init) =>
    fetch(new URL(String(input)).href.replace(new URL(String(input)).origin, new URL(urls[next++ % urls.length]!).origin), init);
}
const fresh = () => `t${Math.random()}:`;

async function clientOf(urls: readonly string[], options: Parameters<typeof connect>[1] = {}): Promise<Client> {
  const client = await connect(urls[0]!, { fetch: roundRobin(urls), backOffMs: 50, ...options });
  open.push(() => client.close());
  return client;
}

withRedis('requests of a session land anywhere: calls, state, questions, notices', async () => {
  const prefix = fresh();
  const processes = [await process(prefix), await process(prefix), await process(prefix)];
  const urls = processes.map(({ url }) => url);
  const client = await clientOf(urls, { elicitation: { form: () => ({ action: 'accept', content: { to: 'Saltmarsh' } }) } });
  const counts = await Promise.all(Array.from({ length: 30 }, () => client.call('count')));
  const numbers = counts.map(({ content }) => Number((content[0] as { text: string }).text)).sort((a, b) => a - b);
  expect(numbers).toEqual(Array.from({ length: 30 }, (_, index) => index + 1));
  for (let calls = 0; calls < 4; calls++)
    expect((await client.call('move')).content).toEqual([{ type: 'text', text: 'moved to Saltmarsh' }]);
  // A resource changes in each process in turn: the client hears of it once each time.
  const heard: string[] = [];
  let told: () => void = () => {};
  await client.watch('scale://MR-03', (uri) => {
    heard.push(uri);
    told();
  });
  for (const { own } of processes) {
    const next = new Promise<void>((resolve) => (told = resolve));
    own.updated('scale://MR-03');
    await next;
  }
  await new Promise((resolve) => setTimeout(resolve, 100));
  expect(heard.length).toBe(3);
});

withRedis('a task runs in one process and is followed, asked, listed and cancelled in others', async () => {
  const prefix = fresh();
  const processes = [await process(prefix), await process(prefix), await process(prefix)];
  const client = await clientOf(
    processes.map(({ url }) => url),
    {
      elicitation: { form: () => ({ action: 'accept', content: { to: 'Fernhollow' } }) },
    },
  );
  for (let round = 0; round < 3; round++) {
    const task = await client.callAsTask('move');
    expect((await task.result()).content).toEqual([{ type: 'text', text: 'moved to Fernhollow' }]);
  }
  const weighing = await client.callAsTask('weigh');
  const result = weighing.result();
  while (!processes.some(({ finish }) => finish.length > 0)) await new Promise((resolve) => setTimeout(resolve, 5));
  processes.find(({ finish }) => finish.length > 0)!.finish[0]!(31);
  expect((await result).content).toEqual([{ type: 'text', text: '31 kg' }]);
  const other = await client.callAsTask('weigh');
  await client.task(other.id).cancel();
  await expect(other.result()).rejects.toThrow('cancelled');
});

withRedis('a task whose process has died fails once for all, and can be called again', async () => {
  const prefix = fresh();
  const [one, two] = [await process(prefix), await process(prefix)];
  const task = {
    taskId: 't1',
    status: 'working' as const,
    createdAt: new Date().toISOString(),
    lastUpdatedAt: new Date().toISOString(),
    ttl: 60_000,
    pollInterval: 100,
  };
  // Nobody is known as the process that works on it: it has been killed.
  await one.store.tasks.save({ task, owner: 'http', process: 'killed' });
  const clients = [await connect(one.url), await connect(two.url)];
  open.push(() => Promise.all(clients.map((client) => client.close())));
  const errors = await Promise.all(
    clients.map((client) =>
      client
        .task('t1')
        .result()
        .catch((error: unknown) => error),
    ),
  );
  for (const error of errors)
    expect(error).toMatchObject({ message: expect.stringContaining('call again') as string, data: { retryable: true } });
  // It comes back, and is too late.
  expect(
    await one.store.tasks.save({ task: { ...task, status: 'completed' }, owner: 'http', result: { content: [] }, process: 'killed' }),
  ).toBe(false);
  expect((await two.store.tasks.load('t1'))!.task.status).toBe('failed');
});

withRedis('switches hold in all processes', async () => {
  const prefix = fresh();
  const [one, two] = [await process(prefix), await process(prefix)];
  const client = await connect(two.url);
  open.push(() => client.close());
  expect((await client.tools()).length).toBe(3);
  one.own.switch({ only: ['count'] });
  while ((await client.tools()).length !== 1) await new Promise((resolve) => setTimeout(resolve, 10));
  one.own.switch(undefined);
  while ((await client.tools()).length !== 3) await new Promise((resolve) => setTimeout(resolve, 10));
});

withRedis('a session of a process that stops goes on in another, with its state', async () => {
  const prefix = fresh();
  const [one, two] = [await process(prefix), await process(prefix)];
  let alive = [one.url];
  const renewed: string[] = [];
  const client = await connect(one.url, {
    fetch: (input, init) => roundRobin(alive)(input, init),
    onRenewed: () => renewed.push('renewed'),
  });
  open.push(() => client.close());
  await client.call('count');
  alive = [two.url];
  await one.close();
  expect((await client.call('count')).content).toEqual([{ type: 'text', text: '2' }]);
  expect(renewed).toEqual([]);
});

withRedis('while the Redis is away, new sessions get 503, live ones go on with what needs no store, and all is well after it', async () => {
  const own = await makeRedis();
  open.push(() => own.stop());
  const store = redis(own.url, { commandTimeoutMs: 400, onFault: () => {} });
  const { url } = await process('', { store });
  const client = await connect(url);
  open.push(() => client.close());
  await client.call('count');
  own.hold();
  // What needs no store is answered; what does says so.
  expect((await client.tools()).length).toBe(3);
  expect(await client.call('count')).toMatchObject({ isError: true });
  const refused = await connect(url).catch((error: unknown) => error);
  expect(refused).toMatchObject({ data: { status: 503, retryAfterMs: expect.any(Number) as number } });
  own.goOn();
  for (;;) {
    const again = await connect(url).catch(() => undefined);
    if (again === undefined) continue;
    await again.call('count');
    await again.close();
    break;
  }
  // It comes back empty: a session that another process would have to know begins again.
  await own.stop();
  await own.start();
  while ((await client.call('count')).isError) await new Promise((resolve) => setTimeout(resolve, 50));
});

const flags = (port: number, url: string, prefix: string) => ['--http', String(port), '--store', `${url}?prefix=${prefix}`, '--json'];

withRedis('a process that is killed: its session goes on elsewhere, its stream is resumed, and its call is told as retryable', async () => {
  const prefix = fresh();
  const folder = freshFolder('killed');
  const module = join(folder, 'slow.ts');
  writeFileSync(
    module,
    `/** Waits. */\nexport async function* slow(ms: number): AsyncGenerator<string> {\n  yield 'begun';\n  await new Promise((resolve) => setTimeout(resolve, ms));\n  yield 'done';\n}\n/** Adds nothing. */\nexport function same(kg: number): number {\n  return kg;\n}\n`,
  );
  const ports = [await freePort(), await freePort()];
  const running = await Promise.all(ports.map((port) => start(['serve', module, ...flags(port, server.url, prefix)])));
  open.push(() => Promise.all(running.map((each) => each.stop())));
  const urls = ports.map((port) => `http://127.0.0.1:${port}/mcp`);
  let alive = [...urls];
  const balanced: typeof fetch = (input, init) => roundRobin(alive)(input, init);
  const client = await connect(urls[0]!, { fetch: balanced, backOffMs: 50, maxRetries: 20 });
  open.push(() => client.close());
  let begun: () => void = () => {};
  const isBegun = new Promise<void>((resolve) => (begun = resolve));
  const lost = client.call('slow', { ms: 60_000 }, { onProgress: () => begun() }).catch((error: unknown) => error);
  await isBegun;
  alive = [urls[1]!];
  await running[0]!.stop('SIGKILL');
  const from = Date.now();
  const error = (await lost) as { message: string; data?: { retryable?: boolean } };
  expect([error.message, error.data]).toEqual([expect.stringContaining('call again if that does no harm'), { retryable: true }]);
  expect(Date.now() - from).toBeLessThan(15_000);
  // The same session, in the other process.
  expect((await client.call('same', { kg: 31 })).isError).toBeUndefined();
});

test('a store that is none is refused, and one over stdio', async () => {
  const module = join(freshFolder('none'), 'a.ts');
  writeFileSync(module, '/** Same. */\nexport function same(kg: number): number {\n  return kg;\n}\n');
  for (const [words, says] of [
    [['--http', '0', '--store', 'memcached://x'], 'is no address of a Redis'],
    [['--store', 'redis://127.0.0.1:1'], 'means something over HTTP only'],
  ] as const) {
    const { code, stderr } = await jexo(['serve', module, ...words]);
    expect([code, stderr]).toEqual([2, expect.stringContaining(says)]);
  }
});
