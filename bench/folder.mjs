// A folder of 3,000 pages: its index built and searched through the tools, against the same library used bare in the same run.
import { createRequire } from 'node:module';
import { mkdirSync, mkdtempSync, readFileSync, readdirSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { connect, defineServer, wrapFolder } from 'jexo';
import { inTurn, median } from './measure.mjs';

const require = createRequire(new URL('../packages/jexo/package.json', import.meta.url));
const Database = require('libsql');
const pages = 3000;

/** Pages of made-up words whose frequencies fall off as those of a language do; the same at every run. */
function writePages(folder) {
  let random = 7;
  const chance = () => (random = (random * 1664525 + 1013904223) % 4294967296) / 4294967296;
  const word = () => `w${Math.floor(4000 * chance() ** 3).toString(36)}`;
  for (let page = 0; page < pages; page++) {
    const part = join(folder, `part${page % 20}`);
    if (page < 20) mkdirSync(part, { recursive: true });
    const section = (heading) => `## ${heading}\n\n${Array.from({ length: 120 }, word).join(' ')}.\n`;
    writeFileSync(join(part, `page${page}.md`), `# Page ${page} ${word()}\n\n${[word(), word(), word()].map(section).join('\n')}`);
  }
  return Array.from({ length: 200 }, () => [word(), word(), word()].join(' '));
}

/** The library alone: every section a row, one transaction a hundred pages, and its own ranking. */
function floorIndex(folder, file) {
  const database = new Database(file);
  database.exec(
    "pragma journal_mode = wal; pragma synchronous = normal; create virtual table s using fts5(path unindexed, text, tokenize = 'porter unicode61')",
  );
  const insert = database.prepare('insert into s values (?, ?)');
  let count = 0;
  database.exec('begin');
  for (const part of readdirSync(folder))
    for (const name of readdirSync(join(folder, part))) {
      for (const text of readFileSync(join(folder, part, name), 'utf8').split(/^(?=#)/m)) insert.run(`${part}/${name}`, text);
      if (++count % 100 === 0) database.exec('commit; begin');
    }
  database.exec('commit');
  const find = database.prepare("select path, snippet(s, 1, '**', '**', '…', 24) as snippet from s where s match ? order by rank limit 6");
  return {
    find: (words) =>
      find.all(
        words
          .split(' ')
          .map((word) => `"${word}"`)
          .join(' OR '),
      ),
    close: () => database.close(),
  };
}

export async function folder() {
  const base = mkdtempSync(join(tmpdir(), 'jexo-bench-folder-'));
  process.env.JEXO_CACHE = join(base, 'cache');
  try {
    const place = join(base, 'pages');
    mkdirSync(place);
    const questions = writePages(place);
    let began = performance.now();
    const floor = floorIndex(place, join(base, 'floor.sqlite'));
    const floorMs = performance.now() - began;
    const open = async () => {
      const server = defineServer({ name: 'pages', version: '1.0.0', offers: [wrapFolder(place, { search: true, index: 'disk' })] });
      return { server, client: await connect(server) };
    };
    const ready = async ({ client }) => {
      while ((await client.call('search_pages', { words: 'w1' })).structuredContent.note?.includes('being built')) continue;
    };
    began = performance.now();
    const first = await open();
    await ready(first);
    const buildMs = performance.now() - began;
    await first.client.close();
    await first.server.close();
    began = performance.now();
    const { server, client } = await open();
    await ready({ client });
    const againMs = performance.now() - began;
    const all = [];
    const each = await inTurn(
      { floor: (words) => floor.find(words), own: (words) => client.call('search_pages', { words }) },
      5,
      async (find) => {
        const start = performance.now();
        for (const words of questions) {
          const one = performance.now();
          await find(words);
          all.push([find, performance.now() - one]);
        }
        return (performance.now() - start) / questions.length;
      },
    );
    const own = all.filter(([find]) => find.length === 1 && String(find).includes('search_pages')).map(([, ms]) => ms);
    await client.close();
    await server.close();
    floor.close();
    const [file] = readdirSync(join(base, 'cache/indexes')).filter((name) => name.endsWith('.sqlite'));
    return {
      pages,
      floorMs,
      buildMs,
      againMs,
      floor: each.floor,
      own: each.own,
      p95: own.sort((a, b) => a - b)[Math.floor(own.length * 0.95)],
      medianMs: median(own),
      megabytes: statSync(join(base, 'cache/indexes', file)).size / 1e6,
    };
  } finally {
    rmSync(base, { recursive: true, force: true });
  }
}

if (process.argv[1] === fileURLToPath(import.meta.url)) console.table([await folder()]);
