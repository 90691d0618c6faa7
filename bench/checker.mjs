// Several processes behind nginx over one Redis, under load, while they are killed, stopped, paused and restarted, and the Redis hangs for seconds. Every
// call has to be answered exactly once or refused as retryable; every event of every stream has to come once, in order; every task has one outcome.
// node bench/checker.mjs [seconds] writes what it found into docs/scale.md with --write.
import { spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { connect } from 'jexo';

const here = (path) => fileURLToPath(new URL(path, import.meta.url));
const cli = here('../packages/jexo/bin/jexo.mjs');
const pause = (ms) => new Promise((resolve) => setTimeout(resolve, ms));
const freePort = () =>
  new Promise((resolve) => {
    const probe = createServer().listen(0, '127.0.0.1', () => {
      const { port } = probe.address();
      probe.close(() => resolve(port));
    });
  });

/** The same chaos for the same seed. */
function random(seed) {
  let state = seed;
  return () => {
    state = (state * 1664525 + 1013904223) % 4294967296;
    return state / 4294967296;
  };
}

/** Runs the chaos for so long. Gives what was counted, and what was wrong. */
export async function check({
  seconds = 60,
  processes: count = 3,
  clients: clientCount = 12,
  seed = 7,
  kinds = ['kill', 'term', 'stop', 'hold'],
  say = () => {},
} = {}) {
  const folder = mkdtempSync(join(tmpdir(), 'jexo-checker-'));
  const dice = random(seed);
  const redisPort = await freePort();
  const redis = spawn(
    'redis-server',
    ['--port', String(redisPort), '--bind', '127.0.0.1', '--save', '', '--appendonly', 'no', '--dir', folder],
    { stdio: 'ignore' },
  );
  const ports = await Promise.all(Array.from({ length: count }, freePort));
  const store = `redis://127.0.0.1:${redisPort}?prefix=checker:`;
  const startProcess = (port) =>
    spawn(
      process.execPath,
      [cli, 'serve', here('servers/checked.mjs'), '--http', String(port), '--store', store, '--grace', '3', '--no-page'],
      { stdio: 'ignore' },
    );
  const running = ports.map(startProcess);
  const balancerPort = await freePort();
  const balancer = startBalancer(folder, balancerPort, ports);
  const url = `http://127.0.0.1:${balancerPort}/mcp`;
  const wrong = [];
  const counts = {
    calls: 0,
    answered: 0,
    retryable: 0,
    streams: 0,
    events: 0,
    tasks: 0,
    outcomes: 0,
    kills: 0,
    terms: 0,
    stops: 0,
    holds: 0,
    renewed: 0,
  };
  const reasons = new Map();
  let isOver = false;
  await untilThere(url);
  const clients = await Promise.all(
    Array.from({ length: clientCount }, () =>
      retried(() =>
        connect(url, { backOffMs: 100, maxRetries: 30, timeoutMs: 25_000, maxTimeoutMs: 60_000, onRenewed: () => counts.renewed++ }),
      ),
    ),
  );
  const doing = [];
  const work = clients.map(async (client, index) => {
    for (let number = 0; !isOver; number++) {
      const kind = (index + number) % 4;
      doing[index] = `${['call', 'call', 'stream', 'task'][kind]} ${index}.${number} begun at ${new Date().toISOString().slice(17, 23)}`;
      if (kind === 3) await oneTask(client, `${index}.${number}`, counts, wrong, reasons);
      else if (kind === 2) await oneStream(client, `${index}.${number}`, counts, wrong, reasons);
      else await oneCall(client, `${index}.${number}`, counts, wrong, reasons);
      doing[index] = undefined;
      await pause(dice() * 60);
    }
  });
  const chaos = (async () => {
    const end = Date.now() + seconds * 1000;
    while (Date.now() < end) {
      await pause(1500 + dice() * 2500);
      const which = Math.floor(dice() * count);
      const what = kinds[Math.floor(dice() * kinds.length)];
      say(`${new Date().toISOString().slice(17, 23)} ${what} ${ports[which]}`);
      if (what === 'hold') {
        counts.holds++;
        redis.kill('SIGSTOP');
        await pause(1000 + dice() * 1500);
        redis.kill('SIGCONT');
      } else if (what === 'stop') {
        counts.stops++;
        running[which].kill('SIGSTOP');
        await pause(1000 + dice() * 7000);
        running[which].kill('SIGCONT');
      } else {
        counts[what === 'kill' ? 'kills' : 'terms']++;
        const ended = new Promise((resolve) => running[which].once('close', resolve));
        running[which].kill(what === 'kill' ? 'SIGKILL' : 'SIGTERM');
        await ended;
        running[which] = startProcess(ports[which]);
      }
    }
    isOver = true;
  })();
  await chaos;
  const rest = await Promise.race([Promise.all(work).then(() => 'done'), pause(90_000).then(() => 'late')]);
  if (rest === 'late' && process.env.DUMP) {
    const { execFileSync } = await import('node:child_process');
    const cli = (...words) => execFileSync('redis-cli', ['-p', String(redisPort), ...words], { encoding: 'utf8' });
    for (const key of cli('KEYS', 'checker:*:task').split('\n').filter(Boolean)) {
      const record = cli('HGET', key, 'record');
      if (record.includes('working')) console.log(record);
    }
    console.log(cli('KEYS', 'checker:process:*'));
  }
  if (rest === 'late') wrong.push(`Neither an answer nor an error 90 s after the end: ${doing.filter(Boolean).join('; ')}`);
  await Promise.all(clients.map((client) => client.close().catch(() => undefined)));
  for (const child of [...running, balancer, redis]) child.kill('SIGKILL');
  return { counts, wrong, reasons: Object.fromEntries([...reasons].sort((a, b) => b[1] - a[1])) };
}

/** An error that says, or means, that the call may be made again; anything else is a fault. */
function isRetryable(error) {
  if (error?.data?.retryable === true) return true;
  const status = error?.data?.status;
  if (status !== undefined) return status === 502 || status === 503 || status === 504 || status === 429;
  return ['JEXO_CONNECT', 'JEXO_UNAVAILABLE', 'JEXO_SESSION_LOST', 'JEXO_STORE'].includes(error?.code);
}

function failed(error, what, counts, wrong, reasons) {
  const words = String(error?.message ?? error)
    .replaceAll(/\d+/g, 'N')
    .slice(0, 120);
  reasons.set(words, (reasons.get(words) ?? 0) + 1);
  if (isRetryable(error)) counts.retryable++;
  else
    wrong.push(
      `${new Date().toISOString().slice(17, 23)} ${what}: ${error?.code ?? ''} ${error?.message ?? error} ${JSON.stringify(error?.data ?? {})}`.slice(
        0,
        300,
      ),
    );
}

async function oneCall(client, id, counts, wrong, reasons) {
  counts.calls++;
  try {
    const result = await client.call('echo', { id });
    if (result.isError) return failed(toolError(result), `call ${id}`, counts, wrong, reasons);
    counts.answered++;
    if (result.content[0].text !== id) wrong.push(`call ${id} got the answer ${result.content[0].text}`);
  } catch (error) {
    failed(error, `call ${id}`, counts, wrong, reasons);
  }
}

/** What a tool says when the store cannot be used is retryable too. */
function toolError(result) {
  const message = result.content[0]?.text ?? '';
  return { message, ...(/cannot be used/.test(message) && { code: 'JEXO_STORE' }) };
}

async function oneStream(client, id, counts, wrong, reasons) {
  counts.calls++;
  counts.streams++;
  let last = 0;
  try {
    const result = await client.call(
      'steps',
      { id, count: 8 },
      {
        onProgress: ({ progress }) => {
          counts.events++;
          if (progress !== last + 1) wrong.push(`stream ${id}: after ${last} came ${progress}`);
          last = progress;
        },
      },
    );
    counts.answered++;
    if (last !== 8) wrong.push(`stream ${id}: the answer came after ${last} of 8 events`);
    if (result.content[0].text !== id) wrong.push(`stream ${id} got the answer ${result.content[0].text}`);
  } catch (error) {
    failed(error, `stream ${id}`, counts, wrong, reasons);
  }
}

async function oneTask(client, id, counts, wrong, reasons) {
  counts.calls++;
  try {
    const task = await client.callAsTask('slow', { id });
    counts.tasks++;
    const outcomes = await Promise.all([0, 1].map(() => outcomeOf(task)));
    const texts = outcomes.filter(({ text }) => text !== undefined).map(({ text }) => text);
    const lost = outcomes.filter(({ error }) => error?.data?.retryable === true);
    if (texts.some((text) => text !== id)) wrong.push(`task ${id} got the result ${texts.join(', ')}`);
    if (texts.length > 0 && lost.length > 0) wrong.push(`task ${id} has a result and a failure`);
    if (texts.length > 0) counts.answered++;
    else failed(outcomes[0].error, `task ${id}`, counts, wrong, reasons);
    counts.outcomes += texts.length > 0 || lost.length > 0 ? 1 : 0;
  } catch (error) {
    failed(error, `task ${id}`, counts, wrong, reasons);
  }
}

/** A result that cannot be asked for now is asked for again: the task has one outcome, whenever. */
async function outcomeOf(task) {
  for (let tries = 0; ; tries++)
    try {
      const { content } = await task.result();
      return { text: content[0].text };
    } catch (error) {
      // The request for the result may be lost, and the task not.
      const isLost = error?.data?.retryable === true && (await task.status().catch(() => undefined))?.status === 'failed';
      if (tries >= 20 || isLost || !isRetryable(error)) return { error };
      await pause(300);
    }
}

async function retried(work) {
  for (let tries = 0; ; tries++)
    try {
      return await work();
    } catch (error) {
      if (tries > 50) throw error;
      await pause(200);
    }
}

async function untilThere(url) {
  for (let tries = 0; tries < 200; tries++) {
    const found = await fetch(url).catch(() => undefined);
    await found?.text();
    if (found !== undefined && found.status < 500) return;
    await pause(100);
  }
  throw new Error('The processes did not come up.');
}

/** Round robin, without stickiness; a process that refuses connections is passed over. */
function startBalancer(folder, port, ports) {
  const config = join(folder, 'nginx.conf');
  const temporary = ['client_body', 'proxy', 'fastcgi', 'uwsgi', 'scgi'].map((each) => `${each}_temp_path ${folder}/${each};`).join(' ');
  writeFileSync(
    config,
    `${process.getuid?.() === 0 ? 'user root;' : ''} worker_processes 1; pid ${folder}/nginx.pid; error_log ${folder}/error.log; daemon off;
events { worker_connections 4096; }
http { access_log off; ${temporary}
  upstream apiary { ${ports.map((each) => `server 127.0.0.1:${each} max_fails=0;`).join(' ')} keepalive 64; }
  server { listen 127.0.0.1:${port};
    location / { proxy_pass http://apiary; proxy_http_version 1.1; proxy_set_header Connection ""; proxy_set_header Host $host:$server_port;
      proxy_buffering off; proxy_read_timeout 60s; proxy_connect_timeout 1s; proxy_next_upstream error timeout; } } }`,
  );
  return spawn('nginx', ['-p', folder, '-c', config], { stdio: 'ignore' });
}

export function report({ counts, wrong, reasons }, seconds) {
  const { calls, answered, retryable, streams, events, tasks, outcomes, kills, terms, stops, holds, renewed } = counts;
  return [
    `${seconds} seconds, 3 processes behind nginx, ${calls} calls: ${answered} answered, ${retryable} refused as retryable, ${calls - answered - retryable} neither.`,
    `${streams} streams with ${events} events, each once and in order but for what is listed; ${tasks} tasks, ${outcomes} with one outcome.`,
    `Meanwhile: ${kills} × SIGKILL, ${terms} × SIGTERM, ${stops} × SIGSTOP for up to 8 s, ${holds} × Redis paused for up to 2.5 s; ${renewed} sessions begun again.`,
    wrong.length === 0 ? 'Nothing was wrong.' : `Wrong: ${wrong.length}, as ${wrong.slice(0, 5).join('; ')}`,
    ...(Object.keys(reasons).length > 0
      ? [
          '',
          'Refused with:',
          ...Object.entries(reasons)
            .slice(0, 8)
            .map(([words, count]) => `- ${count} × ${words}`),
        ]
      : []),
  ].join('\n');
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  const seconds = Number(process.argv[2] ?? 60);
  const kinds = process.argv
    .find((word) => word.startsWith('--kinds='))
    ?.slice(8)
    .split(',');
  const found = await check({ seconds, ...(kinds && { kinds }), say: process.argv.includes('--say') ? console.error : () => {} });
  const text = report(found, seconds);
  console.log(text);
  if (process.argv.includes('--all')) console.log(found.wrong.join('\n'));
  if (process.argv.includes('--write')) {
    const page = here('../docs/scale.md');
    const before = readFileSync(page, 'utf8');
    writeFileSync(page, before.replace(/<!-- checker -->[\s\S]*<!-- \/checker -->/, `<!-- checker -->\n\n${text}\n\n<!-- /checker -->`));
  }
  process.exit(found.wrong.length === 0 ? 0 : 1);
}
