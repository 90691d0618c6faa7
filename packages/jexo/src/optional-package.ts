import { createRequire } from 'node:module';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { JexoError, messageOf } from './errors.js';

/** Packages that some sources need; they are optional peers, installed by those who use them. */
const packages = {
  libsql: { version: '0.5', for: 'SQLite' },
  pg: { version: '8', for: 'PostgreSQL' },
  mysql2: { version: '3', for: 'MariaDB and MySQL' },
  unpdf: { version: '1', for: 'Reading PDF files' },
  mqtt: { version: '5', for: 'MQTT' },
  graphql: { version: '16', for: 'GraphQL' },
  'graphql-ws': { version: '6', for: 'GraphQL subscriptions over WebSocket' },
  '@opentelemetry/api': { version: '1', for: 'Tracing' },
  '@napi-rs/keyring': { version: '2', for: 'The keychain of the operating system' },
  bullmq: { version: '6', for: 'Tasks that workers do' },
  vite: { version: '8', for: 'Making one page of the folder of a view' },
  ioredis: { version: '5', for: 'Tasks that workers do, on a cluster or with sentinels,' },
  redis: { version: '5', for: 'Redis' },
  ws: { version: '8', for: 'WebSocket on this version of Node' },
} as const;

/** The version of a package that is wanted, as `^8` says it. */
export const wantedVersion = (name: OptionalPackage): string => `^${packages[name].version}`;

/** A package that is an optional peer. */
export type OptionalPackage = keyof typeof packages;

/**
 * The URL of a package: beside Jexo, or in the folder the process was started in.
 *
 * @param what what needs it, for the message
 * @throws JexoError JEXO_PACKAGE_MISSING, with what to install
 */
export function findPackage(name: OptionalPackage, part: string = name, what: string = packages[name].for): string {
  const places = [import.meta.url, pathToFileURL(join(process.cwd(), 'package.json'))];
  let why: unknown;
  for (const place of places) {
    try {
      return pathToFileURL(createRequire(place).resolve(part)).href;
    } catch (error) {
      why ??= error;
    }
  }
  const { version } = packages[name];
  throw new JexoError('JEXO_PACKAGE_MISSING', `${what} needs the package ${name}, which could not be found.`, {
    where: name,
    next: `Install it where Jexo is installed: npm install ${name}@${version}`,
    cause: why,
  });
}

/** @throws JexoError JEXO_PACKAGE_MISSING */
export async function loadPackage<T>(name: OptionalPackage, part?: string, what?: string): Promise<T> {
  const found = findPackage(name, part, what);
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
