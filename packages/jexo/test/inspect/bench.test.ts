import fc from 'fast-check';
import { defineServer, JexoError, prompt, resource, tool, type Tool } from '../../src/index.js';
import { connect } from '../support/connect.js';
import { createBenchSheets } from '../../src/inspect/bench-sheets.js';
import { createBenchApi } from '../../src/inspect/bench-api.js';
import { createBenchEntry } from '../../src/inspect/bench-entry.js';
import { createBench } from '../../src/inspect/bench.js';
import type { Bench, BenchOptions, CallRequest, CallSheet, Question } from '../../src/inspect/bench-state.js';
import { differences } from '../../src/inspect/difference.js';
import { readPairs } from '../../src/inspect/input-text.js';
import { modelView } from '../../src/inspect/model-view.js';
import { createRecorder, maskSecrets, readJsonLines } from '../../src/inspect/recorder.js';
import { seriesOf } from '../../src/inspect/series.js';
import { standInModel } from '../../src/models/stand-in-model.js';
import { troubleOf } from '../../src/inspect/trouble.js';
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
    tool('visit', {}, (_input, call) => call.askByUrl('Sign in.', 'https://xn--hney-6qa.example/sign-in').then(() => 'seen')),
    tool(
      'ask',
      {},
      async (_input, call) =>
        (await call.ask('Where?', { type: 'object', properties: { where: { type: 'string' } }, required: ['where'] })).where,
    ),
    resource('scale://MR-03', {}, () => '31 kg'),
    prompt(
      'greet',
      { input: { type: 'object', properties: { hive: { type: 'string' } }, required: ['hive'] } },
      ({ hive }) => `Hello ${hive}`,
    ),
  ],
});
const spec = { target: 'meadow' };
const bench = (open: BenchOptions['open'] = async (_spec, options) => ({ client: await connect(server, options), omitted: [] })) =>
  createBench({ open, show: ({ target }) => target });
async function connected(own = bench()): Promise<Bench> {
  await own.add(spec).connected;
  return own;
}
const request = (name: string, input: Record<string, unknown> = {}, more: Partial<CallRequest> = {}): CallRequest => ({
  connection: 1,
  kind: 'tool',
  name,
  input,
  ...more,
});
function settled(own: Bench, id: number): Promise<CallSheet> {
  return new Promise((resolve) => {
    const known = own.calls().find((call) => call.id === id);
    if (known !== undefined && known.status !== 'running') return resolve(known);
    own.subscribe((event) => event.kind === 'call' && event.call.id === id && event.call.status !== 'running' && resolve(event.call));
  });
}

test('a call goes from its sheet to its answer, and every message is on the trace', async () => {
  const own = await connected();
  const [state] = own.connections();
  expect(state).toMatchObject({ status: 'connected', server: { serverInfo: { name: 'meadow' } } });
  expect(state!.shelf.map(({ kind, key }) => [kind, key])).toEqual([
    ['tool', 'add'],
    ['tool', 'wait'],
    ['tool', 'visit'],
    ['tool', 'ask'],
    ['resource', 'scale://MR-03'],
    ['prompt', 'greet'],
  ]);
  const { id } = own.call(request('add', { a: 41 }));
  expect(await settled(own, id)).toMatchObject({
    status: 'answered',
    result: { structuredContent: { sum: 42 } },
    shown: { kind: 'fields', rows: [['sum', '42']] },
    tokens: expect.any(Number),
  });
  const trace = own.recorder.since(0);
  expect(trace.map(({ seq }) => seq)).toEqual(trace.map((_, index) => index + 1));
  expect(trace.every(({ wrong, connection }) => wrong === undefined && connection === 1)).toBe(true);
  expect(own.recorder.since(trace.length - 2)).toHaveLength(2);
  const again = readJsonLines(own.recorder.toJsonLines(1));
  expect(again.map(({ message }) => message)).toEqual(trace.map(({ message }) => message));
  expect(own.recorder.toJsonLines(2)).toBe('');
  await own.close();
});

test('a running call shows progress and log, and can be cancelled', async () => {
  const own = await connected();
  const { id } = own.call(request('wait'));
  await new Promise<void>((resolve) => own.subscribe((event) => event.kind === 'call' && event.call.events.length === 2 && resolve()));
  expect(own.cancel(id)).toBe(true);
  expect(await settled(own, id)).toMatchObject({
    status: 'cancelled',
    events: [
      { kind: 'log', data: 'waiting' },
      { kind: 'progress', progress: 1 },
    ],
  });
  expect(own.cancel(id)).toBe(false);
  await own.close();
});

test('resources and prompts are called like tools; many runs keep their times', async () => {
  const own = await connected();
  expect(await settled(own, own.call(request('scale://MR-03', {}, { kind: 'resource' })).id)).toMatchObject({
    contents: [{ text: '31 kg' }],
  });
  expect(await settled(own, own.call(request('greet', { hive: 'MR-03' }, { kind: 'prompt' })).id)).toMatchObject({
    messages: [{ role: 'user', content: { text: 'Hello MR-03' } }],
  });
  const many = await settled(own, own.call(request('add', { a: 1 }, { times: 7 })).id);
  expect([many.runs?.length, many.events]).toEqual([7, []]);
  expect(own.recorder.since(0).filter(({ message }) => (message as { method?: string }).method === 'tools/call')).toHaveLength(7);
  await own.close();
});

test.each([
  [{ action: 'accept', content: { where: 'SM' } }, 'answered', 'SM'],
  [{ action: 'decline' }, 'declined', undefined],
] as const)('a question waits on the sheet of its call: %j', async (given, state, said) => {
  const own = await connected();
  const asked = new Promise<Question>((resolve) => own.subscribe((event) => event.kind === 'question' && resolve(event.question)));
  const { id } = own.call(request('ask'));
  const question = await asked;
  expect(question).toMatchObject({
    kind: 'form',
    message: 'Where?',
    state: 'open',
    schema: { properties: { where: {} } },
    asker: { tool: 'ask' },
  });
  expect(own.questions()).toHaveLength(1);
  if (given.action === 'accept') {
    expect(await own.reply(question.id, { action: 'accept', content: {} })).toMatchObject([{ path: 'where' }]);
    expect(own.questions()).toHaveLength(1);
  }
  expect(await own.reply(question.id, given)).toEqual([]);
  const sheet = await settled(own, id);
  expect(sheet.events).toMatchObject([{ kind: 'question', question: { state } }]);
  if (said !== undefined) expect(sheet.result?.content).toMatchObject([{ text: said }]);
  else expect(sheet.status).toBe('failed');
  expect(await own.reply(question.id, given)).toBeUndefined();
  expect(own.questions()).toEqual([]);
  await own.close();
});

test('a page is shown with who sends the person there, and what to beware of', async () => {
  const own = await connected();
  const asked = new Promise<Question>((resolve) => own.subscribe((event) => event.kind === 'question' && resolve(event.question)));
  const { id } = own.call(request('visit'));
  const question = await asked;
  expect(question).toMatchObject({
    kind: 'page',
    asker: { tool: 'visit' },
    url: 'https://xn--hney-6qa.example/sign-in',
    warnings: [expect.stringContaining('xn--hney-6qa.example')],
  });
  await own.reply(question.id, { action: 'decline' });
  expect((await settled(own, id)).status).toBe('failed');
  await own.close();
});

test('an input is checked by the tool’s own schema, and left as it is', async () => {
  const own = await connected();
  const input = { a: 'x' };
  expect(await own.check(1, 'add', input)).toMatchObject([{ path: 'a', got: '"x"' }]);
  expect(await own.check(1, 'add', { a: 1 })).toEqual([]);
  expect(input).toEqual({ a: 'x' });
  await own.close();
});

test('a connection that fails leaves the reason, and can be edited and tried again; secrets are masked and kept', async () => {
  const seen: (object | undefined)[] = [];
  const own = bench(async (given, options) => {
    seen.push(given.headers);
    if (given.target === 'wrong') await connect(['no-such-command'], options);
    return { client: await connect(server, options), omitted: [] };
  });
  const { state, connected: done } = own.add({ target: 'wrong', headers: { authorization: 'Bearer abc', 'x-hive': 'MR-03' } });
  await done;
  const [failed] = own.connections();
  expect(failed).toMatchObject({ status: 'failed', trouble: { code: 'JEXO_COMMAND_MISSING', next: expect.any(String) } });
  expect(failed!.spec.headers).toEqual({ authorization: '(masked)', 'x-hive': '(masked)' });
  await own.edit(state.id, { target: 'right', headers: { authorization: '(masked)', 'x-hive': 'MR-04' } });
  expect(own.connections()[0]).toMatchObject({ status: 'connected', shown: 'right' });
  expect(own.connections()[0]!.trouble).toBeUndefined();
  expect(seen).toEqual([
    { authorization: 'Bearer abc', 'x-hive': 'MR-03' },
    { authorization: 'Bearer abc', 'x-hive': 'MR-04' },
  ]);
  await own.remove(state.id);
  expect(own.connections()).toEqual([]);
  await own.close();
});

test('what was added, changed or removed since the last look is marked until it is looked at', async () => {
  let definition = [tool('a', { description: 'one' }, () => 1), tool('b', {}, () => 1)];
  const changing = defineServer({
    name: 'x',
    version: '1',
    changes: true,
    offers: [{ name: 'all', read: async () => ({ offers: definition }) }],
  });
  const own = await connected(
    bench(async (_spec, options) => ({
      client: await connect(changing, options),
      omitted: [],
      origins: async () => Object.fromEntries(definition.map(({ name }) => [`tool ${name}`, { source: `${name}.ts` }])),
    })),
  );
  const marked = new Promise<void>((resolve) =>
    own.subscribe((event) => event.kind === 'connection' && event.state.removed.length > 0 && resolve()),
  );
  definition = [tool('a', { description: 'two' }, () => 1), tool('c', {}, () => 1)];
  await changing.reload();
  await marked;
  expect(own.connections()[0]).toMatchObject({
    shelf: [
      { key: 'a', mark: 'changed' },
      { key: 'c', mark: 'added', source: 'c.ts' },
    ],
    removed: ['b'],
  });
  own.connection(1).seen();
  expect(own.connections()[0]!.shelf.map(({ mark }) => mark)).toEqual([undefined, undefined]);
  expect(own.connections()[0]!.removed).toEqual([]);
  await own.close();
});

test('a saved trace lies beside the living ones, each of its messages judged', async () => {
  const own = bench();
  const state = own.importTrace('old.jsonl', [
    { at: 1, way: 'sent', bytes: 1, message: { jsonrpc: '2.0', id: 1, method: 'tools/list' } },
    { at: 2, way: 'received', bytes: 1, message: { jsonrpc: '2.0', id: 1, result: { tools: [{ name: 'x' }] } } },
    { at: 3, way: 'received', bytes: 1, message: 'not a message' },
  ]);
  expect(state.status).toBe('imported');
  expect(own.recorder.since(0).map(({ wrong }) => wrong)).toEqual([
    undefined,
    expect.stringMatching(/inputSchema/),
    expect.stringMatching(/a string, not a message/),
  ]);
  await own.close();
});

test('the interface wants the key, and gives it for the token once', async () => {
  let kept = '';
  const own = await connected();
  const files = new Map<string, string>();
  const sheets = createBenchSheets(own, {
    list: async () => [...files.keys()],
    load: async (name) => files.get(name) ?? '',
    save: async (name, text) => void files.set(name, text),
    targetFrom: (_name, target) => target,
    env: {},
  });
  const entry = createBenchEntry(() => 'token');
  entry.renew();
  const api = createBenchApi(own, { entry, key: 'key', sheets, notes: { load: () => kept, save: (text) => (kept = text) } });
  const send = (method: string, path: string, body?: unknown, key?: string) =>
    api(
      new Request(`http://localhost${path}`, {
        method,
        headers: key === undefined ? {} : { authorization: `Bearer ${key}` },
        ...(body !== undefined && { body: typeof body === 'string' ? body : JSON.stringify(body) }),
      }),
    );
  expect((await send('GET', '/api/bench')).status).toBe(401);
  expect((await send('GET', '/api/bench', undefined, 'wrong')).status).toBe(401);
  expect((await send('POST', '/api/session', { token: 'wrong' })).status).toBe(403);
  expect(await (await send('POST', '/api/session', { token: 'token' })).json()).toEqual({ key: 'key' });
  expect((await send('POST', '/api/session', { token: 'token' })).status).toBe(403);
  const ask = async (method: string, path: string, body?: unknown) => {
    const response = await send(method, path, body, 'key');
    return { status: response.status, json: (await response.json()) as never };
  };
  expect((await ask('PUT', '/api/notes', 'remember')).status).toBe(200);
  expect((await ask('GET', '/api/bench')).json).toMatchObject({ notes: 'remember', connections: [{ id: 1 }] });
  expect((await ask('POST', '/api/check', { connection: 1, tool: 'add', input: {} })).json).toMatchObject([{ path: 'a' }]);
  expect((await ask('POST', '/api/model-view', { connection: 1, tools: ['add'] })).json).toMatchObject({ tools: [{ name: 'add' }] });
  const copied = { connection: 1, kind: 'tool', name: 'add', input: { a: 1 } };
  expect((await ask('POST', '/api/copy', { ...copied, form: 'command' })).json).toEqual({ text: 'jexo call meadow add a=1' });
  expect((await ask('POST', '/api/copy', { ...copied, form: 'song' })).status).toBe(400);
  expect((await ask('POST', '/api/choose', { connection: 1, request: 'add them' })).json).toMatchObject([{ tool: 'add', share: 1 }]);
  const first = own.call(request('add', { a: 1 }));
  const second = own.call(request('add', { a: 2 }));
  await Promise.all([settled(own, first.id), settled(own, second.id)]);
  expect((await ask('GET', `/api/compare?before=${first.id}&after=${second.id}`)).json).toEqual([
    { path: 'sum', kind: 'changed', before: 2, after: 3 },
  ]);
  for (const [method, path, body, status] of [
    ['POST', '/api/calls', { tool: 3 }, 400],
    ['POST', '/api/connections', { target: '' }, 400],
    ['POST', '/api/connections/99/connect', {}, 400],
    ['POST', '/api/wire?name=x', '{"at":1}', 400],
    ['GET', '/api/compare?before=1&after=99', undefined, 404],
    ['DELETE', '/api/calls/99', undefined, 404],
    ['POST', '/api/questions/99', { action: 'accept' }, 404],
    ['GET', '/api/nothing', undefined, 404],
  ] as const) {
    const { status: got, json } = await ask(method, path, body);
    expect([path, got]).toEqual([path, status]);
    expect(json).toMatchObject({ error: { code: 'JEXO_USAGE', message: expect.any(String) } });
  }
  await own.close();
});

test('two values differ where they differ, and nowhere else', () => {
  expect(differences({ a: 1, list: [1, 2, 3, 4], gone: 1 }, { a: 2, list: [1, 9, 4], new: { b: 1 } })).toEqual([
    { path: 'a', kind: 'changed', before: 1, after: 2 },
    { path: 'list[1]', kind: 'changed', before: 2, after: 9 },
    { path: 'list[2]', kind: 'removed', before: 3 },
    { path: 'new', kind: 'added', after: { b: 1 } },
    { path: 'gone', kind: 'removed', before: 1 },
  ]);
  fc.assert(
    fc.property(fc.jsonValue(), fc.jsonValue(), (a, b) => {
      expect(differences(a, a)).toEqual([]);
      // Minus zero is written as zero, so it is no difference that JSON knows.
      fc.pre(!JSON.stringify([a, b]).includes('-0'));
      expect(differences(a, b).length === 0).toBe(JSON.stringify(sorted(a)) === JSON.stringify(sorted(b)));
    }),
  );
});

/** The same value with its keys in one order. */
function sorted(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(sorted);
  if (typeof value !== 'object' || value === null) return Object.is(value, -0) ? 0 : value;
  const entries = Object.entries(value).sort(([a], [b]) => (a < b ? -1 : 1));
  return { entries: entries.map(([key, item]) => [key, sorted(item)]) };
}

test('a model is given names, descriptions and schemas; what could be removed is counted', () => {
  const one: Tool = {
    name: 'mix',
    title: 'Mix',
    description: `Mixes.\n\n${'More. '.repeat(40)}`,
    inputSchema: { type: 'object', properties: { examples: { type: 'string', examples: ['x'], pattern: '^x$' } }, examples: [{}] },
    outputSchema: { type: 'object' },
  };
  const view = modelView([one]);
  expect(JSON.parse(view.text)).toEqual([{ name: 'mix', description: one.description, inputSchema: one.inputSchema }]);
  expect(JSON.parse(view.functions)).toEqual([
    {
      type: 'function',
      // In the keywords that services take.
      function: {
        name: 'mix',
        description: one.description,
        parameters: { type: 'object', properties: { examples: { type: 'string', pattern: '^x$' } } },
      },
    },
  ]);
  const saves = new Map(view.tools[0]!.trims.map(({ what, saves: count }) => [what, count]));
  expect(saves.get('all but the first paragraph of the description')).toBeGreaterThan(50);
  expect([...saves.keys()]).toContain('examples in the schema');
  expect([...saves.keys()]).toContain('limits and patterns, which the server checks anyway');
  const tried = modelView([one], { mix: { name: 'stir', description: 'Stirs.' } });
  expect(JSON.parse(tried.text)).toMatchObject([{ name: 'stir', description: 'Stirs.' }]);
  expect(tried.tokens).toBeLessThan(view.tokens);
  expect(tried.tools[0]).toMatchObject({ name: 'mix', edited: true });
});

test.each([
  [[1, 2, 3], { axis: 'position', x: [1, 2, 3], isTime: false, lines: [{ name: 'value', y: [1, 2, 3] }] }],
  [
    { readings: ['01', '02', '03'].map((day, index) => ({ at: `2026-06-${day}`, kg: index, note: 'x' })) },
    { axis: 'at', isTime: true, x: [1780272000, 1780358400, 1780444800], lines: [{ name: 'kg', y: [0, 1, 2] }] },
  ],
  [
    [
      { hive: 'a', kg: 1 },
      { hive: 'b', kg: null },
      { hive: 'c', kg: 3 },
    ],
    { axis: 'hive', isTime: false, x: [0, 1, 2], labels: ['a', 'b', 'c'], lines: [{ name: 'kg', y: [1, null, 3] }] },
  ],
  [
    { path: 'tank2/temperature', unit: '°C', points: [1, 2, 3] },
    { axis: 'position', x: [1, 2, 3], isTime: false, lines: [{ name: 'value (°C)', y: [1, 2, 3] }] },
  ],
  [{ a: [1, 2] }, undefined],
  [[{ a: 'x' }, { a: 'y' }, { a: 'z' }], undefined],
])('a series is found where there is one: %j', (value, series) => {
  expect(seriesOf(value)).toEqual(series);
});

test.each([
  [
    'https to plain http',
    new JexoError('JEXO_CONNECT', 'No connection to https://x: SSL wrong version number'),
    /speaks plain HTTP/,
    /Write http:/,
  ],
  [
    'an unknown certificate',
    new JexoError('JEXO_CONNECT', 'No connection to https://x: self-signed certificate'),
    /not one this machine trusts/,
    /NODE_EXTRA_CA_CERTS/,
  ],
  [
    'an HTTP server started by command',
    new JexoError('JEXO_NOT_PROTOCOL', 'printed: Listening on http://127.0.0.1:3000/mcp.'),
    /printed/,
    /connect to http:\/\/127.0.0.1:3000\/mcp$/,
  ],
])('a failed connection is put into plain words: %s', (_name, error, message, next) => {
  expect(troubleOf(error)).toMatchObject({ message: expect.stringMatching(message), next: expect.stringMatching(next) });
});

test('the stand-in for a model says that it is one, the same each time', () => {
  const request = {
    messages: [{ role: 'user' as const, content: { type: 'text' as const, text: 'Put into two sentences:\n2026-04-02: swarmed' } }],
    maxTokens: 100,
  };
  expect(standInModel(request)).toEqual(standInModel(request));
  expect(standInModel(request)).toMatchObject({ model: 'stand-in', content: { text: expect.stringContaining('(stand-in model)') } });
  expect((standInModel({ ...request, maxTokens: 2 }).content as { text: string }).text).toHaveLength(8);
});

test('secrets are masked before they are kept', () => {
  const recorder = createRecorder();
  recorder.record(1, {
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
  for (let index = 0; index < 3000; index++) recorder.record(1, { at: index, way: 'sent', bytes: 1, message: {} });
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
