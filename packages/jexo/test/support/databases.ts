import { connect as connectSocket } from 'node:net';
import { randomBytes } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { join } from 'node:path';
import pg from 'pg';
import type { Dialect } from '../../src/sources/database/place.js';
import { freshFolder } from './command-line.js';

const require = createRequire(import.meta.url);
const mysql = require('mysql2/promise') as typeof import('mysql2/promise');
const Sqlite = require('libsql') as new (path: string) => {
  exec(sql: string): void;
  prepare(sql: string): { all(): unknown[] };
  close(): void;
};

/** A connection with every right, which makes databases and users for the tests. */
const servers = {
  postgres: process.env.JEXO_TEST_POSTGRES ?? 'postgres://postgres@127.0.0.1:5432/postgres',
  mysql: process.env.JEXO_TEST_MYSQL ?? 'mysql://root@127.0.0.1:3306/mysql',
};

const answers = (address: string): Promise<boolean> =>
  new Promise((resolve) => {
    const { hostname, port } = new URL(address);
    const socket = connectSocket({ host: hostname, port: Number(port) }, () => resolve(socket.end() !== undefined));
    socket.once('error', () => resolve(false));
  });
const there = { sqlite: true, postgres: await answers(servers.postgres), mysql: await answers(servers.mysql) };
for (const [dialect, isThere] of Object.entries(there))
  if (!isThere)
    console.warn(`No ${dialect} server answers: its tests are skipped. Start it, or name it in JEXO_TEST_${dialect.toUpperCase()}.`);

export const dialects: readonly Dialect[] = ['sqlite', 'postgres', 'mysql'];
/** Tests that need a real server: without one they are skipped by name, and in CI a skip is a failure. */
export const on = (dialect: Dialect): typeof test => (there[dialect] || process.env.CI ? test : (test.skip as typeof test));

/** A database of the test's own, with a user who may only read it. */
export interface TestDatabase {
  readonly dialect: Dialect;
  /** Its address for a user with every right. */
  readonly owner: string;
  /** Its address for a user who may read, with a password that needs encoding. */
  readonly reader: string;
  readonly password: string;
  /** Runs statements with every right, and gives the rows of the last. */
  run(sql: string): Promise<Record<string, unknown>[]>;
  drop(): Promise<void>;
}

const password = 's/e@c:ret';

/** @param statements what is made in it before the reader is given the right to read */
export async function makeDatabase(dialect: Dialect, statements: readonly string[] = []): Promise<TestDatabase> {
  const made = await { sqlite: makeSqlite, postgres: makePostgres, mysql: makeMysql }[dialect](
    `jexo_${randomBytes(5).toString('hex')}`,
    statements,
  );
  return made;
}

const blocks = [...readFileSync(new URL('../../../../docs/databases.md', import.meta.url), 'utf8').matchAll(/```sql\n([\s\S]*?)```/g)].map(
  ([, sql]) => sql!,
);
/** What docs/databases.md makes a reader by, with the test's own names. */
function documented(dialect: 'PostgreSQL' | 'MariaDB', name: string): string {
  const [, sql] = new RegExp(`-- ${dialect}\\n((?:(?!--).*\\n)*)`).exec(blocks.find((block) => block.includes('create role'))!)!;
  return sql!.replaceAll('scales_reader', `${name}_reader`).replaceAll('scales', name).replaceAll('…', password);
}
/** What docs/databases.md tells of changes by, for another table. */
export const tellingOf = (table: string): string =>
  blocks.find((block) => block.includes('tell_jexo'))!.replace('on readings', `on ${table}`);

async function makeSqlite(name: string, statements: readonly string[]): Promise<TestDatabase> {
  const path = join(freshFolder('database'), `${name}.sqlite`);
  const run = async (sql: string) => {
    const database = new Sqlite(path);
    try {
      if (/^\s*(?:select|pragma|with)/i.test(sql)) return database.prepare(sql).all() as Record<string, unknown>[];
      database.exec(sql);
      return [];
    } finally {
      database.close();
    }
  };
  await run('pragma journal_mode = wal');
  for (const sql of statements) await run(sql);
  return { dialect: 'sqlite', owner: path, reader: path, password, run, drop: async () => undefined };
}

async function makePostgres(name: string, statements: readonly string[]): Promise<TestDatabase> {
  const admin = new pg.Client({ connectionString: servers.postgres });
  await admin.connect();
  await admin.query(`create database ${name}`);
  const owner = servers.postgres.replace(/\/[^/]*$/, `/${name}`);
  const client = new pg.Client({ connectionString: owner });
  client.on('error', () => undefined);
  await client.connect();
  for (const sql of statements) await client.query(sql);
  await client.query(documented('PostgreSQL', name));
  const reader = new URL(owner);
  reader.username = `${name}_reader`;
  reader.password = encodeURIComponent(password);
  return {
    dialect: 'postgres',
    owner,
    reader: reader.href,
    password,
    run: async (sql) => {
      const result = await client.query(sql);
      return ((Array.isArray(result) ? result.at(-1) : result) as { rows: Record<string, unknown>[] }).rows;
    },
    async drop() {
      await client.end();
      await admin.query(`drop database ${name} with (force)`);
      await admin.query(`drop role ${name}_reader`);
      await admin.end();
    },
  };
}

async function makeMysql(name: string, statements: readonly string[]): Promise<TestDatabase> {
  const admin = await mysql.createConnection({ uri: servers.mysql, multipleStatements: true });
  await admin.query(`create database ${name}; use ${name}`);
  for (const sql of statements) await admin.query(sql);
  await admin.query(documented('MariaDB', name));
  const owner = new URL(servers.mysql);
  owner.pathname = `/${name}`;
  const reader = new URL(owner);
  reader.username = `${name}_reader`;
  reader.password = encodeURIComponent(password);
  return {
    dialect: 'mysql',
    owner: owner.href,
    reader: reader.href,
    password,
    run: async (sql) => {
      const [rows] = await admin.query(sql);
      return (Array.isArray(rows) ? rows : []) as Record<string, unknown>[];
    },
    async drop() {
      await admin.query(`drop database ${name}; drop user ${name}_reader`);
      await admin.end();
    },
  };
}

/** The scales in small: hives, their readings, keepers, a log without a key, and a view. */
export function scales(dialect: Dialect): string[] {
  const moment = { sqlite: 'datetime', postgres: 'timestamp', mysql: 'datetime' }[dialect];
  const rows = Array.from({ length: 500 }, (_, index) => {
    const at = new Date(Date.UTC(2026, 3, 1) + Math.floor(index / 5) * 900_000).toISOString().slice(0, 19).replace('T', ' ');
    return `('MR-0${(index % 5) + 1}', '${at}', ${20 + (index % 17) / 2})`;
  });
  return [
    `create table hives (id varchar(8) primary key, apiary varchar(4) not null, strength integer)`,
    `create table readings (hive varchar(8) not null references hives (id), at ${moment} not null, kg double precision not null, primary key (hive, at)${dialect === 'mysql' ? ', foreign key (hive) references hives (id)' : ''})`,
    `create table keepers (id integer primary key, name varchar(40) not null, phone varchar(20), apiary varchar(4) not null)`,
    `create table notes (said varchar(80))`,
    `create table secrets (pin varchar(20) primary key)`,
    `create view heavy as select hive, max(kg) as kg from readings group by hive`,
    `insert into hives values ('MR-01', 'MR', 7), ('MR-02', 'MR', 5), ('MR-03', 'MR', null), ('MR-04', 'UC', 4), ('MR-05', 'UC', 9)`,
    `insert into readings values ${rows.join(', ')}`,
    `insert into keepers values (1, 'registrar', '555-0110', 'MR'), (2, 'keeper', null, 'UC')`,
    `insert into notes values ('calm'), ('fed')`,
    `insert into secrets values ('4711')`,
  ];
}
