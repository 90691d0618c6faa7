import { connect as connectSocket } from 'node:net';
import { spawn } from 'node:child_process';
import fc from 'fast-check';
import { defineServer, serveHttp, tool, type HttpService } from '../../src/index.js';
import type { Peer } from '../../src/engine/peer.js';
import { systemClock } from '../../src/engine/clock.js';
import { connect } from '../support/connect.js';
import { cli, hives } from '../support/command-line.js';

const faults: unknown[] = [];
const meadow = defineServer({
  name: 'meadow',
  version: '1',
  offers: [
    tool('echo', { input: { type: 'object', properties: { tag: { type: 'string' } } } }, ({ tag }) => tag ?? 'nothing'),
    tool('throws', {}, () => {
      throw new TypeError('at secret (/srv/app.js:3:4)');
    }),
    tool('rejects', {}, () => Promise.reject(Object.assign(new Error('connect'), { syscall: 'connect', address: '10.0.0.1' }))),
    tool('throws_null', {}, () => {
      throw null;
    }),
    tool('cycle', {}, () => {
      const loop: Record<string, unknown> = {};
      loop.self = loop;
      return loop;
    }),
    tool('nothing', {}, () => undefined),
    tool('big', {}, () => ({ big: 1n })),
    tool('huge', {}, () => 'x'.repeat(50 * 1024 * 1024)),
    tool('bad_json', {}, () => ({
      toJSON() {
        throw new Error('no');
      },
    })),
    tool('hangs', {}, () => new Promise(() => {})),
    tool('symbol', {}, () => Symbol('x')),
  ],
});

const nasty: unknown[] = [
  null,
  true,
  7,
  'text',
  [],
  [[]],
  {},
  { jsonrpc: '1.0' },
  { jsonrpc: '2.0' },
  { jsonrpc: '2.0', id: null, method: 'ping' },
  { jsonrpc: '2.0', id: 1.5, method: 'ping' },
  { jsonrpc: '2.0', id: {}, method: 'ping' },
  { jsonrpc: '2.0', id: 2 ** 60, method: 'ping' },
  { jsonrpc: '2.0', id: 'x'.repeat(100_000), method: 'ping' },
  { jsonrpc: '2.0', id: 1, method: '__proto__' },
  { jsonrpc: '2.0', id: 1, method: 'constructor' },
  { jsonrpc: '2.0', id: 1, method: 'toString' },
  { jsonrpc: '2.0', id: 1, method: 'tools/call' },
  { jsonrpc: '2.0', id: 1, method: 'tools/call', params: null },
  { jsonrpc: '2.0', id: 1, method: 'tools/call', params: [] },
  { jsonrpc: '2.0', id: 1, method: 'tools/call', params: { name: '__proto__', arguments: {} } },
  { jsonrpc: '2.0', id: 1, method: 'tools/call', params: { name: 'hasOwnProperty' } },
  JSON.parse(
    '{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"echo","arguments":{"__proto__":{"polluted":true},"constructor":{"prototype":{"polluted":true}}}}}',
  ),
  { jsonrpc: '2.0', id: 1, method: 'initialize', params: { protocolVersion: 7, capabilities: [], clientInfo: 'x' } },
  { jsonrpc: '2.0', id: 1, result: {} },
  { jsonrpc: '2.0', id: 1, error: { code: 'x' } },
  { jsonrpc: '2.0', id: 1, error: null },
  { jsonrpc: '2.0', method: 'notifications/cancelled', params: { requestId: { toString: 'x' } } },
  { jsonrpc: '2.0', method: 'notifications/progress', params: { progressToken: null } },
  { jsonrpc: '2.0', id: 1, method: 'logging/setLevel', params: { level: '__proto__' } },
  { jsonrpc: '2.0', id: 1, method: 'tools/list', params: { cursor: '\u0000' } },
  { jsonrpc: '2.0', id: 1, method: 'resources/read', params: { uri: 'javascript:alert(1)' } },
  { jsonrpc: '2.0', id: 1, method: 'completion/complete', params: { ref: { type: '__proto__' }, argument: {} } },
  { jsonrpc: '2.0', id: 1, method: 'tasks/get', params: { taskId: '__proto__' } },
  { jsonrpc: '2.0', id: 1, method: 'tools/call', params: { name: 'echo', task: 'x' } },
];

function openPeer(): { peer: Peer; sent: Record<string, unknown>[] } {
  const sent: Record<string, unknown>[] = [];
  const peer = meadow.open({
    outlet: { send: (message) => void sent.push(JSON.parse(JSON.stringify(message)) as never) },
    clock: systemClock,
    onFault: (error) => void faults.push(error),
  });
  peer.begin({ revision: '2025-11-25' });
  return { peer, sent };
}

beforeAll(() => meadow.ready());

test('junk of any kind is answered with an error or not at all, and pings go on being answered', async () => {
  const junk = fc.oneof(
    fc.constantFrom(...nasty),
    fc.jsonValue(),
    fc.record({
      jsonrpc: fc.constant('2.0'),
      id: fc.oneof(fc.string(), fc.integer(), fc.jsonValue()),
      method: fc.oneof(fc.string(), fc.constantFrom('tools/call', 'tools/list', 'prompts/get')),
      params: fc.jsonValue(),
    }),
  );
  await fc.assert(
    fc.asyncProperty(fc.array(junk, { maxLength: 20 }), async (messages) => {
      const { peer, sent } = openPeer();
      for (const message of messages) peer.receive(message);
      for (let turn = 0; turn < 10; turn++) await Promise.resolve();
      sent.length = 0;
      peer.receive({ jsonrpc: '2.0', id: 'still there?', method: 'ping' });
      expect(sent).toEqual([{ jsonrpc: '2.0', id: 'still there?', result: {} }]);
      expect(({} as Record<string, unknown>).polluted).toBeUndefined();
      peer.close();
      expect(peer.inFlight).toEqual({ incoming: 0, outgoing: 0 });
    }),
    { numRuns: 300 },
  );
});

test.each(['throws', 'rejects', 'throws_null', 'cycle', 'big', 'bad_json'])(
  'a handler that does wrong (%s) fails its own call, with nothing of its insides on the wire',
  async (name) => {
    const client = await connect(meadow, { onFault: () => undefined });
    const result = await client.call(name);
    expect(result.isError).toBe(true);
    expect(JSON.stringify(result)).not.toMatch(/srv|10\.0\.0\.1|\.js:\d/);
    await client.ping();
    await client.close();
  },
);

test('nothing, a symbol and fifty megabytes are answers too', async () => {
  const client = await connect(meadow);
  expect((await client.call('nothing')).content).toEqual([]);
  expect((await client.call('symbol')).content).toMatchObject([{ type: 'text' }]);
  const [block] = (await client.call('huge')).content;
  expect(block?.type === 'text' && block.text.length).toBe(50 * 1024 * 1024);
  await client.close();
});

test('an id that is still in use is refused; the first call keeps it', async () => {
  const { peer, sent } = openPeer();
  peer.receive({ jsonrpc: '2.0', id: 1, method: 'tools/call', params: { name: 'hangs' } });
  peer.receive({ jsonrpc: '2.0', id: 1, method: 'tools/call', params: { name: 'echo' } });
  expect(sent).toMatchObject([{ id: 1, error: { code: -32600, message: expect.stringContaining('in use') } }]);
  expect(peer.inFlight.incoming).toBe(1);
  peer.close();
});

let service: HttpService;
beforeAll(async () => {
  service = await serveHttp(meadow, { maxBodyBytes: 100_000, onFault: () => undefined });
});
afterAll(() => service.close());

/** Sends bytes as they are and gives what came back until the server closed or went silent for good. */
function raw(bytes: Buffer | string, cutAfter = Number.POSITIVE_INFINITY): Promise<string> {
  const { hostname, port } = new URL(service.url);
  return new Promise((resolve) => {
    const socket = connectSocket(Number(port), hostname);
    let text = '';
    socket.on('data', (chunk) => (text += chunk.toString()));
    socket.on('error', () => undefined);
    socket.on('close', () => resolve(text));
    const data = Buffer.from(bytes);
    socket.write(data.subarray(0, cutAfter), () => (cutAfter < data.length ? socket.destroy() : socket.end()));
  });
}
function post(body: Buffer | string, headers = ''): Buffer {
  const bytes = Buffer.from(body);
  return Buffer.concat([
    Buffer.from(
      `POST /mcp HTTP/1.1\r\nhost: 127.0.0.1\r\ncontent-type: application/json\r\nconnection: close\r\ncontent-length: ${bytes.length}\r\n${headers}\r\n`,
    ),
    bytes,
  ]);
}

test('over HTTP too: whatever the body, the answer is an error and the server lives', async () => {
  const bodies: (Buffer | string)[] = [
    ...nasty.map((value) => JSON.stringify(value)),
    '',
    '{',
    '\u0000',
    Buffer.from([0xff, 0xfe, 0x80]),
    Buffer.from([0xc3, 0x28]),
    'x'.repeat(99_000),
    '['.repeat(50_000),
    `{"a":${'{"a":'.repeat(3000)}1${'}'.repeat(3001)}`,
  ];
  for (const body of bodies) {
    const answer = await raw(post(body));
    expect(answer).toMatch(/^HTTP\/1\.1 (400|202|404|413|200) /);
    expect(answer).not.toMatch(/\.[jt]s:\d|node:internal/);
  }
  expect(await raw(post('{}', 'mcp-session-id: x\r\nx-evil: a\u0000b\r\n'))).toMatch(/^HTTP\/1\.1 400/);
  expect(await raw('GARBAGE\r\n\r\n')).toMatch(/^HTTP\/1\.1 400/);
  expect(await raw(post('x'.repeat(200_000)))).toMatch(/413|^$/);
});

test('a header cannot be injected by what a client sends', async () => {
  const answer = await raw(
    post(
      JSON.stringify({
        jsonrpc: '2.0',
        id: 'a\r\nset-cookie: x=1',
        method: 'initialize',
        params: {
          protocolVersion: '2025-11-25\r\nset-cookie: y=1',
          capabilities: {},
          clientInfo: { name: 'x\r\nset-cookie: z=1', version: '1' },
        },
      }),
    ),
  );
  expect(answer.slice(0, answer.indexOf('\r\n\r\n')).toLowerCase()).not.toContain('set-cookie');
});

test('a request cut off at any byte leaves nothing behind', async () => {
  const hello = post(
    JSON.stringify({
      jsonrpc: '2.0',
      id: 1,
      method: 'initialize',
      params: { protocolVersion: '2025-11-25', capabilities: {}, clientInfo: { name: 'x', version: '1' } },
    }),
  );
  const before = service.sessions;
  for (let at = 1; at < hello.length; at += 3) await raw(hello, at);
  const client = await connect(service.url);
  expect(await client.call('echo', { tag: 'alive' })).toMatchObject({ content: [{ text: 'alive' }] });
  expect(service.sessions).toBe(before + 1);
  await client.close();
});

test('many sessions at once: every answer belongs to its own call', async () => {
  const clients = await Promise.all(Array.from({ length: 20 }, () => connect(service.url)));
  await Promise.all(
    clients.flatMap((client, index) =>
      Array.from({ length: 10 }, async (_, turn) => {
        const tag = `${index}/${turn}`;
        expect(await client.call('echo', { tag })).toMatchObject({ content: [{ text: tag }] });
      }),
    ),
  );
  await Promise.all(clients.map((client) => client.close()));
});

test('a server killed in the middle of a call fails that call, clearly', async () => {
  const child = spawn(process.execPath, [cli, 'serve', hives, '--http', '--json'], { stdio: ['ignore', 'ignore', 'pipe'] });
  const said = await new Promise<string>((resolve) => child.stderr.once('data', (chunk: Buffer) => resolve(chunk.toString())));
  const client = await connect((JSON.parse(said) as { address: string }).address, { backOffMs: 1, maxRetries: 2 });
  await client.tools();
  const killed = new Promise((resolve) => child.once('close', resolve));
  child.kill('SIGKILL');
  await killed;
  await expect(client.call('mix_syrup', { colonies: 1 })).rejects.toMatchObject({ code: 'JEXO_CONNECT' });
  await client.close();
});

test('over stdio: a stream of junk, long lines and bad bytes between good calls', async () => {
  const child = spawn(process.execPath, [cli, 'serve', hives], { stdio: ['pipe', 'pipe', 'ignore'] });
  let out = '';
  child.stdout.on('data', (chunk: Buffer) => (out += chunk.toString()));
  const line = (value: unknown) => child.stdin.write(`${JSON.stringify(value)}\n`);
  line({
    jsonrpc: '2.0',
    id: 'hello',
    method: 'initialize',
    params: { protocolVersion: '2025-11-25', capabilities: {}, clientInfo: { name: 'x', version: '1' } },
  });
  for (const value of nasty) {
    line(value);
    child.stdin.write(Buffer.from([0xff, 0x00, 0xfe, 0x0a]));
  }
  child.stdin.write(`${'x'.repeat(17 * 1024 * 1024)}\n${'['.repeat(100_000)}\n`);
  line({ jsonrpc: '2.0', id: 'end', method: 'ping' });
  child.stdin.end();
  expect(await new Promise((resolve) => child.once('close', resolve))).toBe(0);
  const answers = out
    .trim()
    .split('\n')
    .map((text) => JSON.parse(text) as { id?: unknown; error?: { message: string } });
  expect(answers.at(-1)).toEqual({ jsonrpc: '2.0', id: 'end', result: {} });
  expect(answers.some(({ error }) => error?.message.includes('at most 16777216 bytes'))).toBe(true);
  expect(answers.some(({ error }) => error?.message.includes('nests deeper'))).toBe(true);
});
