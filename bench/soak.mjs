// `npm run soak -- --minutes 10`: sessions come and go, call, cancel and are cut; memory and handles must stay flat.
// Everything stays on the loopback address, is bounded in number and stops by itself.
import { spawn } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { parseArgs } from 'node:util';
import { connect } from 'jexo';
import { pause } from './measure.mjs';

const { values } = parseArgs({ options: { minutes: { type: 'string', default: '10' }, sessions: { type: 'string', default: '500' } } });
const minutes = Number(values.minutes);
const most = Number(values.sessions);
const here = (path) => fileURLToPath(new URL(path, import.meta.url));

const server = spawn(process.execPath, ['--expose-gc', here('servers/soak.mjs')], { stdio: ['ignore', 'pipe', 'inherit', 'ipc'] });
const url = await new Promise((resolve) => server.once('message', ({ url: address }) => resolve(address)));

/** Memory after a collection, open handles and sessions, as the server itself counts them. */
function measure() {
  server.send('measure');
  return new Promise((resolve) => server.once('message', resolve));
}

const counts = { sessions: 0, calls: 0, cancelled: 0, cut: 0, failed: 0 };
const failures = new Map();
async function visit(random) {
  const stop = new AbortController();
  const client = await connect(url, {
    backOffMs: 5,
    maxAttempts: 3,
    fetch: (input, init) => fetch(input, { ...init, signal: AbortSignal.any([stop.signal, ...(init.signal ? [init.signal] : [])]) }),
  });
  counts.sessions++;
  for (let turn = 0; turn < 5; turn++) {
    const kind = random();
    if (kind < 0.6) await client.call('add', { a: turn, b: 1 }).then(() => counts.calls++);
    else if (kind < 0.8) await client.call('steps', {}, { onProgress: () => {} }).then(() => counts.calls++);
    else {
      const cancel = new AbortController();
      const waiting = client.call('wait', {}, { signal: cancel.signal }).catch(() => counts.cancelled++);
      await pause(random() * 20);
      cancel.abort();
      await waiting;
    }
    await pause(random() * 50);
  }
  if (random() < 0.3) {
    stop.abort(); // the client is gone without a word; its session ends by being idle
    counts.cut++;
  } else await client.close();
}

function seeded(seed) {
  let state = seed;
  return () => (state = (state * 1664525 + 1013904223) >>> 0) / 4294967296;
}

const until = Date.now() + minutes * 60_000;
const samples = [];
let working = true;
const visitors = Array.from({ length: most }, async (_, index) => {
  const random = seeded(index + 1);
  await pause(random() * 5000);
  while (working) {
    await visit(random).catch((error) => {
      counts.failed++;
      failures.set(error.code ?? error.message, (failures.get(error.code ?? error.message) ?? 0) + 1);
    });
    await pause(random() * 1000);
  }
});
while (Date.now() < until) {
  await pause(Math.min(5000, (minutes * 60_000) / 60));
  samples.push({ minute: minutes - (until - Date.now()) / 60_000, ...(await measure()) });
}
working = false;
await Promise.all(visitors);
await pause(12_000); // the sessions of those who left without a word end by being idle
const after = await measure();
server.kill();

// The first third is for warming up; what grows afterwards is a leak.
const steady = samples.slice(Math.floor(samples.length / 3));
const half = Math.floor(steady.length / 2);
const mean = (list, key) => list.reduce((sum, each) => sum + each[key], 0) / list.length;
const row = (name, key, digits = 1) =>
  `| ${name} | ${mean(steady.slice(0, half), key).toFixed(digits)} | ${mean(steady.slice(half), key).toFixed(digits)} | ${after[key].toFixed(digits)} |`;
const table = [
  '| | first half | second half | after all have left |',
  '| --- | --- | --- | --- |',
  row('heap in use, MB', 'heapMb'),
  row('resident memory, MB', 'rssMb'),
  row('open handles', 'handles', 0),
  row('sessions', 'sessions', 0),
].join('\n');
const story = `${minutes} minutes, up to ${most} sessions at once: ${counts.sessions} sessions, ${counts.calls} calls, ${counts.cancelled} cancelled, ${counts.cut} clients cut off, ${counts.failed} visits failed${failures.size > 0 ? ` (${[...failures].map(([code, count]) => `${code} ${count}`).join(', ')})` : ''}.`;
console.log(`${story}\n\n${table}`);

writeFileSync(new URL('../docs/soak.svg', import.meta.url), plot(samples));
const page = new URL('../docs/benchmarks.md', import.meta.url);
writeFileSync(
  page,
  readFileSync(page, 'utf8').replace(
    /<!-- soak -->[\s\S]*<!-- end soak -->/,
    `<!-- soak -->\n${story}\n\n${table}\n\n![Heap in use and sessions over the run](soak.svg)\n<!-- end soak -->`,
  ),
);

/** Heap in use over time, with the sessions behind it, from this run's own figures. */
function plot(points) {
  const [width, height, left, bottom] = [720, 280, 56, 40];
  const top = Math.ceil(Math.max(...points.map(({ heapMb }) => heapMb)) * 1.25);
  const mostSessions = Math.max(1, ...points.map(({ sessions }) => sessions));
  const x = (minute) => left + (minute / minutes) * (width - left - 16);
  const y = (share) => height - bottom - share * (height - bottom - 24);
  const line = (value) => points.map((point) => `${x(point.minute).toFixed(1)},${y(value(point)).toFixed(1)}`).join(' ');
  const ticks = [0, 0.25, 0.5, 0.75, 1];
  return `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 ${width} ${height}" font-family="sans-serif" font-size="12" role="img" aria-label="Heap in use over the run">
<rect width="${width}" height="${height}" fill="#F5F8F7"/>
${ticks.map((share) => `<line x1="${left}" x2="${width - 16}" y1="${y(share)}" y2="${y(share)}" stroke="#D3DCDA"/><text x="${left - 8}" y="${y(share) + 4}" text-anchor="end" fill="#55625F">${(share * top).toFixed(0)}</text>`).join('\n')}
${ticks.map((share) => `<text x="${x(share * minutes)}" y="${height - 20}" text-anchor="middle" fill="#55625F">${(share * minutes).toFixed(1)}</text>`).join('\n')}
<polyline points="${line(({ sessions }) => sessions / mostSessions)}" fill="none" stroke="#6B4A86" stroke-dasharray="3 3"/>
<polyline points="${line(({ heapMb }) => heapMb / top)}" fill="none" stroke="#0B5F73" stroke-width="2"/>
<text x="${left}" y="16" fill="#0B5F73">heap in use, MB</text><text x="${left + 120}" y="16" fill="#6B4A86">sessions (dashed; at most ${mostSessions})</text>
<text x="${width / 2}" y="${height - 4}" text-anchor="middle" fill="#55625F">minutes</text>
</svg>
`;
}
