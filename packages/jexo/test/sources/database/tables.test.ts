import { connect, defineServer, wrapDatabase, type Client, type WrapDatabaseOptions } from '../../../src/index.js';
import { dialects, makeDatabase, on, scales, tellingOf, type TestDatabase } from '../../support/databases.js';

const open: (() => Promise<unknown>)[] = [];
afterAll(async () => {
  for (const close of open.reverse()) await close();
});
async function serve(place: string, options: WrapDatabaseOptions = {}): Promise<Client> {
  const server = defineServer({ name: 'scales', version: '1.0.0', offers: [wrapDatabase(place, { name: 'scales', ...options })] });
  const client = await connect(server);
  open.push(() => client.close().then(() => server.close()));
  return client;
}
const fresh = async (dialect: Parameters<typeof makeDatabase>[0], more: readonly string[] = []): Promise<TestDatabase> => {
  const database = await makeDatabase(dialect, [...scales(dialect), ...more]);
  open.push(() => database.drop());
  return database;
};
interface Page {
  readonly table: string;
  readonly rows: readonly Record<string, unknown>[];
  readonly next?: string;
  readonly note?: string;
  readonly row?: Record<string, unknown>;
  readonly links?: Record<string, string>;
}
const read = async (client: Client, uri: string) =>
  JSON.parse(((await client.read(uri)).contents[0] as unknown as { text: string }).text) as Page;

for (const dialect of dialects) {
  on(dialect)(
    `${dialect}: tables and views are resources, a page follows the other by key, a row names the rows it points to`,
    async () => {
      const { reader } = await fresh(dialect);
      const client = await serve(reader, { maxRows: 70 });
      expect((await client.resources()).map(({ uri }) => uri)).toEqual(
        ['schema', 'tables/heavy', 'tables/hives', 'tables/keepers', 'tables/notes', 'tables/readings', 'tables/secrets'].map(
          (path) => `scales://${path}`,
        ),
      );
      const { text } = (await client.read('scales://schema')).contents[0] as unknown as { text: string };
      expect(text).toMatch(/- readings \(.*\): hive .*, at .*, kg .* not null; key \(hive, at\); hive → hives\.id/);
      expect(text).toMatch(/- heavy \(view\)/);
      const seen: string[] = [];
      let pages = 0;
      for (let uri: string | undefined = 'scales://tables/readings'; uri !== undefined; pages++) {
        const page: Page = await read(client, uri);
        seen.push(...page.rows.map(({ hive, at }) => `${String(hive)} ${String(at)}`));
        uri = page.next;
      }
      expect([seen.length, new Set(seen).size, pages]).toEqual([500, 500, 8]);
      expect(seen).toEqual([...seen].sort());
      expect((await read(client, 'scales://tables/readings?limit=2')).rows).toHaveLength(2);
      expect(await read(client, 'scales://tables/notes')).toEqual({ table: 'notes', rows: [{ said: 'calm' }, { said: 'fed' }] });
      expect((await read(client, 'scales://tables/heavy')).rows).toHaveLength(5);
      const [first] = seen;
      const [hive, at] = [first!.slice(0, 5), first!.slice(6)];
      const row = await read(client, `scales://rows/readings/${hive},${encodeURIComponent(at)}`);
      expect(row).toMatchObject({ row: { hive, at }, links: { hive: `scales://rows/hives/${hive}` } });
      expect(await read(client, row.links!.hive!)).toMatchObject({ table: 'hives', row: { id: hive } });
      for (const gone of [
        'rows/readings/MR-01',
        'rows/hives/MR-99',
        'rows/keepers/abc',
        'rows/nothing/1',
        'rows/notes/calm',
        'rows/hives/a,b',
        'tables/nothing',
      ])
        await expect(client.read(`scales://${gone}`)).rejects.toThrow('not found');
      await expect(client.read('scales://tables/readings?after=%5B1%5D')).rejects.toThrow('no key of readings');
      await expect(client.read('scales://tables/readings?after=x')).rejects.toThrow('no key of readings');
    },
  );

  on(dialect)(`${dialect}: tables and keys complete from the database`, async () => {
    const { reader } = await fresh(dialect);
    const client = await serve(reader);
    const ref = { type: 'ref/resource', uri: 'scales://rows/{table}/{+key}' } as const;
    const complete = async (name: string, value: string, known: Record<string, string> = {}) =>
      (await client.complete(ref, { name, value }, known)).values;
    expect(await complete('table', 'hi')).toEqual(['hives']);
    expect(await complete('key', 'MR', { table: 'hives' })).toEqual(['MR-01', 'MR-02', 'MR-03', 'MR-04', 'MR-05']);
    expect(await complete('key', 'MR-03', { table: 'readings' })).toEqual(['MR-03']);
    const times = await complete('key', 'MR-03,2026-04-01', { table: 'readings' });
    expect([times.length, times[0]]).toEqual([96, expect.stringMatching(/^MR-03,2026-04-01[ T]00:00:00$/)]);
    expect(await read(client, `scales://rows/readings/${encodeURIComponent(times[0]!)}`)).toMatchObject({ row: { hive: 'MR-03' } });
    expect(await complete('key', '%', { table: 'hives' })).toEqual([]);
  });

  on(dialect)(`${dialect}: names and keys with signs in them are quoted, and come back as they were`, async () => {
    const quote =
      dialect === 'mysql' ? (name: string) => `\`${name.replaceAll('`', '``')}\`` : (name: string) => `"${name.replaceAll('"', '""')}"`;
    const name = `honey "lots" & select`;
    const database = await fresh(dialect, [
      `create table ${quote(name)} (${quote('the key')} varchar(40) primary key, ${quote('from')} integer)`,
      `insert into ${quote(name)} values ('a,b~c/d?e#f%g', 1), ('plain', 2), ('Größe', 3)`,
    ]);
    const client = await serve(database.reader);
    const listed = (await client.resources()).find((each) => each.name === name)!;
    expect(listed).toBeDefined();
    const page = await read(client, listed.uri);
    expect(page.rows).toHaveLength(3);
    const ref = { type: 'ref/resource', uri: 'scales://rows/{table}/{+key}' } as const;
    const { values } = await client.complete(ref, { name: 'key', value: 'a' }, { table: name });
    expect(values).toEqual(['a~,b~~c/d?e#f%g']);
    const row = await read(client, `scales://rows/${encodeURIComponent(name)}/${encodeURIComponent(values[0]!)}`);
    expect(row.row).toEqual({ 'the key': 'a,b~c/d?e#f%g', from: 1 });
    const asked = await client.call('query_scales', {
      sql: `select ${quote('from')} as f from ${quote(name)} where ${quote('the key')} = 'plain'`,
    });
    expect(asked.structuredContent).toEqual({ rows: [{ f: 2 }] });
  });

  on(dialect)(`${dialect}: whoever watches a table or a row hears of changes, and only of those`, async () => {
    const trigger = dialect === 'postgres' ? [tellingOf('hives')] : [];
    const database = await fresh(dialect, trigger);
    const client = await serve(database.reader, { changesMs: 50 });
    const heard: string[] = [];
    let wake = () => undefined as void;
    const watch = (uri: string) => client.watch(uri, (changed) => (heard.push(changed), wake()));
    const stops = await Promise.all(['scales://tables/hives', 'scales://rows/hives/MR-01', 'scales://rows/hives/MR-02'].map(watch));
    const both = new Promise<void>((resolve) => (wake = () => new Set(heard).size >= 2 && resolve()));
    // What changes before the first look is no change: the row is written until both have heard.
    let strength = 10;
    for (let isOver = false; !isOver;) {
      await database.run(`update hives set strength = ${++strength} where id = 'MR-01'`);
      isOver = await Promise.race([both.then(() => true), new Promise<boolean>((resolve) => setTimeout(() => resolve(false), 1500))]);
    }
    expect([...new Set(heard)].sort()).toEqual(['scales://rows/hives/MR-01', 'scales://tables/hives']);
    expect((await read(client, 'scales://rows/hives/MR-01')).row).toMatchObject({ strength });
    for (const stop of stops) await stop();
  });
}

on('postgres')('without a trigger, a query of your own tells that something has changed', async () => {
  const database = await fresh('postgres');
  const client = await serve(database.reader, { changesMs: 50, changesQuery: 'select sum(strength) from hives' });
  let wake = () => undefined as void;
  const heard = new Promise<void>((resolve) => (wake = resolve));
  await client.watch('scales://rows/hives/MR-01', wake);
  for (let strength = 20, isOver = false; !isOver; strength++) {
    await database.run(`update hives set strength = ${strength} where id = 'MR-01'`);
    isOver = await Promise.race([heard.then(() => true), new Promise<boolean>((resolve) => setTimeout(() => resolve(false), 1500))]);
  }
});
