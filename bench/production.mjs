// What running for real costs: keys, logs and metrics on a call; two workers against one; and whether a refusal's time tells of the key.
import { execFileSync, spawn } from 'node:child_process';
import { createHash, randomBytes, timingSafeEqual } from 'node:crypto';
import { mkdtempSync, writeFileSync } from 'node:fs';
import { Agent, createServer, request } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { exportJWK, generateKeyPair, SignJWT } from 'jose';
import { keys } from 'jexo';
import { inTurn, median, pause, processorMs, requireCommand, startServer, table, untilListening } from './measure.mjs';

export const here = (path) => fileURLToPath(new URL(path, import.meta.url));
const cli = here('../packages/jexo/bin/jexo.mjs');

function makeKey() {
  const folder = mkdtempSync(join(tmpdir(), 'jexo-bench-'));
  const file = join(folder, 'keys.json');
  const { key } = JSON.parse(execFileSync(process.execPath, [cli, 'keys', 'add', 'bench', '--keys', file, '--json'], { encoding: 'utf8' }));
  return { folder, file, key };
}

export const hello = {
  jsonrpc: '2.0',
  id: 1,
  method: 'initialize',
  params: { protocolVersion: '2025-06-18', capabilities: {}, clientInfo: { name: 'bench', version: '1' } },
};
const json = { 'content-type': 'application/json', accept: 'application/json, text/event-stream' };

/** Processor time of a call with keys, log and metrics over that of the bare call, in microseconds. */
export async function guarded(how = {}) {
  const { folder, file, key } = makeKey();
  return besideBare(key, [4732, [here('servers/production.mjs'), '4732', file, join(folder, 'calls.log')]], how);
}

/** The same for a server whose callers have signed in: every call brings a signed token (RS256). */
export async function signedIn(how = {}) {
  const { privateKey, publicKey } = await generateKeyPair('RS256', { extractable: true });
  const jwks = { keys: [{ ...(await exportJWK(publicKey)), kid: 'bench', alg: 'RS256' }] };
  const issuer = createServer((request, response) => {
    const url = `http://127.0.0.1:${issuer.address().port}`;
    response.setHeader('content-type', 'application/json');
    response.end(JSON.stringify(request.url === '/jwks' ? jwks : { issuer: url, jwks_uri: `${url}/jwks` }));
  });
  await new Promise((resolve) => issuer.listen(0, '127.0.0.1', resolve));
  const url = `http://127.0.0.1:${issuer.address().port}`;
  const token = await new SignJWT({ scope: 'hives:read' })
    .setProtectedHeader({ alg: 'RS256', kid: 'bench', typ: 'at+jwt' })
    .setIssuer(url)
    .setAudience('http://127.0.0.1:4733/mcp')
    .setSubject('keeper')
    .setExpirationTime('1h')
    .sign(privateKey);
  try {
    return await besideBare(token, [4733, [here('servers/signed-in.mjs'), '4733', url]], how);
  } finally {
    issuer.close();
  }
}

/** @param guardedServer its port, and the words that start it; the credential is a bearer token */
export async function besideBare(key, guardedServer, { seconds = 4, rounds = 5 } = {}) {
  requireCommand('wrk');
  const folder = mkdtempSync(join(tmpdir(), 'jexo-bench-'));
  const script = join(folder, 'call.lua');
  writeFileSync(
    script,
    `${execFileSync('cat', [here('floors/wrk-call.lua')], { encoding: 'utf8' })}\nwrk.headers["authorization"] = "Bearer ${key}"\n`,
  );
  const servers = {
    bare: [4731, [here('servers/http.mjs'), '4731']],
    guarded: guardedServer,
  };
  const running = Object.values(servers).map(([, words]) => startServer(words));
  try {
    const loads = {};
    for (const [index, [name, [port]]] of Object.entries(servers).entries()) {
      await untilListening(port);
      const response = await fetch(`http://127.0.0.1:${port}/mcp`, {
        method: 'POST',
        headers: { ...json, authorization: `Bearer ${key}` },
        body: JSON.stringify(hello),
      });
      await response.text();
      loads[name] = { port, pid: running[index].pid, session: response.headers.get('mcp-session-id') };
    }
    const load = ({ port, pid, session }) => {
      const before = processorMs(pid);
      const out = execFileSync('wrk', ['-t1', '-c32', `-d${seconds}s`, '-s', script, `http://127.0.0.1:${port}/mcp`], {
        env: { ...process.env, SESSION: session },
        encoding: 'utf8',
      });
      if (/Non-2xx/.test(out)) throw new Error(`Calls failed: ${out}`);
      return ((processorMs(pid) - before) * 1000) / Number(/(\d+) requests in/.exec(out)[1]);
    };
    for (const each of Object.values(loads)) load(each); // warm up
    const found = await inTurn(loads, rounds, load);
    return { ...found, ratio: found.guarded / found.bare };
  } finally {
    for (const child of running) child.kill();
  }
}

export const send = (port, agent, headers, body) =>
  new Promise((resolve, reject) => {
    const sent = request({ port, host: '127.0.0.1', path: '/mcp', method: 'POST', agent, headers: { ...json, ...headers } }, (answer) => {
      answer.resume().on('end', () => (answer.statusCode === 200 ? resolve(answer.headers) : reject(new Error(String(answer.statusCode)))));
    });
    sent.on('error', reject).end(JSON.stringify(body));
  });

/** Calls a second that 32 clients get, each with a session and a connection of its own; a call takes 2 ms of processor time. */
export async function workers({ seconds = 4, rounds = 3 } = {}) {
  const ports = { one: [4741, 1], two: [4742, 2] };
  const running = Object.values(ports).map(([port, count]) =>
    spawn(process.execPath, [cli, 'serve', here('servers/burn.mjs'), '--http', String(port), '--no-page', '--workers', String(count)], {
      stdio: 'ignore',
    }),
  );
  try {
    const clients = {};
    for (const [name, [port]] of Object.entries(ports)) {
      await untilListening(port);
      await pause(1000); // the second worker, too
      clients[name] = await Promise.all(
        Array.from({ length: 32 }, async () => {
          const agent = new Agent({ keepAlive: true, maxSockets: 1 });
          const { 'mcp-session-id': session } = await send(port, agent, {}, hello);
          const headers = { 'mcp-session-id': session, 'mcp-protocol-version': '2025-06-18' };
          return () => send(port, agent, headers, { jsonrpc: '2.0', id: 2, method: 'tools/call', params: { name: 'burn', arguments: {} } });
        }),
      );
    }
    return await inTurn(clients, rounds, (calls) => callsPerSecond(calls, seconds));
  } finally {
    for (const child of running) child.kill();
  }
}

/** Makes each call again and again, all at once. */
export async function callsPerSecond(calls, seconds) {
  const until = performance.now() + seconds * 1000;
  let count = 0;
  await Promise.all(
    calls.map(async (call) => {
      while (performance.now() < until) {
        await call();
        count++;
      }
    }),
  );
  return count / seconds;
}

/** Microseconds until a key is refused, by what is wrong with it: medians of many rounds, each class in turn. */
export async function refusals({ rounds = 4000, each = 20 } = {}) {
  const { file, key } = makeKey();
  const auth = keys(file);
  const [, id, secret] = /^jexo_([0-9a-z]{10})_(.+)$/.exec(key);
  const other = randomBytes(32).toString('base64url');
  const candidates = {
    'no letter right': `jexo_${id}_${other}`,
    'half of it right': `jexo_${id}_${secret.slice(0, 21)}${other.slice(21)}`,
    'all but the last right': `jexo_${id}_${secret.slice(0, -1)}${secret.endsWith('A') ? 'B' : 'A'}`,
    'an id that nobody has': `jexo_${'0'.repeat(10)}_${secret}`,
  };
  const times = Object.fromEntries(Object.keys(candidates).map((name) => [name, []]));
  const names = Object.keys(candidates);
  for (let round = 0; round < rounds; round++)
    for (let step = 0; step < names.length; step++) {
      const name = names[(round + step) % names.length];
      const header = () => `Bearer ${candidates[name]}`;
      const from = performance.now();
      for (let count = 0; count < each; count++)
        if ('identity' in (await auth({ method: 'POST', header, address: undefined }))) throw new Error('let in');
      times[name].push(((performance.now() - from) * 1000) / each);
    }
  const medians = Object.fromEntries(names.map((name) => [name, median(times[name].slice(rounds / 4))]));
  const spread = Math.max(...Object.values(medians)) / Math.min(...Object.values(medians));
  // What a comparison that ends at the first difference would show, in the same run.
  return { medians, spread, floor: digestUs() };
}

function digestUs() {
  const wanted = createHash('sha256').update('x').digest();
  const from = performance.now();
  for (let count = 0; count < 20_000; count++) timingSafeEqual(createHash('sha256').update(String(count)).digest(), wanted);
  return (performance.now() - from) / 20;
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  const { bare, guarded: full, ratio } = await guarded();
  const { one, two } = await workers();
  const { medians, spread, floor } = await refusals();
  console.log(
    table(
      ['', ''],
      [
        ['bare call', `${bare.toFixed(1)} µs`],
        ['with keys, log and metrics', `${full.toFixed(1)} µs (${ratio.toFixed(2)})`],
        ['one worker', `${one.toFixed(0)} calls/s`],
        ['two workers', `${two.toFixed(0)} calls/s (${(two / one).toFixed(2)})`],
        ...Object.entries(medians).map(([name, us]) => [`refused: ${name}`, `${us.toFixed(3)} µs`]),
        ['slowest over quickest refusal', spread.toFixed(3)],
        ['a hash and a comparison alone', `${floor.toFixed(3)} µs`],
      ],
    ),
  );
}
