import { request } from 'node:http';
import { defineServer, nodeHandler, serveHttp, tool, type HttpService } from '../../src/index.js';
import { connect } from '../support/connect.js';
import { revisions } from '../../src/protocol/revisions.js';
import { createJudge, misfit } from '../support/judge.js';

let release: () => void = () => {};
const test1 = defineServer({
  name: 'meadow',
  version: '1.0.0',
  offers: [
    tool('echo', { input: { type: 'object', properties: { text: { type: 'string' } }, required: ['text'] } }, ({ text }) => text),
    tool('steps', {}, (_input, call) => {
      call.log('info', 'started');
      call.progress(1, 2);
      return 'walked';
    }),
    tool(
      'wait',
      {},
      (_input, call) =>
        new Promise<string>((resolve) => {
          release = () => resolve('released');
          call.signal.addEventListener('abort', () => resolve('stopped'));
        }),
    ),
  ],
});

let service: HttpService;
beforeAll(async () => {
  service = await serveHttp(test1, { maxBodyBytes: 10_000 });
});
afterAll(() => service.close());

interface Answer {
  readonly status: number;
  readonly headers: Record<string, string | string[] | undefined>;
  readonly body: string;
}

/** One request as it is, without what fetch would add or forbid. */
function send(method: string, headers: Record<string, string>, body?: string, url = service.url): Promise<Answer> {
  return new Promise((resolve, reject) => {
    const sent = request(url, { method, headers }, (response) => {
      let text = '';
      response.setEncoding('utf8').on('data', (chunk: string) => (text += chunk));
      response.on('end', () => resolve({ status: response.statusCode!, headers: response.headers, body: text }));
    });
    sent.on('error', reject);
    sent.end(body);
  });
}
const usual = { 'content-type': 'application/json', accept: 'application/json, text/event-stream' };
const message = (method: string, params: object = {}, id = 1) => JSON.stringify({ jsonrpc: '2.0', id, method, params });
const hello = (protocolVersion = '2025-11-25') =>
  message('initialize', { protocolVersion, capabilities: {}, clientInfo: { name: 'desk', version: '1' } });
async function openSession(protocolVersion?: string): Promise<Record<string, string>> {
  const { headers } = await send('POST', usual, hello(protocolVersion));
  return { ...usual, 'mcp-session-id': String(headers['mcp-session-id']) };
}

test.each(revisions)('%s: connect, list, call with progress, and close', async (revision) => {
  const judge = createJudge();
  const logged: unknown[] = [];
  const seen: unknown[] = [];
  const client = await connect(service.url, { revision, tap: judge.tap, onLog: ({ data }) => void logged.push(data) });
  expect(await client.tools()).toHaveLength(3);
  expect(await client.call('echo', { text: 'ü → 蜂' })).toMatchObject({ content: [{ text: 'ü → 蜂' }] });
  await client.call('steps', {}, { onProgress: ({ progress }) => void seen.push(progress) });
  expect([logged, seen]).toEqual([['started'], [1]]);
  const before = service.sessions;
  await client.close();
  expect(service.sessions).toBe(before - 1);
  expect(judge.findings).toEqual([]);
});

test('[MCP-181] an answer is plain JSON, and a stream when something precedes it', async () => {
  const session = await openSession();
  const plain = await send('POST', session, message('tools/call', { name: 'echo', arguments: { text: 'x' } }));
  expect(plain.headers['content-type']).toBe('application/json');
  expect(misfit('2025-11-25', 'ServerMessage', JSON.parse(plain.body))).toBeUndefined();
  const stream = await send('POST', session, message('tools/call', { name: 'steps', arguments: {}, _meta: { progressToken: 'p' } }));
  expect(stream.headers['content-type']).toBe('text/event-stream');
  const [primer, ...rest] = stream.body.trim().split('\n\n');
  expect(primer).toMatch(/^id: \S+\ndata: $/);
  const events = rest.map((event) => JSON.parse(event.slice(event.indexOf('data: ') + 6)) as { method?: string });
  expect(events.map(({ method }) => method)).toEqual(['notifications/message', 'notifications/progress', undefined]);
});

test('[MCP-180] a notification is taken with 202 and no body', async () => {
  const session = await openSession();
  expect(await send('POST', session, JSON.stringify({ jsonrpc: '2.0', method: 'notifications/initialized' }))).toMatchObject({
    status: 202,
    body: '',
  });
});

test('[MCP-198] [MCP-199] sessions: missing id 400, unknown id 404, gone after DELETE', async () => {
  expect((await send('POST', usual, message('tools/list'))).status).toBe(400);
  expect((await send('POST', { ...usual, 'mcp-session-id': 'made-up' }, message('tools/list'))).status).toBe(404);
  const session = await openSession();
  expect((await send('POST', session, message('tools/list'))).status).toBe(200);
  expect((await send('DELETE', session)).status).toBe(204);
  expect((await send('POST', session, message('tools/list'))).status).toBe(404);
});

test('[MCP-195] [MCP-196] session ids are visible ASCII and never the same', async () => {
  const ids = await Promise.all(Array.from({ length: 20 }, async () => (await openSession())['mcp-session-id']!));
  expect(new Set(ids).size).toBe(20);
  for (const id of ids) expect(id).toMatch(/^[\x21-\x7e]{32,}$/);
});

test('[MCP-204] a protocol version that is not the session’s is refused', async () => {
  const session = await openSession('2025-06-18');
  expect((await send('POST', { ...session, 'mcp-protocol-version': '2025-06-18' }, message('ping'))).status).toBe(200);
  expect((await send('POST', { ...session, 'mcp-protocol-version': 'nonsense' }, message('ping'))).status).toBe(400);
});

test.each([
  ['Host', { host: 'evil.example' }],
  ['Origin', { origin: 'https://evil.example' }],
  ['Origin', { origin: 'null' }],
])('[MCP-172] [MCP-173] a foreign %s is refused', async (name, headers) => {
  const answer = await send('POST', { ...usual, ...(headers as Record<string, string>) }, hello());
  expect(answer.status).toBe(403);
  expect(answer.body).toContain(name);
  expect(answer.headers['mcp-session-id']).toBeUndefined();
});

test('a page on this machine may call, and is told so', async () => {
  const answer = await send('POST', { ...usual, origin: 'http://localhost:5173' }, hello());
  expect(answer).toMatchObject({ status: 200, headers: { 'access-control-allow-origin': 'http://localhost:5173' } });
  expect((await send('OPTIONS', { origin: 'http://localhost:5173' })).status).toBe(204);
});

test.each([
  ['a wrong media type', 'POST', { ...usual, 'content-type': 'text/plain' }, hello(), 415],
  ['an Accept that fits nothing', 'POST', { ...usual, accept: 'text/html' }, hello(), 406],
  ['a body that is not JSON', 'POST', usual, '{oops', 400],
  ['a body that is too large', 'POST', usual, JSON.stringify({ pad: 'x'.repeat(20_000) }), 413],
  ['another method', 'PUT', usual, '{}', 405],
  ['a GET that wants no stream', 'GET', { accept: 'application/json' }, undefined, 406],
])('%s is refused with its own status', async (_name, method, headers, body, status) => {
  const answer = await send(method, headers as Record<string, string>, body);
  expect(answer.status).toBe(status);
  expect(JSON.parse(answer.body)).toMatchObject({ jsonrpc: '2.0', error: { message: expect.any(String) } });
});

test('a path that serves nothing says where the protocol is', async () => {
  const answer = await send('POST', usual, hello(), service.url.replace('/mcp', '/other'));
  expect(answer).toMatchObject({ status: 404, body: expect.stringContaining('/mcp') });
  await expect(connect(service.url.replace('/mcp', '/other'))).rejects.toMatchObject({
    code: 'JEXO_HTTP_STATUS',
    next: expect.stringContaining('/mcp'),
  });
});

test('nothing listening is said plainly', async () => {
  await expect(connect('http://127.0.0.1:9/mcp')).rejects.toMatchObject({
    code: 'JEXO_CONNECT',
    message: expect.stringContaining('127.0.0.1:9'),
  });
});

test('[MCP-184] cancelling stops the handler; another session cannot cancel it', async () => {
  const [client, other] = await Promise.all([connect(service.url), connect(service.url)]);
  const stop = new AbortController();
  const answer = client.call('wait', {}, { signal: stop.signal });
  const caught = answer.catch((error: unknown) => error);
  await client.ping();
  await other.ping();
  stop.abort();
  expect(await caught).toMatchObject({ code: 'JEXO_CANCELLED' });
  await client.ping();
  await Promise.all([client.close(), other.close()]);
});

test('closing answers what is in flight, then nothing listens', async () => {
  const own = await serveHttp(test1);
  const client = await connect(own.url);
  await client.tools();
  const answer = client.call('wait');
  await client.ping();
  const closed = own.close();
  release();
  expect(await answer).toMatchObject({ content: [{ text: 'released' }] });
  await closed;
  await expect(connect(own.url)).rejects.toMatchObject({ code: 'JEXO_CONNECT' });
  await client.close();
});

test('a port in use is said with another to try', async () => {
  await expect(serveHttp(test1, { port: service.port })).rejects.toMatchObject({
    code: 'JEXO_PORT_IN_USE',
    next: expect.stringContaining(String(service.port + 1)),
  });
});

test('without sessions every request stands alone', async () => {
  const own = await serveHttp(test1, { sessions: false });
  const answer = await send(
    'POST',
    { ...usual, 'mcp-protocol-version': '2025-06-18' },
    message('tools/call', { name: 'echo', arguments: { text: 'x' } }),
    own.url,
  );
  expect(JSON.parse(answer.body)).toMatchObject({ result: { content: [{ text: 'x' }] } });
  expect((await send('GET', { accept: 'text/event-stream' }, undefined, own.url)).status).toBe(405);
  const client = await connect(own.url);
  expect(await client.tools()).toHaveLength(3);
  await client.close();
  await own.close();
});

test('[MCP-013] 2025-03-26 batches get one list of answers', async () => {
  const session = await openSession('2025-03-26');
  const batch = `[${message('ping', {}, 1)},${message('tools/call', { name: 'echo', arguments: { text: 'b' } }, 2)}]`;
  const answer = await send('POST', session, batch);
  expect((JSON.parse(answer.body) as { id: number }[]).map(({ id }) => id).sort()).toEqual([1, 2]);
  const newer = await openSession('2025-11-25');
  expect(JSON.parse((await send('POST', newer, batch)).body)).toMatchObject({ error: { code: -32600 } });
});

test('the handler mounts beside other routes', async () => {
  const { createServer } = await import('node:http');
  const mcp = nodeHandler(test1);
  const app = createServer((req, res) => (req.url === '/tools' ? mcp(req, res) : res.end('the app')));
  await new Promise<void>((resolve) => app.listen(0, '127.0.0.1', resolve));
  const { port } = app.address() as { port: number };
  const client = await connect(`http://127.0.0.1:${port}/tools`);
  expect(await client.call('echo', { text: 'mounted' })).toMatchObject({ content: [{ text: 'mounted' }] });
  expect(await (await fetch(`http://127.0.0.1:${port}/`)).text()).toBe('the app');
  await client.close();
  app.closeAllConnections();
  app.close();
});

test('[MCP-176] [MCP-177] [MCP-178] [MCP-179] [MCP-182] [MCP-197] [MCP-202] the client posts each message by itself, with the headers the standard wants', async () => {
  const seen: { method: string; headers: Record<string, string>; body: unknown }[] = [];
  const { httpLink } = await import('../../src/transports/http/http-link.js');
  const { connectLink } = await import('../../src/client/connect-link.js');
  const watching: typeof fetch = (url, init) => {
    seen.push({
      method: init!.method!,
      headers: init!.headers as Record<string, string>,
      body: typeof init!.body === 'string' ? JSON.parse(init!.body) : undefined,
    });
    return fetch(url, init);
  };
  const client = await connectLink(httpLink(service.url, { fetch: watching }));
  await Promise.all([client.call('echo', { text: 'plain' }), client.call('steps', {}, { onProgress: () => undefined })]);
  await client.close();
  const posts = seen.filter(({ method }) => method === 'POST');
  expect(posts.map(({ body }) => (body as { method?: string }).method)).toEqual([
    'initialize',
    'notifications/initialized',
    'tools/call',
    'tools/call',
  ]);
  for (const { headers } of posts)
    expect(headers).toMatchObject({ accept: 'application/json, text/event-stream', 'content-type': 'application/json' });
  const [first, ...rest] = seen;
  expect(first?.headers).not.toHaveProperty('mcp-session-id');
  expect(first?.headers).not.toHaveProperty('mcp-protocol-version');
  for (const { headers } of rest)
    expect(headers).toMatchObject({ 'mcp-session-id': expect.any(String), 'mcp-protocol-version': '2025-11-25' });
  expect(seen.map(({ method }) => method).sort()).toEqual(['DELETE', 'GET', 'POST', 'POST', 'POST', 'POST']);
});

test('[MCP-174] by default, only this machine can reach the server', () => {
  expect(service.url).toMatch(/^http:\/\/127\.0\.0\.1:/);
});

test('[MCP-203] without a session and without the header, the revision is 2025-03-26', async () => {
  const own = await serveHttp(test1, { sessions: false });
  const answer = await send('POST', usual, `[${message('ping', {}, 1)},${message('ping', {}, 2)}]`, own.url);
  expect(JSON.parse(answer.body)).toHaveLength(2); // only that revision has batches
  const newer = await send('POST', { ...usual, 'mcp-protocol-version': '2025-06-18' }, `[${message('ping', {}, 1)}]`, own.url);
  expect(JSON.parse(newer.body)).toMatchObject({ error: { code: -32600 } });
  await own.close();
});
