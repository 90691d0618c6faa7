import { mkdtempSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { tool, wrapDatabase, wrapFolder, wrapFunctions, wrapRest, type Source } from '../../src/index.js';
import { sourceChecks } from '../../src/testing.js';
import { hives } from '../support/command-line.js';
import { makeDatabase } from '../support/databases.js';
import { wrapReadings } from '../seats/readings-source.js';

const folder = mkdtempSync(join(tmpdir(), 'jexo-checks-'));
writeFileSync(join(folder, 'page.md'), '# A page\n\nWith words.\n');
const readings = join(folder, 'readings.json');
writeFileSync(readings, JSON.stringify([{ hive: 'MR-01', kg: 30 }]));

const functions = (await import(hives)) as Record<string, unknown>;
const { owner: database } = await makeDatabase('sqlite', ['create table hives (id text primary key)']);

const sources: Readonly<Record<string, () => Source>> = {
  'a third party’s': () => wrapReadings(readings),
  functions: () => wrapFunctions(functions, { types: hives }),
  database: () => wrapDatabase(database, { name: 'hives', queries: { all: '-- All hives.\nselect id from hives' } }),
  folder: () => wrapFolder(folder, { search: true }),
  rest: () =>
    wrapRest({
      openapi: '3.1.0',
      info: { title: 'Registry', version: '1' },
      servers: [{ url: 'http://127.0.0.1:9' }],
      paths: { '/hives': { get: { summary: 'Lists hives', responses: { 200: { description: 'OK' } } } } },
    }),
};
for (const [name, make] of Object.entries(sources))
  describe(name, () => {
    for (const check of sourceChecks(make)) test(check.name, () => check.run());
  });

let counter = 0;
const good: Source = { name: 'good', read: async () => ({ offers: [tool('now', { description: 'The time.' }, () => 'now')] }) };
test.each([
  ['every offer', { ...good, read: async () => ({ offers: [tool('now', {}, () => 'now')] }) }, /now has no description/],
  ['every offer', { ...good, name: '' }, /needs a name/],
  [
    'reading twice',
    { ...good, read: async () => ({ offers: [tool(`now_${counter++}`, { description: 'x' }, () => 'now')] }) },
    /second read offers something else/,
  ],
  ['a read that nobody', { ...good, read: () => new Promise<never>(() => undefined) }, /still runs after 5 s/],
  [
    'what is omitted',
    {
      ...good,
      read: async () => ({
        offers: [],
        omitted: [{ name: 'a', what: 'tool', where: 'b', why: '', next: 'c', code: 'JEXO_DOCUMENT' as const }],
      }),
    },
    /has no why/,
  ],
  ['what is frozen', { ...good, freeze: async () => ({ a: 1 }) }, /no thaw/],
  [
    'what is frozen',
    { ...good, freeze: async () => ({ a: 1 }), thaw: () => ({ ...good, read: async () => ({ offers: [] }) }) },
    /something else than what was frozen/,
  ],
  ['watching', { ...good, watch: () => undefined as never }, /must give a function/],
  [
    'it closes',
    {
      ...good,
      read: async () => {
        const server = createServer();
        await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
        leaked.push(server);
        return good.read(undefined as never);
      },
    },
    /still open: .*Server/,
  ],
] as const)('a source that is wrong is told: %s', async (name, source, says) => {
  const check = sourceChecks(() => source as Source).find((each) => each.name.startsWith(name))!;
  await expect(check.run()).rejects.toThrow(says);
});
const leaked: { close(): void }[] = [];
afterAll(() => leaked.forEach((server) => server.close()));
