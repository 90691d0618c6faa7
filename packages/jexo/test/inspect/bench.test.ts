import { defineServer, tool } from '../../src/index.js';
import { connect } from '../support/connect.js';
import { createBenchApi } from '../../src/inspect/bench-api.js';
import { createBench } from '../../src/inspect/bench.js';
import { readPairs } from '../../src/inspect/input-text.js';
import { createRecorder, maskSecrets } from '../../src/inspect/recorder.js';
import { readable } from '../../src/inspect/value-text.js';

const server = defineServer({
  name: 'meadow',
  version: '1',
  offers: [
    tool(
      'add',
      {
        input: { type: 'object', properties: { a: { type: 'number' } }, required: ['a'] },
        output: { type: 'object', properties: { sum: { type: 'number' } } },
      },
      ({ a }) => ({ sum: a + 1 }),
    ),
    tool('wait', {}, (_input, call) => {
      call.log('info', 'waiting');
      call.progress(1, 2);
      return new Promise((resolve) => call.signal.addEventListener('abort', resolve));
    }),
  ],
});
const bench = () => createBench({ target: 'meadow', open: async (options) => ({ client: await connect(server, options), omitted: [] }) });

test('a call goes from its sheet to its answer, and every message is on the trace', async () => {
  const own = bench();
  await own.connect();
  expect(own.state()).toMatchObject({ status: 'connected', server: { serverInfo: { name: 'meadow' } } });
  expect(own.state().tools.map(({ tool: { name } }) => name)).toEqual(['add', 'wait']);
  const settled = new Promise((resolve) =>
    own.subscribe((event) => event.kind === 'call' && event.call.status !== 'running' && resolve(event.call)),
  );
  own.call('add', { a: 41 });
  expect(await settled).toMatchObject({
    status: 'answered',
    result: { structuredContent: { sum: 42 } },
    shown: { kind: 'fields', rows: [['sum', '42']] },
  });
  const trace = own.recorder.since(0);
  expect(trace.map(({ way, seq }) => [seq, way])).toEqual([
    [1, 'sent'],
    [2, 'received'],
    [3, 'sent'],
    [4, 'sent'],
    [5, 'received'],
    [6, 'sent'],
    [7, 'received'],
  ]);
  expect(own.recorder.since(5)).toHaveLength(2);
  expect(
    own.recorder
      .toJsonLines()
      .trim()
      .split('\n')
      .map((line) => (JSON.parse(line) as { seq: number }).seq),
  ).toEqual([1, 2, 3, 4, 5, 6, 7]);
  await own.close();
});

test('a running call shows progress and log, and can be cancelled', async () => {
  const own = bench();
  await own.connect();
  const { id } = own.call('wait', {});
  await new Promise<void>((resolve) => own.subscribe((event) => event.kind === 'call' && event.call.events.length === 2 && resolve()));
  const settled = new Promise((resolve) =>
    own.subscribe((event) => event.kind === 'call' && event.call.status !== 'running' && resolve(event.call)),
  );
  expect(own.cancel(id)).toBe(true);
  expect(await settled).toMatchObject({
    status: 'cancelled',
    events: [
      { kind: 'log', data: 'waiting' },
      { kind: 'progress', progress: 1 },
    ],
  });
  expect(own.cancel(id)).toBe(false);
  await own.close();
});

test('a connection that fails leaves the reason, and can be tried again', async () => {
  let broken = true;
  const own = createBench({
    target: 'x',
    open: async (options) => {
      if (broken) await connect(['no-such-command'], options);
      return { client: await connect(server, options), omitted: [] };
    },
  });
  await own.connect();
  expect(own.state()).toMatchObject({ status: 'failed', trouble: { code: 'JEXO_COMMAND_MISSING', next: expect.any(String) } });
  broken = false;
  await own.connect();
  expect(own.state().status).toBe('connected');
  expect(own.state().trouble).toBeUndefined();
  await own.close();
});

test('the interface wants the key, and gives it for the token once', async () => {
  const api = createBenchApi(bench(), { token: 'token', key: 'key' });
  const send = (method: string, path: string, body?: unknown, key?: string) =>
    api(
      new Request(`http://localhost${path}`, {
        method,
        headers: key === undefined ? {} : { authorization: `Bearer ${key}` },
        ...(body !== undefined && { body: JSON.stringify(body) }),
      }),
    );
  expect((await send('GET', '/api/bench')).status).toBe(401);
  expect((await send('GET', '/api/bench', undefined, 'wrong')).status).toBe(401);
  expect((await send('POST', '/api/session', { token: 'wrong' })).status).toBe(403);
  expect(await (await send('POST', '/api/session', { token: 'token' })).json()).toEqual({ key: 'key' });
  expect((await send('POST', '/api/session', { token: 'token' })).status).toBe(403);
  expect((await send('GET', '/api/bench', undefined, 'key')).status).toBe(200);
  expect((await send('POST', '/api/calls', { tool: 3 }, 'key')).status).toBe(400);
  expect((await send('DELETE', '/api/calls/99', undefined, 'key')).status).toBe(404);
  expect((await send('GET', '/api/nothing', undefined, 'key')).status).toBe(404);
});

test('secrets are masked before they are kept', () => {
  const recorder = createRecorder();
  recorder.record({
    at: 0,
    way: 'sent',
    bytes: 1,
    message: { params: { Authorization: 'Bearer abc', list: [{ password: 'x' }], hive: 'MR-03' } },
  });
  expect(recorder.since(0)[0]?.message).toEqual({ params: { Authorization: '(masked)', list: [{ password: '(masked)' }], hive: 'MR-03' } });
  const clean = { a: [1, { b: 2 }] };
  expect(maskSecrets(clean)).toBe(clean);
});

test('the trace is bounded, the oldest go first', () => {
  const recorder = createRecorder(10);
  for (let index = 0; index < 3000; index++) recorder.record({ at: index, way: 'sent', bytes: 1, message: {} });
  const kept = recorder.since(0);
  expect(kept.at(-1)?.seq).toBe(3000);
  expect(kept.length).toBeLessThanOrEqual(1010);
  expect(recorder.since(2999).map(({ seq }) => seq)).toEqual([3000]);
});

test('values are shown as fields, tables or text', () => {
  expect(readable({ a: 1, b: null })).toEqual({
    kind: 'fields',
    rows: [
      ['a', '1'],
      ['b', 'null'],
    ],
  });
  expect(readable({ result: [{ hive: 'MR-03', kg: 31 }, { hive: 'MR-04' }] })).toEqual({
    kind: 'table',
    headings: ['hive', 'kg'],
    rows: [
      ['MR-03', '31'],
      ['MR-04', ''],
    ],
  });
  expect(readable({ result: 7 })).toEqual({ kind: 'text', text: '7' });
  expect(readable({ a: { b: 1 } })).toEqual({ kind: 'text', text: '{\n  "a": {\n    "b": 1\n  }\n}' });
});

test('pairs cannot reach what is no field', () => {
  const input = readPairs(['__proto__.polluted=yes', 'constructor.name=x'], { type: 'object' });
  expect(({} as Record<string, unknown>).polluted).toBeUndefined();
  expect(Object.keys(input)).toEqual(['__proto__', 'constructor']);
});
