import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { z } from 'zod';
import { defineServer, redis, serveHttp, tool, workTasks, type Client, type Call } from '../../src/index.js';
import { freshFolder, jexo, start } from '../support/command-line.js';
import { connect } from '../support/connect.js';
import { makeRedis, withRedis, type RedisServer } from '../support/redis-server.js';

let server: RedisServer;
beforeAll(async () => (server = await makeRedis()));
afterAll(() => server.stop());
const open: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});
const fresh = () => `t${Math.random()}:`;

/** What a process does with its tools. */
type Run = (input: Record<string, unknown>, call: Call) => unknown;
const defined = (runs: { weigh?: Run; move?: Run; flaky?: Run; spin?: Run }) => {
  const none: Run = () => {
    throw new Error('This process does no tasks');
  };
  return defineServer({
    name: 'apiary',
    version: '1.0.0',
    offers: [
      tool('weigh', { description: 'Weighs.', taskSupport: 'optional', annotations: { readOnlyHint: true } }, runs.weigh ?? none),
      tool('move', { description: 'Moves.', taskSupport: 'optional' }, runs.move ?? none),
      tool(
        'flaky',
        {
          description: 'Fails at first.',
          taskSupport: 'optional',
          taskRetry: { times: 2, delayMs: 10, when: (error) => !/never/.test(String(error)) },
          input: z.object({ word: z.string().optional() }),
        },
        runs.flaky ?? none,
      ),
      tool('spin', { description: 'Goes on for ever.', taskSupport: 'optional' }, runs.spin ?? none),
    ],
  });
};

async function front(prefix: string): Promise<Client> {
  const store = redis(server.url, { prefix, commandTimeoutMs: 8000 });
  const service = await serveHttp(defined({}), { store, queueTasks: true, graceMs: 100 });
  open.push(async () => {
    await service.close();
    await store.close();
  });
  const client = await connect(service.url, { elicitation: { form: () => ({ action: 'accept', content: { to: 'Saltmarsh' } }) } });
  open.push(() => client.close());
  return client;
}

async function worker(prefix: string, runs: Parameters<typeof defined>[0], graceMs = 2000) {
  const store = redis(server.url, { prefix, commandTimeoutMs: 8000 });
  const own = await workTasks(defined(runs), { store, concurrency: 2, graceMs });
  let isClosed = false;
  const close = async () => {
    if (isClosed) return;
    isClosed = true;
    await own.close();
    await store.close();
  };
  open.push(close);
  return { own, close };
}

const textOf = ({ content }: { content: readonly unknown[] }) => (content[0] as { text: string }).text;

withRedis('tasks wait for a worker, which reports progress, asks, and answers once', async () => {
  const prefix = fresh();
  const client = await front(prefix);
  const progress: number[] = [];
  const task = await client.callAsTask('move', {}, { onProgress: ({ progress: done }) => progress.push(done) });
  expect(await client.task(task.id).status()).toMatchObject({ status: 'working', statusMessage: 'Waiting for a worker' });
  const runs: string[] = [];
  const move: Run = async (_input, call) => {
    runs.push('move');
    call.progress(1, 2);
    const { to } = await call.ask('Where to?', z.object({ to: z.string() }));
    return `moved to ${to}`;
  };
  await worker(prefix, { move });
  await worker(prefix, { move });
  expect(textOf(await task.result())).toBe('moved to Saltmarsh');
  expect(progress).toEqual([1]);
  expect(runs).toEqual(['move']);
  expect(await client.task(task.id).status()).toMatchObject({ status: 'completed' });
  expect(textOf(await client.task(task.id).result())).toBe('moved to Saltmarsh');
});

withRedis('every task of many is worked on once, by any of the workers', async () => {
  const prefix = fresh();
  const client = await front(prefix);
  const counts = new Map<string, number>();
  const by =
    (name: string): Run =>
    () => (counts.set(name, (counts.get(name) ?? 0) + 1), name);
  const workers = [await worker(prefix, { move: by('one') }), await worker(prefix, { move: by('two') })];
  const tasks = await Promise.all(Array.from({ length: 30 }, () => client.callAsTask('move')));
  await Promise.all(tasks.map((task) => task.result()));
  expect([...counts.values()].reduce((sum, each) => sum + each, 0)).toBe(30);
  // A worker counts a task when the queue has heard of its end, which may be a moment after its caller.
  await Promise.all(workers.map(({ close }) => close()));
  expect(workers.reduce((sum, { own }) => sum + own.done, 0)).toBe(30);
});

withRedis('what throws is tried again by its rule, with what it waits for, and no further', async () => {
  const prefix = fresh();
  const client = await front(prefix);
  let throws = 0;
  await worker(prefix, {
    flaky: ({ word }) => {
      throws++;
      if (word === 'never') throw new Error('never');
      if (throws < 3) throw new Error('The scale did not answer.');
      return 'weighed';
    },
  });
  expect(textOf(await (await client.callAsTask('flaky')).result())).toBe('weighed');
  expect(throws).toBe(3);
  throws = -5;
  const spent = await client.callAsTask('flaky');
  expect(await spent.result()).toMatchObject({ isError: true, content: [{ text: 'The scale did not answer.' }] });
  expect(throws).toBe(-2);
  throws = 0;
  const hopeless = await client.callAsTask('flaky', { word: 'never' });
  expect(await hopeless.result()).toMatchObject({ isError: true });
  expect(throws).toBe(1);
  // What the schema refuses has not been tried.
  throws = 0;
  expect(await (await client.callAsTask('flaky', { word: 7 })).result()).toMatchObject({ isError: true });
  expect(throws).toBe(0);
});

test('without workers the same rule holds in the process itself', async () => {
  let throws = 0;
  const own = defined({
    flaky: () => {
      if (++throws < 3) throw new Error('The scale did not answer.');
      return 'weighed';
    },
  });
  const client = await connect(own);
  open.push(() => client.close());
  const task = await client.callAsTask('flaky');
  expect(textOf(await task.result())).toBe('weighed');
  expect(throws).toBe(3);
});

withRedis('a task that waits is cancelled, and no worker begins it; one under way is stopped', async () => {
  const prefix = fresh();
  const client = await front(prefix);
  const waiting = await client.callAsTask('move');
  await client.task(waiting.id).cancel();
  expect(await client.task(waiting.id).status()).toMatchObject({ status: 'cancelled' });
  await expect(client.task(waiting.id).result()).rejects.toThrow(/cancelled/);
  let begun = 0;
  let started: () => void = () => {};
  const isStarted = new Promise<void>((resolve) => (started = resolve));
  let stopped: () => void = () => {};
  const isStopped = new Promise<void>((resolve) => (stopped = resolve));
  await worker(prefix, {
    move: () => void begun++,
    spin: (_input, call) =>
      new Promise((_, reject) => {
        call.signal.addEventListener('abort', () => {
          stopped();
          reject(call.signal.reason as Error);
        });
        started();
      }),
  });
  const spinning = await client.callAsTask('spin');
  await isStarted;
  await client.task(spinning.id).cancel();
  await isStopped;
  await expect(client.task(spinning.id).result()).rejects.toThrow(/cancelled/);
  expect(begun).toBe(0);
});

withRedis('a worker that stops gives read-only work to the next one, and says that other work may be repeated', async () => {
  const prefix = fresh();
  const client = await front(prefix);
  const started: (() => void)[] = [];
  const both = ['weigh', 'spin'].map(() => new Promise<void>((resolve) => started.push(resolve)));
  const hang: Run = (_input, call) =>
    new Promise((_, reject) => {
      call.signal.addEventListener('abort', () => reject(call.signal.reason as Error));
      started.shift()!();
    });
  const first = await worker(prefix, { weigh: hang, spin: hang }, 50);
  const [repeatable, other] = [await client.callAsTask('weigh'), await client.callAsTask('spin')];
  await Promise.all(both);
  await first.close();
  expect(await client.task(other.id).status()).toMatchObject({ status: 'failed' });
  await expect(other.result()).rejects.toMatchObject({ data: { retryable: true } });
  expect(await client.task(repeatable.id).status()).toMatchObject({ status: 'working' });
  await worker(prefix, { weigh: () => '31 kg' });
  expect(textOf(await repeatable.result())).toBe('31 kg');
});

const module = `import { appendFileSync } from 'node:fs';
/** Weighs all hives.
 * @task
 * @readOnly
 * @retry 2
 */
export async function weighAll(): Promise<string> {
  appendFileSync(process.env.WEIGHED!, process.pid + '\\n');
  if (process.env.HANG) await new Promise(() => setInterval(() => {}, 1000));
  return 'all weighed';
}
/** Moves all hives.
 * @task
 */
export async function moveAll(): Promise<string> {
  appendFileSync(process.env.WEIGHED!, process.pid + '\\n');
  if (process.env.HANG) await new Promise(() => setInterval(() => {}, 1000));
  return 'all moved';
}
`;

withRedis(
  'jexo work: a killed worker’s read-only task is run again by another one, and the other fails, within seconds',
  async () => {
    const folder = freshFolder('work');
    const file = join(folder, 'scales.ts');
    const weighed = join(folder, 'weighed.txt');
    writeFileSync(file, module);
    writeFileSync(weighed, '');
    const { readFileSync } = await import('node:fs');
    const store = `${server.url}?prefix=${fresh()}`;
    const serving = await start(['serve', file, '--http', '--store', store, '--queue-tasks', '--json'], { cwd: folder });
    open.push(() => serving.stop());
    const client = await connect(serving.said.address as string);
    open.push(() => client.close());
    const hanging = await start(['work', file, '--store', store, '--json'], { cwd: folder, env: { WEIGHED: weighed, HANG: '1' } });
    open.push(() => hanging.stop());
    expect(hanging.said).toMatchObject({ tasks: ['weigh_all', 'move_all'], concurrency: 4 });
    const [weigh, move] = [await client.callAsTask('weigh_all'), await client.callAsTask('move_all')];
    while (readFileSync(weighed, 'utf8').split('\n').length < 3) await new Promise((resolve) => setTimeout(resolve, 20));
    await hanging.stop('SIGKILL');
    const helping = await start(['work', file, '--store', store, '--json'], { cwd: folder, env: { WEIGHED: weighed } });
    open.push(() => helping.stop());
    expect(textOf(await weigh.result())).toBe('all weighed');
    await expect(move.result()).rejects.toMatchObject({ data: { retryable: true } });
    // Twice by the first, once more by the second: the one that may be.
    expect(readFileSync(weighed, 'utf8').trim().split('\n')).toHaveLength(3);
  },
  60_000,
);

test('jexo work says what is missing', async () => {
  const folder = freshFolder('work');
  const file = join(folder, 'scales.ts');
  writeFileSync(file, module);
  const none = await jexo(['work', file], { cwd: folder });
  expect(none).toMatchObject({ code: 2, stderr: expect.stringContaining('--store redis://127.0.0.1:6379') });
  const away = await jexo(['work', file, '--store', 'redis://127.0.0.1:1'], { cwd: folder });
  expect(away.stderr).toContain('JEXO_STORE');
  expect(away.code).not.toBe(0);
  const odd = await jexo(['serve', file, '--http', '--queue-tasks'], { cwd: folder });
  expect(odd).toMatchObject({ code: 2, stderr: expect.stringContaining('Add --store redis://') });
});
