// `npm run bench`: measures, prints a table and writes it into docs/benchmarks.md. Ratios are to a floor in the same run.
import { readFileSync, writeFileSync } from 'node:fs';
import { cpus } from 'node:os';
import { database } from './database.mjs';
import { folder } from './folder.mjs';
import { http } from './http.mjs';
import { idle } from './idle.mjs';
import { inspector } from './inspector.mjs';
import { large, middleware } from './large.mjs';
import { table } from './measure.mjs';
import { guarded, refusals, signedIn, workers } from './production.mjs';
import { reader } from './reader.mjs';
import { reload } from './reload.mjs';
import { rest } from './rest.mjs';
import { idleShared, processes, stored, takeOver } from './shared.mjs';
import { size } from './size.mjs';
import { start } from './start.mjs';
import { stdio } from './stdio.mjs';

const measurements = {
  async http() {
    const { floor, jexo, ratio, processor } = await http();
    return [
      'HTTP: validated `add(a, b)`, 32 connections, one session',
      `${Math.round(jexo)} calls/s against ${Math.round(floor)} of raw node:http; processor time a call ${processor.jexo.toFixed(0)} µs against ${processor.floor.toFixed(0)} µs`,
      `**${ratio.toFixed(2)}** by rate, ${processor.ratio.toFixed(2)} by processor time`,
      '0.80',
    ];
  },
  async stdio() {
    const { floor, jexo, ratio } = await stdio();
    return [
      'stdio: the same call, 64 in flight',
      `${Math.round(jexo)} calls/s against ${Math.round(floor)} of a raw loop`,
      `**${ratio.toFixed(2)}**`,
      '0.75',
    ];
  },
  async start() {
    const { node, packed, own } = await start();
    return [
      'Start: spawn to the answer to `initialize`, packed file',
      `${packed.toFixed(0)} ms, of which an empty Node takes ${node.toFixed(0)} ms`,
      `**${own.toFixed(0)} ms**`,
      'at most 80 ms',
    ];
  },
  async idle() {
    const { count, floor, jexo } = await idle();
    const kb = (bytes) => (bytes / 1000).toFixed(1);
    return [
      `${count.toLocaleString('en')} idle sessions, each with an open stream`,
      `${kb(jexo.rss)} kB of resident memory each, ${kb(jexo.bytes)} kB of it heap; a raw stream ${kb(floor.rss)} kB`,
      `**${kb(jexo.rss)} kB**`,
      'under 18 kB',
    ];
  },
  async rest() {
    const { firstFloor, first, floor, jexo, ready } = await rest();
    return [
      'REST: a call through a wrapped tool; 1,000 operations ready after parsing',
      `${jexo.toFixed(2)} ms against ${floor.toFixed(2)} ms of a bare HTTP client (the first call of a tool ${first.toFixed(2)} against ${firstFloor.toFixed(2)} ms); ready in ${ready.toFixed(0)} ms`,
      `**+${(jexo - floor).toFixed(2)} ms** a call, **+${(first - firstFloor).toFixed(2)} ms** the first of a tool`,
      'under 1 ms; under 1,500 ms',
    ];
  },
  async database() {
    const found = await database();
    const names = { sqlite: 'SQLite', postgres: 'PostgreSQL', mysql: 'MariaDB' };
    const each = (words) => found.map((one) => `${names[one.dialect]} ${words(one)}`).join(', ');
    return [
      'Databases: a named query; the first page of 300,000 rows; 1,000 such pages; 50 callers over 10 connections',
      `the query adds ${each(({ adds, floor }) => `${adds.toFixed(0)} µs to ${floor.toFixed(0)}`)}; resident memory grew by ${each(({ grownMb }) => `${grownMb.toFixed(1)} MB`)}`,
      `page **${each(({ page }) => page.toFixed(2))}**; rate **${each(({ rate }) => rate.toFixed(2))}**`,
      'at most 120 µs; 1.3; flat; 0.85',
    ];
  },
  async folder() {
    const { pages, floorMs, buildMs, againMs, floor, own, p95, megabytes } = await folder();
    return [
      `A folder of ${pages.toLocaleString('en')} pages on disk: a search through its tool; building the index; a second start`,
      `${own.toFixed(1)} ms against ${floor.toFixed(1)} of FTS5 used bare, 95 % under ${p95.toFixed(1)}; built in ${(buildMs / 1000).toFixed(1)} s against ${(floorMs / 1000).toFixed(1)}; ${megabytes.toFixed(0)} MB; ready again in ${againMs.toFixed(0)} ms`,
      `search **${(own / floor).toFixed(2)}**; building **${(buildMs / floorMs).toFixed(1)}**`,
      'search at most 1.3, under 10 ms; 100 ms',
    ];
  },
  async large() {
    const { listBytes, list, read } = await large();
    return [
      'Large answers: `tools/list` of 1,000 tools; a resource of 20 MB',
      `${(listBytes / 1000).toFixed(0)} kB of tools; 28 MB of base64`,
      `**${list.toFixed(1)} ms**; **${read.toFixed(0)} ms**`,
      '',
    ];
  },
  async middleware() {
    const found = await middleware();
    return [
      'A call in memory with 0, 5 and 20 middleware',
      [0, 5, 20].map((count) => `${found[count].toFixed(1)} µs`).join(', '),
      `**${((found[20] - found[0]) / 20).toFixed(2)} µs** each`,
      '',
    ];
  },
  async guarded() {
    const { bare, guarded: full, ratio } = await guarded();
    return [
      'HTTP: the call with keys, a log to a file and metrics, processor time',
      `${full.toFixed(0)} µs against ${bare.toFixed(0)} µs of the bare call`,
      `**${ratio.toFixed(2)}**`,
      'at most 1.25',
    ];
  },
  async signedIn() {
    const { bare, guarded: full, ratio } = await signedIn();
    return [
      'HTTP: the call with a signed token (RS256), processor time',
      `${full.toFixed(0)} µs against ${bare.toFixed(0)} µs of the bare call`,
      `**${ratio.toFixed(2)}**`,
      'at most 1.3',
    ];
  },
  async workers() {
    const { one, two } = await workers();
    return [
      'Two workers against one, 32 clients, calls that take 2 ms of processor time',
      `${two.toFixed(0)} against ${one.toFixed(0)} calls/s`,
      `**${(two / one).toFixed(2)}**`,
      'at least 1.8',
    ];
  },
  async stored() {
    const { bare, guarded: full, ratio, commands } = await stored();
    return [
      'HTTP: the call with sessions in a Redis, processor time on our side; commands a plain call',
      `${full.toFixed(0)} µs against ${bare.toFixed(0)} µs of the bare call`,
      `**${ratio.toFixed(2)}**; **${commands.toFixed(1)}** commands`,
      'at most 1.5; at most 2',
    ];
  },
  async processes() {
    const { one, two } = await processes();
    return [
      'Two processes on one Redis against one, no stickiness, 32 clients, calls that take 2 ms of processor time',
      `${two.toFixed(0)} against ${one.toFixed(0)} calls/s`,
      `**${(two / one).toFixed(2)}**`,
      'at least 1.8',
    ];
  },
  async shared() {
    const idle = await idleShared();
    const taken = await takeOver();
    return [
      `${idle.count.toLocaleString('en')} idle sessions in a Redis; a call in each of ${taken.count.toLocaleString('en')} sessions of a killed process at another one`,
      `${((taken.count / taken.ms) * 1000).toFixed(0)} sessions/s, 50 at a time`,
      `**${idle.bytes.toFixed(0)} bytes** each; **${(taken.ms / 1000).toFixed(1)} s**`,
      '',
    ];
  },
  async refusals() {
    const { medians, spread } = await refusals();
    return [
      'Time until a key is refused, by how much of it is right',
      Object.entries(medians)
        .map(([name, us]) => `${name}: ${us.toFixed(2)} µs`)
        .join('; '),
      `**${spread.toFixed(3)}** slowest over quickest`,
      'no difference',
    ];
  },
  async reader() {
    const { compiler, cold, again, ratio } = await reader();
    return [
      'Types of 200 functions, read cold; read again',
      `${cold.toFixed(0)} ms against ${compiler.toFixed(0)} ms of the compiler alone, which loads and checks the file; ${again.toFixed(0)} ms from the cache`,
      `**${ratio.toFixed(2)}**; **${again.toFixed(0)} ms**`,
      'at most 1.3; at most 60 ms',
    ];
  },
  async reload() {
    const { ms, slowest } = await reload();
    return [
      '`serve --watch`: from save to the new tool listed at a client',
      `the demo's functions; the slowest of seven ${slowest.toFixed(0)} ms`,
      `**${ms.toFixed(0)} ms**`,
      'under 300 ms',
    ];
  },
  async inspector() {
    const { first, many, frame, slow } = await inspector();
    return [
      'The inspector page: to the first useful paint; to 1,000 tools on the shelf; a frame while 50,000 messages scroll',
      `Chromium, 1280x800; 95 of 100 frames within ${slow.toFixed(0)} ms`,
      `**${first.toFixed(0)} ms**; **${many.toFixed(0)} ms**; **${frame.toFixed(1)} ms**`,
      '',
    ];
  },
  async size() {
    const { packages, megabytes, clientKb } = size();
    return [
      '`npm install jexo`; the client alone for a page, gzipped',
      `${packages} packages`,
      `**${megabytes.toFixed(1)} MB**; **${clientKb.toFixed(1)} kB**`,
      'at most 25 packages, 15 MB; under 60 kB',
    ];
  },
};

const wanted = process.argv.slice(2);
const rows = [];
for (const [name, measure] of Object.entries(measurements)) {
  if (wanted.length > 0 && !wanted.includes(name)) continue;
  console.error(`measuring ${name}`);
  rows.push(await measure());
}
const found = table(['What', 'Measured', 'Result', 'Wanted'], rows);
console.log(found);
if (wanted.length === 0) {
  const page = new URL('../docs/benchmarks.md', import.meta.url);
  const stamp = `Node ${process.version}, ${cpus().length} cores (${cpus()[0].model.trim()}), ${new Date().toISOString().slice(0, 10)}.`;
  const text = readFileSync(page, 'utf8').replace(
    /<!-- measured -->[\s\S]*<!-- end -->/,
    `<!-- measured -->\n${stamp}\n\n${found}\n<!-- end -->`,
  );
  writeFileSync(page, text);
}
