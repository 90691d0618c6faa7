import { connect, defineServer, wrapDatabase, type Caller, type Client, type WrapDatabaseOptions } from '../../../src/index.js';
import { dialects, makeDatabase, on, scales } from '../../support/databases.js';

const open: (() => Promise<unknown>)[] = [];
afterAll(async () => {
  for (const close of open.reverse()) await close();
});

async function serve(place: string, options: WrapDatabaseOptions, apiary?: string): Promise<Client> {
  const server = defineServer({ name: 'scales', version: '1.0.0', offers: [wrapDatabase(place, { name: 'scales', ...options })] });
  const caller: Caller = { transport: 'memory', ...(apiary !== undefined && { identity: apiary, claims: { apiary } }) };
  const client = await connect({ ...server, open: (how) => server.open({ ...how, caller }) });
  open.push(() => client.close().then(() => server.close()));
  return client;
}
async function ask(client: Client, sql: string) {
  const result = await client.call('query_scales', { sql });
  const [block] = result.content as readonly { readonly text?: string }[];
  return result.isError ? `refused: ${block?.text}` : (result.structuredContent!.rows as Record<string, unknown>[]);
}
const read = async (client: Client, uri: string) =>
  JSON.parse(((await client.read(uri)).contents[0] as unknown as { text: string }).text) as Record<string, unknown>;

const options: WrapDatabaseOptions = {
  except: ['secrets', 'hives.strength'],
  mask: ['keepers.phone'],
  rows: {
    hives: { where: 'apiary = :apiary', values: ({ claims }) => (claims === undefined ? undefined : { apiary: String(claims.apiary) }) },
  },
  queries: {
    hives_of: '-- The hives.\nselect * from hives order by id',
    phones: '-- Phones.\nselect name, phone from keepers order by id',
    pins: 'select * from secrets',
    move: '-- @writes\nupdate hives set apiary = :to where id = :id',
  },
};

for (const dialect of dialects) {
  on(dialect)(
    `${dialect}: hidden tables and columns, masked columns and filtered rows hold for queries, rows and the open tool`,
    async () => {
      const database = await makeDatabase(dialect, scales(dialect));
      open.push(() => database.drop());
      const [mr, uc, nobody] = await Promise.all([
        serve(database.reader, options, 'MR'),
        serve(database.reader, options, 'UC'),
        serve(database.reader, options),
      ]);
      const everything = JSON.stringify([
        await mr.tools(),
        await mr.resources(),
        await mr.templates(),
        (await mr.read('scales://schema')).contents,
      ]);
      for (const hidden of ['secrets', 'strength', '4711', '555-0110']) expect(everything).not.toContain(hidden);

      expect(await ask(mr, 'select id from hives order by id')).toEqual([{ id: 'MR-01' }, { id: 'MR-02' }, { id: 'MR-03' }]);
      expect(await ask(uc, 'select id from hives order by id')).toEqual([{ id: 'MR-04' }, { id: 'MR-05' }]);
      expect(await ask(nobody, 'select id from hives')).toEqual([]);
      expect(await ask(mr, 'with strong as (select * from hives) select count(*) as n from strong')).toEqual([{ n: 3 }]);
      expect(
        await ask(mr, 'with recursive r(n) as (select 1 union all select n + 1 from r where n < 3) select count(*) as n from r, hives'),
      ).toEqual([{ n: 9 }]);
      expect(await ask(mr, 'select k.phone from keepers k order by id')).toEqual([{ phone: '***' }, { phone: null }]);
      expect(await ask(mr, "select count(*) as n from keepers where phone = '555-0110'")).toEqual([{ n: 0 }]);
      expect(Object.keys(((await ask(mr, 'select * from hives')) as object[])[0]!)).toEqual(['id', 'apiary']);
      const schema = {
        sqlite: 'main',
        postgres: 'public',
        mysql: new URL(dialect === 'mysql' ? database.reader : 'x://x').pathname.slice(1),
      }[dialect];
      for (const sql of [
        'select * from secrets',
        'select * from "secrets"',
        'select * from SECRETS',
        'select pin from hives, secrets',
        "select * from 'secrets'",
        ...(dialect === 'sqlite'
          ? [
              "select * from main.'hives'",
              "select * from 'main'.'hives'",
              'select * from [main].[hives]',
              'select * from `main`.`hives`',
              'select rowid from hives',
            ]
          : []),
        `select * from ${schema}.hives`,
        `select * from ${schema} . hives`,
        `select * from ${schema}.keepers`,
        `select (select max(phone) from ${schema}.keepers)`,
        'select strength from hives',
        'select h.strength from hives h',
        'select * from hives where strength > 1',
        'select * from hives order by strength',
        'with hives as (select 1 as strength) select strength from hives',
        'with keepers as (select 1 as phone) select phone from keepers',
      ])
        expect([sql, await ask(mr, sql)]).toEqual([sql, expect.stringMatching(/^refused: /)]);

      expect(await read(mr, 'scales://tables/hives')).toMatchObject({
        rows: [{ id: 'MR-01', apiary: 'MR' }, { id: 'MR-02' }, { id: 'MR-03' }],
      });
      expect(await read(uc, 'scales://rows/hives/MR-05')).toMatchObject({ row: { id: 'MR-05', apiary: 'UC' } });
      await expect(mr.read('scales://rows/hives/MR-05')).rejects.toThrow('not found');
      await expect(mr.read('scales://tables/secrets')).rejects.toThrow('not found');
      await expect(mr.read('scales://rows/secrets/4711')).rejects.toThrow('not found');
      expect(await read(mr, 'scales://rows/keepers/1')).toMatchObject({ row: { name: 'registrar', phone: '***' } });
      // Suggestions would be the same for everybody, so a filtered table gives none.
      const suggested = await mr.complete(
        { type: 'ref/resource', uri: 'scales://rows/{table}/{+key}' },
        { name: 'key', value: 'MR' },
        { table: 'hives' },
      );
      expect(suggested.values).toEqual([]);

      expect((await mr.call('hives_of')).structuredContent).toEqual({
        rows: [
          { id: 'MR-01', apiary: 'MR' },
          { id: 'MR-02', apiary: 'MR' },
          { id: 'MR-03', apiary: 'MR' },
        ],
      });
      expect((await mr.call('phones')).structuredContent).toEqual({
        rows: [
          { name: 'registrar', phone: '***' },
          { name: 'keeper', phone: null },
        ],
      });
      expect((await mr.tools()).map(({ name }) => name)).toEqual(['hives_of', 'phones', 'query_scales']);
    },
  );
}

on('sqlite')(
  'queries that contradict the restrictions are omitted with the reason; a restriction that names nothing is an error',
  async () => {
    const database = await makeDatabase('sqlite', scales('sqlite'));
    const context = { settings: {}, signal: new AbortController().signal, progress: () => undefined };
    const source = wrapDatabase(database.owner, { name: 'scales', ...options });
    const { omitted, excluded } = await source.read(context);
    await source.close!();
    expect(omitted).toMatchObject([
      { name: 'pins', what: 'query', where: 'pins:1', why: expect.stringContaining('which only and except hide') },
      { name: 'move', why: expect.stringContaining('filtered by caller') },
    ]);
    expect(excluded).toEqual(['secrets']);
    for (const [wrong, says] of [
      [{ only: ['hive'] }, /hive names no table.*Did you mean hives\?/s],
      [{ mask: ['keepers.fone'] }, /keepers\.fone names no/],
      [{ rows: { nothing: { where: '1 = 1', values: () => ({}) } } }, /nothing names no/],
    ] as const) {
      const bad = wrapDatabase(database.owner, wrong);
      const error = await bad.read(context).catch((thrown: unknown) => thrown);
      expect(error).toMatchObject({ code: 'JEXO_CHOICE' });
      expect(`${(error as Error).message} ${(error as { next: string }).next}`).toMatch(says);
      await bad.close!();
    }
    const some = wrapDatabase(database.owner, { only: ['hi*', 'keepers.name', 'keepers.id'], query: false });
    const { offers } = await some.read(context);
    await some.close!();
    expect(offers.filter(({ kind }) => kind === 'resource').map((offer) => (offer as { uri: string }).uri)).toEqual([
      expect.stringMatching(/schema$/),
      expect.stringMatching(/tables\/hives$/),
      expect.stringMatching(/tables\/keepers$/),
    ]);
  },
);
