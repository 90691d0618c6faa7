// Validated calls a second over HTTP, 32 connections, as a ratio to raw node:http in the same run.
import { execFileSync } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import { inTurn, requireCommand, startServer, table, untilListening } from './measure.mjs';

const here = (path) => fileURLToPath(new URL(path, import.meta.url));

async function openSession(port) {
  const response = await fetch(`http://127.0.0.1:${port}/mcp`, {
    method: 'POST',
    headers: { 'content-type': 'application/json', accept: 'application/json, text/event-stream' },
    body: JSON.stringify({
      jsonrpc: '2.0',
      id: 1,
      method: 'initialize',
      params: { protocolVersion: '2025-06-18', capabilities: {}, clientInfo: { name: 'bench', version: '1' } },
    }),
  });
  await response.json();
  return response.headers.get('mcp-session-id');
}

export async function http({ seconds = 5, rounds = 5 } = {}) {
  requireCommand('wrk');
  const servers = { floor: [4701, 'floors/raw-http.mjs'], jexo: [4711, 'servers/http.mjs'] };
  const running = Object.values(servers).map(([port, file]) => startServer([here(file), String(port)]));
  try {
    for (const [port] of Object.values(servers)) await untilListening(port);
    const session = await openSession(4711);
    const load = ([port]) => {
      const out = execFileSync('wrk', ['-t1', '-c32', `-d${seconds}s`, '-s', here('floors/wrk-call.lua'), `http://127.0.0.1:${port}/mcp`], {
        env: { ...process.env, SESSION: session },
        encoding: 'utf8',
      });
      if (/Non-2xx/.test(out)) throw new Error(`Calls failed: ${out}`);
      return Number(/Requests\/sec:\s+([\d.]+)/.exec(out)[1]);
    };
    for (const server of Object.values(servers)) load(server); // warm up
    const found = await inTurn(servers, rounds, load);
    return { floor: found.floor, jexo: found.jexo, ratio: found.jexo / found.floor };
  } finally {
    for (const child of running) child.kill();
  }
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  const { floor, jexo, ratio } = await http();
  console.log(
    table(
      ['', 'calls a second'],
      [
        ['raw node:http', Math.round(floor)],
        ['jexo', Math.round(jexo)],
        ['ratio', ratio.toFixed(2)],
      ],
    ),
  );
}
