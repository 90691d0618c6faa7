import { existsSync } from 'node:fs';
import { defineServer, wrapDatabase, type WrapDatabaseOptions } from '../../../src/index.js';
import type { Dialect } from '../../../src/sources/database/place.js';
import { connect } from '../../../src/index.js';
import { dialects, makeDatabase, on, scales, type TestDatabase } from '../../support/databases.js';

const open: (() => Promise<unknown>)[] = [];
afterAll(async () => {
  for (const close of open.reverse()) await close();
});

async function asker(place: string, options: WrapDatabaseOptions = {}) {
  const server = defineServer({
    name: 'scales',
    version: '1.0.0',
    offers: [wrapDatabase(place, { name: 'scales', timeoutMs: 1500, ...options })],
  });
  const client = await connect(server);
  open.push(() => client.close().then(() => server.close()));
  return async (sql: string) => {
    const result = await client.call('query_scales', { sql });
    const [block] = result.content as readonly { readonly text?: string }[];
    return {
      failed: result.isError === true,
      text: block?.text ?? '',
      rows: (result.structuredContent?.rows ?? []) as Record<string, unknown>[],
    };
  };
}

/** Everything that the database holds, in a form that can be compared. */
async function contents({ run, dialect }: TestDatabase): Promise<string> {
  const tables = await Promise.all(
    ['hives', 'readings', 'keepers', 'notes', 'secrets'].map((table) =>
      run(`select * from ${table} order by 1, 2, 3`).catch(() => run(`select * from ${table} order by 1`)),
    ),
  );
  const names =
    dialect === 'sqlite'
      ? await run('select name, sql from sqlite_master order by 1')
      : await run(
          `select table_name as n from information_schema.tables where table_schema ${dialect === 'postgres' ? `= 'public'` : '= database()'} order by 1`,
        );
  const large = dialect === 'postgres' ? await run('select count(*) as n from pg_largeobject_metadata') : [];
  return JSON.stringify([tables, names, large], (_key, value: unknown) => (typeof value === 'bigint' ? String(value) : value));
}

/** What a caller of any database may try. */
const everywhere = [
  "insert into hives values ('X', 'X', 1)",
  "INSERT INTO hives VALUES ('X', 'X', 1)",
  'update hives set strength = 0',
  'delete from hives',
  'drop table hives',
  'create table x (a int)',
  'alter table hives add column x int',
  'select 1; drop table notes',
  'select 1; select 2',
  "select ';' ; delete from notes",
  'select 1 -- ;\n; delete from notes',
  'select 1 /* ; */; delete from notes',
  '/* a */ delete from notes',
  '-- select\ndelete from notes',
  '(delete from notes)',
  'with x as (select 1) delete from notes',
  'with x as (select 1) insert into notes select 1 from x',
  'begin; delete from notes; commit',
  'begin',
  'commit',
  'rollback',
  'savepoint a',
  'explain analyze delete from notes',
  'explain delete from notes',
  'call something()',
  'grant all on hives to public',
  'set a = 1',
  'lock table hives',
  'truncate table hives',
  'replace into notes values (1)',
  "select * from hives where id = 'unclosed",
  'select * from hives /* unclosed',
  'select /* a /* b */ c */ 1',
  'select * into copy_of_hives from hives',
  'select * from hives for update',
  'select :a',
  '',
  ';',
  '-- nothing',
  'select 1\u0000; delete from notes',
  'select * from hives where id = ?',
  'do something',
  'with recursive r(n) as (select 1 union all select n + 1 from r) select n from r',
  'with recursive r(n) as (select 1 union all select n + 1 from r) select count(*) from r',
  'select count(*) from readings a, readings b, readings c, readings d',
  "with recursive r(t) as (select cast('aaaaaaaa' as char(8)) union all select t from r) select sum(length(t)) from r",
];

const attempts: Readonly<Record<Dialect, readonly string[]>> = {
  sqlite: [
    "attach '/tmp/jexo-attached.db' as x",
    "attach database ':memory:' as x",
    'detach x',
    'vacuum',
    "vacuum into '/tmp/jexo-vacuum.db'",
    'pragma query_only = 0',
    'pragma user_version = 5',
    'reindex',
    'analyze',
    "select writefile('/tmp/jexo-written', 'x')",
    "select \"writefile\"('/tmp/jexo-written', 'x')",
    "select `writefile`('/tmp/jexo-written', 'x')",
    "select [writefile]('/tmp/jexo-written', 'x')",
    "select 'writefile'('/tmp/jexo-written', 'x')",
    "select WRITEFILE /* a */ ('/tmp/jexo-written', 'x')",
    "select readfile('/etc/passwd')",
    "select * from fsdir('/etc')",
    "select name from fsdir where path = '/etc'",
    'select name from "fsdir" where path = \'/etc\'',
    "select name from 'fsdir' where path = '/etc'",
    "select load_extension('/tmp/x')",
    "select * from pragma_table_info('hives')",
    'select * from pragma_database_list',
    'select * from sqlite_dbpage',
    'select * from dbstat',
    'select sql from sqlite_master',
    'select sql from sqlite_schema',
    'select zeroblob(1000000000)',
    'select hex(zeroblob(500000000))',
    "select replace(hex(zeroblob(100000)), '0', hex(zeroblob(100000)))",
    "with recursive r(t) as (select 'a' union all select t || t from r limit 60) select max(length(t)) from r",
    "select printf('%.*c', 1000000000, 'x')",
    'select group_concat(a.at || b.at) from readings a, readings b, readings c',
    'select randomblob(1000000000)',
    "select edit('x')",
    'select @a',
    'select $a',
    "select fts3_tokenizer('simple')",
    'select sqlite_offset(id) from hives',
    "select eval('delete from notes')",
    'create temp table x (a)',
    "select * from csv('/etc/passwd')",
    "select * from zipfile('/tmp/x.zip')",
    'release a',
    "select * from 'fsdir' where path = '/etc'",
    "select * from 'sqlite_master'",
    "select * from main.'sqlite_master'",
    'select $a',
  ],
  postgres: [
    'with d as (delete from notes returning *) select * from d',
    "with d as (insert into notes values ('x') returning *) select * from d",
    "with d as (update notes set said = 'x' returning *) select * from d",
    "copy hives to '/tmp/jexo-copied'",
    "copy hives to program 'touch /tmp/jexo-program'",
    "copy hives from '/etc/passwd'",
    'select pg_sleep(20)',
    'select "pg_sleep"(20)',
    'select pg_catalog.pg_sleep(20)',
    'select U&"\\0070g_sleep"(20)',
    'select pg_terminate_backend(pid) from pg_stat_activity',
    'select pg_cancel_backend(1)',
    'select pg_advisory_lock(1)',
    'select pg_try_advisory_lock(1)',
    "select pg_read_file('/etc/passwd')",
    "select pg_ls_dir('/')",
    "select pg_stat_file('/etc/passwd')",
    'select lo_create(4711)',
    "select lo_import('/etc/passwd')",
    "select lo_from_bytea(0, 'x')",
    "select lo_put(4711, 0, 'x')",
    "select query_to_xml('select pg_read_file(''/etc/passwd'')', true, true, '')",
    "select table_to_xml('secrets', true, true, '')",
    "select database_to_xml(true, true, '')",
    "select set_config('statement_timeout', '0', false)",
    "select current_setting('data_directory')",
    "select nextval('x')",
    "select setval('x', 1)",
    "select pg_notify('a', 'b')",
    "notify a, 'b'",
    'listen a',
    "select dblink('host=127.0.0.1', 'delete from notes')",
    "select * from t, dblink('a') as (a int)",
    'select pg_reload_conf()',
    'select pg_switch_wal()',
    'select txid_current()',
    'select pg_export_snapshot()',
    'select * from pg_stat_activity',
    'select * from pg_authid',
    'select rolpassword from pg_shadow',
    'select most_common_vals from pg_stats',
    'select * from information_schema.tables',
    'prepare p as delete from notes',
    'execute p',
    'declare c cursor for select 1',
    'fetch all from c',
    'do $$ begin delete from notes; end $$',
    'select $a$ unclosed',
    'set role postgres',
    'reset all',
    'discard all',
    'vacuum',
    'refresh materialized view x',
    'select 1 -- \rwhere pg_sleep(20) is null',
    "select E'a'\n'b\\' || ' || pg_sleep(20) || E'",
    "select ts_rewrite('a'::tsquery, 'select pg_sleep(20)')",
    "select ts_rewrite('a'::tsquery, 'select ''a''::tsquery, ''b''::tsquery from secrets')",
    'select first(1)',
    'select * from hives for share',
    'select * from hives for no key update',
    'table hives; delete from notes',
    'select * from generate_series(1, 100000000000)',
    'select count(*) from generate_series(1, 100000000000)',
    "select string_agg(repeat('x', 1000000), '') from generate_series(1, 2000)",
    "select repeat('x', 100000000) from generate_series(1, 100)",
  ],
  mysql: [
    "select * from hives into outfile '/tmp/jexo-outfile'",
    "select * into outfile '/tmp/jexo-outfile' from hives",
    "select 'x' into dumpfile '/tmp/jexo-dumpfile'",
    'select id into @x from hives limit 1',
    "select load_file('/etc/passwd')",
    'select sleep(20)',
    'select `sleep`(20)',
    'select SLEEP/**/(20)',
    'select /*! sleep(20) */ 1',
    'select /*!50000 sleep(20) */ 1',
    'select /*M! sleep(20) */ 1',
    'select 1 /*!; delete from notes */',
    'select /*+ SET_VAR(max_execution_time = 0) */ 1',
    'select benchmark(1000000000, sha2(1, 256))',
    "select get_lock('a', 10)",
    "select release_lock('a')",
    'select @a := 1',
    'select @a',
    'select @@datadir',
    'set @a = 1',
    'set session max_statement_time = 0',
    'set global read_only = 0',
    'start transaction',
    'begin not atomic delete from notes; end',
    'begin not atomic commit; delete from notes; end',
    "prepare p from 'delete from notes'",
    'execute p',
    "execute immediate 'delete from notes'",
    'handler hives open',
    'kill 1',
    'show tables',
    'show grants',
    'describe hives',
    'use mysql',
    'flush tables',
    'optimize table hives',
    'analyze table hives',
    'rename table hives to x',
    "load data infile '/etc/passwd' into table notes",
    "load data local infile '/etc/passwd' into table notes",
    'select * from hives procedure analyse()',
    'select * from hives lock in share mode',
    'select nextval(x)',
    'select next value for x',
    'select previous value for x',
    'select {fn sleep(20)}',
    'select 1 --\rsleep(20)',
    'select * from mysql.user',
    'select * from information_schema.tables',
    'select * from performance_schema.threads',
    'select * from .hives; delete from notes',
    'select * from hives # ;\n; delete from notes',
    "select repeat('x', 1000000000)",
    'select group_concat(a.at, b.at) from readings a, readings b, readings c',
    'select seq from seq_1_to_100000000000',
    'select count(*) from seq_1_to_100000000000',
    "select sys_exec('id')",
    'values (1); delete from notes',
    'select master_pos_wait(1, 2)',
    'select uuid_short()',
    'select last_insert_id(5)',
    'select connection_id()',
    'select user()',
    'xa start 1',
    'shutdown',
  ],
};

/** Attempts that are let through, and bounded: by the rows of an answer, or by the database itself. */
const bounded: Readonly<Record<Dialect, readonly string[]>> = {
  sqlite: ['with recursive r(n) as (select 1 union all select n + 1 from r) select n from r', 'select * from hives /* unclosed'],
  postgres: [
    'with recursive r(n) as (select 1 union all select n + 1 from r) select n from r',
    'select * from generate_series(1, 100000000000)',
  ],
  mysql: [
    ...everywhere.filter((sql) => sql.startsWith('with recursive')),
    'select seq from seq_1_to_100000000000',
    'select count(*) from seq_1_to_100000000000',
  ],
};
const written = ['attached.db', 'vacuum.db', 'written', 'copied', 'program', 'outfile', 'dumpfile'].map((name) => `/tmp/jexo-${name}`);

for (const dialect of dialects)
  on(dialect)(
    `${dialect}: no attempt to write, escape or hang gets through, and nothing has changed afterwards`,
    async () => {
      const database = await makeDatabase(dialect, scales(dialect));
      open.push(() => database.drop());
      const ask = await asker(database.reader);
      const before = await contents(database);
      const all = [...everywhere, ...attempts[dialect]];
      expect(all.length).toBeGreaterThanOrEqual(80);
      const passed: string[] = [];
      const slow: string[] = [];
      for (const sql of all) {
        const start = performance.now();
        const { failed, rows } = await ask(sql);
        if (!failed && (!bounded[dialect].includes(sql) || rows.length > 200)) passed.push(sql);
        if (performance.now() - start > 6000) slow.push(sql);
      }
      expect(passed).toEqual([]);
      expect(slow).toEqual([]);
      expect(await contents(database)).toBe(before);
      expect(written.filter((path) => existsSync(path))).toEqual([]);
      // It goes on answering.
      expect(await ask('select count(*) as n from hives')).toMatchObject({ rows: [{ n: 5 }] });
    },
    240_000,
  );

for (const dialect of dialects)
  on(dialect)(`${dialect}: what a model asks is answered`, async () => {
    const database = await makeDatabase(dialect, scales(dialect));
    open.push(() => database.drop());
    const ask = await asker(database.reader);
    const text = dialect === 'mysql' ? 'char' : 'text';
    for (const [sql, rows] of [
      ['select count(*) as n from hives;', [{ n: 5 }]],
      [
        'SELECT h.apiary, COUNT(*) AS n FROM hives AS h GROUP BY h.apiary ORDER BY 1',
        [
          { apiary: 'MR', n: 3 },
          { apiary: 'UC', n: 2 },
        ],
      ],
      [
        'with light as (select * from hives where strength < 6) select id from light order by id -- the weak\n',
        [{ id: 'MR-02' }, { id: 'MR-04' }],
      ],
      ["select id from hives where apiary in ('UC') and (strength > 4 or strength is null)", [{ id: 'MR-05' }]],
      [`select cast(coalesce(strength, 0) as ${text}) as s from hives where id = 'MR-03'`, [{ s: '0' }]],
      [
        'select hive, kg, row_number() over (partition by hive order by kg desc) as place from heavy order by hive limit 1',
        [{ hive: 'MR-01', kg: 28, place: 1 }],
      ],
      ["select id, id from hives where id = 'MR-01'", [{ id: 'MR-01', id_2: 'MR-01' }]],
      ["select 'it''s; -- no comment' as t", [{ t: "it's; -- no comment" }]],
      ['select h.id from hives h join lateral_less l on 1 = 1', undefined],
      ['values (1)', undefined],
      ['(select 1 as a) union all (select 2) order by a', dialect === 'sqlite' ? undefined : [{ a: 1 }, { a: 2 }]],
      ['select max(kg) as kg from readings where exists (select 1 from hives where id = hive)', [{ kg: 28 }]],
    ] as const) {
      const { failed, rows: found } = await ask(sql);
      if (rows === undefined) expect([sql, failed || found.length > 0]).toEqual([sql, true]);
      else expect([sql, found]).toEqual([sql, rows]);
    }
    // Each fence says what it refuses; behind it stands the next.
    for (const [sql, says] of [
      ['select 1; select 2', 'Only one statement can be run, and another begins at character 9'],
      ['delete from hives', 'A statement that begins with delete is not run here'],
      ['with x as (select 1) delete from hives', 'DELETE is not run here'],
      ['select * from hives for update', 'Rows are not locked here'],
      ['select nothing_such(1)', 'The function nothing_such is not called here'],
    ] as const)
      expect([sql, (await ask(sql)).text]).toEqual([sql, expect.stringContaining(says)]);
    const wrong = await ask('select strenght from hives');
    expect(wrong.text).toMatch(/strenght.*Did you mean strength\? hives has: id, apiary, strength\./s);
    expect((await ask('select * from hivez')).text).toMatch(/hivez.*Did you mean hives\? The tables are: .*readings/s);
    const syntax = await ask('select from where');
    expect([syntax.failed, syntax.text]).toEqual([true, expect.stringMatching(/syntax/i)]);
  });

on('postgres')('a user with every right is refused with the reason, unless it is meant', async () => {
  const database = await makeDatabase('postgres', scales('postgres'));
  open.push(() => database.drop());
  const source = wrapDatabase(database.owner, { name: 'scales' });
  const { offers, omitted } = await source.read({ settings: {}, signal: new AbortController().signal, progress: () => undefined });
  await source.close!();
  expect(offers.map(({ name }) => name)).not.toContain('query_scales');
  expect(omitted).toMatchObject([
    { name: 'query_scales', why: expect.stringContaining('superuser'), next: expect.stringContaining('docs/databases.md') },
  ]);
  const ask = await asker(database.owner, { query: { anyUser: true } });
  expect(await ask('select count(*) as n from hives')).toMatchObject({ rows: [{ n: 5 }] });
  expect((await ask("select pg_read_file('/etc/passwd')")).failed).toBe(true);
});
