import { createServer, request } from 'node:http';
import Fastify from 'fastify';
import { defineServer, fetchHandler, nodeHandler, serveHttp, tool, type HttpService } from '../../src/index.js';
import { connect } from '../support/connect.js';

const meadow = defineServer({
  name: 'meadow',
  version: '1',
  offers: [
    tool('echo', { input: { type: 'object', properties: { text: { type: 'string' } } } }, ({ text }) => text),
    tool('ask', {}, async (_input, call) => {
      call.progress(1, 2);
      return (await call.ask('Sure?', { type: 'object', properties: { sure: { type: 'boolean' } }, required: ['sure'] })).sure;
    }),
  ],
});
const yes = { elicitation: { form: () => ({ action: 'accept' as const, content: { sure: true } }) } };

/** Everything a mounted server must be able to do: call, ask back, report progress, close. */
async function exercise(url: string): Promise<void> {
  const seen: number[] = [];
  const client = await connect(url, yes);
  expect(await client.call('echo', { text: 'hello' })).toMatchObject({ content: [{ text: 'hello' }] });
  expect(await client.call('ask', {}, { onProgress: ({ progress }) => void seen.push(progress) })).toMatchObject({
    content: [{ text: 'true' }],
  });
  expect(seen).toEqual([1]);
  await client.close();
}
async function listening(app: ReturnType<typeof createServer>): Promise<string> {
  await new Promise<void>((resolve) => app.listen(0, '127.0.0.1', resolve));
  return `http://127.0.0.1:${(app.address() as { port: number }).port}`;
}

test('in an app of node:http, beside its own routes', async () => {
  const mcp = nodeHandler(meadow);
  const app = createServer((req, res) => (req.url === '/tools' ? mcp(req, res) : res.end('the app')));
  const base = await listening(app);
  await exercise(`${base}/tools`);
  expect(await (await fetch(base)).text()).toBe('the app');
  app.closeAllConnections();
  app.close();
});

test('behind middleware that has parsed the body already', async () => {
  const mcp = nodeHandler(meadow);
  const app = createServer((req, res) => {
    const parts: Buffer[] = [];
    req
      .on('data', (part: Buffer) => parts.push(part))
      .on('end', () => {
        const body: unknown = parts.length > 0 ? JSON.parse(Buffer.concat(parts).toString()) : undefined;
        mcp(Object.assign(req, { body }), res);
      });
  });
  await exercise(`${await listening(app)}/mcp`);
  app.closeAllConnections();
  app.close();
});

test('in a Fastify app', async () => {
  const mcp = nodeHandler(meadow);
  const app = Fastify();
  app.get('/', () => 'the app');
  app.all('/mcp', (req, reply) => {
    reply.hijack();
    mcp(req.raw, reply.raw, req.body);
  });
  const base = await app.listen({ port: 0, host: '127.0.0.1' });
  await exercise(`${base}/mcp`);
  expect(await (await fetch(base)).text()).toBe('the app');
  app.server.closeAllConnections();
  await app.close();
});

/** Sends a client's requests straight into a fetch handler, as an edge runtime would. */
function throughHandler(handler: (request: Request) => Promise<Response>): typeof fetch {
  return async (input, init) => handler(new Request(input as string, init));
}

test.each([true, false])('as a web-standard handler, sessions: %s', async (sessions) => {
  const handler = fetchHandler(meadow, { sessions });
  const client = await connect('https://edge.example/mcp', { ...(sessions ? yes : {}), fetch: throughHandler(handler) });
  expect(await client.call('echo', { text: 'hello' })).toMatchObject({ content: [{ text: 'hello' }] });
  if (sessions) expect(await client.call('ask')).toMatchObject({ content: [{ text: 'true' }] });
  expect(handler.endpoint.sessions).toBe(sessions ? 1 : 0);
  await client.close();
  expect(handler.endpoint.sessions).toBe(0);
});

test('the web-standard handler refuses pages of other origins and large bodies', async () => {
  const handler = fetchHandler(meadow, { maxBodyBytes: 500 });
  const post = (headers: Record<string, string>, body: string) =>
    handler(new Request('https://edge.example/mcp', { method: 'POST', headers: { 'content-type': 'application/json', ...headers }, body }));
  expect((await post({ origin: 'https://evil.example' }, '{}')).status).toBe(403);
  expect((await post({ origin: 'https://edge.example' }, '{}')).status).toBe(400);
  expect((await post({}, JSON.stringify({ pad: 'x'.repeat(600) }))).status).toBe(413);
  expect((await handler(new Request('https://edge.example/mcp', { method: 'PATCH' }))).status).toBe(405);
});

test('[MCP-205] [MCP-206] [MCP-207] a client falls back to the older pair, which is off unless asked for', async () => {
  const off = await serveHttp(meadow);
  expect((await fetch(off.url.replace('/mcp', '/sse'))).status).toBe(404);
  await off.close();
  const service = await serveHttp(meadow, { httpSse: true });
  const sse = service.url.replace('/mcp', '/sse');
  await exercise(sse);
  const stream = await fetch(sse);
  const reader = stream.body!.pipeThrough(new TextDecoderStream()).getReader();
  expect((await reader.read()).value).toMatch(/^event: endpoint\ndata: \/messages\?session=[0-9a-f-]{36}\n\n$/);
  await reader.cancel();
  const to = service.url.replace('/mcp', '/messages');
  expect((await fetch(`${to}?session=made-up`, { method: 'POST', body: '{}' })).status).toBe(404);
  expect((await fetch(sse, { headers: { origin: 'https://evil.example' } })).status).toBe(403);
  await service.close();
});

test('a server of the older pair that wants posts to another host is refused', async () => {
  const app = createServer((req, res) => {
    if (req.method !== 'GET') return res.writeHead(405).end();
    res.writeHead(200, { 'content-type': 'text/event-stream' });
    res.write('event: endpoint\ndata: https://elsewhere.example/messages\n\n');
  });
  await expect(connect(`${await listening(app)}/sse`)).rejects.toMatchObject({ code: 'JEXO_HTTP_STATUS' });
  app.closeAllConnections();
  app.close();
});

let limited: HttpService | undefined;
afterEach(async () => {
  await limited?.close();
  limited = undefined;
});
function get(url: string, headers: Record<string, string> = {}): Promise<{ status: number; headers: Record<string, unknown> }> {
  return new Promise((resolve, reject) => {
    request(url, { headers, agent: false }, (response) => {
      response.resume().on('end', () => resolve({ status: response.statusCode!, headers: response.headers }));
    })
      .on('error', reject)
      .end();
  });
}

test('health answers at once, readiness once the sources are read', async () => {
  let read = () => {};
  const slow = defineServer({
    name: 'slow',
    version: '1',
    offers: [{ name: 'slow', read: () => new Promise((resolve) => (read = () => resolve({ offers: [] }))) }],
  });
  limited = await serveHttp(slow);
  const at = (path: string) => limited!.url.replace('/mcp', path);
  expect([(await get(at('/health'))).status, (await get(at('/ready'))).status]).toEqual([200, 503]);
  read();
  await slow.ready();
  expect((await get(at('/ready'))).status).toBe(200);
});

test('too many requests of one address are told when to come back', async () => {
  limited = await serveHttp(meadow, { requestsPerMinute: 3 });
  const statuses = [];
  for (let index = 0; index < 4; index++) statuses.push(await get(limited.url.replace('/mcp', '/health')));
  expect(statuses.map(({ status }) => status)).toEqual([200, 200, 200, 429]);
  expect(Number(statuses[3]?.headers['retry-after'])).toBeGreaterThan(0);
});

test('headers, sessions and depth are bounded', async () => {
  limited = await serveHttp(meadow, { maxHeaderBytes: 2000, maxSessions: 1 });
  expect((await get(limited.url, { 'x-pad': 'x'.repeat(3000) })).status).toBe(431);
  const client = await connect(limited.url);
  await expect(connect(limited.url)).rejects.toMatchObject({
    code: 'JEXO_HTTP_STATUS',
    message: expect.stringContaining('Too many sessions'),
  });
  const deep = (levels: number) =>
    fetch(limited!.url, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: `${'['.repeat(levels)}${']'.repeat(levels)}`,
    });
  expect(await (await deep(5000)).text()).toContain('nests deeper');
  await client.close();
});
