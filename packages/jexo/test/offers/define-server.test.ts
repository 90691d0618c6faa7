import { z } from 'zod';
import { answer, defineServer, tool, type Middleware, type Source, type ToolOffer } from '../../src/index.js';
import { connect } from '../support/connect.js';
import { revisions } from '../../src/protocol/revisions.js';
import { createJudge } from '../support/judge.js';

const add = tool(
  'add',
  {
    description: 'Adds two numbers.',
    input: z.object({ a: z.number(), b: z.number().default(40) }),
    output: z.object({ sum: z.number() }),
  },
  ({ a, b }) => ({ sum: a + b }),
);
const server = (...offers: Parameters<typeof defineServer>[0]['offers'][number][]) =>
  defineServer({ name: 'test', version: '1.0.0', offers });

/** Connects in memory with every message judged against the protocol's schema. */
async function connected(target: ReturnType<typeof defineServer>, options: Parameters<typeof connect>[1] = {}) {
  const judge = createJudge();
  const client = await connect(target, { ...options, tap: judge.tap });
  return {
    client,
    async done() {
      await client.close();
      expect(judge.findings).toEqual([]);
      expect(judge.seen).toBeGreaterThan(2);
    },
  };
}

test.each(revisions)('%s: a tool is listed and called, and every message fits the schema', async (revision) => {
  const { client, done } = await connected(server(add), { revision });
  expect(client.server.protocolVersion).toBe(revision);
  const [listed] = await client.tools();
  expect(listed?.name).toBe('add');
  expect(listed?.inputSchema).toMatchObject({ type: 'object', required: ['a'], properties: { b: { default: 40 } } });
  const result = await client.call('add', { a: 2 });
  expect(result.content).toEqual([{ type: 'text', text: '{"sum":42}' }]);
  const structured = revision >= '2025-06-18' ? { sum: 42 } : undefined;
  expect(result.structuredContent).toEqual(structured);
  expect(listed?.outputSchema === undefined).toBe(structured === undefined);
  await done();
});

test('[MCP-025] [MCP-026] an unknown revision is answered with our newest', async () => {
  const sent: { result?: { protocolVersion?: string } }[] = [];
  const ready = server(add);
  await ready.ready();
  const peer = ready.open({
    outlet: { send: (message) => void sent.push(message as never) },
    clock: { now: () => 0, after: () => 0, cancel: () => undefined },
  });
  const params = { protocolVersion: '2099-01-01', capabilities: {}, clientInfo: { name: 'x', version: '1' } };
  peer.receive({ jsonrpc: '2.0', id: 1, method: 'initialize', params });
  expect(sent[0]?.result?.protocolVersion).toBe('2025-11-25');
  peer.receive({ jsonrpc: '2.0', id: 2, method: 'initialize', params });
  expect(sent[1]).toMatchObject({ error: { code: -32600 } });
});

test('[MCP-078] wrong input is answered so that a model can correct it', async () => {
  const { client, done } = await connected(server(add));
  const result = await client.call('add', { a: 'two', b: null });
  expect(result.isError).toBe(true);
  const [block] = result.content;
  expect(block).toMatchObject({
    type: 'text',
    text: expect.stringMatching(/a: expected number; got "two"\n- b: expected number; got null/),
  });
  await done();
});

test('older revisions get wrong input as a protocol error, with the same words', async () => {
  const { client, done } = await connected(server(add), { revision: '2025-06-18' });
  await expect(client.call('add', {})).rejects.toMatchObject({
    code: -32602,
    message: expect.stringContaining('a: expected number; got nothing'),
  });
  await done();
});

test.each([
  [{}, 'a: a value is required; got nothing'],
  [{ a: 'x' }, 'a: expected number; got "x"'],
  [{ a: 1, place: { apiary: 'XX' } }, 'place.apiary: expected one of "MR", "UC"; got "XX"'],
  [{ a: 1, counts: [1, 'two'] }, 'counts[1]: expected integer; got "two"'],
  [{ a: 1, wieght: 3 }, 'wieght: there is no such field (the fields are a, place, counts); got 3'],
  [{ a: 0 }, 'a: expected at least 1; got 0'],
])('plain JSON Schema: %j is told as %s', async (input, words) => {
  const checked = tool(
    'check',
    {
      input: {
        type: 'object',
        properties: {
          a: { type: 'number', minimum: 1 },
          place: { type: 'object', properties: { apiary: { enum: ['MR', 'UC'] } } },
          counts: { type: 'array', items: { type: 'integer' } },
        },
        required: ['a'],
        additionalProperties: false,
      },
    },
    ({ a, counts }) => `${a satisfies number} ${(counts satisfies number[] | undefined)?.length}`,
  );
  const { client, done } = await connected(server(checked));
  const result = await client.call('check', input);
  expect(result).toMatchObject({ isError: true, content: [{ text: expect.stringContaining(words) }] });
  await done();
});

test('[MCP-073] an answer that does not fit its output schema never leaves', async () => {
  const faults: string[] = [];
  const lying = tool(
    'lie',
    { output: { type: 'object', properties: { sum: { type: 'number' } }, required: ['sum'] } },
    () => ({ sum: 'many' }) as never,
  );
  const { client, done } = await connected(server(lying), { onFault: (error) => void faults.push(String(error)) });
  const result = await client.call('lie');
  expect(result).toMatchObject({ isError: true, content: [{ text: expect.stringContaining('sum: expected number; got "many"') }] });
  expect(result.structuredContent).toBeUndefined();
  expect(faults).toHaveLength(1);
  await done();
});

test('a deliberate error reaches the model, a defect only the operator', async () => {
  const faults: string[] = [];
  const deliberate = tool('deliberate', {}, () => {
    throw new Error('Hive MR-99 is not known.');
  });
  const defect = tool('defect', {}, () => (undefined as unknown as { secret: () => string }).secret());
  const { client, done } = await connected(server(deliberate, defect), {
    onFault: (error, reference) => void faults.push(`${reference} ${String(error)}`),
  });
  expect(await client.call('deliberate')).toEqual({ content: [{ type: 'text', text: 'Hive MR-99 is not known.' }], isError: true });
  const [block] = (await client.call('defect')).content;
  const text = block?.type === 'text' ? block.text : '';
  expect(text).not.toContain('undefined');
  expect(faults).toEqual([expect.stringContaining('TypeError')]);
  expect(text).toContain(faults[0]!.slice(0, 6));
  await done();
});

test.each([
  [
    'a cycle',
    () => {
      const loop: Record<string, unknown> = {};
      loop.self = loop;
      return loop;
    },
  ],
  ['a BigInt', () => ({ big: 1n })],
])('%s in an answer is a failed call, not a broken session', async (_name, run) => {
  const { client, done } = await connected(server(tool('odd', {}, run)), { onFault: () => undefined });
  expect(await client.call('odd')).toMatchObject({ isError: true });
  await client.ping();
  await done();
});

test('handlers may choose their own content', async () => {
  const picture = tool('picture', { output: z.object({ hive: z.string() }) }, () =>
    answer({ content: [{ type: 'image', data: 'aGl2ZQ==', mimeType: 'image/png' }], structuredContent: { hive: 'MR-03' } }),
  );
  const { client, done } = await connected(server(picture));
  expect(await client.call('picture')).toEqual({
    content: [{ type: 'image', data: 'aGl2ZQ==', mimeType: 'image/png' }],
    structuredContent: { hive: 'MR-03' },
  });
  await done();
});

test('[MCP-051] [MCP-053] lists come in pages, and a made-up cursor is refused', async () => {
  const many = Array.from({ length: 25 }, (_, index) => tool(`tool_${index}`, {}, () => index));
  const paged = defineServer({ name: 'many', version: '1', offers: many, pageSize: 10 });
  const judge = createJudge();
  const client = await connect(paged, { tap: judge.tap });
  expect((await client.tools()).map(({ name }) => name)).toEqual(many.map(({ name }) => name));
  expect(judge.messages.filter(({ message }) => (message as { method?: string }).method === 'tools/list')).toHaveLength(3);
  await client.close();
  expect(judge.findings).toEqual([]);
  const { pages } = await paged.catalogue();
  for (const cursor of ['', 'tools.zz', 'tools.0', 'tools.5', 'prompts.a', 7, null])
    expect(() => pages.tools('2025-11-25', cursor)).toThrow('Invalid cursor');
});

test('[MCP-076] an unknown tool is refused with the nearest name', async () => {
  const { client, done } = await connected(server(add));
  await expect(client.call('ad')).rejects.toMatchObject({ code: -32602, message: 'Unknown tool: ad. Did you mean add?' });
  await expect(client.call('__proto__')).rejects.toMatchObject({ code: -32602 });
  await done();
});

test('middleware runs around the handler, outermost first, and may answer itself', async () => {
  const order: string[] = [];
  const layer =
    (name: string): Middleware =>
    async (request, next) => {
      order.push(`${name} in`);
      request.call.state.seen = name;
      const value = await next(request);
      order.push(`${name} out`);
      return value;
    };
  const guarded = defineServer({
    name: 'guarded',
    version: '1',
    offers: [tool('open', {}, (_input, call) => `seen by ${String(call.state.seen)}`), tool('shut', {}, () => 'never')],
    middleware: [layer('outer'), layer('inner'), (request, next) => (request.offer.name === 'shut' ? 'refused' : next(request))],
  });
  const { client, done } = await connected(guarded);
  expect(await client.call('open')).toMatchObject({ content: [{ text: 'seen by inner' }] });
  expect(order).toEqual(['outer in', 'inner in', 'inner out', 'outer out']);
  expect(await client.call('shut')).toMatchObject({ content: [{ text: 'refused' }] });
  await done();
});

test('two offers of one name are refused with both places', async () => {
  const source: Source = { name: 'elsewhere', read: async () => ({ offers: [add] }) };
  await expect(connect(server(add, source)).then((client) => client.tools())).rejects.toThrow();
  await expect(server(add, source).catalogue()).rejects.toMatchObject({
    code: 'JEXO_NAME_CLASH',
    message: expect.stringMatching(/add.*server.*elsewhere/),
  });
});

test('[MCP-088] a reload tells every session, and the list is new', async () => {
  let offers: ToolOffer[] = [add];
  const source: Source = { name: 'changing', read: async () => ({ offers }) };
  const changing = server(source);
  let told = 0;
  const { client, done } = await connected(changing, { onToolsChanged: () => told++ });
  expect(await client.tools()).toHaveLength(1);
  offers = [add, tool('subtract', {}, () => 0)];
  await changing.reload();
  expect(await client.tools()).toHaveLength(2);
  expect(told).toBe(1);
  await done();
});

test('log messages respect the level a session has asked for', async () => {
  const logged: unknown[] = [];
  const noisy = tool('noisy', {}, (_input, call) => {
    for (const level of ['debug', 'info', 'error'] as const) call.log(level, `${level} line`);
    return 'said';
  });
  const { client, done } = await connected(server(noisy), { onLog: ({ level }) => void logged.push(level) });
  await client.call('noisy');
  await client.setLogLevel('error');
  await client.call('noisy');
  expect(logged).toEqual(['info', 'error', 'error']);
  await client.close();
  void done;
});

test('progress reaches the caller who asked for it', async () => {
  const slow = tool('slow', {}, (_input, call) => {
    call.progress(1, 2, 'half');
    return 'done';
  });
  const { client, done } = await connected(server(slow));
  const seen: unknown[] = [];
  await client.call('slow', {}, { onProgress: (update) => void seen.push(update) });
  expect(seen).toEqual([{ progress: 1, total: 2, message: 'half' }]);
  await done();
});

test.each([
  [{ version: '1', offers: [] }, 'name'],
  [{ name: 'x', offers: [] }, 'version'],
  [{ name: 'x', version: '1' }, 'offers'],
  [{ name: 'x', version: '1', offers: [{}] }, 'offers[0]'],
  [{ name: 'x', version: '1', offers: [], pageSize: 0 }, 'pageSize'],
])('%j is refused, naming the field', (definition, field) => {
  expect(() => defineServer(definition as never)).toThrow(expect.objectContaining({ code: 'JEXO_DEFINITION', where: field }));
});

test('a schema that is no object at its root is refused where it is written', () => {
  expect(() => tool('list', { input: z.array(z.string()) as never }, () => 0)).toThrow(
    expect.objectContaining({ code: 'JEXO_SCHEMA_INVALID' }),
  );
  expect(() => tool('text', { input: { type: 'string' } }, () => 0)).toThrow(expect.objectContaining({ code: 'JEXO_SCHEMA_INVALID' }));
});
