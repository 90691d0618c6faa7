// A database through wrapped tools, against its driver alone in the same run: SQLite always, PostgreSQL and MariaDB where they answer.
import { createRequire } from 'node:module';
import { existsSync } from 'node:fs';
import { connect as connectSocket } from 'node:net';
import { fileURLToPath } from 'node:url';
import { connect, defineServer, wrapDatabase } from 'jexo';
import { inTurn, median, pause } from './measure.mjs';
import { loadScales } from '../examples/cooperative/scales/load.mjs';

const require = createRequire(new URL('../packages/jexo/package.json', import.meta.url));
const file = fileURLToPath(new URL('../examples/cooperative/scales/scales.sqlite', import.meta.url));
const admin = { postgres: 'postgres://postgres@127.0.0.1:5432/postgres', mysql: 'mysql://root@127.0.0.1:3306/mysql' };
const name = 'jexo_bench';

const point = 'select kg, celsius from readings where hive = :hive and at = :at';
const page = 'select hive, at, kg, celsius from readings order by hive, at';
/** Work as a person asks for it: the days of a month, each from 96 readings. */
const month =
  "select date(at) as day, min(kg) as low, max(kg) as high from readings where hive = :hive and at between '2026-04-01' and '2026-05-01' group by date(at) order by day limit 40";
const hive = 'MR-03';
const at = '2026-05-01 06:00:00';
const rounds = 7;
/** Microseconds a call takes, bare and through a tool: each round makes so many calls. */
const perCall = (count, candidates) =>
  inTurn(candidates, rounds, async (work) => {
    const began = performance.now();
    for (let call = 0; call < count; call++) await work();
    return ((performance.now() - began) / count) * 1000;
  });

/** Calls a second of so many callers, each one call after the other. */
async function rate(callers, ms, work) {
  const end = performance.now() + ms;
  let count = 0;
  await Promise.all(
    Array.from({ length: callers }, async () => {
      while (performance.now() < end) {
        await work();
        count++;
      }
    }),
  );
  return count / (ms / 1000);
}

/** The rows as JSON and back: whoever answers over a wire does as much. */
const overWire = (rows) => JSON.parse(JSON.stringify(rows));

/** The driver alone, used as its own documentation shows. */
const floors = {
  async sqlite() {
    const Database = require('libsql/promise');
    const database = new Database(`file:${file}?mode=ro`);
    const one = await database.prepare('select kg, celsius from readings where hive = ? and at = ?');
    const many = await database.prepare(`${page} limit 201`);
    const days = await database.prepare(month.replace(':hive', '?'));
    return {
      place: file,
      point: () => one.all([hive, at]),
      page: async () => overWire(await many.all([])),
      month: () => days.all([hive]),
      close: async () => database.close(),
      drop: async () => undefined,
    };
  },
  async postgres() {
    const pg = require('pg');
    const first = new pg.Client({ connectionString: admin.postgres });
    await first.connect();
    await first.query(`drop database if exists ${name} with (force)`);
    await first.query(`create database ${name}`);
    const place = admin.postgres.replace(/postgres$/, name);
    await loadScales(place);
    const pool = new pg.Pool({ connectionString: place, max: 10 });
    // The database is dropped while the last of them still closes.
    pool.on('error', () => undefined);
    return {
      place,
      point: () => pool.query({ name: 'p', text: 'select kg, celsius from readings where hive = $1 and at = $2', values: [hive, at] }),
      page: async () => overWire((await pool.query({ name: 'q', text: `${page} limit 201` })).rows),
      month: () => pool.query({ name: 'm', text: month.replace(':hive', '$1'), values: [hive] }),
      close: () => pool.end(),
      async drop() {
        await first.query(`drop database ${name} with (force)`);
        await first.end();
      },
    };
  },
  async mysql() {
    const mysql = require('mysql2/promise');
    const first = await mysql.createConnection(admin.mysql);
    await first.query(`drop database if exists ${name}`);
    await first.query(`create database ${name}`);
    const place = admin.mysql.replace(/mysql$/, name);
    await loadScales(place);
    const pool = mysql.createPool({ uri: place, connectionLimit: 10, dateStrings: true });
    return {
      place,
      point: () => pool.execute('select kg, celsius from readings where hive = ? and at = ?', [hive, at]),
      page: async () => overWire((await pool.execute(`${page} limit 201`))[0]),
      month: () => pool.execute(month.replace(':hive', '?'), [hive]),
      close: () => pool.end(),
      async drop() {
        await first.query(`drop database ${name}`);
        await first.end();
      },
    };
  },
};

const answers = (address) =>
  new Promise((resolve) => {
    const { hostname, port } = new URL(address);
    const socket = connectSocket({ host: hostname, port: Number(port) }, () => resolve(socket.end() !== undefined));
    socket.once('error', () => resolve(false));
  });

async function measureOne(dialect) {
  const floor = await floors[dialect]();
  const server = defineServer({
    name: 'scales',
    version: '1.0.0',
    maxCalls: 1000,
    offers: [
      wrapDatabase(floor.place, {
        name: 'scales',
        queries: { point: `-- @limit 5\n${point}`, page, month },
        query: { anyUser: true },
        tables: false,
      }),
    ],
  });
  const client = await connect(server);
  const check = (result) => {
    if (result.isError) throw new Error(result.content[0].text);
  };
  const onePoint = async () => check(await client.call('point', { hive, at }));
  const onePage = async () => check(await client.call('page', {}));
  const oneMonth = async () => check(await client.call('month', { hive }));
  const calls = await perCall(1500, { floor: floor.point, own: onePoint });
  const pages = await perCall(150, { floor: floor.page, own: onePage });
  const before = await settledMemory();
  for (let call = 0; call < 1000; call++) await onePage();
  const grown = (await settledMemory()) - before;
  const rates = { floor: [], own: [] };
  for (let round = 0; round < 3; round++) {
    rates.floor.push(await rate(50, 1500, floor.month));
    rates.own.push(await rate(50, 1500, oneMonth));
  }
  await client.close();
  await server.close();
  await floor.close();
  await floor.drop();
  return {
    dialect,
    adds: calls.own - calls.floor,
    floor: calls.floor,
    page: pages.own / pages.floor,
    pageUs: pages.own,
    grownMb: grown / 1e6,
    rate: median(rates.own) / median(rates.floor),
  };
}

async function settledMemory() {
  for (let pass = 0; pass < 3; pass++) {
    globalThis.gc?.();
    await pause(50);
  }
  return process.memoryUsage().rss;
}

export async function database() {
  if (!existsSync(file)) await loadScales(file);
  const dialects = ['sqlite'];
  for (const dialect of ['postgres', 'mysql']) if (await answers(admin[dialect])) dialects.push(dialect);
  const found = [];
  for (const dialect of dialects) found.push(await measureOne(dialect));
  return found;
}

if (process.argv[1] === fileURLToPath(import.meta.url)) console.table(await database());
