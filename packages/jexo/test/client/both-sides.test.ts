import { z } from 'zod';
import { defineServer, serveHttp, tool, type Client, type HttpService } from '../../src/index.js';
import { relatedTaskKey } from '../../src/engine/task-entry.js';
import { rawClient } from '../support/raw-client.js';
import { closeRawServers, connectTo, hello, json, rawServer, result, type Answer, type Asked } from '../support/raw-server.js';

/**
 * Duties that both sides have are driven from both: our client against a server written by hand, and our server against a client
 * written by hand. What each test is worth is in docs/mutants.md.
 */
const services: HttpService[] = [];
const clients: Client[] = [];
afterEach(async () => {
  await Promise.all(clients.splice(0).map((client) => client.close()));
  await Promise.all(services.splice(0).map((service) => service.close()));
  closeRawServers();
});
async function join(...args: Parameters<typeof connectTo>): Promise<Client> {
  const client = await connectTo(...args);
  clients.push(client);
  return client;
}
async function serve(...args: Parameters<typeof serveHttp>): Promise<string> {
  const service = await serveHttp(...args);
  services.push(service);
  return service.url;
}

const taskful = { tools: {}, tasks: { list: {}, cancel: {}, requests: { tools: { call: {} } } } };
const greeting =
  (more: object): Answer =>
  ({ message, response }) =>
    json(response, { jsonrpc: '2.0', id: message.id, result: { ...hello, ...more } });

type Ask = (method: string, params: object) => Promise<{ result?: Record<string, unknown>; error?: { code: number; message: string } }>;
/** A server that asks its client something while a call runs, and answers the call with what it was told. */
async function asking(questions: (ask: Ask) => Promise<unknown>, more: object = {}): Promise<string> {
  const answers = new Map<unknown, (message: never) => void>();
  return rawServer(
    async (asked) => {
      const { message, response } = asked;
      if (message.method === undefined) {
        answers.get(message.id)!(message as never);
        return void response.writeHead(202).end();
      }
      response.writeHead(200, { 'content-type': 'text/event-stream' });
      const send = (value: object) => response.write(`data: ${JSON.stringify({ jsonrpc: '2.0', ...value })}\n\n`);
      const ask: Ask = (method, params) =>
        new Promise((resolve) => {
          const id = `q-${answers.size}`;
          answers.set(id, resolve as never);
          send({ id, method, params });
        });
      const told = await questions(ask);
      send({ id: message.id, result: { content: [{ type: 'text', text: JSON.stringify(told) }] } });
      response.end();
    },
    { greet: greeting(more) },
  );
}
const told = async (client: Client): Promise<unknown> => {
  const { content } = await client.call('look');
  return JSON.parse((content[0] as { text: string }).text);
};

describe('[MCP-031] [MCP-032] only what revision and capabilities allow is sent', () => {
  test('by a client', async () => {
    const seen: unknown[] = [];
    const url = await rawServer((asked) => (seen.push(asked.message.method), result(asked, {})), {
      // It declares what its revision has no word for, and more that is no declaration.
      greet: greeting({
        protocolVersion: '2025-06-18',
        capabilities: { ...taskful, logging: null, completions: false, resources: { subscribe: 0 } },
      }),
    });
    const client = await join(url);
    const refused = [
      client.callAsTask('look'),
      client.tasks(),
      client.setLogLevel('info'),
      client.complete({ type: 'ref/prompt', name: 'x' }, { name: 'a', value: '' }),
      client.watch('hive://MR-03', () => undefined),
      client.prompts(),
    ];
    for (const each of refused) await expect(each).rejects.toMatchObject({ code: 'JEXO_NOT_SUPPORTED' });
    expect(seen).toEqual([]);
  });

  test('by a client that is asked for more', async () => {
    const answers = { elicitation: { form: () => ({ action: 'accept' as const, content: {} }) } };
    const form = { message: 'Which?', requestedSchema: { type: 'object', properties: {} } };
    const older = await join(await asking((ask) => ask('elicitation/create', form), { protocolVersion: '2025-03-26' }), answers);
    expect(await told(older)).toMatchObject({ error: { code: -32601 } });
    const newer = await join(
      await asking((ask) =>
        ask('elicitation/create', { message: 'Pay', mode: 'url', url: 'https://pay.alderwick.example/', elicitationId: 'e-1' }),
      ),
      answers,
    );
    expect(await told(newer)).toMatchObject({ error: { code: -32602, message: 'This client did not declare elicitation by url' } });
    const none = await join(await asking((ask) => ask('roots/list', {})), answers);
    expect(await told(none)).toMatchObject({ error: { code: -32601 } });
  });

  test('by a server', async () => {
    const url = await serve(
      defineServer({
        name: 'meadow',
        version: '1',
        tasks: {},
        offers: [
          tool('weigh', { title: 'Weigh', taskSupport: 'optional', output: z.object({ kg: z.number() }) }, () => ({ kg: 3 })),
          tool('asks', {}, (_input, call) => call.ask('Which?', z.object({ hive: z.string() })).then(({ hive }) => hive)),
        ],
      }),
    );
    const oldest = await rawClient(url, '2024-11-05', { elicitation: {} });
    const { result: listed } = await oldest.ask('tools/list');
    expect(Object.keys((listed!.tools as object[])[0]!).sort()).toEqual(['inputSchema', 'name']);
    expect((await oldest.ask('tools/call', { name: 'weigh', arguments: {} })).result).toEqual({
      content: [{ type: 'text', text: '{"kg":3}' }],
    });
    expect((await oldest.ask('tasks/list')).error).toMatchObject({ code: -32601 });
    // Neither a client without the revision nor one without the capability is asked.
    const silent = await rawClient(url, '2025-11-25');
    for (const client of [oldest, silent])
      expect((await client.ask('tools/call', { name: 'asks', arguments: {} })).result).toMatchObject({ isError: true });
    for (const client of [oldest, silent]) expect(client.heard.filter(({ method }) => method === 'elicitation/create')).toEqual([]);
  });
});

test('both sides declare what they have agreed on outside the standard', async () => {
  const ours = { experimental: { 'alderwick/scales': { unit: 'kg' } }, extensions: { 'example.alderwick/labels': {} } };
  const server = defineServer({
    name: 'meadow',
    version: '1',
    capabilities: ours,
    offers: [tool('heard', {}, (_input, call) => JSON.stringify(call.session.clientCapabilities))],
  });
  const url = await serve(server);
  const raw = await rawClient(url, '2025-06-18');
  expect(raw.heard[0]!.result!.capabilities).toEqual({ ...ours, logging: {}, tools: { listChanged: true } });
  const client = await join(url, { capabilities: ours });
  expect(client.server.capabilities).toMatchObject(ours);
  const { content } = await client.call('heard');
  expect(JSON.parse((content[0] as { text: string }).text)).toEqual(ours);
});

const manualTasks = () => {
  const seen: Asked['message'][] = [];
  const task = { taskId: 't-1', status: 'working', createdAt: '2026-05-04T06:00:00Z', lastUpdatedAt: '2026-05-04T06:00:00Z', ttl: null };
  let finish = (_result: object): void => undefined;
  const finished = new Promise<object>((resolve) => (finish = resolve));
  let started = (): void => undefined;
  const wanted = new Promise<void>((resolve) => (started = resolve));
  const url = rawServer(
    async (asked) => {
      const { message, response } = asked;
      seen.push(message);
      if (message.method?.startsWith('notifications/')) return void response.writeHead(202).end();
      if (message.method === 'tools/call') return result(asked, message.params!.task === undefined ? { content: [] } : { task });
      if (message.method === 'tasks/cancel') return (result(asked, { ...task, status: 'cancelled' }), finish({ content: [] }));
      started();
      result(asked, await finished);
    },
    {
      greet: greeting({ capabilities: taskful }),
      tools: (['forbidden', 'optional', 'required'] as const).map((taskSupport) => ({
        name: taskSupport,
        inputSchema: { type: 'object' },
        execution: { taskSupport },
        outputSchema: { type: 'object', required: ['kg'] },
      })),
    },
  );
  return { seen, url, finish, wanted, methods: () => seen.map(({ method }) => method) };
};

describe('[MCP-041] a task is cancelled by tasks/cancel alone', () => {
  test('by a client, whether a signal fires or the time is up', async () => {
    const { url, wanted, methods, seen } = manualTasks();
    const client = await join(await url);
    const stop = new AbortController();
    const call = client.call('required', {}, { signal: stop.signal });
    await wanted;
    stop.abort();
    await expect(call).rejects.toMatchObject({ code: 'JEXO_CANCELLED' });
    await client.ping().catch(() => undefined);
    expect(methods()).toContain('tasks/cancel');
    const id = seen.find(({ method }) => method === 'tools/call')!.id;
    expect(seen.filter(({ method, params }) => method === 'notifications/cancelled' && params!.requestId === id)).toEqual([]);
  });

  test('by a client whose request for a task is not answered in time', async () => {
    const seen: unknown[] = [];
    const url = await rawServer(
      (asked) => {
        seen.push(asked.message.method);
        if (asked.message.method === 'ping') result(asked, {});
        else if (asked.message.method !== 'tools/call') asked.response.writeHead(202).end();
      },
      {
        greet: greeting({ capabilities: taskful }),
        tools: [{ name: 'look', inputSchema: { type: 'object' }, execution: { taskSupport: 'optional' } }],
      },
    );
    const client = await join(url);
    await expect(client.callAsTask('look', {}, { timeoutMs: 100 })).rejects.toMatchObject({ code: 'JEXO_TIMEOUT' });
    await client.ping();
    expect(seen).toEqual(['tools/call', 'ping']);
  });

  test('by a server, that goes on when the request is called off', async () => {
    let signal: AbortSignal | undefined;
    const url = await serve(
      defineServer({
        name: 'meadow',
        version: '1',
        tasks: {},
        offers: [tool('weigh', { taskSupport: 'required' }, (_input, call) => new Promise<string>(() => (signal = call.signal)))],
      }),
    );
    const client = await rawClient(url, '2025-11-25');
    const { id, result: made } = await client.ask('tools/call', { name: 'weigh', arguments: {}, task: {} });
    const { taskId } = made!.task as { taskId: string };
    await client.post({ jsonrpc: '2.0', method: 'notifications/cancelled', params: { requestId: id } });
    expect((await client.ask('tasks/get', { taskId })).result).toMatchObject({ status: 'working' });
    expect(signal!.aborted).toBe(false);
    expect((await client.ask('tasks/cancel', { taskId })).result).toMatchObject({ status: 'cancelled' });
    expect(signal!.aborted).toBe(true);
  });
});

describe('[MCP-048] progress names only tokens that are active', () => {
  test('a client hears it for a task until the task has ended, and not for a call that is over', async () => {
    const heard: unknown[] = [];
    const url = await rawServer(
      ({ message, response }) => {
        const token = (message.params!._meta as { progressToken: unknown }).progressToken;
        const progress = (value: number) => ({
          jsonrpc: '2.0',
          method: 'notifications/progress',
          params: { progressToken: token, progress: value },
        });
        const task = {
          taskId: 't-1',
          status: 'working',
          createdAt: '2026-05-04T06:00:00Z',
          lastUpdatedAt: '2026-05-04T06:00:00Z',
          ttl: null,
        };
        const isTask = message.params!.task !== undefined;
        const answers: Record<string, unknown[]> = {
          'tools/call': [progress(1), { jsonrpc: '2.0', id: message.id, result: isTask ? { task } : { content: [] } }, progress(2)],
        };
        response.writeHead(200, { 'content-type': 'text/event-stream' });
        response.end((answers[message.method!] ?? []).map((each) => `data: ${JSON.stringify(each)}\n\n`).join(''));
      },
      {
        greet: greeting({ capabilities: taskful }),
        tools: [{ name: 'look', inputSchema: { type: 'object' }, execution: { taskSupport: 'optional' } }],
      },
    );
    const client = await join(url);
    await client.call('look', {}, { onProgress: ({ progress }) => void heard.push(`call ${progress}`) });
    const second = new Promise<void>((resolve) => {
      void client.callAsTask('look', {}, { onProgress: ({ progress }) => (heard.push(`task ${progress}`), progress === 2 && resolve()) });
    });
    await second;
    expect(heard).toEqual(['call 1', 'task 1', 'task 2']);
  });

  test('a server sends none after the answer', async () => {
    let late = (): void => undefined;
    const url = await serve(
      defineServer({
        name: 'meadow',
        version: '1',
        offers: [
          tool('weigh', {}, (_input, call) => {
            call.progress(1, 2);
            late = () => call.progress(2, 2);
            return 'done';
          }),
        ],
      }),
    );
    const client = await rawClient(url, '2025-11-25');
    await client.ask('tools/call', { name: 'weigh', arguments: {}, _meta: { progressToken: 'p-1' } });
    late();
    await client.ask('ping');
    // A call that named no token hears none.
    await client.ask('tools/call', { name: 'weigh', arguments: {} });
    const progress = client.heard.filter(({ method }) => method === 'notifications/progress');
    expect(progress.map(({ params }) => params)).toEqual([{ progressToken: 'p-1', progress: 1, total: 2 }]);
  });
});

const newest = {
  $schema: 'https://json-schema.org/draft/2020-12/schema',
  type: 'object',
  properties: {
    pair: { prefixItems: [{ type: 'number' }, { $ref: '#/$defs/hive' }], items: false },
    lot: { type: 'string' },
    day: { type: 'string' },
  },
  dependentRequired: { lot: ['day'] },
  unevaluatedProperties: false,
  $defs: { hive: { type: 'string', pattern: '^MR' } },
};
const fits = { pair: [1, 'MR-03'], lot: 'L', day: 'd' };
const misfits: object[] = [{ pair: ['1', 'MR-03'] }, { pair: [1, 'UC'] }, { pair: [1, 'MR', 2] }, { lot: 'L' }, { other: 1 }];

describe('[MCP-068] [MCP-074] schemas of 2020-12 hold', () => {
  test('in a client, for answers', async () => {
    let answer: object = {};
    const url = await rawServer((asked) => result(asked, answer), {
      tools: [
        { name: 'broken', inputSchema: { type: 'object' }, outputSchema: { type: 'object', properties: { a: { type: 'nothing' } } } },
        { name: 'look', inputSchema: { type: 'object' }, outputSchema: newest },
      ],
    });
    const deviations: string[] = [];
    const client = await join(url, { onDeviation: ({ account }) => void deviations.push(account) });
    await client.tools();
    answer = { content: [], structuredContent: fits };
    // A schema that cannot be used costs its own check and nothing else.
    expect(await client.call('broken')).toEqual(answer);
    expect(deviations.filter((each) => each.includes('output schema of broken'))).toHaveLength(1);
    expect(await client.call('look')).toEqual(answer);
    for (const structuredContent of [...misfits, undefined]) {
      answer = { content: [], structuredContent };
      await expect(client.call('look')).rejects.toMatchObject({ code: 'JEXO_OUTPUT_INVALID' });
    }
    answer = { content: [], isError: true };
    expect(await client.call('look')).toEqual(answer);
  });

  test('in a server, for inputs', async () => {
    const url = await serve(
      defineServer({ name: 'meadow', version: '1', offers: [tool('look', { input: newest as never }, () => 'seen')] }),
    );
    const client = await rawClient(url, '2025-11-25');
    const call = async (input: object) => (await client.ask('tools/call', { name: 'look', arguments: input })).result;
    expect(await call(fits)).toEqual({ content: [{ type: 'text', text: 'seen' }] });
    for (const input of misfits) expect(await call(input)).toMatchObject({ isError: true });
  });
});

test('[MCP-112] a root that steps upwards never leaves, however it is written', async () => {
  const steps = ['..', '%2e%2e', '.%2E', '%2e.', '..%2f', '..%5c', '%252e%252e', '.'];
  const uris = [...steps.map((step) => `file:///srv/${step}/etc`), 'file:///srv/..', 'file:///srv/a%2f..%2fb', 'https://a.example/'];
  const url = await asking((ask) => ask('roots/list', {}));
  for (const uri of uris) await expect(join(url, { roots: [{ uri }] })).rejects.toMatchObject({ code: 'JEXO_DEFINITION' });
  const client = await join(url, { roots: [{ uri: 'file:///srv/a..b/50%25%20off' }, { uri: 'file:///srv/50%2525' }] });
  for (const uri of uris) expect(() => client.setRoots([{ uri }])).toThrow(expect.objectContaining({ code: 'JEXO_DEFINITION' }));
  expect(await told(client)).toMatchObject({
    result: { roots: [{ uri: 'file:///srv/a..b/50%25%20off' }, { uri: 'file:///srv/50%2525' }] },
  });
});

test('[MCP-125] the model uses tools as toolChoice says: not at all, at will, or surely', async () => {
  const text = { type: 'text', text: 'ok' };
  const use = { type: 'tool_use', id: 'u', name: 'weigh', input: {} };
  const cases = [
    ['none', text, true],
    ['none', use, false],
    ['auto', text, true],
    ['auto', use, true],
    [undefined, use, true],
    ['required', text, false],
    ['required', use, true],
  ] as const;
  for (const [mode, content, isFine] of cases) {
    const given: unknown[] = [];
    const params = {
      messages: [{ role: 'user', content: text }],
      maxTokens: 10,
      tools: [{ name: 'weigh', inputSchema: { type: 'object' } }],
      ...(mode !== undefined && { toolChoice: { mode } }),
    };
    const client = await join(await asking((ask) => ask('sampling/createMessage', params)), {
      sampling: {
        tools: true,
        create: ({ tools }) => (given.push(tools?.length), { role: 'assistant', model: 'm', content: content as never }),
      },
    });
    expect([mode, await told(client)]).toMatchObject([mode, isFine ? { result: { content } } : { error: { code: -32603 } }]);
    expect(given).toEqual([mode === 'none' ? undefined : 1]);
  }
});

test('[MCP-152] [MCP-153] a tool is run as a task when it must be and not when it must not, listed or not', async () => {
  const { url, finish, seen } = manualTasks();
  const client = await join(await url);
  finish({ content: [], structuredContent: { kg: 1 } });
  expect(await client.call('required')).toMatchObject({ structuredContent: { kg: 1 } });
  await expect(client.callAsTask('forbidden')).rejects.toMatchObject({ code: 'JEXO_NOT_SUPPORTED' });
  await client.call('forbidden').catch(() => undefined);
  await client.call('unheard');
  await expect(client.callAsTask('unheard')).rejects.toMatchObject({ code: 'JEXO_NOT_SUPPORTED' });
  await client.callAsTask('optional');
  const calls = seen.filter(({ method }) => method === 'tools/call').map(({ params }) => [params!.name, params!.task !== undefined]);
  expect(calls).toEqual([
    ['required', true],
    ['forbidden', false],
    ['unheard', false],
    ['optional', true],
  ]);
});

test('[MCP-153] the answer of a task is checked like any other', async () => {
  const { url, finish } = manualTasks();
  const client = await join(await url);
  finish({ content: [], structuredContent: {} });
  await expect(client.call('required')).rejects.toMatchObject({ code: 'JEXO_OUTPUT_INVALID' });
});

describe('[MCP-162] what belongs to a task says so', () => {
  const related = { [relatedTaskKey]: { taskId: 't-9' } };
  test('in the answers of a client', async () => {
    const question = { message: 'Which?', requestedSchema: { type: 'object', properties: {} } };
    const asked: unknown[] = [];
    const answers = { elicitation: { form: ({ asker }: { asker: unknown }) => (asked.push(asker), { action: 'decline' as const }) } };
    const client = await join(await asking((ask) => ask('elicitation/create', { ...question, _meta: related })), answers);
    expect(await told(client)).toMatchObject({ result: { action: 'decline', _meta: related } });
    expect(asked).toEqual([{ server: 'raw', tool: 'look', task: 't-9' }]);
    const plain = await join(await asking((ask) => ask('elicitation/create', question)), answers);
    expect(await told(plain)).toMatchObject({ result: { action: 'decline' } });
  });

  test('in the questions and the result of a server', async () => {
    const asks = tool(
      'asks',
      { taskSupport: 'required' },
      async (_input, call) => (await call.ask('Where to?', z.object({ to: z.string() }))).to,
    );
    const url = await serve(defineServer({ name: 'meadow', version: '1', tasks: {}, offers: [asks] }));
    const client = await rawClient(url, '2025-11-25', { elicitation: { form: {} } });
    const { result: made } = await client.ask('tools/call', { name: 'asks', arguments: {}, task: {} });
    const { taskId } = made!.task as { taskId: string };
    const answer = client.ask('tasks/result', { taskId });
    const question = await client.until(({ method }) => method === 'elicitation/create');
    expect(question.params).toMatchObject({ _meta: { [relatedTaskKey]: { taskId } } });
    await client.post({ jsonrpc: '2.0', id: question.id, result: { action: 'accept', content: { to: 'MR' } } });
    expect((await answer).result).toMatchObject({ content: [{ text: 'MR' }], _meta: { [relatedTaskKey]: { taskId } } });
  });
});

test('[MCP-191] an answer whose stream was cut is fetched by GET with the last event’s id', async () => {
  const resumed: unknown[] = [];
  let cutId: unknown;
  const streaming = { 'content-type': 'text/event-stream' };
  const url = await rawServer(
    ({ message, response }) => {
      cutId = message.id;
      response
        .writeHead(200, streaming)
        .write('id: e-1\nretry: 1\ndata: \n\nid: e-2\ndata: {"jsonrpc":"2.0","method":"notifications/x"}\n\n', () => response.destroy());
    },
    {
      session: () => 's-1',
      get({ request, response }) {
        const from = request.headers['last-event-id'];
        if (from === undefined) return void response.writeHead(405).end();
        resumed.push([request.method, from, request.headers['mcp-session-id']]);
        response
          .writeHead(200, streaming)
          .end(`id: e-3\ndata: ${JSON.stringify({ jsonrpc: '2.0', id: cutId, result: { content: [] } })}\n\n`);
      },
    },
  );
  const client = await join(url);
  expect(await client.call('look')).toEqual({ content: [] });
  expect(resumed).toEqual([['GET', 'e-2', 's-1']]);
});

test.each(['POST', 'GET'])('[MCP-200] a %s that is answered 404 leads to a new session', async (where) => {
  const handshakes: unknown[] = [];
  let streams = 0;
  const url = await rawServer(
    (asked) => {
      if (where === 'POST' && asked.request.headers['mcp-session-id'] === 's-1') return void asked.response.writeHead(404).end();
      result(asked, { content: [] });
    },
    {
      greet: ({ request, message, response }) => {
        handshakes.push(request.headers['mcp-session-id']);
        json(response, { jsonrpc: '2.0', id: message.id, result: hello }, { 'mcp-session-id': `s-${handshakes.length}` });
      },
      // A stream that was there, and is gone with its session.
      get({ request, response }) {
        if (where === 'POST' || request.headers['mcp-session-id'] !== 's-1') return void response.writeHead(405).end();
        if (streams++ > 0) return void response.writeHead(404).end();
        response.writeHead(200, { 'content-type': 'text/event-stream' }).end('retry: 1\n\n');
      },
    },
  );
  let renewed = (): void => undefined;
  const again = new Promise<void>((resolve) => (renewed = resolve));
  const client = await join(url, { onRenewed: () => renewed() });
  if (where === 'POST') expect(await client.call('look')).toEqual({ content: [] });
  await again;
  expect(handshakes).toEqual([undefined, undefined]);
  expect(await client.call('look')).toEqual({ content: [] });
});
