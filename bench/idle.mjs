// Idle sessions, each with an open stream: what one costs the server, beside a raw node:http stream.
import { spawn } from 'node:child_process';
import http from 'node:http';
import { fileURLToPath } from 'node:url';

const here = (path) => fileURLToPath(new URL(path, import.meta.url));
const headers = { 'content-type': 'application/json', accept: 'application/json, text/event-stream' };
const hello = JSON.stringify({
  jsonrpc: '2.0',
  id: 1,
  method: 'initialize',
  params: { protocolVersion: '2025-11-25', capabilities: {}, clientInfo: { name: 'bench', version: '1' } },
});

const told = (child) => new Promise((resolve) => child.once('message', resolve));
function measure(child) {
  child.send('measure');
  return told(child);
}
function send(agent, port, method, more, body) {
  return new Promise((resolve, reject) => {
    const request = http.request({ host: '127.0.0.1', port, path: '/mcp', method, headers: { ...headers, ...more }, agent }, resolve);
    request.on('error', reject).end(body);
  });
}

async function hold(file, count) {
  const child = spawn(process.execPath, ['--expose-gc', here(file)], { stdio: ['ignore', 'inherit', 'inherit', 'ipc'] });
  const { port } = await told(child);
  const agent = new http.Agent({ keepAlive: true, maxSockets: 50 });
  const streams = [];
  const open = async () => {
    const answer = await send(agent, port, 'POST', {}, hello);
    const session = answer.headers['mcp-session-id'];
    await new Promise((resolve) => answer.resume().once('end', resolve));
    const stream = await send(false, port, 'GET', { 'mcp-session-id': session });
    if (stream.statusCode !== 200) throw new Error(`The stream was answered with ${stream.statusCode}.`);
    streams.push(stream);
  };
  for (let index = 0; index < 50; index++) await open(); // what is made once is not counted
  const before = await measure(child);
  for (let index = 0; index < count; index += 50) await Promise.all(Array.from({ length: 50 }, open));
  const after = await measure(child);
  if (after.sessions !== undefined && after.sessions < count) throw new Error(`Only ${after.sessions} sessions are left.`);
  for (const stream of streams) stream.destroy();
  agent.destroy();
  child.kill();
  return { bytes: (after.bytes - before.bytes) / count, rss: (after.rss - before.rss) / count };
}

export async function idle({ count = 10_000 } = {}) {
  const floor = await hold('floors/raw-stream.mjs', count);
  const jexo = await hold('servers/idle.mjs', count);
  return { count, floor, jexo };
}

if (process.argv[1] === fileURLToPath(import.meta.url)) console.log(await idle({ count: Number(process.argv[2] ?? 10_000) }));
