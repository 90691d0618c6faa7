import { connect, defineServer, wrapDatabase } from '../../../src/index.js';
import type { Dialect } from '../../../src/sources/database/place.js';
import { dialects, makeDatabase, on } from '../../support/databases.js';

/** A value in each database: how it is declared, written in SQL, answered as JSON, and what is given for a parameter. */
interface Case {
  readonly what: string;
  readonly types: Readonly<Partial<Record<Dialect, string>>>;
  readonly literal: string | Readonly<Partial<Record<Dialect, string>>>;
  readonly json: unknown;
  /** Where it differs from `json`. */
  /** True for what is answered and no JSON number can give. */
  readonly isOneWay?: boolean;
  readonly by?: Readonly<Partial<Record<Dialect, unknown>>>;
}
const all = (type: string) => ({ sqlite: type, postgres: type, mysql: type });

const cases: readonly Case[] = [
  { what: 'an integer', types: all('integer'), literal: '42', json: 42 },
  { what: 'a negative small integer', types: all('smallint'), literal: '-7', json: -7 },
  { what: 'the largest exact integer', types: all('bigint'), literal: '9007199254740991', json: 9007199254740991 },
  { what: 'an integer beyond it', types: all('bigint'), literal: '9007199254740993', json: '9007199254740993' },
  { what: 'the smallest integer', types: all('bigint'), literal: '-9223372036854775807', json: '-9223372036854775807' },
  {
    what: 'a decimal',
    types: { postgres: 'numeric(30,10)', mysql: 'decimal(30,10)' },
    literal: '12345678901234567890.0123456789',
    json: '12345678901234567890.0123456789',
  },
  { what: 'a decimal with zeros', types: { postgres: 'numeric(6,2)', mysql: 'decimal(6,2)' }, literal: '31.50', json: '31.50' },
  { what: 'a real', types: { sqlite: 'real', postgres: 'double precision', mysql: 'double' }, literal: '31.25', json: 31.25 },
  { what: 'not a number', types: { postgres: 'double precision' }, literal: "'NaN'", json: 'NaN', isOneWay: true },
  {
    what: 'a text',
    types: { sqlite: 'text', postgres: 'text', mysql: 'text' },
    literal: "'Größe: 3 ''Zargen''\n'",
    json: "Größe: 3 'Zargen'\n",
  },
  {
    what: 'an emoji',
    types: { sqlite: 'text', postgres: 'text', mysql: 'varchar(20) character set utf8mb4' },
    literal: "'🐝'",
    json: '🐝',
  },
  { what: 'an empty text', types: all('varchar(20)'), literal: "''", json: '' },
  { what: 'true', types: { sqlite: 'boolean', postgres: 'boolean', mysql: 'boolean' }, literal: 'true', json: true, by: { mysql: 1 } },
  { what: 'false', types: { sqlite: 'boolean', postgres: 'boolean', mysql: 'boolean' }, literal: 'false', json: false, by: { mysql: 0 } },
  { what: 'a date', types: { sqlite: 'date', postgres: 'date', mysql: 'date' }, literal: "'2026-02-28'", json: '2026-02-28' },
  { what: 'a time', types: { postgres: 'time', mysql: 'time' }, literal: "'06:15:00'", json: '06:15:00' },
  {
    what: 'a date and time',
    types: { postgres: 'timestamp', mysql: 'datetime' },
    literal: "'2026-03-29 02:30:00'",
    json: '2026-03-29T02:30:00',
  },
  {
    what: 'with fractions',
    types: { postgres: 'timestamp', mysql: 'datetime(6)' },
    literal: "'2026-03-29 02:30:00.123456'",
    json: '2026-03-29T02:30:00.123456',
  },
  {
    what: 'a moment',
    types: { postgres: 'timestamptz', mysql: 'timestamp' },
    literal: { postgres: "'2026-06-01 08:00:00+02'", mysql: "'2026-06-01 06:00:00'" },
    json: '2026-06-01T06:00:00Z',
  },
  { what: 'an interval', types: { postgres: 'interval' }, literal: "'1 day 02:03:04'", json: 'P1DT2H3M4S' },
  {
    what: 'JSON',
    types: { sqlite: 'json', postgres: 'jsonb', mysql: 'json' },
    literal: `'{"a": [1, null, "x"], "b": {}}'`,
    json: { a: [1, null, 'x'], b: {} },
  },
  { what: 'a JSON text', types: { sqlite: 'json', postgres: 'json', mysql: 'json' }, literal: `'"plain"'`, json: 'plain' },
  {
    what: 'bytes',
    types: { sqlite: 'blob', postgres: 'bytea', mysql: 'blob' },
    literal: { sqlite: "x'00ff10'", postgres: "'\\x00ff10'", mysql: "x'00ff10'" },
    json: 'AP8Q',
  },
  {
    what: 'no bytes',
    types: { sqlite: 'blob', postgres: 'bytea', mysql: 'blob' },
    literal: { sqlite: "x''", postgres: "'\\x'", mysql: "x''" },
    json: '',
  },
  { what: 'a list', types: { postgres: 'integer[]' }, literal: "'{1,NULL,3}'", json: [1, null, 3] },
  {
    what: 'a list of texts',
    types: { postgres: 'text[]' },
    literal: `'{"a,b","c\\"d","NULL",NULL,""}'`,
    json: ['a,b', 'c"d', 'NULL', null, ''],
  },
  {
    what: 'a list of lists',
    // The database does not tell how deep a parameter is.
    isOneWay: true,
    types: { postgres: 'integer[]' },
    literal: "'{{1,2},{3,4}}'",
    json: [
      [1, 2],
      [3, 4],
    ],
  },
  { what: 'an empty list', types: { postgres: 'text[]' }, literal: "'{}'", json: [] },
  { what: 'an enum', types: { postgres: 'season', mysql: "enum('spring','autumn')" }, literal: "'autumn'", json: 'autumn' },
  {
    what: 'a uuid',
    types: { postgres: 'uuid', mysql: 'uuid' },
    literal: "'6f1d2a3b-0000-4000-8000-00000000abcd'",
    json: '6f1d2a3b-0000-4000-8000-00000000abcd',
  },
  { what: 'null', types: all('integer'), literal: 'null', json: null },
  { what: 'null of JSON', types: { sqlite: 'json', postgres: 'jsonb', mysql: 'json' }, literal: 'null', json: null },
  { what: 'a year', types: { mysql: 'year' }, literal: '2026', json: 2026 },
  { what: 'bits', types: { mysql: 'bit(8)' }, literal: "b'101'", json: 5 },
  { what: 'an address', types: { postgres: 'inet' }, literal: "'10.0.0.0/8'", json: '10.0.0.0/8' },
  { what: 'a domain', types: { postgres: 'kilograms' }, literal: '12', json: 12 },
];

for (const dialect of dialects)
  on(dialect)(`${dialect}: one documented mapping of values, both ways`, async () => {
    const own = cases.filter(({ types }) => types[dialect] !== undefined);
    const literalOf = ({ literal }: Case) => (typeof literal === 'string' ? literal : literal[dialect]!);
    const columns = own.map(({ types }, index) => `c${index} ${types[dialect]}`);
    const setUp =
      dialect === 'postgres'
        ? [`create type season as enum ('spring', 'autumn')`, 'create domain kilograms as integer check (value >= 0)']
        : [];
    const database = await makeDatabase(dialect, [
      ...setUp,
      `create table data (id integer primary key, ${columns.join(', ')})`,
      `insert into data values (1, ${own.map(literalOf).join(', ')})`,
      `insert into data (id) values (2)`,
    ]);
    const queries = Object.fromEntries(
      own.map(
        (_, index) =>
          [`write_${index}`, `-- @param value? the value\n-- @writes\nupdate data set c${index} = :value where id = 2`] as const,
      ),
    );
    const server = defineServer({
      name: 'data',
      version: '1.0.0',
      offers: [wrapDatabase(database.owner, { name: 'data', queries, query: { anyUser: true } })],
    });
    const client = await connect(server);
    try {
      const expected = Object.fromEntries(
        own.map(({ json, by }, index) => [`c${index}`, by !== undefined && dialect in by ? by[dialect] : json]),
      );
      const { structuredContent } = await client.call('query_data', { sql: 'select * from data where id = 1' });
      const [row] = structuredContent!.rows as Record<string, unknown>[];
      const { id: _, ...found } = row!;
      expect(found).toEqual(expected);
      const [contents] = (await client.read('data://rows/data/1')).contents as unknown as { text: string }[];
      expect((JSON.parse(contents!.text) as { row: object }).row).toMatchObject(expected);
      // What is answered can be given back.
      const tools = await client.tools();
      for (const [index, { what, isOneWay }] of own.entries()) {
        if (isOneWay) continue;
        const value = expected[`c${index}`];
        const schema = tools.find(({ name }) => name === `write_${index}`)!.inputSchema;
        const { isError, content } = await client.call(`write_${index}`, { value });
        expect([what, schema.properties!.value, isError ?? false, isError === true && content]).toEqual([
          what,
          expect.anything(),
          false,
          false,
        ]);
      }
      const again = await client.call('query_data', { sql: 'select * from data where id = 2' });
      const [second] = again.structuredContent!.rows as Record<string, unknown>[];
      const differences = own.flatMap(({ what, isOneWay }, index) =>
        isOneWay || JSON.stringify(second![`c${index}`]) === JSON.stringify(expected[`c${index}`])
          ? []
          : [[what, second![`c${index}`], expected[`c${index}`]]],
      );
      expect(differences).toEqual([]);
    } finally {
      await client.close();
      await server.close();
      await database.drop();
    }
  });

on('sqlite')('a blob beyond the limit is answered by its length', async () => {
  const database = await makeDatabase('sqlite', [
    'create table data (id integer primary key, photo blob)',
    'insert into data values (1, zeroblob(2000))',
  ]);
  const server = defineServer({
    name: 'data',
    version: '1.0.0',
    offers: [wrapDatabase(database.owner, { name: 'data', maxBlobBytes: 1000 })],
  });
  const client = await connect(server);
  const { structuredContent } = await client.call('query_data', { sql: 'select photo from data' });
  await client.close();
  await server.close();
  expect(structuredContent).toEqual({ rows: [{ photo: { bytes: 2000, omitted: 'longer than 1000 bytes' } }] });
});
