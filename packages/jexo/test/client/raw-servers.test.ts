import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import fc from 'fast-check';
import { jest } from '@jest/globals';
import { connect, type ConnectOptions } from '../../src/index.js';
import { connect as connectUnjudged } from '../../src/targets/connect.js';
import { freshFolder, jexo } from '../support/command-line.js';
import {
  rawServers,
  closeRawServers,
  hello,
  connectTo,
  json,
  rawServer,
  result,
  tool,
  type Answer,
  type Asked,
} from '../support/raw-server.js';

afterEach(closeRawServers);

describe('an answer that cannot be one fails its request at once', () => {
  test.each<[string, Answer, string | number]>([
    ['202', ({ response }) => void response.writeHead(202).end(), 'JEXO_NOT_PROTOCOL'],
    ['204', ({ response }) => void response.writeHead(204).end(), 'JEXO_NOT_PROTOCOL'],
    ['an empty body', ({ response }) => json(response, ''), 'JEXO_NOT_PROTOCOL'],
    ['a wrong id', ({ response }) => json(response, { jsonrpc: '2.0', id: 'other', result: {} }), 'JEXO_NOT_PROTOCOL'],
    [
      'the id as a text',
      ({ message, response }) => json(response, { jsonrpc: '2.0', id: String(message.id), result: {} }),
      'JEXO_NOT_PROTOCOL',
    ],
    ['no id', ({ response }) => json(response, { jsonrpc: '2.0', result: {} }), 'JEXO_NOT_PROTOCOL'],
    ['an id of null', ({ response }) => json(response, { jsonrpc: '2.0', id: null, result: {} }), 'JEXO_NOT_PROTOCOL'],
    ['a list', ({ message, response }) => json(response, [{ jsonrpc: '2.0', id: message.id, result: {} }]), 'JEXO_NOT_PROTOCOL'],
    ['no jsonrpc', ({ message, response }) => json(response, { id: message.id, result: {} }), 'JEXO_NOT_PROTOCOL'],
    [
      'both',
      ({ message, response }) => json(response, { jsonrpc: '2.0', id: message.id, result: {}, error: { code: 1, message: 'x' } }),
      'JEXO_NOT_PROTOCOL',
    ],
    ['a result of null', ({ message, response }) => json(response, { jsonrpc: '2.0', id: message.id, result: null }), 'JEXO_NOT_PROTOCOL'],
    [
      'a text as code',
      ({ message, response }) => json(response, { jsonrpc: '2.0', id: message.id, error: { code: 'x', message: 'x' } }),
      'JEXO_NOT_PROTOCOL',
    ],
    [
      'an error without an id',
      ({ response }) => json(response, { jsonrpc: '2.0', id: null, error: { code: -32000, message: 'busy' } }),
      -32000,
    ],
    [
      'a page',
      ({ response }) => void response.writeHead(200, { 'content-type': 'text/html' }).end('<html>hives</html>'),
      'JEXO_NOT_PROTOCOL',
    ],
    ['JSON too deep', ({ response }) => json(response, '['.repeat(5000) + ']'.repeat(5000)), 'JEXO_NOT_PROTOCOL'],
    [
      'an answer in a refusal',
      ({ message, response }) =>
        json(response, { jsonrpc: '2.0', id: message.id, error: { code: -32602, message: 'no such tool' } }, {}, 400),
      -32602,
    ],
    [
      'a stream that ends',
      ({ response }) => void response.writeHead(200, { 'content-type': 'text/event-stream' }).end(': nothing\n\n'),
      'JEXO_CONNECT',
    ],
    ['a connection that is cut', ({ response }) => void response.destroy(), 'JEXO_CONNECT'],
    [
      'a redirect elsewhere',
      ({ response }) => void response.writeHead(307, { location: 'http://127.0.0.2:9/mcp' }).end(),
      'JEXO_HTTP_STATUS',
    ],
  ])('%s', async (_what, answer, code) => {
    const client = await connectTo(await rawServer(answer), { timeoutMs: 60_000 });
    await expect(client.call('look')).rejects.toMatchObject({ code });
    await client.close();
  });

  test('and is told apart from a server that is slow', async () => {
    const client = await connectTo(await rawServer(() => undefined));
    await expect(client.call('look', {}, { timeoutMs: 50 })).rejects.toMatchObject({ code: 'JEXO_TIMEOUT' });
    await client.close();
  });
});

test('whatever bytes a server answers with, the request ends within its bound and the process lives', async () => {
  let bytes: Uint8Array = new Uint8Array();
  let type = '';
  let status = 200;
  const url = await rawServer(({ response }) => void response.writeHead(status, { 'content-type': type }).end(Buffer.from(bytes)));
  const client = await connectTo(url, { timeoutMs: 1500, maxRetries: 1 });
  const piece = fc.oneof(
    fc.constantFrom(
      '{"jsonrpc":"2.0","id":',
      '"result":{',
      'data: ',
      '\n\n',
      'id: 1\n',
      'event: message\n',
      'retry: 0\n',
      '}',
      'null',
      '[',
      '{"error":{"code":1}}',
    ),
    fc.string({ maxLength: 30 }),
  );
  const body = fc.oneof(
    fc.array(piece, { maxLength: 8 }).map((parts) => new TextEncoder().encode(parts.join(''))),
    fc.uint8Array({ maxLength: 200 }),
  );
  await fc.assert(
    fc.asyncProperty(
      body,
      fc.constantFrom('application/json', 'text/event-stream', 'text/html', 'Application/JSON; charset=utf-8'),
      fc.constantFrom(200, 202, 400, 404, 500),
      async (given, kind, code) => {
        [bytes, type, status] = [given, kind, code];
        const began = performance.now();
        await client.call('look').catch((error: unknown) => expect(error).toBeInstanceOf(Error));
        expect(performance.now() - began).toBeLessThan(4000);
      },
    ),
    { numRuns: 150 },
  );
  await client.close();
}, 300_000);

describe('the standing stream', () => {
  const event = (message: unknown, id?: number) => `${id === undefined ? '' : `id: ${id}\n`}data: ${JSON.stringify(message)}\n\n`;
  const changed = { jsonrpc: '2.0', method: 'notifications/tools/list_changed' };
  const streaming = { 'content-type': 'Text/Event-Stream' };

  test.each<[string, (asked: Asked, opened: number) => void]>([
    ['idle closes', ({ response }) => void response.writeHead(200, streaming).end('retry: 1\n\n')],
    ['events that are none', ({ response }) => void response.writeHead(200, streaming).end('data: {oops\n\nevent: swarm\ndata: 1\n\n')],
    ['busy answers', ({ response }) => void response.writeHead(503, { 'retry-after': '0' }).end()],
    ['cut connections', ({ response }) => void response.writeHead(200, streaming).write(': hello\n\n', () => response.destroy())],
  ])('lives on after %s', async (_what, trouble) => {
    let opened = 0;
    const url = await rawServer(() => undefined, {
      session: () => 's-1',
      get(asked) {
        opened++;
        if (opened <= 8) return trouble(asked, opened);
        asked.response.writeHead(200, streaming).write(event(changed));
      },
    });
    await new Promise<void>((resolve, reject) => {
      connectTo(url, { onToolsChanged: resolve }).catch(reject);
    });
    expect(opened).toBe(9);
  });

  test('makes a new session when the old one is gone, and tells it what it knew', async () => {
    let current = 0;
    const told: string[] = [];
    const url = await rawServer(
      (asked) => {
        told.push(`${asked.request.headers['mcp-session-id'] as string} ${asked.message.method} ${JSON.stringify(asked.message.params)}`);
        result(asked, {});
      },
      {
        session: () => `s-${++current}`,
        get({ request, response }) {
          const mine = request.headers['mcp-session-id'];
          if (mine !== `s-${current}`) return void response.writeHead(404).end();
          response.writeHead(200, streaming).flushHeaders();
          // The server is restarted once.
          if (current === 1 && told.length === 2) {
            current = 1.5;
            response.destroy();
          } else if (current === 1) setTimeout(() => response.destroy(), 30);
        },
      },
    );
    const renewed = new Promise<void>((resolve) => {
      void connectTo(url, { onRenewed: resolve }).then(async (client) => {
        await client.setLogLevel('error');
        await client.watch('hive://MR-03', () => undefined);
      });
    });
    await renewed;
    expect(told.slice(2).map((line) => line.replace(/^s-[\d.]+ /, ''))).toEqual([
      'logging/setLevel {"level":"error"}',
      'resources/subscribe {"uri":"hive://MR-03"}',
    ]);
  });

  test('a server that answers 404 to everything is not flooded', async () => {
    let handshakes = 0;
    const url = await rawServer(({ response }) => void response.writeHead(404).end(), {
      session: () => `s-${++handshakes}`,
      get: ({ response }) => void response.writeHead(404).end(),
    });
    const client = await connectTo(url);
    const calls = await Promise.allSettled(Array.from({ length: 20 }, () => client.call('look')));
    expect(calls.every(({ status }) => status === 'rejected')).toBe(true);
    expect(handshakes).toBeLessThanOrEqual(3);
    await client.close();
  });

  test('a polling server that closes without an event is no failure', async () => {
    let polls = 0;
    const url = await rawServer(({ response }) => void response.writeHead(200, streaming).end('id: 1\nretry: 1\ndata: \n\n'), {
      session: () => 's-1',
      get({ request, response }) {
        if (request.headers['last-event-id'] === undefined) return void response.writeHead(405).end();
        response.writeHead(200, streaming);
        if (++polls < 12) return void response.end();
        response.end(event({ jsonrpc: '2.0', id: 2, result: { content: [] } }, 2));
      },
    });
    const client = await connectTo(url, { timeoutMs: 20_000 });
    expect(await client.call('look')).toEqual({ content: [] });
    expect(polls).toBe(12);
    await client.close();
  });

  test('a server that was restarted during a streamed call leaves a client that goes on', async () => {
    let current = 1;
    const url = await rawServer(
      (asked) => {
        if (asked.request.headers['mcp-session-id'] !== `s-${current}`) return void asked.response.writeHead(404).end();
        if (current > 1) return result(asked, { content: [] });
        asked.response.writeHead(200, streaming).write('id: 1\ndata: \n\n', () => {
          current = 2;
          asked.response.destroy();
        });
      },
      {
        session: () => `s-${current}`,
        get: ({ request, response }) => void response.writeHead(request.headers['mcp-session-id'] === `s-${current}` ? 405 : 404).end(),
      },
    );
    let closed = 0;
    const client = await connectTo(url, { onClosed: () => void closed++ });
    await expect(client.call('look')).rejects.toMatchObject({ code: 'JEXO_SESSION_LOST', next: expect.stringContaining('Call again') });
    expect(await client.call('look')).toEqual({ content: [] });
    expect(closed).toBe(0);
    await client.close();
    expect(closed).toBe(1);
  });
});

describe('one thing that is wrong does not take the rest along', () => {
  test('a server that says too little of itself', async () => {
    const told: string[] = [];
    const url = await rawServer(() => undefined, {
      greet: ({ message, response }) => json(response, { jsonrpc: '2.0', id: message.id, result: { protocolVersion: '2025-11-25' } }),
    });
    const client = await connectTo(url, { onDeviation: ({ account }) => void told.push(account) });
    expect(client.server).toMatchObject({ capabilities: {}, serverInfo: { name: 'unnamed server' } });
    expect(told).toEqual(['The server’s answer to initialize has no capabilities and no serverInfo.']);
    await expect(client.tools()).rejects.toMatchObject({ code: 'JEXO_NOT_SUPPORTED' });
    await client.close();
  });

  test('capabilities of null and false are absent, and nothing is sent that was not declared', async () => {
    const seen: string[] = [];
    const url = await rawServer(({ message }) => void seen.push(message.method!), {
      greet: ({ message, response }) =>
        json(response, {
          jsonrpc: '2.0',
          id: message.id,
          result: { ...hello, capabilities: { tools: null, logging: false, prompts: null } },
        }),
    });
    const client = await connectTo(url);
    for (const task of [client.tools(), client.prompts(), client.tasks(), client.setLogLevel('info')])
      await expect(task).rejects.toMatchObject({ code: 'JEXO_NOT_SUPPORTED' });
    expect(() => client.setRoots([])).toThrow('No roots were declared');
    expect(seen).toEqual([]);
    await client.close();
  });

  test('lists: 150,000 entries, a cursor of null, entries that are none', async () => {
    const told: string[] = [];
    const many = Array.from({ length: 150_000 }, (_, index) => ({ uri: `hive://${index}`, name: `h${index}` }));
    const url = await rawServer((asked) => result(asked, { resources: [...many, null, { name: 'no address' }], nextCursor: null }));
    const client = await connectTo(url, { onDeviation: ({ account }) => void told.push(account), timeoutMs: 30_000 });
    expect(await client.resources()).toHaveLength(150_000);
    expect(told.at(-1)).toBe('resources/list gave 2 entries without a name or an address; they are omitted.');
    await client.close();
  });

  test('schemas: the same $id twice, an unknown dialect, one that is broken, a pattern that never ends', async () => {
    const output = (more: object) => ({ type: 'object', properties: { kg: { type: 'number' } }, ...more });
    const tools = [
      { ...tool, name: 'one', outputSchema: output({ $id: 'https://hives.example/same' }) },
      { ...tool, name: 'two', outputSchema: output({ $id: 'https://hives.example/same' }) },
      { ...tool, name: 'old', outputSchema: output({ $schema: 'http://json-schema.org/draft-03/schema#' }) },
      { ...tool, name: 'broken', outputSchema: { type: 'object', properties: { kg: { type: 'weight' } } } },
      { ...tool, name: 'rootless', outputSchema: { type: 'number' } },
      { ...tool, name: 'slow', outputSchema: output({ properties: { note: { type: 'string', pattern: '^(a+)+$' } } }) },
    ];
    const server = createServer((request, response) => {
      let body = '';
      request.on('data', (chunk: Buffer) => (body += chunk.toString()));
      request.on('end', () => {
        if (request.method !== 'POST') return void response.writeHead(405).end();
        const { id, method, params } = JSON.parse(body) as { id?: number; method: string; params?: { name: string } };
        if (id === undefined) return void response.writeHead(202).end();
        const structuredContent = params?.name === 'slow' ? { note: `${'a'.repeat(40)}!` } : { kg: 31 };
        const answer = method === 'initialize' ? hello : method === 'tools/list' ? { tools } : { content: [], structuredContent };
        json(response, { jsonrpc: '2.0', id, result: answer });
      });
    });
    rawServers.push(server);
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const told: string[] = [];
    const client = await connectTo(`http://127.0.0.1:${(server.address() as AddressInfo).port}/mcp`, {
      onDeviation: ({ account }) => void told.push(account),
    });
    expect(await client.tools()).toHaveLength(6);
    // What a tool has done is not lost for a schema that cannot be used.
    for (const name of ['one', 'two', 'old', 'broken', 'rootless']) expect((await client.call(name)).structuredContent).toEqual({ kg: 31 });
    expect(
      told
        .map((line) => /schema of (\w+)/.exec(line)?.[1])
        .filter(Boolean)
        .sort(),
    ).toEqual(['broken', 'old', 'rootless']);
    const began = performance.now();
    await expect(client.call('slow')).rejects.toMatchObject({ code: 'JEXO_OUTPUT_INVALID' });
    expect(performance.now() - began).toBeLessThan(2000);
    await client.close();
  });

  test('listeners that throw', async () => {
    const errors = jest.spyOn(console, 'error').mockImplementation(() => undefined);
    const url = await rawServer(({ message, response }) => {
      response.writeHead(200, { 'content-type': 'text/event-stream' });
      const { _meta } = message.params as { _meta: { progressToken: number } };
      for (const progress of [1, 2])
        response.write(
          `data: ${JSON.stringify({ jsonrpc: '2.0', method: 'notifications/progress', params: { progressToken: _meta.progressToken, progress } })}\n\n`,
        );
      response.end(`data: ${JSON.stringify({ jsonrpc: '2.0', id: message.id, result: { content: [] } })}\n\n`);
    });
    const client = await connectTo(url);
    let count = 0;
    const onProgress = () => {
      count++;
      throw new Error('the listener’s own');
    };
    expect(await client.call('look', {}, { onProgress })).toEqual({ content: [] });
    expect(count).toBe(2);
    expect(errors.mock.calls.join()).toContain('the listener’s own');
    errors.mockRestore();
    await client.close();
  });
});

test('connecting can be stopped, and every wait has an end', async () => {
  const silent = createServer(() => undefined);
  rawServers.push(silent);
  await new Promise<void>((resolve) => silent.listen(0, '127.0.0.1', resolve));
  const url = `http://127.0.0.1:${(silent.address() as AddressInfo).port}/mcp`;
  const stop = new AbortController();
  setTimeout(() => stop.abort(), 30);
  await expect(connectTo(url, { signal: stop.signal, timeoutMs: 60_000 })).rejects.toMatchObject({ code: 'JEXO_CANCELLED' });
  await expect(connectTo(url, { timeoutMs: 40 })).rejects.toMatchObject({ code: 'JEXO_TIMEOUT' });
  // Leaving is not waited for longer than it takes to say.
  const mute = await rawServer(() => undefined, { session: () => 's' });
  const server = rawServers.at(-1)!;
  const client = await connectTo(mute);
  server.removeAllListeners('request');
  const began = performance.now();
  await client.close();
  expect(performance.now() - began).toBeLessThan(5000);
});

test('headers of the user, the session and the body stay with the server they were given for', async () => {
  const got: string[] = [];
  const elsewhere = await rawServer(({ request }) => void got.push(JSON.stringify(request.headers)), {
    greet: ({ request, response }) => {
      got.push(JSON.stringify(request.headers));
      response.writeHead(500).end();
    },
  });
  const url = await rawServer(() => undefined, { greet: ({ response }) => void response.writeHead(308, { location: elsewhere }).end() });
  const events: unknown[] = [];
  await expect(connectTo(url, { headers: { 'x-hive-pass': 'precious' }, tap: (each) => void events.push(each) })).rejects.toMatchObject({
    code: 'JEXO_HTTP_STATUS',
    message: expect.stringContaining('another place'),
  });
  expect(got).toEqual([]);
  expect(JSON.stringify(events)).toContain('"x-hive-pass":"(masked)"');
  expect(JSON.stringify(events)).not.toContain('precious');
});

describe('started commands', () => {
  const folder = freshFolder('raw-stdio');
  const script = join(folder, 'server.mjs');
  writeFileSync(
    script,
    `import { createInterface } from 'node:readline';
console.log('Listening, or so');
let calls = 0;
createInterface({ input: process.stdin }).on('line', (line) => {
  const { id, method } = JSON.parse(line);
  if (id === undefined) return;
  if (method === 'tools/call' && process.argv[2] === 'dies' && !process.env.CALLS_DONE && ++calls === 1) process.exit(3);
  const text = JSON.stringify({ secret: process.env.HIVE_TEST_SECRET, given: process.env.GIVEN, cwd: process.cwd() });
  const result = method === 'initialize' ? ${JSON.stringify(hello)} : method === 'tools/list' ? { tools: [${JSON.stringify(tool)}] } : { content: [{ type: 'text', text }] };
  console.log(JSON.stringify({ jsonrpc: '2.0', id, result }));
});`,
  );
  const command = [process.execPath, script];

  test('inherit a short safe list, take env and cwd, and may print by the way', async () => {
    process.env.HIVE_TEST_SECRET = 'mine';
    const noise: string[] = [];
    const look = async (options: ConnectOptions) => {
      const client = await connectUnjudged(command, { onDeviation: ({ account }) => void noise.push(account), ...options });
      const [block] = (await client.call('look')).content;
      await client.close();
      return JSON.parse((block as { text: string }).text) as Record<string, string>;
    };
    expect(await look({ env: { GIVEN: 'yes' }, cwd: folder })).toEqual({ given: 'yes', cwd: folder });
    expect(noise[0]).toContain('Listening, or so');
    expect((await look({ inherit: 'all' })).secret).toBe('mine');
    delete process.env.HIVE_TEST_SECRET;
  });

  test('a call that is made while one restarts waits for it', async () => {
    const restarts: string[] = [];
    const client = await connectUnjudged([...command, 'dies'], {
      maxRestarts: 2,
      backOffMs: 50,
      onRestart: () => void restarts.push('again'),
    });
    await expect(client.call('look')).rejects.toMatchObject({ code: 'JEXO_SERVER_EXITED' });
    const later = client.ping();
    await later;
    expect(restarts).toEqual(['again']);
    await client.close();
  });
});

describe('the command line as a client', () => {
  test.each<[string, Answer, RegExp]>([
    [
      '401',
      ({ response }) => json(response, { error: 'no token' }, { 'www-authenticate': 'Bearer realm="hives"' }, 401),
      /HTTP 401: no token[\s\S]*wants a sign-in/,
    ],
    ['403', ({ response }) => void response.writeHead(403).end(), /HTTP 403[\s\S]*does not allow it/],
    ['429', ({ response }) => void response.writeHead(429, { 'retry-after': '7' }).end(), /HTTP 429[\s\S]*Try again in 7 seconds/],
    [
      '500',
      ({ response }) => void response.writeHead(500).end('<html><title>Oops</title><body>stack trace</body></html>'),
      /HTTP 500: a web page, “Oops”[\s\S]*on the server’s side/,
    ],
    [
      'a page',
      ({ response }) => void response.writeHead(200, { 'content-type': 'text/html' }).end('<html><body>hives</body></html>'),
      /not a protocol message/,
    ],
  ])('says in a line what %s is, and what to do', async (_what, greet, words) => {
    const { stderr, code } = await jexo(['list', await rawServer(() => undefined, { greet })]);
    expect(stderr).toMatch(words);
    expect(stderr).not.toMatch(/stack trace|^\s+at /m);
    expect(code).toBe(3);
  });

  test('https to an http port, and the other way round', async () => {
    const url = await rawServer(() => undefined);
    const { stderr } = await jexo(['list', url.replace('http:', 'https:')]);
    expect(stderr).toMatch(/does not speak TLS[\s\S]*use http:/);
    expect(stderr).not.toMatch(/openssl|ssl3_|\.c:\d/i);
  });
});

test('a listener, a tap and an escape of a server steer nobody’s terminal', async () => {
  const evil = '\u001b]0;owned\u0007\u001b[2J\u009b31mred\u202e';
  const url = await rawServer((asked) => result(asked, { content: [{ type: 'text', text: `calm ${evil}` }] }), {
    greet: ({ message, response }) =>
      json(response, { jsonrpc: '2.0', id: message.id, result: { ...hello, serverInfo: { name: `hives${evil}`, version: '1' } } }),
  });
  const called = await jexo(['call', url, 'look'], { env: { FORCE_COLOR: '1', NO_COLOR: '' } });
  const listed = await jexo(['list', url], { env: { FORCE_COLOR: '1', NO_COLOR: '' } });
  for (const text of [called.stdout, called.stderr, listed.stdout, listed.stderr]) {
    // Our own colours are left, and nothing else.

    expect(text.replaceAll(/\u001b\[\d+m/g, '')).not.toMatch(/[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u202e]/);
  }
  expect(called.stdout).toContain('calm ]0;owned[2J31mred');
  const asJson = await jexo(['call', url, 'look', '--json']);
  expect((JSON.parse(asJson.stdout) as { content: { text: string }[] }).content[0]!.text).toBe(`calm ${evil}`);
  const words = await jexo(['completion', '--for', '--quote', '--', 'call', url, '']);
  expect(words.stdout).toBe('look\n');
});

test('storms of changes are merged', async () => {
  let count = 0;
  const url = await rawServer(() => undefined, {
    session: () => 's',
    get({ response }) {
      response.writeHead(200, { 'content-type': 'text/event-stream' });
      for (let index = 0; index < 5000; index++) response.write('data: {"jsonrpc":"2.0","method":"notifications/tools/list_changed"}\n\n');
      response.write('data: {"jsonrpc":"2.0","method":"notifications/message","params":{"level":"info","data":"over"}}\n\n');
    },
  });
  await new Promise<void>((resolve) => {
    void connect(url, { onToolsChanged: () => void count++, onLog: () => resolve() });
  });
  expect(count).toBeLessThan(100);
});

describe('call, as a client', () => {
  const needy = {
    name: 'mix;rm -rf',
    inputSchema: { type: 'object', properties: { colonies: { type: 'number' } }, required: ['colonies'] },
  };

  test('checks the input before it sends it, unless it is told not to', async () => {
    const seen: unknown[] = [];
    const url = await rawServer(
      (asked) => {
        seen.push(asked.message.params);
        result(asked, { content: [{ type: 'text', text: 'mixed' }] });
      },
      { tools: [needy] },
    );
    const refused = await jexo(['call', url, needy.name, 'colonies=many']);
    expect(refused).toMatchObject({ code: 2, stderr: expect.stringContaining('colonies: expected number; got "many"') });
    expect(seen).toEqual([]);
    expect(await jexo(['call', url, needy.name, 'colonies=many', '--unchecked'])).toMatchObject({ code: 0, stdout: 'mixed\n' });
    expect(seen).toEqual([{ name: needy.name, arguments: { colonies: 'many' }, _meta: expect.anything() }]);
    // What a server calls its tools is a word on a command line, and nothing more.
    expect((await jexo(['completion', '--for', '--quote', '--', 'call', url, ''])).stdout).toBe("'mix;rm -rf'\n");
  });

  test('gives up after --timeout, and says where a person has to go first', async () => {
    const slow = await rawServer(() => undefined);
    expect(await jexo(['call', slow, 'look', '--timeout', '1'])).toMatchObject({
      code: 1,
      stderr: expect.stringContaining('no answer within'),
    });
    const gated = await rawServer(({ message, response }) =>
      json(response, {
        jsonrpc: '2.0',
        id: message.id,
        error: {
          code: -32042,
          message: 'Sign in first',
          data: { elicitations: [{ mode: 'url', url: 'https://ledger.example/in', elicitationId: 'e', message: 'x' }] },
        },
      }),
    );
    expect(await jexo(['call', gated, 'look'])).toMatchObject({
      code: 1,
      stderr: expect.stringContaining('Visit first, then call again: https://ledger.example/in'),
    });
  });

  test('says where the server is when the path is wrong', async () => {
    const url = await rawServer(() => undefined);
    const server = rawServers.at(-1)!;
    const [handler] = server.listeners('request') as [(request: IncomingMessage, response: ServerResponse) => void];
    server.removeAllListeners('request');
    server.on('request', (request: IncomingMessage, response: ServerResponse) =>
      request.url === '/mcp' ? handler(request, response) : void response.writeHead(404).end(),
    );
    const { stderr, code } = await jexo(['list', url.replace('/mcp', '/hives')]);
    expect([code, stderr]).toEqual([3, expect.stringContaining(`there is one at ${url}`)]);
  });
});

test('a started server that stops reading is given up, and what waits for it fails', async () => {
  const lazy = `
process.stdin.once('data', (data) => {
  process.stdin.pause();
  const { id } = JSON.parse(String(data));
  const result = { protocolVersion: '2025-11-25', capabilities: { tools: {} }, serverInfo: { name: 'lazy', version: '1' } };
  process.stdout.write(JSON.stringify({ jsonrpc: '2.0', id, result }) + '\\n');
});
setInterval(() => undefined, 1000);`;
  const client = await connectUnjudged([process.execPath, '-e', lazy], { maxUnreadBytes: 1_000_000, timeoutMs: 30_000 });
  const calls = Array.from({ length: 4 }, () => client.call('weigh', { note: 'x'.repeat(600_000) }));
  const settled = await Promise.allSettled(calls);
  expect(settled.map((each) => each.status)).toEqual(['rejected', 'rejected', 'rejected', 'rejected']);
  expect(String((settled[0] as PromiseRejectedResult).reason)).toContain('stopped reading');
  await client.close();
});
