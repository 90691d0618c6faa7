import { isJexoError, JexoError, messageOf } from '../../errors.js';
import { isEnvSetting, readSetting, type EnvSetting } from '../setting.js';
import type { Driver, ReadLimits } from './driver.js';
import { openDriver } from './open-driver.js';
import { readPlace } from './place.js';

/** MariaDB and MySQL end a transaction when a table is made, and the connection writes in transactions only: there it is made by hand. */
async function make(driver: Driver, statement: string, shown: string): Promise<void> {
  try {
    await driver.write(statement, [], { ...limits(1), keep: true });
  } catch (error) {
    throw new JexoError('JEXO_AUDIT', `The table of the audit is not there, and could not be made: ${messageOf(error)}`, {
      where: driver.place.shown,
      next: `Make it once: ${shown};`,
      cause: error,
    });
  }
}

/** One entry of an audit, as it is kept. */
interface Kept {
  readonly number: number;
  readonly hash: string;
}

/** What `audit` needs of a place where entries are kept. */
interface Table<E extends Kept> {
  readonly name: string;
  last(): Promise<E | undefined>;
  append(entry: E): Promise<boolean>;
  read(from: number, count: number): Promise<readonly E[]>;
  /** Closes the connections. */
  close(): Promise<void>;
}

const limits = (maxRows: number): ReadLimits => ({
  maxRows,
  maxBytes: 64 * 1024 * 1024,
  timeoutMs: 10_000,
  signal: new AbortController().signal,
});

/**
 * Keeps an audit in a table, which is made when it is not there (in MariaDB and MySQL by hand; the error says how): the number, and the entry as JSON. Several processes may share it. The
 * user of the connection needs to insert and to read, and nothing else once the table is there.
 *
 * @param place a file of SQLite, or a URL that begins with `postgres://`, `mysql://` or `mariadb://`
 * @throws JexoError JEXO_DEFINITION for a name that is none; with the first call JEXO_DATABASE, JEXO_PACKAGE_MISSING, JEXO_SETTING
 * @example
 * audit(auditTable(env('AUDIT_DB')))
 */
export function auditTable<E extends Kept>(
  place: string | URL | EnvSetting,
  { table = 'jexo_audit' }: { readonly table?: string } = {},
): Table<E> {
  if (!/^[A-Za-z_]\w{0,60}$/.test(table))
    throw new JexoError('JEXO_DEFINITION', `A table is named by letters, digits and _; ${JSON.stringify(table)} is not.`, {
      where: 'auditTable',
    });
  let opening: Promise<Driver> | undefined;
  const open = async (): Promise<Driver> => {
    const driver = openDriver(
      readPlace(isEnvSetting(place) ? readSetting(place, 'The address of the audit', process.env) : String(place)),
      {
        pool: { connections: 2 },
      },
    );
    const isMysql = driver.place.dialect === 'mysql';
    const statement = `create table ${table} (number bigint primary key, entry ${isMysql ? 'longtext' : 'text'} not null)`;
    const look = () => driver.read(`select number from ${table} where number = 0`, [], limits(1));
    try {
      await look().catch(async (missing: unknown) => {
        if (!isJexoError(missing) || missing.code !== 'JEXO_SQL') throw missing;
        try {
          await make(driver, statement.replace('table', 'table if not exists'), statement);
        } catch (error) {
          // Another process may have made it meanwhile.
          await look().catch(() => {
            throw error;
          });
        }
      });
    } catch (error) {
      await driver.close();
      throw error;
    }
    return driver;
  };
  const driver = () =>
    (opening ??= open().catch((error: unknown) => {
      opening = undefined;
      throw error;
    }));
  const rows = async (sql: string, values: readonly unknown[], count: number): Promise<E[]> => {
    const found = await (await driver()).read(sql, values, limits(count));
    return found.rows.map(([entry]) => JSON.parse(String(entry)) as E);
  };
  const mark = (place: number, { place: { dialect } }: Driver) => (dialect === 'postgres' ? `$${place}` : '?');
  return {
    name: table,
    last: async () => (await rows(`select entry from ${table} order by number desc limit 1`, [], 1))[0],
    async append(entry) {
      const used = await driver();
      try {
        const sql = `insert into ${table} (number, entry) values (${mark(1, used)}, ${mark(2, used)})`;
        await used.write(sql, [entry.number, JSON.stringify(entry)], { ...limits(1), keep: true });
        return true;
      } catch (error) {
        if (await isTaken(entry.number)) return false;
        throw error;
      }
    },
    async read(from, count) {
      const used = await driver();
      return rows(`select entry from ${table} where number >= ${mark(1, used)} order by number limit ${Math.floor(count)}`, [from], count);
    },
    async close() {
      await (await opening?.catch(() => undefined))?.close();
    },
  };

  async function isTaken(number: number): Promise<boolean> {
    const used = await driver();
    const found = await used
      .read(`select number from ${table} where number = ${mark(1, used)}`, [number], limits(1))
      .catch(() => undefined);
    return found !== undefined && found.rows.length > 0;
  }
}
