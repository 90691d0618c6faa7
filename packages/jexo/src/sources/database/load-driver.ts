import { createRequire } from 'node:module';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { JexoError, messageOf } from '../../errors.js';

/** The packages that speak to databases; each is installed by whoever needs it. */
const packages = {
  libsql: { version: '0.5', for: 'SQLite' },
  pg: { version: '8', for: 'PostgreSQL' },
  mysql2: { version: '3', for: 'MariaDB and MySQL' },
} as const;

/**
 * Where a driver lies: beside Jexo, or in the folder the process was started in.
 * @throws JexoError JEXO_PACKAGE_MISSING, with what to install
 */
export function findDriver(name: keyof typeof packages, part = name as string): string {
  const places = [import.meta.url, pathToFileURL(join(process.cwd(), 'package.json'))];
  let why: unknown;
  for (const place of places) {
    try {
      return pathToFileURL(createRequire(place).resolve(part)).href;
    } catch (error) {
      why ??= error;
    }
  }
  const { version, for: what } = packages[name];
  throw new JexoError('JEXO_PACKAGE_MISSING', `${what} needs the package ${name}, which could not be found.`, {
    where: name,
    next: `Install it where Jexo is installed: npm install ${name}@${version}`,
    cause: why,
  });
}

/** @throws JexoError JEXO_PACKAGE_MISSING */
export async function loadDriver<T>(name: keyof typeof packages, part?: string): Promise<T> {
  const found = findDriver(name, part);
  try {
    const loaded = (await import(found)) as { default?: T };
    return loaded.default ?? (loaded as T);
  } catch (error) {
    throw new JexoError('JEXO_PACKAGE_MISSING', `The package ${name} could not be loaded: ${messageOf(error)}`, {
      where: name,
      next: `Install it again: npm install ${name}@${packages[name].version}`,
      cause: error,
    });
  }
}
