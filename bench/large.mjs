// Large answers over HTTP, and what middleware costs a call.
import { spawn } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import { connect, defineServer, tool } from 'jexo';
import { inTurn, median } from './measure.mjs';

const here = (path) => fileURLToPath(new URL(path, import.meta.url));

async function times(count, run) {
  const found = [];
  for (let index = 0; index < count; index++) {
    const from = performance.now();
    await run();
    found.push(performance.now() - from);
  }
  return median(found);
}

/** Milliseconds a client waits, over loopback HTTP, from the call to the parsed answer. */
export async function large() {
  const child = spawn(process.execPath, [here('servers/large.mjs')], { stdio: ['ignore', 'inherit', 'inherit', 'ipc'] });
  const { port } = await new Promise((resolve) => child.once('message', resolve));
  const headers = { 'content-type': 'application/json', accept: 'application/json, text/event-stream' };
  const url = `http://127.0.0.1:${port}/mcp`;
  const post = (session, message) =>
    fetch(url, {
      method: 'POST',
      headers: { ...headers, ...(session && { 'mcp-session-id': session }) },
      body: JSON.stringify({ jsonrpc: '2.0', id: 1, ...message }),
    });
  const opened = await post(undefined, {
    method: 'initialize',
    params: { protocolVersion: '2025-11-25', capabilities: {}, clientInfo: { name: 'bench', version: '1' } },
  });
  await opened.text();
  const session = opened.headers.get('mcp-session-id');
  const answer = async (message) => {
    const text = await (await post(session, message)).text();
    JSON.parse(text);
    return text.length;
  };
  const listBytes = await answer({ method: 'tools/list' });
  const list = await times(50, () => answer({ method: 'tools/list' }));
  const read = await times(5, () => answer({ method: 'resources/read', params: { uri: 'alderwick://large' } }));
  child.kill();
  return { listBytes, list, read };
}

/** Microseconds a call takes in memory, both ways serialised, with so many middleware around it. */
export async function middleware({ rounds = 5, calls = 20_000 } = {}) {
  const candidates = {};
  for (const count of [0, 5, 20]) {
    const layers = Array.from({ length: count }, () => (request, next) => next(request));
    const server = defineServer({
      name: 'x',
      version: '1',
      middleware: layers,
      offers: [
        tool('add', { input: { type: 'object', properties: { a: { type: 'number' }, b: { type: 'number' } } } }, ({ a, b }) => a + b),
      ],
    });
    const client = await connect(server);
    for (let index = 0; index < 2000; index++) await client.call('add', { a: 1, b: 2 });
    candidates[count] = client;
  }
  return inTurn(candidates, rounds, async (client) => {
    const from = performance.now();
    for (let index = 0; index < calls; index++) await client.call('add', { a: 1, b: 2 });
    return (1000 * (performance.now() - from)) / calls;
  });
}

if (process.argv[1] === fileURLToPath(import.meta.url)) console.log(await large(), await middleware());
