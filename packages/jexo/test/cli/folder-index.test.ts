import { spawn } from 'node:child_process';
import { createRequire } from 'node:module';
import { existsSync, mkdirSync, statSync, writeFileSync } from 'node:fs';
import { rm } from 'node:fs/promises';
import { join } from 'node:path';
import { cli, freshFolder, jexo, run } from '../support/command-line.js';

const Sqlite = createRequire(import.meta.url)('libsql') as new (path: string) => {
  exec(sql: string): void;
  prepare(sql: string): { get(...values: unknown[]): Record<string, unknown> };
  close(): void;
};

const base = freshFolder('folder-index');
afterAll(() => rm(base, { recursive: true, force: true }));

const count = 1500;
const words = Array.from({ length: 2000 }, (_, at) => `w${at.toString(36)}x`);

/** A folder of pages, each with a word of its own. */
function makeFolder(name: string): { folder: string; index: string } {
  const folder = join(base, name, 'handbook');
  for (let at = 0; at < count; at++) {
    const part = join(folder, `part${at % 10}`);
    if (at < 10) mkdirSync(part, { recursive: true });
    const text = Array.from({ length: 300 }, (_, word) => words[(at * 31 + word * 17) % words.length]).join(' ');
    writeFileSync(join(part, `page${at}.md`), `# Page ${at}\n\nunique${at}y stands here. ${text}\n`);
  }
  return { folder, index: join(base, name, 'index.sqlite') };
}

const find = async ({ folder, index }: { folder: string; index: string }, of: string) => {
  const { code, stdout, stderr } = await jexo(['call', folder, 'search_handbook', `words=${of}`, 'limit=1', '--index', index, '--json']);
  if (code !== 0) throw new Error(stderr + stdout);
  return JSON.parse(stdout) as { structuredContent: { hits: { uri: string }[]; note?: string } };
};

function integrity(index: string): unknown[] {
  const database = new Sqlite(index);
  try {
    database.exec("insert into sections(sections) values ('integrity-check')");
    const twice = database.prepare('select count(*) as n from (select path from files group by path having count(*) > 1)').get().n;
    const { files } = database.prepare('select count(*) as files from files').get();
    const { sections } = database.prepare('select count(*) as sections from digests').get();
    return [database.prepare('pragma integrity_check').get().integrity_check, files, sections, twice];
  } finally {
    database.close();
  }
}
const whole = ['ok', count, count, 0];

test('a process that is killed while it indexes leaves an index that the next one completes', async () => {
  const place = makeFolder('killed');
  const doneSoFar = () => {
    const database = new Sqlite(place.index);
    try {
      return Number(database.prepare('select count(*) as n from files').get().n);
    } catch {
      return 0; // it has no tables yet
    } finally {
      database.close();
    }
  };
  for (let round = 1; round <= 4; round++) {
    const child = spawn(process.execPath, [cli, 'call', place.folder, 'search_handbook', 'words=x', '--index', place.index], {
      stdio: 'ignore',
    });
    const ended = new Promise((resolve) => child.once('exit', resolve));
    const before = round === 1 ? 0 : doneSoFar();
    while (child.exitCode === null && (!existsSync(place.index) || doneSoFar() < before + 60))
      await new Promise((resolve) => setTimeout(resolve, 3));
    child.kill('SIGKILL');
    await ended;
  }
  const kept = doneSoFar();
  expect(kept).toBeGreaterThan(0);
  const { structuredContent } = await find(place, `unique${count - 1}y`);
  expect(structuredContent.hits[0]?.uri).toBe(`handbook://part${(count - 1) % 10}/page${count - 1}.md#page-${count - 1}`);
  expect(structuredContent.note).toBeUndefined();
  expect(integrity(place.index)).toEqual(whole);
});

test('two processes that index at once share the work, and both find everything', async () => {
  const place = makeFolder('shared');
  const found = await Promise.all([find(place, 'unique7y'), find(place, 'unique1493y'), find(place, 'unique750y')]);
  expect(found.map(({ structuredContent }) => structuredContent.hits[0]?.uri)).toEqual([
    'handbook://part7/page7.md#page-7',
    'handbook://part3/page1493.md#page-1493',
    'handbook://part0/page750.md#page-750',
  ]);
  expect(integrity(place.index)).toEqual(whole);
});

test('a disk that is full is said, and what was indexed before is found', async () => {
  const place = makeFolder('full');
  const call = `${process.execPath} ${cli} call ${place.folder} search_handbook words='unique1y unique1499y' --index ${place.index} --json`;
  const { code, stdout, stderr } = await run('bash', ['-c', `ulimit -f 1500; exec ${call}`]);
  expect([code, stderr.replaceAll(/^ *\d+ %  building the index\n/gm, '')]).toEqual([0, '']);
  const { structuredContent } = JSON.parse(stdout) as Awaited<ReturnType<typeof find>>;
  expect(structuredContent.note).toMatch(/^The index is not complete: .+\./);
  expect(statSync(place.index).size).toBeLessThanOrEqual(1500 * 1024);
  // With room again, the next start completes it.
  expect((await find(place, 'unique1499y')).structuredContent.hits[0]?.uri).toBe('handbook://part9/page1499.md#page-1499');
  expect(integrity(place.index)).toEqual(whole);
});
