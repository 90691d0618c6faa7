import { z } from 'zod';
import { defineServer, serveHttp, tool } from '../../src/index.js';
import { connect } from '../support/connect.js';
import { TaskBook } from '../../src/engine/task-book.js';
import { relatedTaskKey } from '../../src/engine/task-entry.js';
import type { Task } from '../../src/protocol/types.js';
import { memoryStore } from '../../src/stores/memory.js';
import { Peer } from '../../src/engine/peer.js';
import { Exchange } from '../../src/engine/exchange.js';
import { connected } from '../support/connected.js';
import { manualClock } from '../support/manual-clock.js';

/** Waits until the work has begun; each turn is a round trip, so nothing is slept away. */
async function begun(running: readonly unknown[], client: { ping(): Promise<void> }): Promise<void> {
  while (running.length === 0) await client.ping();
}

/** Work that goes on until it is told to end. */
function workshop() {
  const running: { finish: (value: unknown) => void; fail: (error: Error) => void; signal: AbortSignal }[] = [];
  const server = defineServer({
    name: 'workshop',
    version: '1',
    pageSize: 2,
    tasks: { pollIntervalMs: 5, maxTtlMs: 100_000 },
    offers: [
      tool('report', { taskSupport: 'optional', output: z.object({ kg: z.number() }) }, (_input, call) => {
        call.progress(1, 2, 'reading');
        return new Promise((finish, fail) =>
          running.push({ finish: finish as (value: unknown) => void, fail, signal: call.signal }),
        ) as Promise<{ kg: number }>;
      }),
      tool('long', { taskSupport: 'required' }, () => 'at last'),
      tool('short', {}, () => 'now'),
      tool('asks', { taskSupport: 'optional' }, async (_input, call) => (await call.ask('Where to?', z.object({ to: z.string() }))).to),
    ],
  });
  return { server, running };
}

test('[MCP-152] [MCP-153] [MCP-154] [MCP-155] [MCP-156] [MCP-158] [MCP-160] [MCP-162] a call runs as a task: started, polled, fetched', async () => {
  const { server, running } = workshop();
  const { client, of, messages, done } = await connected(server);
  expect(client.server.capabilities.tasks).toEqual({ list: {}, cancel: {}, requests: { tools: { call: {} } } });
  expect((await client.tools()).map(({ name, execution }) => [name, execution?.taskSupport])).toEqual([
    ['report', 'optional'],
    ['long', 'required'],
    ['short', undefined],
    ['asks', 'optional'],
  ]);
  const seen: unknown[] = [];
  const task = await client.callAsTask('report', {}, { ttlMs: 60_000, onProgress: ({ message }) => void seen.push(message) });
  expect(task.id).toMatch(/^[0-9a-f-]{36}$/);
  const status = await task.status();
  expect(status).toMatchObject({
    taskId: task.id,
    status: 'working',
    ttl: 60_000,
    pollInterval: 5,
    createdAt: expect.stringMatching(/^\d{4}-.*Z$/),
    lastUpdatedAt: expect.any(String),
  });
  const result = task.result();
  await begun(running, client);
  running[0]!.finish({ kg: 31 });
  expect(await result).toMatchObject({
    structuredContent: { kg: 31 },
    content: [{ text: '{"kg":31}' }],
    _meta: { [relatedTaskKey]: { taskId: task.id } },
  });
  expect(await task.status()).toMatchObject({ status: 'completed' });
  expect((await task.result()).structuredContent).toEqual({ kg: 31 });
  expect(of('notifications/progress')).toMatchObject([{ progress: 1, _meta: { [relatedTaskKey]: { taskId: task.id } } }]);
  expect(of('notifications/tasks/status')).toMatchObject([{ taskId: task.id, status: 'completed' }]);

  await expect(client.callAsTask('short')).rejects.toMatchObject({ code: 'JEXO_NOT_SUPPORTED' });
  expect(await client.call('long')).toMatchObject({ content: [{ text: 'at last' }] });
  expect(
    messages.some(
      ({ message }) =>
        message.method === 'tools/call' && (message.params as { name?: string }).name === 'long' && 'task' in message.params!,
    ),
  ).toBe(true);
  await done();
  const plain = await connect(server);
  // One that must be run as a task is, listed or not.
  expect(await plain.call('long')).toMatchObject({ content: [{ text: 'at last' }] });
  await plain.close();
});

test('[MCP-041] [MCP-157] [MCP-164] [MCP-163] a task is cancelled once, and stays so', async () => {
  const { server, running } = workshop();
  const { client, of, done } = await connected(server);
  const task = await client.callAsTask('report');
  const result = task.result().catch((error: unknown) => error);
  await begun(running, client);
  expect(await task.cancel()).toMatchObject({ status: 'cancelled' });
  expect(running[0]!.signal.aborted).toBe(true);
  running[0]!.finish({ kg: 1 });
  expect(await result).toMatchObject({ message: expect.stringContaining('cancelled') });
  expect(await task.status()).toMatchObject({ status: 'cancelled' });
  await expect(task.cancel()).rejects.toMatchObject({ code: -32602 });
  await expect(client.task('made-up').status()).rejects.toMatchObject({ code: -32602 });
  expect(of('notifications/cancelled')).toEqual([]);
  await done();
});

test('a task that fails says so, as the plain call would have', async () => {
  const { server, running } = workshop();
  const { client, done } = await connected(server);
  const task = await client.callAsTask('report');
  const result = task.result();
  await begun(running, client);
  running[0]!.fail(new Error('The scale does not answer.'));
  expect(await result).toMatchObject({ isError: true, content: [{ text: 'The scale does not answer.' }] });
  expect(await task.poll(() => undefined)).toMatchObject({ status: 'failed' });
  await done();
});

test('[MCP-161] [MCP-159] a task that needs an answer waits for it, and asks when the result is asked for', async () => {
  const { server } = workshop();
  const asked: string[] = [];
  const { client, of, done } = await connected(server, {
    elicitation: { form: ({ message }) => (asked.push(message), { action: 'accept', content: { to: 'SM' } }) },
  });
  const task = await client.callAsTask('asks');
  const seen: string[] = [];
  expect(await task.poll(({ status }) => void seen.push(status))).toMatchObject({ status: 'input_required' });
  expect(asked).toEqual([]);
  expect(await task.result()).toMatchObject({ content: [{ text: 'SM' }] });
  expect(asked).toEqual(['Where to?']);
  expect(of('elicitation/create')).toMatchObject([{ _meta: { [relatedTaskKey]: { taskId: task.id } } }]);
  await done();
});

test('cancelling a task that waits for an answer ends it', async () => {
  const { server } = workshop();
  const { client, done } = await connected(server, { elicitation: { form: () => ({ action: 'cancel' }) } });
  const task = await client.callAsTask('asks');
  await task.poll(() => undefined);
  expect(await task.cancel()).toMatchObject({ status: 'cancelled' });
  await expect(task.result()).rejects.toThrow('cancelled');
  await done();
});

test('tasks are listed in pages, and a made-up cursor is refused', async () => {
  const { server } = workshop();
  const { client, of, done } = await connected(server);
  const started = [];
  for (let index = 0; index < 5; index++) started.push((await client.callAsTask('report')).id);
  expect((await client.tasks()).map(({ taskId }) => taskId)).toEqual(started);
  expect(of('tasks/list')).toHaveLength(3);
  await done();
});

test('[MCP-150] [MCP-151] older revisions have no tasks: the call is plain', async () => {
  const { server, running } = workshop();
  const { client, done } = await connected(server, { revision: '2025-06-18' });
  expect(client.server.capabilities.tasks).toBeUndefined();
  await expect(client.callAsTask('report')).rejects.toMatchObject({ code: 'JEXO_NOT_SUPPORTED' });
  expect(await client.call('long')).toMatchObject({ content: [{ text: 'at last' }] });
  const plain = client.call('report');
  await begun(running, client);
  running[0]!.finish({ kg: 2 });
  expect((await plain).structuredContent).toEqual({ kg: 2 });
  await done();
});

test('[MCP-166] over HTTP a task survives a lost connection, and strangers cannot list it', async () => {
  const { server, running } = workshop();
  const service = await serveHttp(server);
  const first = await connect(service.url);
  expect(first.server.capabilities.tasks).toEqual({ cancel: {}, requests: { tools: { call: {} } } });
  const { id } = await first.callAsTask('report');
  await first.close();
  const second = await connect(service.url);
  await expect(second.tasks()).rejects.toMatchObject({ code: 'JEXO_NOT_SUPPORTED' });
  const result = second.task(id).result();
  await second.ping();
  running[0]!.finish({ kg: 40 });
  expect((await result).structuredContent).toEqual({ kg: 40 });
  await second.close();
  await service.close();
});

function book(limits = {}) {
  const clock = manualClock();
  let id = 0;
  const { tasks: store, bus } = memoryStore({ clock });
  const tasks = new TaskBook({ limits: () => limits, store, bus, clock, today: () => clock.now(), newId: () => `t${++id}` });
  const peer = new Peer({ role: 'server', outlet: { send: () => undefined }, clock, requests: new Map() });
  peer.begin({ revision: '2025-11-25' });
  // In memory, a task is there at once.
  const start = (owner: string, params = {}) => {
    const exchange = new Exchange(peer, 1, 'tools/call', { task: {}, ...params }, peer.outlet);
    return (tasks.start(exchange, owner, () => new Promise(() => {})) as { task: Task }).task;
  };
  return { clock, tasks, start };
}

test('[MCP-165] a task belongs to its owner; to anybody else it does not exist', () => {
  const { tasks, start } = book();
  const { taskId } = start('keeper');
  expect(tasks.get({ taskId }, 'keeper')).toMatchObject({ status: 'working' });
  for (const use of [() => tasks.get({ taskId }, 'buyer'), () => tasks.cancel({ taskId }, 'buyer')])
    expect(use).toThrow(expect.objectContaining({ code: -32602 }));
  expect(tasks.list({}, 'buyer', 10)).toEqual({ tasks: [] });
  expect(() => tasks.list({ cursor: 'after.t99' }, 'keeper', 10)).toThrow('Invalid cursor');
});

test('time and number of tasks are bounded', () => {
  const { clock, tasks, start } = book({ maxTtlMs: 1000, maxPerOwner: 2 });
  expect(start('keeper', { task: { ttl: 5_000_000 } }).ttl).toBe(1000);
  start('keeper');
  expect(() => start('keeper')).toThrow('at most 2');
  start('buyer');
  clock.advance(1000);
  expect(tasks.size).toBe(0);
  expect(clock.pending).toBe(0);
});

test('[MCP-167] nothing needs a status notice: polling alone finds the end', async () => {
  const { server, running } = workshop();
  const { client, done } = await connected(server);
  const task = await client.callAsTask('report');
  const seen: string[] = [];
  const ended = task.poll(({ status }) => {
    seen.push(status);
    if (seen.length === 2) running[0]!.finish({ kg: 3 });
  });
  expect(await ended).toMatchObject({ status: 'completed' });
  expect(seen.slice(0, 2)).toEqual(['working', 'working']);
  await done();
});
