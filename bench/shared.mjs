// What sharing a Redis costs and brings: a call, its commands, two processes against one, idle sessions, and taking over those of a dead process.
import { spawn } from 'node:child_process';
import { mkdtempSync } from 'node:fs';
import { Agent } from 'node:http';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { createClient } from 'redis';
import { inTurn, pause, requireCommand, startServer, untilListening } from './measure.mjs';
import { besideBare, callsPerSecond, hello, here, send } from './production.mjs';

const freePort = () =>
  new Promise((resolve) => {
    const server = createServer().listen(0, '127.0.0.1', () => {
      const { port } = server.address();
      server.close(() => resolve(port));
    });
  });

/** A Redis for one measurement, with a client that asks it. */
async function withRedis(use) {
  requireCommand('redis-server');
  const port = await freePort();
  const dir = mkdtempSync(join(tmpdir(), 'jexo-bench-'));
  const child = spawn('redis-server', ['--port', String(port), '--bind', '127.0.0.1', '--save', '', '--dir', dir], { stdio: 'ignore' });
  await untilListening(port);
  const url = `redis://127.0.0.1:${port}`;
  const client = await createClient({ url }).connect();
  const info = async (section, field) => Number(new RegExp(`${field}:(\\d+)`).exec(await client.info(section))[1]);
  try {
    return await use({ url, info });
  } finally {
    client.destroy();
    child.kill();
  }
}

const serving = (port, url, which) => startServer([here('servers/stored.mjs'), String(port), url, which]);

/** Microseconds of processor time that a call takes with the store and without, and Redis commands a call. */
export function stored(how = {}) {
  return withRedis(async ({ url, info }) => {
    const port = await freePort();
    const found = await besideBare('', [port, [here('servers/stored.mjs'), String(port), url, 'add']], how);
    const counted = await freePort();
    const child = serving(counted, url, 'add');
    try {
      await untilListening(counted);
      const agent = new Agent({ keepAlive: true });
      const call = await session(counted, agent, 'add', { a: 1, b: 2 });
      await call();
      await pause(500);
      const calls = 500;
      const before = await info('stats', 'total_commands_processed');
      for (let count = 0; count < calls; count++) await call();
      // What the measuring itself and the signs of life of the process take is below one in a hundred.
      const commands = ((await info('stats', 'total_commands_processed')) - before) / calls;
      agent.destroy();
      return { ...found, commands };
    } finally {
      child.kill();
    }
  });
}

/** Opens a session at a port; gives what makes a call in it, there or elsewhere. */
async function session(port, agent, name, input) {
  const { 'mcp-session-id': id } = await send(port, agent, {}, hello);
  const headers = { 'mcp-session-id': id, 'mcp-protocol-version': '2025-06-18' };
  return (elsewhere = port) =>
    send(elsewhere, agent, headers, { jsonrpc: '2.0', id: 2, method: 'tools/call', params: { name, arguments: input } });
}

/** Calls a second that 32 clients get of one process and of two, each of their calls at the next one in turn; a call takes 2 ms of processor time. */
export function processes({ seconds = 4, rounds = 3 } = {}) {
  return withRedis(async ({ url }) => {
    const groups = { one: [await freePort()], two: [await freePort(), await freePort()] };
    const running = Object.values(groups)
      .flat()
      .map((port) => serving(port, url, 'burn'));
    try {
      const clients = {};
      for (const [name, ports] of Object.entries(groups)) {
        for (const port of ports) await untilListening(port);
        clients[name] = await Promise.all(
          Array.from({ length: 32 }, async (_, index) => {
            const agent = new Agent({ keepAlive: true });
            const call = await session(ports[index % ports.length], agent, 'burn', {});
            let next = index;
            return () => call(ports[next++ % ports.length]);
          }),
        );
      }
      return await inTurn(clients, rounds, (calls) => callsPerSecond(calls, seconds));
    } finally {
      for (const child of running) child.kill();
    }
  });
}

async function begin(port, count, agent) {
  const calls = [];
  for (let done = 0; done < count; done += 50)
    calls.push(
      ...(await Promise.all(Array.from({ length: Math.min(50, count - done) }, () => session(port, agent, 'add', { a: 1, b: 2 })))),
    );
  return calls;
}

/** Bytes of the Redis for one idle session. */
export function idleShared({ count = 100_000 } = {}) {
  return withRedis(async ({ url, info }) => {
    const port = await freePort();
    const child = serving(port, url, 'add');
    const agent = new Agent({ keepAlive: true, maxSockets: 50 });
    try {
      await untilListening(port);
      await begin(port, 50, agent);
      const before = await info('memory', 'used_memory');
      await begin(port, count, agent);
      await pause(500);
      return { count, bytes: ((await info('memory', 'used_memory')) - before) / count };
    } finally {
      agent.destroy();
      child.kill();
    }
  });
}

/** Milliseconds until every session of a process that was killed has had a call answered by another one. */
export function takeOver({ count = 10_000 } = {}) {
  return withRedis(async ({ url }) => {
    const [first, second] = [await freePort(), await freePort()];
    const [dying, living] = [serving(first, url, 'add'), serving(second, url, 'add')];
    const agent = new Agent({ keepAlive: true, maxSockets: 50 });
    try {
      await Promise.all([untilListening(first), untilListening(second)]);
      const calls = await begin(first, count, agent);
      dying.kill('SIGKILL');
      const from = performance.now();
      await Promise.all(calls.map((call) => call(second)));
      return { count, ms: performance.now() - from };
    } finally {
      agent.destroy();
      dying.kill();
      living.kill();
    }
  });
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  console.log(await stored());
  console.log(await processes());
  console.log(await idleShared());
  console.log(await takeOver());
}
