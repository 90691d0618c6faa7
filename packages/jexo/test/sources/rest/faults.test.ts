import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { gzipSync } from 'node:zlib';
import { bearer, connect, defineServer, wrapRest, type Client, type WrapRestOptions } from '../../../src/index.js';

/** A real server that misbehaves in one way for each path. */
const seen: string[] = [];
let flaky = 0;
const behaviours: Record<string, (request: IncomingMessage, response: ServerResponse) => void> = {
  slow: () => undefined,
  cut: (_, response) => {
    response.writeHead(200, { 'content-type': 'application/json', 'content-length': '1000' });
    response.write('{"a":');
    setImmediate(() => response.destroy());
  },
  hangup: (request) => request.socket.destroy(),
  html: (_, response) =>
    response.writeHead(200, { 'content-type': 'text/html' }).end('<html><head><title>Please sign in</title></head></html>'),
  'not-json': (_, response) => response.writeHead(200, { 'content-type': 'application/json' }).end('{"a": '),
  'wrong-type': (_, response) => response.writeHead(200, { 'content-type': 'application/zip' }).end('PK'),
  'error-page': (_, response) =>
    response.writeHead(500, { 'content-type': 'text/html' }).end('<title>Oops</title><pre>at secret/stack.js:1</pre>'),
  problem: (_, response) =>
    response
      .writeHead(422, { 'content-type': 'application/problem+json' })
      .end(JSON.stringify({ type: 'about:blank', title: 'Not bookable', detail: 'There is no hive XX-99.', errors: [{ field: 'hive' }] })),
  busy: (_, response) => response.writeHead(429, { 'retry-after': '3600' }).end(),
  flaky: (_, response) =>
    ++flaky % 3 === 0
      ? response.writeHead(200, { 'content-type': 'application/json' }).end('{"n":1}')
      : response.writeHead(503, { 'retry-after': '0' }).end(),
  huge(_, response) {
    response.writeHead(200, { 'content-type': 'application/json' });
    const chunk = 'x'.repeat(1_000_000);
    let sent = 0;
    const more = () => {
      while (sent++ < 50) if (!response.write(chunk)) return void response.once('drain', more);
      response.end();
    };
    more();
  },
  bomb: (_, response) =>
    response
      .writeHead(200, { 'content-type': 'application/json', 'content-encoding': 'gzip' })
      .end(gzipSync(Buffer.alloc(60_000_000, 0x20))),
  'to-private': (_, response) => response.writeHead(302, { location: 'http://169.254.169.254/latest/meta-data' }).end(),
  'to-file': (_, response) => response.writeHead(302, { location: 'file:///etc/passwd' }).end(),
  loop: (_, response) => response.writeHead(307, { location: '/loop' }).end(),
  'to-next': (_, response) => response.writeHead(302, { location: '/fine' }).end(),
  fine: (_, response) => response.writeHead(200, { 'content-type': 'application/json' }).end('{"n":1}'),
};
const server = createServer((request, response) => {
  const name = request.url!.slice(1).split('?')[0]!;
  seen.push(`${request.method} ${name} ${request.headers.authorization ?? ''}`);
  behaviours[name]!(request, response);
});
let base = '';
beforeAll(async () => {
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
});
afterAll(() => new Promise((resolve) => server.close(resolve).closeAllConnections()));
beforeEach(() => (seen.length = 0));

const schema = { type: 'object', properties: { n: { type: 'integer' } } };
const document = {
  openapi: '3.1.0',
  info: { title: 'Registry', version: '1' },
  paths: Object.fromEntries(
    Object.keys(behaviours).map((name) => [
      `/${name}`,
      {
        get: { operationId: `get ${name}`, responses: { 200: { description: 'OK', content: { 'application/json': { schema } } } } },
        post: { operationId: `post ${name}`, responses: { 200: { description: 'OK', content: { 'application/json': { schema } } } } },
      },
    ]),
  ),
};
const open: Client[] = [];
afterEach(async () => void (await Promise.all(open.splice(0).map((client) => client.close()))));
async function call(name: string, options: WrapRestOptions = {}, method = 'get') {
  const client = await connect(
    defineServer({ name: 'registry', version: '1', offers: [wrapRest(document, { baseUrl: base, maxRetries: 0, ...options })] }),
  );
  open.push(client);
  const result = await client.call(`${method}_${name.replaceAll('-', '_')}`);
  const [block] = result.content;
  return { isError: result.isError === true, text: block?.type === 'text' ? block.text : '' };
}

test.each([
  ['slow', { timeoutMs: 200 }, /did not answer within 0\.2 seconds/],
  ['cut', {}, /Registry cannot be reached: it cut the connection|terminated/],
  ['hangup', {}, /it cut the connection/],
  ['html', {}, /with a web page where JSON was promised \(“Please sign in”\)/],
  ['not-json', {}, /says it is JSON and is not/],
  ['wrong-type', {}, /with application\/zip where application\/json was promised/],
  ['error-page', {}, /refused GET \/error-page \(500 Internal Server Error\): “Oops”\nThe fault is the API’s/],
  ['problem', {}, /Not bookable: There is no hive XX-99\. \{"errors":\[\{"field":"hive"\}\]\}\nFix the fields it names/],
  ['busy', {}, /wants fewer calls\. Try again in 3600 seconds/],
  ['huge', {}, /answered with more than 10 MB/],
  ['bomb', {}, /answered with more than 10 MB/],
  ['to-private', {}, /redirects to 169\.254\.169\.254, a host that was not declared/],
  ['to-file', {}, /redirects to , a host that was not declared/],
  ['loop', {}, /redirects more than 5 times/],
] as [string, WrapRestOptions, RegExp][])('%s is a clear result', async (name, options, says) => {
  const { isError, text } = await call(name, options);
  expect([isError, text]).toEqual([true, expect.stringMatching(says)]);
  expect(text).not.toMatch(/stack\.js|root:/);
});

test('down, and of no such name', async () => {
  expect(await call('fine', { baseUrl: 'http://127.0.0.1:9' })).toMatchObject({
    isError: true,
    text: expect.stringMatching(/cannot be reached/),
  });
  expect(await call('fine', { baseUrl: 'http://no.such.host.invalid' })).toMatchObject({
    isError: true,
    text: expect.stringContaining('cannot be reached'),
  });
  expect(await call('fine', { baseUrl: 'nowhere' })).toMatchObject({ isError: true, text: expect.stringContaining('no address') });
});

test('what may be repeated is sent again when the API is busy; what may not is not', async () => {
  expect((await call('flaky', { maxRetries: 2 })).text).toBe('{"n":1}');
  expect(seen).toHaveLength(3);
  seen.length = 0;
  expect((await call('flaky', { maxRetries: 2 }, 'post')).isError).toBe(true);
  expect(seen).toHaveLength(1);
  seen.length = 0;
  expect((await call('hangup', { maxRetries: 1 })).isError).toBe(true);
  expect(seen).toHaveLength(2);
});

test('redirects on the same host are followed; ours goes nowhere else', async () => {
  expect((await call('to-next', { auth: bearer('t-123456') })).text).toBe('{"n":1}');
  expect(seen).toEqual(['GET to-next Bearer t-123456', 'GET fine Bearer t-123456']);
  const other = createServer((request, response) => {
    seen.push(`other ${request.headers.authorization ?? 'nothing'} ${request.headers['x-own'] ?? 'nothing'} ${request.headers.accept}`);
    response.writeHead(200, { 'content-type': 'application/json' }).end('{"n":2}');
  });
  await new Promise<void>((resolve) => other.listen(0, '127.0.0.1', resolve));
  const host = `127.0.0.1:${(other.address() as AddressInfo).port}`;
  behaviours['to-next'] = (_, response) => void response.writeHead(302, { location: `http://${host}/x` }).end();
  const own = { auth: bearer('t-123456'), headers: { 'X-Own': 'own' }, hosts: [host] };
  expect((await call('to-next', own)).text).toBe('{"n":2}');
  expect(seen.at(-1)).toMatch(/^other nothing nothing application\/json/);
  await new Promise((resolve) => other.close(resolve).closeAllConnections());
});

test('a cancelled call is cancelled upstream', async () => {
  const gone = new Promise<void>((resolve) => (behaviours.slow = (request) => void request.socket.once('close', resolve)));
  const client = await connect(defineServer({ name: 'registry', version: '1', offers: [wrapRest(document, { baseUrl: base })] }));
  open.push(client);
  const stop = new AbortController();
  const asked = client.call('get_slow', {}, { signal: stop.signal });
  while (seen.length === 0) await new Promise((resolve) => setImmediate(resolve));
  stop.abort();
  await expect(asked).rejects.toThrow();
  await gone;
});

test('no more requests at once than allowed', async () => {
  let inside = 0;
  let most = 0;
  const waiting: (() => void)[] = [];
  behaviours.slow = (_, response) => {
    most = Math.max(most, ++inside);
    waiting.push(() => {
      inside--;
      response.writeHead(200, { 'content-type': 'application/json' }).end('{}');
    });
    if (waiting.length === 2) waiting.splice(0).forEach((done) => done());
  };
  const client = await connect(
    defineServer({ name: 'registry', version: '1', offers: [wrapRest(document, { baseUrl: base, concurrency: 2 })] }),
  );
  open.push(client);
  await Promise.all(Array.from({ length: 6 }, () => client.call('get_slow')));
  expect(most).toBe(2);
});
