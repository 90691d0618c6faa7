import { inSpan } from '../../offers/tracing.js';
import type { Driver } from './driver.js';

/** The driver, whose statements are spans when calls are traced. Values are not told. */
export function traced(driver: Driver): Driver {
  const { place } = driver;
  const run = <T>(what: string, sql: string, work: () => Promise<T>) =>
    inSpan(`${place.dialect} ${what}`, { 'db.system.name': place.dialect, 'db.query.text': sql.slice(0, 2000) }, work);
  return {
    ...driver,
    place,
    read: (sql, ...rest) => run('read', sql, () => driver.read(sql, ...rest)),
    // A model may have written values into its statement.
    readUntrusted: (sql, ...rest) => run('query', '', () => driver.readUntrusted(sql, ...rest)),
    write: (sql, ...rest) => run('write', sql, () => driver.write(sql, ...rest)),
  };
}
