import { connect as connectTcp } from 'node:net';
import { spawn } from 'node:child_process';
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { defineServer, prompt, resource, serveHttp, tool, type HttpService, type ServeHttpOptions } from '../../src/index.js';
import type { Peer } from '../../src/engine/peer.js';
import { createGate } from '../../src/transports/http/gate.js';
import { freshFolder, jexo, run, start } from '../support/command-line.js';

const faults: string[] = [];
const options: ServeHttpOptions = { onFault: (error) => void faults.push(String(error)) };
const loop: Record<string, unknown> = {};
loop.loop = loop;
let hanging: AbortSignal[] = [];
const meadow = () =>
  defineServer({
    name: 'meadow',
    version: '1.0.0',
    offers: [
      tool('hang', {}, (_input, call) => {
        hanging.push(call.signal);
        return new Promise(() => undefined);
      }),
      tool('big', {}, () => 'x'.repeat(400_000)),
      tool('progress', {}, (_input, call) => {
        call.progress(1n as unknown as number, 2);
        call.progress(1, 2n as unknown as number);
        call.log('info', loop);
        return 'done';
      }),
      tool('ask', {}, async (_input, call) => (await call.askFor('Which?', { type: 'object', properties: {} })).action),
      tool('stray', {}, () => {
        void Promise.reject(new Error('nobody waits for this'));
        return 'done';
      }),
      resource('hive://loop', {}, () => loop as never),
      prompt('loop', {}, () => loop as never),
    ],
  });
const served: HttpService[] = [];
const serve = async (more: ServeHttpOptions = {}, server = meadow()) => {
  const service = await serveHttp(server, { ...options, ...more });
  served.push(service);
  return service;
};
afterEach(async () => {
  await Promise.all(served.splice(0).map((service) => service.close()));
  faults.length = 0;
  hanging = [];
});

/** A session by hand: what is posted goes there as it is. */
async function session(url: string, revision = '2025-11-25', capabilities: object = {}, accept = 'application/json, text/event-stream') {
  const post = async (body: unknown, more: Record<string, string> = {}) => {
    const response = await fetch(url, {
      method: 'POST',
      headers: { 'content-type': 'application/json', accept, ...(id !== '' && { 'mcp-session-id': id }), ...more },
      body: typeof body === 'string' ? body : JSON.stringify(body),
    });
    return response;
  };
  let id = '';
  const hello = await post({
    jsonrpc: '2.0',
    id: 0,
    method: 'initialize',
    params: { protocolVersion: revision, capabilities, clientInfo: { name: 'by hand', version: '1' } },
  });
  await hello.text();
  id = hello.headers.get('mcp-session-id')!;
  await (await post({ jsonrpc: '2.0', method: 'notifications/initialized' })).text();
  const call = (name: string, callId: unknown = 1, more: object = {}) =>
    post({ jsonrpc: '2.0', id: callId, method: 'tools/call', params: { name, arguments: {}, ...more } });
  return { post, call, id };
}
const alive = async (url: string) => expect((await (await session(url)).call('big')).status).toBe(200);

describe('one request does not end the process', () => {
  test('answers that cannot be written down are faults of that request alone', async () => {
    const { url } = await serve();
    const { post, call } = await session(url);
    expect(await (await call('progress', 1, { _meta: { progressToken: 'p' } })).text()).toContain('"done"');
    for (const [method, params] of [
      ['resources/read', { uri: 'hive://loop' }],
      ['prompts/get', { name: 'loop' }],
    ] as const) {
      const answer = (await (await post({ jsonrpc: '2.0', id: 2, method, params })).json()) as { error: { message: string } };
      expect(answer.error.message).toMatch(/reference [0-9a-f]{6}/);
    }
    expect(faults.join()).toMatch(/BigInt|circular/i);
    await alive(url);
  });

  test('a batch is bounded in messages and in what its answers hold', async () => {
    const { url } = await serve();
    const { post } = await session(url, '2025-03-26');
    const calls = (count: number) =>
      Array.from({ length: count }, (_, id) => ({ jsonrpc: '2.0', id, method: 'tools/call', params: { name: 'big', arguments: {} } }));
    const many = await post(calls(101));
    expect(await many.text()).toContain('at most 100 messages');
    const answers = (await (await post(calls(60))).json()) as { result?: object; error?: { message: string } }[];
    expect(answers).toHaveLength(60);
    const refused = answers.filter(({ error }) => error !== undefined);
    expect(refused.length).toBeGreaterThan(10);
    expect(refused[0]!.error!.message).toContain('send fewer at once');
    expect(answers.filter(({ result }) => result !== undefined).length).toBeGreaterThan(20);
    await alive(url);
  });

  test('a tap that fails is told once, and sees no body too deep to be looked at', async () => {
    const seen: unknown[] = [];
    const { url } = await serve({
      tap(event) {
        seen.push(event.message);
        throw new Error('the disk is full');
      },
    });
    const deep = `{"jsonrpc":"2.0","id":1,"method":"ping","params":${'{"a":'.repeat(5000)}1${'}'.repeat(5000)}}`;
    const { post } = await session(url);
    expect((await post(deep)).status).toBe(400);
    expect(JSON.stringify(seen)).not.toContain('{"a":{"a":{"a":');
    expect(faults.filter((fault) => fault.includes('disk is full'))).toHaveLength(1);
    await alive(url);
  });

  test('nor do strays of a handler, a closed stderr, a full disk under the wire log', async () => {
    const folder = freshFolder('survival');
    const module = join(folder, 'strays.ts');
    writeFileSync(
      module,
      `/** Strays. */ export function stray(): string { void Promise.reject(new Error('nobody waits')); setTimeout(() => { throw new Error('thrown late'); }, 1); return 'done'; }
/** Waits. */ export async function wait(): Promise<string> { await new Promise((resolve) => setTimeout(resolve, 50)); return 'still here'; }`,
    );
    const running = await start(['serve', module, '--http', '0', '--json', '--wire-log', '/dev/full']);
    const { call } = await session(running.said.address as string);
    expect(await (await call('stray')).text()).toContain('done');
    expect(await (await call('wait')).text()).toContain('still here');
    expect(running.stderr()).toMatch(/unhandled rejection: Error: nobody waits[\s\S]*uncaught exception: Error: thrown late/);
    expect(running.stderr().match(/cannot be written any more/g)).toHaveLength(1);
    running.child.stderr!.destroy();
    expect(await (await call('stray', 2)).text()).toContain('done');
    expect(await (await call('wait', 3)).text()).toContain('still here');
    expect(await running.stop()).toBe(0);
  });

  test('the page of the inspector takes whatever a browser can be made to send', async () => {
    const running = await start(['inspect', '--json']);
    const { port } = new URL(running.said.address as string);
    const raw = (text: string, end = true) =>
      new Promise<string>((resolve) => {
        const socket = connectTcp(Number(port), '127.0.0.1');
        let answer = '';
        socket.on('data', (chunk: Buffer) => (answer += chunk.toString()));
        socket.on('close', () => resolve(answer.split('\r\n')[0]!));
        socket.on('error', () => undefined);
        socket.write(text.replaceAll('\n', '\r\n'), () => end || socket.destroy());
      });
    const head = `Host: 127.0.0.1:${port}\nConnection: close\n`;
    expect(await raw(`GET /% HTTP/1.1\n${head}\n`)).toContain('400');
    expect(await raw(`GET // HTTP/1.1\n${head}\n`)).toContain('404');
    expect(await raw(`GET /%2e%2e/%2e%2e/etc/passwd HTTP/1.1\n${head}\n`)).toContain('404');
    expect(await raw(`GET /%00 HTTP/1.1\n${head}\n`)).toContain('400');
    expect(await raw(`TRACE /api/bench HTTP/1.1\n${head}\n`)).toContain('405');
    expect(await raw(`GET /api/bench HTTP/1.1\n${head}Content-Length: 2\n\n{}`)).toContain('401');
    await raw(`POST /api/session HTTP/1.1\n${head}Content-Length: 100\n\n{"tok`, false);
    expect(await raw(`GET / HTTP/1.1\n${head}\n`)).toContain('200');
    expect(await running.stop()).toBe(0);
  });
});

test.each([
  ['a result of null', { result: null }],
  ['a text', { result: 'accept' }],
  ['a list', { result: [] }],
  ['a malformed error', { error: { message: 'no' } }],
  ['both', { result: {}, error: { code: 1, message: 'no' } }],
  ['an id as text', { id: 'text', result: {} }],
])('a client that answers with %s ends the wait of the tool that asked', async (_what, answer) => {
  const { url } = await serve();
  const { post, call } = await session(url, '2025-11-25', { elicitation: {} });
  const calling = await call('ask');
  const reader = calling.body!.pipeThrough(new TextDecoderStream()).getReader();
  let seen = '';
  while (!seen.includes('elicitation/create')) seen += (await reader.read()).value;
  const id = (JSON.parse(/data: (\{.*elicitation.*\})/.exec(seen)![1]!) as { id: number }).id;
  const given = (answer as { id?: string }).id === 'text' ? { ...answer, id: String(id) } : { id, ...answer };
  await (await post({ jsonrpc: '2.0', ...given })).text();
  for (let part = await reader.read(); !part.done; part = await reader.read()) seen += part.value;
  expect(seen).toContain('"isError":true');
});

describe('ending', () => {
  const folder = freshFolder('ending');
  const module = join(folder, 'slow.ts');
  writeFileSync(
    module,
    `/** Hangs, and leaves a timer behind. */ export function hang(): Promise<string> { setInterval(() => undefined, 1000); return new Promise(() => undefined); }
/** Leaves a timer behind. */ export function leave(): string { setInterval(() => undefined, 1000); return 'left'; }
/** Long. */ export function flood(): string { return 'x'.repeat(3_000_000); }`,
  );

  test('a second signal ends at once, the first one says what is waited for', async () => {
    const running = await start(['serve', module, '--http', '0', '--json']);
    const { call } = await session(running.said.address as string);
    const hung = call('hang').catch(() => undefined);
    await (await call('leave', 2)).text();
    running.child.kill('SIGTERM');
    while (!running.stderr().includes('Waiting up to 10 s for 1 request in flight')) await new Promise((resolve) => setImmediate(resolve));
    expect(await running.stop('SIGINT')).toBe(130);
    await hung;
  });

  test('a timer that a handler left behind keeps neither a server nor a command', async () => {
    const running = await start(['serve', module, '--http', '0', '--json']);
    await (await (await session(running.said.address as string)).call('leave')).text();
    expect(await running.stop()).toBe(0);
    expect(await jexo(['call', module, 'leave'])).toMatchObject({ code: 0, stdout: 'left\n' });
  });

  const hello = (name: string, count = 1) =>
    [
      { id: 0, method: 'initialize', params: { protocolVersion: '2025-11-25', capabilities: {}, clientInfo: { name: 'x', version: '1' } } },
      { method: 'notifications/initialized' },
      ...Array.from({ length: count }, (_, index) => ({ id: index + 1, method: 'tools/call', params: { name, arguments: {} } })),
    ]
      .map((message) => `${JSON.stringify({ jsonrpc: '2.0', ...message })}\n`)
      .join('');
  const cli = join(process.cwd(), 'packages/jexo/dist/cli.mjs');

  test('over stdio a server whose client died with a call in flight ends within 2 s', async () => {
    // The client is a process of its own that is killed; the server tells its number.
    const client = `
      const { spawn } = require('node:child_process');
      const server = spawn(process.execPath, [${JSON.stringify(cli)}, 'serve', ${JSON.stringify(module)}], { stdio: ['pipe', 'pipe', 'ignore'] });
      server.stdin.write(${JSON.stringify(hello('hang'))});
      server.stdout.once('data', () => console.log(server.pid));`;
    const child = spawn(process.execPath, ['-e', client]);
    const pid = Number(await new Promise((resolve) => child.stdout.once('data', (chunk: Buffer) => resolve(chunk.toString()))));
    child.kill('SIGKILL');
    const began = performance.now();
    const isThere = () => {
      try {
        return process.kill(pid, 0);
      } catch {
        return false;
      }
    };
    while (isThere() && performance.now() - began < 20_000) await new Promise((resolve) => setTimeout(resolve, 20));
    expect(isThere()).toBe(false);
    expect(performance.now() - began).toBeLessThan(10_000);
  });

  test('over stdio a server whose client stopped reading ends when it is asked to', async () => {
    const child = spawn(process.execPath, [cli, 'serve', module], { stdio: ['pipe', 'pipe', 'ignore'] });
    child.stdout.pause();
    child.stdin.write(hello('flood', 5));
    await new Promise((resolve) => setTimeout(resolve, 1500));
    child.kill('SIGTERM');
    expect(await new Promise((resolve) => child.once('exit', resolve))).toBe(0);
  });

  test('the first Ctrl-C while connecting works, and leaves no child', async () => {
    const silent = join(folder, 'silent.mjs');
    writeFileSync(
      silent,
      `process.stderr.write('pid ' + process.pid + '\\n'); process.stdin.resume(); setInterval(() => undefined, 1000);`,
    );
    const child = spawn(process.execPath, [cli, 'list', '--wire', '--', process.execPath, silent]);
    let said = '';
    child.stderr.on('data', (chunk: Buffer) => (said += chunk.toString()));
    while (!said.includes('initialize')) await new Promise((resolve) => setImmediate(resolve));
    child.kill('SIGINT');
    expect(await new Promise((resolve) => child.once('close', resolve))).toBe(1);
    expect(said).toContain('was stopped');
    const { stdout } = await run('pgrep', ['-f', silent]);
    expect(stdout).toBe('');
  });
});

describe('what the standard wants', () => {
  test('a progress token is a text or a number: an object is refused, and never sent back', async () => {
    const { url } = await serve();
    const { call } = await session(url);
    const answer = await (await call('progress', 1, { _meta: { progressToken: { a: 1 } } })).json();
    expect(answer).toMatchObject({ id: 1, error: { code: -32602, message: expect.stringContaining('progressToken') } });
  });

  test('a client that takes JSON only gets no stream, and is not asked', async () => {
    const { url } = await serve();
    const { call } = await session(url, '2025-11-25', { elicitation: {} }, 'application/json');
    const progress = await call('progress', 1, { _meta: { progressToken: 'p' } });
    expect(progress.headers.get('content-type')).toBe('application/json');
    expect(await progress.text()).toContain('done');
    const ask = await call('ask', 2);
    expect(ask.headers.get('content-type')).toBe('application/json');
    expect(await ask.text()).toContain('nothing can be asked of it');
  });

  test('a client that takes streams only gets one', async () => {
    const { url } = await serve();
    const { call } = await session(url, '2025-11-25', {}, 'text/event-stream');
    const answer = await call('big');
    expect(answer.headers.get('content-type')).toBe('text/event-stream');
    expect(await answer.text()).toContain('event: message');
  });

  test('a refused handshake names no session, and a second one changes nothing', async () => {
    const service = await serve();
    const bad = await fetch(service.url, {
      method: 'POST',
      headers: { 'content-type': 'application/json', accept: 'application/json, text/event-stream' },
      body: JSON.stringify({ jsonrpc: '2.0', id: 1, method: 'initialize', params: { protocolVersion: 7 } }),
    });
    expect(bad.headers.get('mcp-session-id')).toBeNull();
    expect(await bad.json()).toMatchObject({ error: { code: -32602 } });
    expect(service.sessions).toBe(0);
    const { post, call } = await session(service.url, '2025-06-18');
    const again = {
      jsonrpc: '2.0',
      id: 9,
      method: 'initialize',
      params: { protocolVersion: '2025-11-25', capabilities: { sampling: {} }, clientInfo: { name: 'y', version: '2' } },
    };
    expect((await post(again)).status).toBe(400);
    expect((await call('big')).status).toBe(200);
  });

  test('a body that is no message is no success, and a method’s name is not echoed at length', async () => {
    const { url } = await serve();
    const { post } = await session(url);
    for (const body of ['5', 'null', '"text"', '{}', '{"jsonrpc":"1.0","id":1,"method":"ping"}'])
      expect((await post(body)).status).toBe(400);
    const long = await (await post({ jsonrpc: '2.0', id: 1, method: 'x'.repeat(50_000) })).text();
    expect(long.length).toBeLessThan(400);
    expect((await post({ jsonrpc: '2.0', id: 'x'.repeat(5000), method: 'ping' })).status).toBe(400);
  });

  test('a doubled Host header is refused', async () => {
    const { url } = await serve();
    const { port } = new URL(url);
    const answer = await new Promise<string>((resolve) => {
      const socket = connectTcp(Number(port), '127.0.0.1', () =>
        socket.write(
          `POST /mcp HTTP/1.1\r\nHost: 127.0.0.1:${port}\r\nHost: evil.example\r\nContent-Type: application/json\r\nContent-Length: 2\r\nConnection: close\r\n\r\n{}`,
        ),
      );
      socket.once('data', (chunk: Buffer) => resolve(chunk.toString()));
    });
    expect(answer).toMatch(/^HTTP\/1\.1 400/);
  });
});

describe('bounds', () => {
  test('a new session takes the place of one that has done nothing, and one address cannot take them all', async () => {
    const service = await serve({ maxSessions: 4, maxSessionsPerAddress: 3 });
    const first = await session(service.url);
    await (await first.call('big')).text();
    for (let count = 0; count < 10; count++) await session(service.url);
    expect(service.sessions).toBe(3);
    // The one that was used is there still.
    expect((await first.call('big')).status).toBe(200);
  });

  test('without sessions a client that never reads is cut', async () => {
    const pour = defineServer({
      name: 'pour',
      version: '1',
      offers: [
        tool('pour', {}, async (_input, call) => {
          hanging.push(call.signal);
          for (let count = 0; count < 4000 && !call.signal.aborted; count++) {
            call.log('info', 'x'.repeat(50_000));
            if (count % 20 === 0) await new Promise((resolve) => setImmediate(resolve));
          }
          return call.signal.aborted ? 'cut' : 'all read';
        }),
      ],
    });
    const { url } = await serve({ sessions: false, maxUnreadBytes: 100_000 }, pour);
    const { port } = new URL(url);
    const body = JSON.stringify({ jsonrpc: '2.0', id: 1, method: 'tools/call', params: { name: 'pour', arguments: {} } });
    const socket = connectTcp(Number(port), '127.0.0.1', () =>
      socket.write(
        `POST /mcp HTTP/1.1\r\nHost: 127.0.0.1:${port}\r\nContent-Type: application/json\r\nAccept: application/json, text/event-stream\r\nContent-Length: ${body.length}\r\n\r\n${body}`,
      ),
    );
    socket.pause();
    socket.on('error', () => undefined);
    while (!hanging[0]?.aborted) await new Promise((resolve) => setTimeout(resolve, 10));
    socket.destroy();
  });

  test('requests in flight are bounded, for one client and for all', async () => {
    const limited = defineServer({ ...meadow().definition, maxCalls: 3 });
    const { url } = await serve({ graceMs: 1 }, limited);
    const { call, post } = await session(url);
    for (let id = 1; id <= 3; id++) void call('hang', id).catch(() => undefined);
    while (hanging.length < 3) await new Promise((resolve) => setImmediate(resolve));
    expect(await (await call('hang', 4)).text()).toContain('Too many requests are being answered');
    await (await post({ jsonrpc: '2.0', method: 'notifications/cancelled', params: { requestId: 1 } })).text();
    expect((await call('big', 5)).status).toBe(200);
  });

  test('what a peer says of itself is kept in short', async () => {
    let peer: Peer | undefined;
    const server = meadow();
    const own = { ...server, open: (given: Parameters<typeof server.open>[0]) => (peer = server.open(given)) };
    const { url } = await serve({}, own);
    const clientInfo = { name: 'n'.repeat(100_000), version: '1', freight: 'f'.repeat(100_000) };
    const send = (capabilities: object) =>
      fetch(url, {
        method: 'POST',
        headers: { 'content-type': 'application/json', accept: 'application/json, text/event-stream' },
        body: JSON.stringify({
          jsonrpc: '2.0',
          id: 1,
          method: 'initialize',
          params: { protocolVersion: '2025-11-25', capabilities, clientInfo },
        }),
      });
    await (await send({})).text();
    expect(JSON.stringify(peer!.remote).length).toBeLessThan(1000);
    expect(await (await send({ experimental: { x: { y: 'z'.repeat(100_000) } } })).json()).toMatchObject({ error: { code: -32602 } });
  });
});

describe('who may call', () => {
  test('an address that others reach is served only when that is said', async () => {
    await expect(serveHttp(meadow(), { host: '0.0.0.0' })).rejects.toMatchObject({ code: 'JEXO_OPEN' });
    const service = await serve({ host: '0.0.0.0', open: true });
    expect(service.port).toBeGreaterThan(0);
  });

  test('under any host name, a page of a name that leads here is refused; one of this address passes', () => {
    const gate = createGate({ allowedHosts: ['*'] });
    expect(gate.refuses('rebound.example:4300', 'http://rebound.example:4300')).toContain('Origin');
    expect(gate.refuses('192.168.1.5:4300', 'http://192.168.1.5:4300')).toBeUndefined();
    expect(gate.refuses('hives.example', 'https://hives.example')).toBeUndefined();
    expect(gate.refuses('hives.example', 'https://elsewhere.example')).toContain('Origin');
    expect(gate.refuses('hives.example', undefined)).toBeUndefined();
  });
});

test('a server that cannot be read says why to its operator, and is ready when it can', async () => {
  const folder = freshFolder('readiness');
  mkdirSync(join(folder, 'dist'));
  writeFileSync(join(folder, 'package.json'), '{"type":"module"}');
  writeFileSync(join(folder, 'dist', 'hives.js'), `export function mix(colonies, season = 'spring') { return { sugarKg: colonies }; }\n`);
  writeFileSync(
    join(folder, 'dist', 'server.js'),
    `import { defineServer, serveHttp, wrapFunctions } from ${JSON.stringify(join(process.cwd(), 'packages/jexo/dist/index.mjs'))};
import * as hives from './hives.js';
const server = defineServer({ name: 'apiary', version: '1.0.0', offers: [wrapFunctions(hives, { types: new URL('./hives.ts', import.meta.url) })] });
console.log((await serveHttp(server)).url);`,
  );
  const child = spawn(process.execPath, [join(folder, 'dist', 'server.js')]);
  let said = '';
  child.stderr.on('data', (chunk: Buffer) => (said += chunk.toString()));
  const url = String(await new Promise((resolve) => child.stdout.once('data', (chunk: Buffer) => resolve(chunk.toString().trim()))));
  while (!said.includes('cannot be read')) await new Promise((resolve) => setImmediate(resolve));
  expect(said).toMatch(/There is no file .*hives\.ts.*Compile with "declaration": true/s);
  expect(await (await fetch(url.replace('/mcp', '/ready'))).text()).toBe('failed\n');
  // The declaration that the compiler writes beside the code is enough.
  writeFileSync(
    join(folder, 'dist', 'hives.d.ts'),
    `/** How much to mix. @param colonies how many */\nexport declare function mix(colonies: number, season?: 'spring' | 'autumn'): { sugarKg: number };\n`,
  );
  for (;;) {
    if ((await (await fetch(url.replace('/mcp', '/ready'))).text()) === 'ready\n') break;
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
  const { post } = await session(url);
  expect(
    await (await post({ jsonrpc: '2.0', id: 1, method: 'tools/call', params: { name: 'mix', arguments: { colonies: 3 } } })).text(),
  ).toContain('sugarKg');
  child.kill('SIGKILL');
});
