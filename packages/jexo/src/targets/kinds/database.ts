import type { OptionalPackage } from '../../optional-package.js';
import { existsSync, openSync, readSync, closeSync } from 'node:fs';
import { extname, resolve } from 'node:path';
import { defineServer } from '../../offers/define-server.js';
import type { ProjectFiles } from '../../projects/project-files.js';
import { dialectOfUrl, readPlace, sqliteEnding } from '../../sources/database/place.js';
import type { WrapDatabaseOptions } from '../../sources/database/wrap-database.js';
import { env } from '../../sources/setting.js';
import { entryOfAddress } from '../entry-of-address.js';
import { entryOfFile } from '../entry-of-file.js';
import { serverName } from '../server-name.js';
import type { OpenHow, TargetKind } from '../target-kind.js';

const again = (text: string, before: unknown = []) => [...(before as string[]), text];
/** `env:SCALES_DB`: the address stands in a variable of the environment. */
const variableOf = (text: string) => /^env:([A-Za-z_]\w*)$/.exec(text)?.[1];

/** A database: named queries as tools, its rows as resources, and a tool that reads. */
export const databaseKind: TargetKind = {
  kind: 'database',
  noun: 'a database',
  example: 'scales.sqlite',
  about: 'a database, also postgres://…, mysql://… or env:NAME: its rows as resources, queries as tools',
  options: [
    {
      name: 'queries',
      flags: '--queries <folder>',
      about: 'named queries: a folder of .sql files, each a tool',
      read: (text) => resolve(text),
    },
    {
      name: 'tables',
      flags: '--tables <pattern>',
      about: 'only these tables or columns, such as readings or keepers.name; may be repeated',
      read: again,
    },
    { name: 'exceptTables', flags: '--except-tables <pattern>', about: 'all tables and columns but these; may be repeated', read: again },
    {
      name: 'mask',
      flags: '--mask <column>',
      about: 'show the values of this column as ***, such as keepers.phone; may be repeated',
      read: again,
    },
    { name: 'onlyQueries', flags: '--only-queries', about: 'offer the named queries alone: no rows, and no statements of the model’s own' },
    {
      name: 'anyUser',
      flags: '--any-user',
      about: 'offer that tool although the user of the connection may do more than read and write rows',
    },
  ],
  matches: (text, peek) =>
    dialectOfUrl(text) !== undefined ||
    variableOf(text) !== undefined ||
    (sqliteEnding.test(text) && !/^https?:/i.test(text)) ||
    (peek.what === 'file' && extname(text) === '' && beginsLikeSqlite(text)),
  async open(place, how) {
    const { wrapDatabase } = await import('../../sources/database/wrap-database.js');
    const variable = variableOf(place);
    const source = wrapDatabase(variable === undefined ? place : env(variable), wrapOptions(how));
    const name = nameOf(place);
    return {
      server: defineServer({ name: serverName(name), title: `Database ${name}`, version: '0.0.0', offers: [source] }),
      files: [],
    };
  },
  async pack(place, how) {
    const variable = variableOf(place) ?? `${nameOf(place).toUpperCase().replaceAll(/\W+/g, '_')}_DB`;
    const name = nameOf(place);
    // The texts of the queries are frozen into the pack; their folder stays behind.
    const { queries: _, ...options } = wrapOptions(how);
    // Where the database is differs from place to place, and its password is nobody's but the operator's.
    const wrapped = `wrapDatabase(env(${JSON.stringify(variable)}), ${JSON.stringify({ name, ...options })})`;
    return {
      imports: '',
      server: `defineServer({ ...${JSON.stringify({ name: serverName(name), title: `Database ${name}`, version: '0.0.0' })}, offers: [${wrapped}] })`,
      from: resolve('package.json'),
      name,
      settings: [{ variable, purpose: `the address of the database ${name}`, secret: true }],
      packages: [driverOf(place)],
    };
  },
  hostEntry: async (place, how) => {
    if (dialectOfUrl(place) === undefined && variableOf(place) === undefined) return entryOfFile(place, how);
    return entryOfAddress(place, how, 'Put the address into a variable, and register that: jexo register env:SCALES_DB --env SCALES_DB …');
  },
  name: nameOf,
  project: async (place, info): Promise<ProjectFiles> => {
    const { databaseProject } = await import('../../projects/project-files.js');
    const isFile = dialectOfUrl(place) === undefined && variableOf(place) === undefined;
    if (isFile) readPlace(place);
    const packages = { sqlite: { libsql: '^0.5.0' }, postgres: { pg: '^8.0.0' }, mysql: { mysql2: '^3.0.0' } };
    return databaseProject(info, {
      address: isFile ? resolve(place) : variableOf(place) === undefined ? place : '',
      driver: packages[dialectOfUrl(place) ?? 'sqlite'],
    });
  },
};

function driverOf(place: string): OptionalPackage {
  const variable = variableOf(place);
  const address = variable === undefined ? place : (process.env[variable] ?? '');
  return ({ postgres: 'pg', mysql: 'mysql2', sqlite: 'libsql' } as const)[dialectOfUrl(address) ?? 'sqlite'];
}

function nameOf(place: string): string {
  const variable = variableOf(place);
  if (variable !== undefined) return variable.toLowerCase().replace(/_(?:db|database|url)$/, '');
  if (dialectOfUrl(place) === undefined) return place.replace(/^.*[\\/]/, '').replace(/\.\w+$/, '');
  return readPlace(place).name;
}

function wrapOptions({ options }: OpenHow): WrapDatabaseOptions {
  const { queries, tables, exceptTables, mask, onlyQueries, anyUser } = options as {
    queries?: string;
    tables?: readonly string[];
    exceptTables?: readonly string[];
    mask?: readonly string[];
    onlyQueries?: boolean;
    anyUser?: boolean;
  };
  return {
    ...(queries !== undefined && { queries }),
    ...(tables && { only: tables }),
    ...(exceptTables && { except: exceptTables }),
    ...(mask && { mask }),
    ...(onlyQueries ? { query: false, tables: false } : anyUser ? { query: { anyUser } } : {}),
  };
}

/** The first bytes of every file of SQLite. */
function beginsLikeSqlite(path: string): boolean {
  if (!existsSync(path)) return false;
  const file = openSync(path, 'r');
  try {
    const head = Buffer.alloc(16);
    readSync(file, head, 0, 16, 0);
    return head.toString('latin1') === 'SQLite format 3\0';
  } finally {
    closeSync(file);
  }
}
