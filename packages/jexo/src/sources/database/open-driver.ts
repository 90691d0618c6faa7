import type { Driver } from './driver.js';
import { mysqlDriver } from './drivers/mysql.js';
import { postgresDriver } from './drivers/postgres.js';
import { sqliteDriver } from './drivers/sqlite.js';
import type { Place } from './place.js';
import type { WrapDatabaseOptions } from './wrap-database.js';

const drivers = { sqlite: sqliteDriver, postgres: postgresDriver, mysql: mysqlDriver } as const;

/** The driver of a place, with bounds on its pool. It connects when it is first used. */
export function openDriver(place: Place, options: Pick<WrapDatabaseOptions, 'pool' | 'timeoutMs' | 'maxBlobBytes'>): Driver {
  const { pool = {}, timeoutMs = 10_000, maxBlobBytes = 65_536 } = options;
  const { connections = 10, queue = 200, idleMs = 30_000, connectMs = 5000 } = pool;
  return drivers[place.dialect](place, { connections, queue, idleMs, connectMs, maxBlobBytes, timeoutMs });
}
