// Validated calls a second over HTTP, 32 connections, as a ratio to raw node:http in the same run.
import { execFileSync } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import { inTurn, processorMs, requireCommand, startServer, table, untilListening } from './measure.mjs';

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
  const spent = { 4701: { calls: 0, ms: 0 }, 4711: { calls: 0, ms: 0 } };
  const pids = { 4701: running[0].pid, 4711: running[1].pid };
  try {
    for (const [port] of Object.values(servers)) await untilListening(port);
    const session = await openSession(4711);
    const load = ([port]) => {
      const before = processorMs(pids[port]);
      const out = execFileSync('wrk', ['-t1', '-c32', `-d${seconds}s`, '-s', here('floors/wrk-call.lua'), `http://127.0.0.1:${port}/mcp`], {
        env: { ...process.env, SESSION: session },
        encoding: 'utf8',
      });
      if (/Non-2xx/.test(out)) throw new Error(`Calls failed: ${out}`);
      spent[port].ms += processorMs(pids[port]) - before;
      spent[port].calls += Number(/(\d+) requests in/.exec(out)[1]);
      return Number(/Requests\/sec:\s+([\d.]+)/.exec(out)[1]);
    };
    for (const server of Object.values(servers)) load(server); // warm up
    for (const each of Object.values(spent)) each.calls = each.ms = 0;
    const found = await inTurn(servers, rounds, load);
    const microseconds = (port) => (spent[port].ms * 1000) / spent[port].calls;
    return {
      floor: found.floor,
      jexo: found.jexo,
      ratio: found.jexo / found.floor,
      /** Processor time of one call, in microseconds: steadier than a rate where the machine is not ours alone. */
      processor: { floor: microseconds(4701), jexo: microseconds(4711), ratio: microseconds(4701) / microseconds(4711) },
    };
  } finally {
    for (const child of running) child.kill();
  }
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  const { floor, jexo, ratio, processor } = await http();
  console.log(
    table(
      ['', 'calls a second', 'processor time a call'],
      [
        ['raw node:http', Math.round(floor), `${processor.floor.toFixed(1)} µs`],
        ['jexo', Math.round(jexo), `${processor.jexo.toFixed(1)} µs`],
        ['ratio', ratio.toFixed(2), processor.ratio.toFixed(2)],
      ],
    ),
  );
}
