import { request, type IncomingMessage } from 'node:http';
import { defineServer, resource, serveHttp, tool, type HttpService, type ServeHttpOptions } from '../../src/index.js';
import { connect } from '../support/connect.js';
import { cuttingProxy } from '../support/cutting-proxy.js';

let onHoldEnd: (how: string) => void = () => {};
let release: (value: string) => void = () => {};
const meadow = defineServer({
  name: 'meadow',
  version: '1',
  offers: [
    resource('scale://MR-03', {}, () => '31 kg'),
    tool('steps', { input: { type: 'object', properties: { tag: { type: 'string' } } } }, ({ tag }, call) => {
      call.log('info', `started ${tag}`);
      call.progress(1, 2, 'halfway');
      return `walked ${tag}`;
    }),
    tool('wait', {}, (_input, call) => {
      call.log('info', 'waiting');
      return new Promise((resolve) => (release = resolve));
    }),
    tool('hold', {}, (_input, call) => {
      call.log('info', 'holding');
      return new Promise(() => call.signal.addEventListener('abort', () => onHoldEnd('aborted')));
    }),
    tool('flood', {}, async (_input, call) => {
      for (let index = 0; index < 150; index++) call.log('info', 'x'.repeat(20_000));
      return 'flooded';
    }),
  ],
});

const open: HttpService[] = [];
afterAll(() => Promise.all(open.map((service) => service.close())));
async function serve(options: ServeHttpOptions = {}): Promise<HttpService> {
  const service = await serveHttp(meadow, { graceMs: 100, ...options });
  open.push(service);
  return service;
}

const usual = { 'content-type': 'application/json', accept: 'application/json, text/event-stream' };
interface Stream {
  readonly status: number;
  readonly headers: IncomingMessage['headers'];
  /** Waits until the text so far fits. */
  until(pattern: RegExp): Promise<string>;
  readonly ended: Promise<string>;
  pause(): void;
  cut(): void;
}
/** One request whose answer is read as it comes. */
function start(url: string, method: string, headers: Record<string, string>, body?: object): Promise<Stream> {
  return new Promise((resolve, reject) => {
    const sent = request(url, { method, headers, agent: false }, (response) => {
      let text = '';
      const waiting: { pattern: RegExp; go: (text: string) => void }[] = [];
      const look = () => waiting.forEach(({ pattern, go }) => pattern.test(text) && go(text));
      response.setEncoding('utf8').on('data', (chunk: string) => {
        text += chunk;
        look();
      });
      const ended = new Promise<string>((done) => response.on('close', () => done(text)));
      response.on('error', () => undefined);
      resolve({
        status: response.statusCode!,
        headers: response.headers,
        until: (pattern) => (pattern.test(text) ? Promise.resolve(text) : new Promise((go) => waiting.push({ pattern, go }))),
        ended,
        pause: () => response.pause(),
        cut: () => sent.destroy(),
      });
    });
    sent.on('error', reject);
    sent.end(body === undefined ? undefined : JSON.stringify(body));
  });
}
const message = (method: string, params: object = {}, id = 1) => ({ jsonrpc: '2.0', id, method, params });
async function session(url: string, protocolVersion = '2025-11-25'): Promise<Record<string, string>> {
  const { headers, ended } = await start(
    url,
    'POST',
    usual,
    message('initialize', { protocolVersion, capabilities: {}, clientInfo: { name: 'desk', version: '1' } }),
  );
  await ended;
  return { ...usual, 'mcp-session-id': String(headers['mcp-session-id']) };
}
const idsOf = (text: string) => [...text.matchAll(/^id: (\S+)$/gm)].map(([, id]) => id!);

test('[MCP-192] a stream begins with an event that has an id and no data, for clients that know it', async () => {
  const { url } = await serve();
  const newest = await (
    await start(url, 'POST', await session(url), message('tools/call', { name: 'steps', arguments: { tag: 'a' } }))
  ).ended;
  expect(newest).toMatch(/^id: \S+\ndata: \n\nid: \S+\nevent: message\ndata: \{/);
  const older = await (
    await start(url, 'POST', await session(url, '2025-06-18'), message('tools/call', { name: 'steps', arguments: { tag: 'a' } }))
  ).ended;
  expect(older).toMatch(/^id: \S+\nevent: message\ndata: \{/);
});

test('[MCP-189] [MCP-190] [MCP-187] [MCP-183] a lost stream is taken up after the last event, that stream alone', async () => {
  const { url } = await serve();
  const own = await session(url);
  const lost = await start(url, 'POST', own, message('tools/call', { name: 'wait' }, 7));
  const before = await lost.until(/waiting/);
  lost.cut();
  const other = await (await start(url, 'POST', own, message('tools/call', { name: 'steps', arguments: { tag: 'other' } }, 8))).ended;
  expect(new Set([...idsOf(before), ...idsOf(other)]).size).toBe(idsOf(before).length + idsOf(other).length);
  release('released');
  const resumed = await start(url, 'GET', { ...own, accept: 'text/event-stream', 'last-event-id': idsOf(before).at(-1)! });
  const rest = await resumed.ended;
  expect(rest).toContain('released');
  expect(rest).not.toContain('waiting');
  expect(rest).not.toContain('other');
  const again = await (await start(url, 'GET', { ...own, accept: 'text/event-stream', 'last-event-id': idsOf(before)[0]! })).ended;
  expect(again).toContain('waiting');
  expect(again).toContain('released');
  for (const id of ['9.1', 'x', '1.99', ''])
    expect((await start(url, 'GET', { ...own, accept: 'text/event-stream', 'last-event-id': id })).status).toBe(id === '' ? 200 : 400);
});

test('[MCP-190] another session’s events are never replayed', async () => {
  const { url } = await serve();
  const [own, stranger] = [await session(url), await session(url)];
  const text = await (await start(url, 'POST', own, message('tools/call', { name: 'steps', arguments: { tag: 'secret' } }))).ended;
  expect((await start(url, 'GET', { ...stranger, accept: 'text/event-stream', 'last-event-id': idsOf(text)[0]! })).status).toBe(400);
});

test('[MCP-186] [MCP-188] [MCP-185] what belongs to no request goes to the newest listener, or waits for one', async () => {
  const { url } = await serve();
  const own = await session(url);
  const listening = { ...own, accept: 'application/json, text/event-stream' };
  await (
    await start(url, 'POST', own, message('resources/subscribe', { uri: 'scale://MR-03' }))
  ).ended;
  meadow.updated('scale://MR-03');
  const first = await start(url, 'GET', listening);
  await first.until(/resources\/updated/);
  const second = await start(url, 'GET', listening);
  await second.until(/^id: /);
  meadow.updated('scale://MR-03');
  await second.until(/resources\/updated/);
  expect((await first.ended).match(/resources\/updated/g)).toHaveLength(1);
  second.cut();
});

test('[MCP-193] [MCP-194] a stream the server closes early says when to come back, and the client does', async () => {
  const { url } = await serve({ closeStreamsAfterMs: 30, retryMs: 20 });
  const own = await session(url);
  const closed = await (await start(url, 'POST', own, message('tools/call', { name: 'wait' }))).ended;
  expect(closed).toMatch(/retry: 20\n\n$/);
  release('x');
  const reconnects: string[] = [];
  const client = await connect(url, { onReconnect: (what) => void reconnects.push(what) });
  const answer = client.call('wait');
  while (reconnects.filter((what) => !what.startsWith('GET stream,') && what !== 'GET stream').length === 0) await client.ping();
  release('worth the wait');
  expect(await answer).toMatchObject({ content: [{ text: 'worth the wait' }] });
  await client.close();
});

test('idle streams are kept alive by comments', async () => {
  const { url } = await serve({ keepAliveMs: 20 });
  const own = await session(url);
  const stream = await start(url, 'GET', { ...own, accept: 'text/event-stream' });
  const text = await stream.until(/: still here[\s\S]*: still here/);
  expect(text).not.toContain('data: {');
  stream.cut();
});

test('a client that never reads is cut off, and can fetch what is still kept', async () => {
  const { url } = await serve({ maxUnreadBytes: 64 * 1024, maxKeptBytes: 256 * 1024 });
  const own = await session(url);
  const lazy = await start(url, 'POST', own, message('tools/call', { name: 'flood' }));
  lazy.pause();
  const text = await Promise.race([lazy.ended, (await start(url, 'POST', own, message('ping'))).ended.then(() => '')]);
  expect(text).toBe('');
  const reader = await start(url, 'POST', own, message('tools/call', { name: 'steps', arguments: { tag: 'alive' } }, 2));
  expect(await reader.ended).toContain('walked alive');
  lazy.cut();
});

test('[MCP-191] [MCP-184] a connection cut at any byte of the answer: the right answer comes, or a clear error', async () => {
  const { url } = await serve();
  const proxy = await cuttingProxy(url);
  const client = await connect(proxy.url, { backOffMs: 1, timeoutMs: 5000 });
  const call = (tag: string) => client.call('steps', { tag }, { onProgress: () => undefined });
  await call('measure');
  proxy.arm(Number.POSITIVE_INFINITY);
  await call('measure');
  const length = proxy.passed;
  expect(length).toBeGreaterThan(400);
  let answered = 0;
  for (let at = 1; at < length; at += 9) {
    proxy.arm(at);
    const outcome = await call(`cut ${at}`).then(
      ({ content }) => (content[0] as { text: string }).text,
      (error: { code: string }) => error.code,
    );
    if (outcome === `walked cut ${at}`) answered++;
    else expect(outcome).toBe('JEXO_CONNECT');
    proxy.arm(Number.POSITIVE_INFINITY);
    await client.ping().catch(() => client.ping());
  }
  expect(answered).toBeGreaterThan(length / 9 / 2);
  await client.close();
  proxy.close();
});

test('[MCP-200] [MCP-201] a session the server forgot is renewed, subscriptions too, and the caller need not know', async () => {
  const { url } = await serve();
  let renewed = 0;
  const seen: string[] = [];
  let told = () => {};
  const client = await connect(url, { onRenewed: () => renewed++ });
  await client.watch('scale://MR-03', (uri) => (seen.push(uri), told()));
  expect(open.at(-1)!.sessions).toBe(1);
  open.at(-1)!.forgetSessions();
  expect(open.at(-1)!.sessions).toBe(0);
  const answers = await Promise.all([client.call('steps', { tag: 'a' }), client.call('steps', { tag: 'b' })]);
  expect(answers.map(({ content }) => content)).toMatchObject([[{ text: 'walked a' }], [{ text: 'walked b' }]]);
  while (renewed === 0) await client.ping();
  const heard = new Promise<void>((resolve) => (told = resolve));
  meadow.updated('scale://MR-03');
  await heard;
  expect(renewed).toBe(1);
  expect(seen).toEqual(['scale://MR-03']);
  await client.close();
  expect(open.at(-1)!.sessions).toBe(0);
});

test('an idle session ends by itself', async () => {
  const service = await serve({ sessionIdleMs: 30 });
  const own = await session(service.url);
  while (service.sessions > 0) await (await start(service.url, 'OPTIONS', {})).ended;
  expect((await start(service.url, 'POST', own, message('ping'))).status).toBe(404);
});

test('without sessions, a call whose client is gone ends after a while', async () => {
  const service = await serve({ sessions: false, sessionIdleMs: 20 });
  const ended = new Promise((resolve) => (onHoldEnd = resolve));
  const lost = await start(
    service.url,
    'POST',
    { ...usual, 'mcp-protocol-version': '2025-06-18' },
    message('tools/call', { name: 'hold' }),
  );
  await lost.until(/holding/);
  lost.cut();
  expect(await ended).toBe('aborted');
});

test('a session whose client is gone in the middle of a call ends too, and the call with it', async () => {
  const service = await serve({ sessionIdleMs: 1000 });
  const own = await session(service.url);
  const lost = await start(service.url, 'POST', own, message('tools/call', { name: 'wait' }));
  await lost.until(/waiting/);
  lost.cut();
  while (service.sessions > 0) await (await start(service.url, 'OPTIONS', {})).ended;
  release('to nobody');
  const late = await start(service.url, 'POST', own, message('ping'));
  await late.ended;
  expect(late.status).toBe(404);
});
