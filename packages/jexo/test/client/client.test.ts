import { z } from 'zod';
import { defineServer, tool } from '../../src/index.js';
import { connect } from '../support/connect.js';
import { connectLink } from '../../src/client/connect-link.js';
import type { Deviation, Link } from '../../src/transports/link.js';
import { connected } from '../support/connected.js';

type Answer = (method: string, params: Record<string, unknown>, id: unknown) => unknown;
const hello = {
  protocolVersion: '2025-11-25',
  capabilities: { tools: {}, resources: {}, prompts: {}, completions: {} },
  serverInfo: { name: 'odd', version: '1' },
};

/** A link to a server made of one function, to try what no good server does. */
function oddLink(answer: Answer): Link & { sent: Record<string, unknown>[]; push(message: unknown): void } {
  const sent: Record<string, unknown>[] = [];
  let push: (message: unknown) => void = () => {};
  return {
    address: 'odd',
    sent,
    push: (message) => push(message),
    async start(events) {
      push = (message) => events.receive(message);
      return {
        send(message) {
          const { id, method, params = {} } = message as unknown as { id?: unknown; method?: string; params?: Record<string, unknown> };
          sent.push(message as unknown as Record<string, unknown>);
          if (id === undefined || method === undefined) return;
          const result = method === 'initialize' && answer('initialize', params, id) === undefined ? hello : answer(method, params, id);
          if (result !== undefined)
            queueMicrotask(() =>
              events.receive(
                result instanceof Error
                  ? { jsonrpc: '2.0', id, error: { code: -32603, message: result.message } }
                  : { jsonrpc: '2.0', id, result },
              ),
            );
        },
      };
    },
    close: async () => undefined,
  };
}

test('[MCP-027] a server of an unknown revision is left, with the reason', async () => {
  await expect(
    connectLink(oddLink((method) => (method === 'initialize' ? { ...hello, protocolVersion: '2031-01-01' } : {}))),
  ).rejects.toMatchObject({ code: 'JEXO_REVISION', message: expect.stringContaining('2031-01-01') });
});

test('[MCP-055] a list that never ends, or repeats its cursor, is cut off', async () => {
  const one = { name: 'lots', inputSchema: { type: 'object' } };
  const told: string[] = [];
  const onDeviation = ({ account }: Deviation) => void told.push(account);
  const client = await connectLink(
    oddLink((method) => (method === 'tools/list' ? { tools: [one], nextCursor: 'again' } : undefined)),
    { onDeviation },
  );
  // What came until then is of use.
  expect(await client.tools()).toHaveLength(2);
  let page = 0;
  const endless = await connectLink(
    oddLink((method) => (method === 'tools/list' ? { tools: [], nextCursor: String(page++) } : undefined)),
    { onDeviation },
  );
  expect(await endless.tools()).toEqual([]);
  expect(told).toEqual([expect.stringContaining('a second time'), expect.stringContaining('did not end after 20,000 pages')]);
});

test('an empty text is a cursor like any other; only absence is the end', async () => {
  const seen: unknown[] = [];
  const client = await connectLink(
    oddLink((method, { cursor }) =>
      method === 'tools/list' ? (seen.push(cursor), cursor === undefined ? { tools: [], nextCursor: '' } : { tools: [] }) : undefined,
    ),
  );
  await client.tools();
  expect(seen).toEqual([undefined, '']);
});

test('[MCP-074] [MCP-068] [MCP-069] [MCP-067] an answer that breaks the server’s own schema is refused', async () => {
  const tools = [
    {
      name: 'sum',
      inputSchema: { type: 'object' },
      outputSchema: {
        type: 'object',
        properties: { pair: { type: 'array', prefixItems: [{ type: 'number' }], items: false } },
        required: ['pair'],
      },
    },
  ];
  let structuredContent: object = { pair: [1] };
  const client = await connectLink(
    oddLink((method) => (method === 'tools/list' ? { tools } : method === 'tools/call' ? { content: [], structuredContent } : undefined)),
  );
  await client.tools();
  await expect(client.call('sum')).resolves.toMatchObject({ structuredContent: { pair: [1] } });
  structuredContent = { pair: [1, 2] };
  await expect(client.call('sum')).rejects.toMatchObject({ code: 'JEXO_OUTPUT_INVALID', message: expect.stringContaining('pair') });
});

test('[MCP-108] small deviations are reported and tolerated, an answer of no use is refused', async () => {
  const told: string[] = [];
  const answers: Record<string, unknown> = {
    'tools/list': { tools: [{ name: 'a', inputSchema: { type: 'object' }, title: 7 }] },
    'tools/call': { content: [{ type: 'hologram', hologram: 'x' }] },
    'prompts/list': { prompts: 'none' },
  };
  const client = await connectLink(
    oddLink((method) => answers[method]),
    { onDeviation: ({ account }) => void told.push(account) },
  );
  expect(await client.tools()).toHaveLength(1);
  expect(await client.call('a')).toMatchObject({ content: [{ type: 'hologram' }] });
  expect(told).toEqual([expect.stringContaining('tools[0].title must be a string'), expect.stringContaining('content[0].type')]);
  await expect(client.prompts()).rejects.toMatchObject({ code: 'JEXO_NOT_PROTOCOL' });
});

test('[MCP-043] [MCP-044] [MCP-011] late, unknown and malformed messages change nothing', async () => {
  const link = oddLink((method) => (method === 'ping' ? {} : undefined));
  const client = await connectLink(link);
  const stop = new AbortController();
  const call = client.call('slow', {}, { signal: stop.signal }).catch((error: { code: string }) => error.code);
  const { id } = link.sent.at(-1)!;
  stop.abort();
  expect(await call).toBe('JEXO_CANCELLED');
  for (const message of [
    { jsonrpc: '2.0', id, result: { content: [] } },
    { jsonrpc: '2.0', id: 'never', error: { code: 1, message: 'x' } },
    { jsonrpc: '2.0', method: 'notifications/unheard-of' },
    { jsonrpc: '2.0', method: 'notifications/cancelled', params: { requestId: 'never' } },
    { jsonrpc: '2.0', method: 'notifications/cancelled' },
    { jsonrpc: '2.0', method: 'notifications/progress', params: { progressToken: id, progress: 'x' } },
    { jsonrpc: '2.0', method: 'notifications/elicitation/complete', params: { elicitationId: 'never' } },
    { jsonrpc: '2.0', method: 'notifications/resources/updated', params: { uri: 7 } },
  ])
    link.push(message);
  const before = link.sent.length;
  await client.ping();
  expect(link.sent.length).toBe(before + 1);
});

test('[MCP-003] [MCP-004] [MCP-008] [MCP-014] [MCP-016] [MCP-046] ids and progress tokens are never used twice, nothing is batched', async () => {
  const { client, messages, done } = await connected(defineServer({ name: 'x', version: '1', offers: [tool('a', {}, () => 'b')] }));
  await Promise.all(Array.from({ length: 20 }, () => client.call('a', {}, { onProgress: () => undefined })));
  const requests = messages.filter(({ way, message }) => way === 'sent' && 'id' in message);
  const ids = requests.map(({ message }) => message.id);
  expect(new Set(ids).size).toBe(ids.length);
  expect(ids.every((id) => Number.isInteger(id))).toBe(true);
  const tokens = requests.flatMap(({ message }) => (message.params?._meta as { progressToken?: number } | undefined)?.progressToken ?? []);
  expect(tokens).toHaveLength(20);
  expect(new Set(tokens).size).toBe(20);
  expect(messages.some(({ message }) => Array.isArray(message))).toBe(false);
  for (const { message } of messages) expect('id' in message).toBe(!String(message.method).startsWith('notifications/'));
  await done();
});

test('[MCP-033] [MCP-036] [MCP-040] every request has a timeout, and initialize is never cancelled', async () => {
  const link = oddLink(() => undefined);
  await expect(
    connectLink({ ...link, start: async () => ({ send: (message) => void link.sent.push(message as never) }) }, { timeoutMs: 20 }),
  ).rejects.toMatchObject({ code: 'JEXO_TIMEOUT' });
  expect(link.sent.map(({ method }) => method)).toEqual(['initialize']);
  const silent = oddLink(() => undefined);
  const client = await connectLink(silent);
  await expect(client.call('slow', {}, { timeoutMs: 20 })).rejects.toMatchObject({
    code: 'JEXO_TIMEOUT',
    message: expect.stringContaining('tools/call'),
  });
  expect(silent.sent.at(-1)).toMatchObject({
    method: 'notifications/cancelled',
    params: { reason: expect.stringContaining('tools/call had no answer within') },
  });
});

test('[MCP-037] [MCP-038] pings are answered, sent now and then, and a silent server is taken for gone', async () => {
  let alive = true;
  let pings = 0;
  let closed: (error?: Error) => void = () => {};
  const gone = new Promise<Error | undefined>((resolve) => (closed = resolve));
  const link = oddLink((method) => (method === 'ping' && (pings++, alive) ? {} : undefined));
  const client = await connectLink(link, { pingEveryMs: 15, onClosed: closed });
  link.push({ jsonrpc: '2.0', id: 'p', method: 'ping' });
  expect(link.sent.at(-1)).toEqual({ jsonrpc: '2.0', id: 'p', result: {} });
  while (pings < 2) await client.ping();
  alive = false;
  await gone.catch(() => undefined);
  await expect(client.ping()).rejects.toMatchObject({ code: 'JEXO_CLOSED' });
});

test('[MCP-002] text of any script passes unharmed', async () => {
  const { client, done } = await connected(
    defineServer({ name: 'x', version: '1', offers: [tool('echo', { input: z.object({ text: z.string() }) }, ({ text }) => text)] }),
  );
  for (const text of ['蜂蜜', 'ü\u2028\u2029\n\r\t"\\', '🐝\u0000', 'ﷺ'])
    expect(await client.call('echo', { text })).toMatchObject({ content: [{ text }] });
  await done();
});

test('[MCP-007] [MCP-009] [MCP-041] errors carry whole codes; a notification is never answered', async () => {
  const sent: Record<string, unknown>[] = [];
  const own = defineServer({ name: 'x', version: '1', offers: [tool('a', {}, () => 'b')] });
  await own.ready();
  const peer = own.open({
    outlet: { send: (message) => void sent.push(message as never) },
    clock: { now: () => 0, after: () => 0, cancel: () => undefined },
  });
  peer.begin({ revision: '2025-11-25' });
  for (const method of ['tools/call', 'initialize', 'unheard/of', 'notifications/roots/list_changed', 'notifications/cancelled'])
    peer.receive({ jsonrpc: '2.0', method, params: { requestId: [] } });
  expect(sent).toEqual([]);
  peer.receive({ jsonrpc: '2.0', id: 1, method: 'unheard/of' });
  expect(sent).toMatchObject([{ error: { code: -32601 } }]);
});

test('[MCP-017] [MCP-018] [MCP-019] [MCP-020] what an author puts into _meta passes through; Jexo defines no key of its own', async () => {
  const { client, messages, done } = await connected(
    defineServer({ name: 'x', version: '1', offers: [tool('a', { meta: { 'org.meadow.coop/kind': { deep: [1] } } }, () => 'b')] }),
  );
  expect((await client.tools())[0]?._meta).toEqual({ 'org.meadow.coop/kind': { deep: [1] } });
  await client.call('a');
  const keys = messages.flatMap(({ message }) =>
    [message.params?._meta, message.result?._meta].flatMap((meta) => Object.keys((meta as object | undefined) ?? {})),
  );
  expect(keys.filter((key) => key !== 'progressToken')).toEqual([]);
  await done();
});

test('[MCP-208] a transport of one’s own needs only a link', async () => {
  const client = await connectLink(oddLink((method) => (method === 'tools/list' ? { tools: [] } : undefined)));
  expect(await client.tools()).toEqual([]);
  await client.close();
});

test('[MCP-075] [MCP-077] [MCP-080] a structured answer has its text mirror, a failed tool its words', async () => {
  const own = defineServer({
    name: 'x',
    version: '1',
    offers: [
      tool(
        'kg',
        { input: { type: 'object', properties: { hive: { type: 'string' } }, required: ['hive'] }, output: z.object({ kg: z.number() }) },
        ({ hive }) => {
          if (hive === 'MR-99') throw new Error('Hive MR-99 is not known.');
          return { kg: 31.5 };
        },
      ),
    ],
  });
  const { client, done } = await connected(own);
  expect(await client.call('kg', { hive: 'MR-03' })).toEqual({
    content: [{ type: 'text', text: '{"kg":31.5}' }],
    structuredContent: { kg: 31.5 },
  });
  expect(await client.call('kg', { hive: 'MR-99' })).toEqual({
    content: [{ type: 'text', text: 'Hive MR-99 is not known.' }],
    isError: true,
  });
  expect(await client.call('kg', {})).toMatchObject({ isError: true });
  await done();
});

test('concurrent calls answer in their own time', async () => {
  const waiting: (() => void)[] = [];
  const own = defineServer({
    name: 'x',
    version: '1',
    offers: [
      tool(
        'wait',
        { input: { type: 'object', properties: { n: { type: 'number' } } } },
        ({ n }) => new Promise((resolve) => waiting.push(() => resolve(n))),
      ),
    ],
  });
  const client = await connect(own);
  const answers = [1, 2, 3].map((n) => client.call('wait', { n }));
  while (waiting.length < 3) await client.ping();
  for (const go of waiting.reverse()) go();
  expect((await Promise.all(answers)).map(({ content }) => content)).toMatchObject([[{ text: '1' }], [{ text: '2' }], [{ text: '3' }]]);
  await client.close();
});
