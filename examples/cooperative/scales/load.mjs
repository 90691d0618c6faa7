// Writes the cooperative's scales into a database: weight and temperature of every hive, every 15 minutes of a season. The figures are
// made up by a seeded generator, so that every run writes the same ones.
//
//   node scales/load.mjs                                        a file of SQLite, scales/scales.sqlite
//   node scales/load.mjs postgres://user@127.0.0.1:5432/scales  PostgreSQL
//   node scales/load.mjs mysql://user@127.0.0.1:3306/scales     MariaDB or MySQL
import { rmSync } from 'node:fs';
import { pathToFileURL } from 'node:url';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

/** A small seeded generator: the same seed gives the same numbers everywhere. */
function seeded(seed) {
  let state = seed >>> 0;
  return () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let mixed = Math.imul(state ^ (state >>> 15), state | 1);
    mixed ^= mixed + Math.imul(mixed ^ (mixed >>> 7), mixed | 61);
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4294967296;
  };
}

export const apiaries = [
  ['MR', 'Millrace'],
  ['UC', 'Upper Croft'],
  ['SM', 'Saltmarsh'],
  ['FH', 'Fernhollow'],
  ['QB', 'Quarry Bank'],
  ['LM', 'Long Meadow'],
];
const hiveCount = 40;
const readingsPerHive = 7500;
const start = Date.UTC(2026, 2, 15);

export const hives = Array.from({ length: hiveCount }, (_, index) => {
  const [apiary] = apiaries[index % apiaries.length];
  return { id: `${apiary}-${String(Math.floor(index / apiaries.length) + 1).padStart(2, '0')}`, apiary };
}).sort((a, b) => a.id.localeCompare(b.id));

/** Every reading, hive by hive: `[hive, at, kg, celsius]`. */
export function* readings(perHive = readingsPerHive) {
  const random = seeded(20260315);
  for (const { id } of hives) {
    let kg = 18 + random() * 12;
    const gain = 0.001 + random() * 0.004;
    for (let step = 0; step < perHive; step++) {
      const at = new Date(start + step * 900_000);
      const hour = at.getUTCHours() + at.getUTCMinutes() / 60;
      // Foragers leave in the morning and come back heavier.
      const flight = hour > 7 && hour < 19 ? -0.4 * Math.sin((Math.PI * (hour - 7)) / 12) : 0;
      kg += gain * (hour > 7 && hour < 19 ? 2 : -0.3) + (random() - 0.5) * 0.01;
      // Now and then a super is put on, or honey is taken off.
      if (step % 2400 === 1800) kg += 3.2;
      if (step % 2400 === 2300) kg -= 9;
      const celsius = 33.5 + 1.5 * Math.sin((Math.PI * (hour - 9)) / 12) + (random() - 0.5) * 0.4;
      yield [id, at.toISOString().slice(0, 19).replace('T', ' '), Number((kg + flight).toFixed(2)), Number(celsius.toFixed(1))];
    }
  }
}

const tables = (types) => [
  `create table apiaries (code ${types.code} primary key, name ${types.text} not null)`,
  `create table hives (id ${types.code} primary key, apiary ${types.code} not null references apiaries (code), queen_year integer not null, strength integer not null)`,
  `create table keepers (id integer primary key, apiary ${types.code} not null references apiaries (code), role ${types.text} not null, phone ${types.text} not null)`,
  `create table readings (hive ${types.code} not null references hives (id), at ${types.moment} not null, kg ${types.number} not null, celsius ${types.number} not null, primary key (hive, at))${types.end}`,
];
const kinds = {
  sqlite: { code: 'text', text: 'text', moment: 'datetime', number: 'real', end: '' },
  postgres: { code: 'varchar(8)', text: 'text', moment: 'timestamp', number: 'double precision', end: '' },
  mysql: { code: 'varchar(8)', text: 'varchar(200)', moment: 'datetime', number: 'double', end: '' },
};
const comments = {
  hives: 'The hives of the cooperative',
  readings: 'What the scale under a hive measured, every 15 minutes; times are UTC',
};

/** Runs statements and inserts rows in batches, whatever the database. */
async function open(place) {
  if (/^postgres(ql)?:/.test(place)) {
    const { default: pg } = await import('pg');
    const client = new pg.Client({ connectionString: place });
    await client.connect();
    return { kind: 'postgres', run: (sql) => client.query(sql), close: () => client.end() };
  }
  if (/^(mysql|mariadb):/.test(place)) {
    const { default: mysql } = await import('mysql2/promise');
    const connection = await mysql.createConnection(place.replace(/^mariadb:/, 'mysql:'));
    return { kind: 'mysql', run: (sql) => connection.query(sql), close: () => connection.end() };
  }
  const { default: Database } = await import('libsql');
  for (const end of ['', '-wal', '-shm']) rmSync(`${place}${end}`, { force: true });
  const database = new Database(place);
  database.exec('pragma journal_mode = wal; pragma synchronous = off');
  return { kind: 'sqlite', run: async (sql) => database.exec(sql), close: async () => database.close() };
}

const text = (value) => (typeof value === 'string' ? `'${value.replaceAll("'", "''")}'` : String(value));

/**
 * Makes the tables and fills them.
 * @param place a path for SQLite, or a URL
 * @param perHive readings of each of the 40 hives; 7,500 make a season
 */
export async function loadScales(place, perHive = readingsPerHive) {
  const { kind, run, close } = await open(place);
  try {
    for (const name of ['readings', 'keepers', 'hives', 'apiaries']) await run(`drop table if exists ${name}`);
    for (const sql of tables(kinds[kind])) await run(sql);
    const insert = async (table, rows) => {
      for (let at = 0; at < rows.length; at += 500) {
        const values = rows.slice(at, at + 500).map((row) => `(${row.map(text).join(',')})`);
        await run(`insert into ${table} values ${values.join(',')}`);
      }
    };
    const random = seeded(20260601);
    await insert('apiaries', apiaries);
    await insert(
      'hives',
      hives.map(({ id, apiary }) => [id, apiary, 2023 + Math.floor(random() * 4), 3 + Math.floor(random() * 8)]),
    );
    await insert(
      'keepers',
      apiaries.map(([code], index) => [index + 1, code, index === 0 ? 'registrar' : 'keeper', `555-01${String(index + 10)}`]),
    );
    await run('begin');
    let batch = [];
    let count = 0;
    for (const row of readings(perHive)) {
      batch.push(row);
      count++;
      if (batch.length < 2000) continue;
      await insert('readings', batch);
      batch = [];
    }
    await insert('readings', batch);
    await run('commit');
    if (kind === 'postgres') for (const [table, words] of Object.entries(comments)) await run(`comment on table ${table} is '${words}'`);
    if (kind === 'mysql') for (const [table, words] of Object.entries(comments)) await run(`alter table ${table} comment = '${words}'`);
    await run(kind === 'mysql' ? 'analyze table readings' : 'analyze');
    return count;
  } finally {
    await close();
  }
}

if (import.meta.url === pathToFileURL(process.argv[1] ?? '').href) {
  const place = process.argv[2] ?? join(dirname(fileURLToPath(import.meta.url)), 'scales.sqlite');
  const began = performance.now();
  const count = await loadScales(place);
  const shown = place.replace(/:\/\/([^:@/]*):[^@]*@/, '://$1@');
  console.log(
    `${count.toLocaleString('en')} readings of ${hives.length} hives are in ${shown} (${((performance.now() - began) / 1000).toFixed(1)} s)`,
  );
}
