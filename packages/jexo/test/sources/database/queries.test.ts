import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import {
  connect,
  defineServer,
  wrapDatabase,
  type Client,
  type ConnectOptions,
  type Omission,
  type WrapDatabaseOptions,
} from '../../../src/index.js';
import { dialects, makeDatabase, on, scales, type TestDatabase } from '../../support/databases.js';

const open: (() => Promise<unknown>)[] = [];
afterAll(async () => {
  for (const close of open.reverse()) await close();
});
async function serve(place: string, options: WrapDatabaseOptions, connecting: ConnectOptions = {}): Promise<Client> {
  const server = defineServer({
    name: 'scales',
    version: '1.0.0',
    offers: [wrapDatabase(place, { name: 'scales', query: false, ...options })],
  });
  const client = await connect(server, connecting);
  open.push(() => client.close().then(() => server.close()));
  return client;
}
const fresh = async (dialect: Parameters<typeof makeDatabase>[0]): Promise<TestDatabase> => {
  const database = await makeDatabase(dialect, scales(dialect));
  open.push(() => database.drop());
  return database;
};
const textOf = (result: { content: readonly unknown[] }) => (result.content[0] as { text: string }).text;
const readContext = { settings: {}, signal: new AbortController().signal, progress: () => undefined };

for (const dialect of dialects) {
  on(dialect)(
    `${dialect}: the comment above a query is read as that above a function; its parameters are bound, typed and checked`,
    async () => {
      const { reader } = await fresh(dialect);
      const client = await serve(reader, {
        queries: {
          strong_hives: `-- Hives with at least so many frames of brood.
-- Use before a split.
-- @title Strong hives
-- @param apiary where they stand  @pattern ^[A-Z]{2}$
-- @param least frames of brood  @minimum 0  @maximum 10  @default 5
-- @example {"apiary": "MR", "least": 6}
-- @tag hives
select id, strength from hives where apiary = :apiary and strength >= :least order by id`,
          hivesIn: `/* Some hives.
 * @param ids which ones
 */
select id from hives where id in (:ids) and :ids_are is not null order by id`.replace(' and :ids_are is not null', ''),
          injected: 'select count(*) as n from hives where id = :id',
        },
      });
      const tools = Object.fromEntries((await client.tools()).map((tool) => [tool.name, tool]));
      expect(Object.keys(tools)).toEqual(['strong_hives', 'hives_in', 'injected']);
      expect(tools.strong_hives).toMatchObject({
        title: 'Strong hives',
        description: 'Hives with at least so many frames of brood.\nUse before a split.',
        inputSchema: {
          properties: {
            apiary: { type: 'string', pattern: '^[A-Z]{2}$', description: 'where they stand' },
            least: { type: 'integer', minimum: 0, maximum: 10, default: 5 },
          },
          required: ['apiary'],
          examples: [{ apiary: 'MR', least: 6 }],
        },
        annotations: { readOnlyHint: true, openWorldHint: false },
        outputSchema: { properties: { rows: { items: { properties: { id: {}, strength: {} }, required: ['id', 'strength'] } } } },
      });
      expect(tools.hives_in!.inputSchema.properties!.ids).toMatchObject({ type: 'array', items: { type: 'string' } });
      expect((await client.call('strong_hives', { apiary: 'MR' })).structuredContent).toEqual({
        rows: [
          { id: 'MR-01', strength: 7 },
          { id: 'MR-02', strength: 5 },
        ],
      });
      expect((await client.call('strong_hives', { apiary: 'UC', least: 6 })).structuredContent).toEqual({
        rows: [{ id: 'MR-05', strength: 9 }],
      });
      for (const wrong of [{ apiary: 'mr' }, { apiary: 'MR', least: 11 }, { apiary: 'MR', most: 1 }, {}])
        expect((await client.call('strong_hives', wrong)).isError).toBe(true);
      for (const [ids, found] of [
        [
          ['MR-01', 'MR-05', 'MR-99'],
          ['MR-01', 'MR-05'],
        ],
        [[], []],
        [["MR-01') or 1=1 --"], []],
      ] as const)
        expect((await client.call('hives_in', { ids })).structuredContent).toEqual({ rows: found.map((id) => ({ id })) });
      expect((await client.call('injected', { id: "' or '1'='1" })).structuredContent).toEqual({ rows: [{ n: 0 }] });
    },
  );

  on(dialect)(`${dialect}: long results go on page by page: behind the key where one is named, else by rows`, async () => {
    const { reader, run, owner } = await fresh(dialect);
    const queries = {
      by_key: '-- @key hive, at\n-- @limit 40\nselect hive, at, kg from readings where kg > :kg',
      by_rows: '-- @limit 40\nselect hive, at, kg from readings where kg > :kg order by at, hive',
      own_limit: '-- @limit 40\nselect hive, at from readings order by at, hive limit 45',
    };
    const client = await serve(dialect === 'sqlite' ? owner : reader, { queries });
    const all = await run(`select count(*) as n from readings where kg > 22`);
    const count = Number(Object.values(all[0]!)[0]);
    for (const name of ['by_key', 'by_rows']) {
      const seen = new Set<string>();
      let pages = 0;
      for (let cursor: string | undefined; ;) {
        const { structuredContent } = await client.call(name, { kg: 22, ...(cursor !== undefined && { cursor }) });
        const { rows, cursor: next, note } = structuredContent as { rows: { hive: string; at: string }[]; cursor?: string; note?: string };
        expect(rows.length).toBeLessThanOrEqual(40);
        for (const { hive, at } of rows) seen.add(`${hive} ${at}`);
        pages++;
        expect(note === undefined).toBe(next === undefined);
        if ((cursor = next) === undefined) break;
      }
      expect([name, seen.size, pages]).toEqual([name, count, Math.ceil(count / 40)]);
    }
    // A row that comes meanwhile moves nothing for those who go on behind a key.
    const first = (await client.call('by_key', { kg: 22 })).structuredContent as { rows: { hive: string; at: string }[]; cursor: string };
    await run(`insert into readings values ('MR-01', '2026-01-01 00:00:00', 30)`);
    const second = (await client.call('by_key', { kg: 22, cursor: first.cursor })).structuredContent as typeof first;
    const keys = new Set(first.rows.map(({ hive, at }) => `${hive} ${at}`));
    expect(second.rows.filter(({ hive, at }) => keys.has(`${hive} ${at}`))).toEqual([]);
    for (const cursor of ['nonsense', first.cursor.slice(2), Buffer.from('{}').toString('base64url')])
      expect(textOf(await client.call('by_key', { kg: 22, cursor }))).toContain('not one that this call has answered with');
    expect(textOf(await client.call('by_key', { kg: 23, cursor: first.cursor }))).toContain('not one that this call has answered with');
    const own = (await client.call('own_limit')).structuredContent as { rows: object[]; note?: string };
    expect([own.rows.length, own.note]).toEqual([40, expect.stringContaining('there are more')]);
  });

  on(dialect)(
    `${dialect}: only a query that says so writes, in a transaction; a person confirms, with the rows it would write`,
    async () => {
      const { owner, run } = await fresh(dialect);
      const questions: string[] = [];
      let answer: 'accept' | 'decline' = 'accept';
      const queries = {
        weaken:
          '-- Weakens hives.\n-- @param apiary where\n-- @writes\n-- @preview\n-- @confirm Weaken the hives of {apiary}?\nupdate hives set strength = 1 where apiary = :apiary',
        remove: '-- @writes\n-- @confirm Remove {id}?\ndelete from keepers where id = :id',
        fails: "-- @writes\ninsert into hives values ('MR-01', 'MR', 1)",
        not_said: "insert into notes values ('x')",
        ...(dialect === 'mysql' ? {} : { add: '-- @param said what\n-- @writes\ninsert into notes values (:said) returning said' }),
      };
      const client = await serve(
        owner,
        { queries },
        {
          elicitation: {
            form: ({ message }) => {
              questions.push(message);
              return { action: answer, ...(answer === 'accept' && { content: {} }) };
            },
          },
        },
      );
      const tools = Object.fromEntries((await client.tools()).map((tool) => [tool.name, tool]));
      expect(tools.weaken!.annotations).toMatchObject({ destructiveHint: true, idempotentHint: false });
      expect(tools.remove!.annotations).toMatchObject({ destructiveHint: true, idempotentHint: true });
      const strengths = async () => (await run('select strength from hives order by id')).map(({ strength }) => strength);
      answer = 'decline';
      expect((await client.call('weaken', { apiary: 'UC' })).isError).toBe(true);
      expect(await strengths()).toEqual([7, 5, null, 4, 9]);
      answer = 'accept';
      expect((await client.call('weaken', { apiary: 'UC' })).structuredContent).toEqual({ affected: 2 });
      expect(await strengths()).toEqual([7, 5, null, 1, 1]);
      expect((await client.call('remove', { id: 2 })).structuredContent).toEqual({ affected: 1 });
      expect((await client.call('remove', { id: 2 })).structuredContent).toEqual({ affected: 0 });
      expect(questions).toEqual([
        'Weaken the hives of UC? It would write 2 rows.',
        'Weaken the hives of UC? It would write 2 rows.',
        'Remove 2?',
        'Remove 2?',
      ]);
      const failed = await client.call('fails');
      expect([failed.isError, textOf(failed)]).toEqual([true, expect.stringMatching(/unique|duplicate/i)]);
      if (dialect !== 'mysql')
        expect((await client.call('add', { said: 'swarmed' })).structuredContent).toEqual({ affected: 1, rows: [{ said: 'swarmed' }] });
      // Without the tag it does not write, whatever the statement says.
      const before = await run('select count(*) as n from notes');
      if ('not_said' in tools) expect((await client.call('not_said')).isError).toBe(true);
      expect(await run('select count(*) as n from notes')).toEqual(before);
    },
  );

  on(dialect)(`${dialect}: a query that is wrong is omitted with its line, and the others are offered`, async () => {
    const { reader } = await fresh(dialect);
    const queries = {
      good: 'select 1 as one',
      empty: '-- nothing',
      two: 'select 1;\nselect 2',
      wrong: '-- A.\n\nselect nothing_such from hives',
      unused: '-- @param hive which\nselect 1 as one',
      misspelt: '-- @titel A\nselect 1 as one',
      limitless: '-- @limit many\nselect 1 as one',
      keyless: '-- @key id\nselect 1 as one',
      typed: '-- @param {colour} hive which\nselect id from hives where id = :hive',
    };
    const source = wrapDatabase(reader, { queries, query: false, tables: false });
    const { offers, omitted } = await source.read(readContext);
    await source.close!();
    expect(offers.map(({ name }) => name)).toEqual(['good']);
    const said = Object.fromEntries(
      (omitted as Omission[]).map(({ name, where, why, next, what, code }) => [name, `${what} ${code} ${where}: ${why}. ${next}`]),
    );
    expect(said).toEqual({
      empty: expect.stringContaining('query JEXO_DEFINITION empty:1: The file holds no statement.'),
      two: expect.stringContaining('two:2: A query is one statement, and a second one begins here'.replace('two:2', 'two:1')),
      wrong: expect.stringMatching(/wrong:3.*The database refuses the statement: .*nothing_such/),
      unused: expect.stringContaining('unused:1: @param describes hive, which the statement does not use'),
      misspelt: expect.stringMatching(/misspelt:1: @titel is no tag of a query\. Did you mean @title\?/),
      limitless: expect.stringContaining('@limit is many'),
      keyless: expect.stringContaining('@key names id, which the query does not select'),
      typed: expect.stringContaining('{colour} is no type of a parameter'),
    });
  });
}

on('sqlite')('a folder of queries is watched: what is saved is offered, and clients are told', async () => {
  const { owner } = await fresh('sqlite');
  const folder = mkdtempSync(join(tmpdir(), 'jexo-queries-'));
  writeFileSync(join(folder, 'countHives.sql'), '-- How many.\nselect count(*) as n from hives');
  let told = () => undefined as void;
  const client = await serve(owner, { queries: folder }, { onToolsChanged: () => told() });
  expect((await client.tools()).map(({ name }) => name)).toEqual(['count_hives']);
  const changed = () => new Promise<void>((resolve) => (told = resolve));
  const next = changed();
  writeFileSync(join(folder, 'count_notes.sql'), '-- How many notes.\nselect count(*) as n from notes');
  await next;
  expect((await client.tools()).map(({ name }) => name)).toEqual(['count_hives', 'count_notes']);
  expect((await client.call('count_notes')).structuredContent).toEqual({ rows: [{ n: 2 }] });
  const gone = changed();
  rmSync(join(folder, 'count_notes.sql'));
  await gone;
  expect((await client.tools()).map(({ name }) => name)).toEqual(['count_hives']);
});
