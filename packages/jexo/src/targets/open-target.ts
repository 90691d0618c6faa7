import { existsSync, readFileSync } from 'node:fs';
import { basename, dirname, extname, join, resolve } from 'node:path';
import { JexoError } from '../errors.js';
import { defineServer, isServer, type Server } from '../offers/define-server.js';
import { wrapFunctions } from '../sources/functions/wrap-functions.js';
import { loadModule } from './load-module.js';
import { parseTarget } from './target.js';

/**
 * Makes a server of a target that is read, not connected to: a module's default-exported server or, with none, its
 * exported functions as tools.
 *
 * @throws JexoError
 */
export async function openTarget(text: string): Promise<Server> {
  const target = parseTarget(text);
  if (target.kind !== 'module')
    throw new JexoError('JEXO_TARGET_UNKNOWN', `${text} is a running server, not something to serve.`, {
      where: text,
      next: 'Give a module, whose functions or server are to be served.',
    });
  return openModule(target.path, (await loadModule(target.path)).namespace);
}

/** Several targets are served as one: their offers stand side by side, and two of one name are refused. */
export async function openTargets(texts: readonly string[], name?: string): Promise<Server> {
  const servers = await Promise.all(texts.map(openTarget));
  const [first] = servers;
  if (servers.length === 1 && name === undefined) return first!;
  return defineServer({
    ...(servers.length === 1 && first!.definition),
    name: name ?? servers.map((server) => server.info.name).join('-'),
    version: first!.info.version,
    offers: servers.flatMap((server) => [...server.definition.offers]),
    middleware: servers.flatMap((server) => [...(server.definition.middleware ?? [])]),
  });
}

export async function openModule(path: string, namespace: Readonly<Record<string, unknown>>): Promise<Server> {
  if (isServer(namespace.default)) return namespace.default;
  if (!Object.values(namespace).some((value) => typeof value === 'function')) {
    throw new JexoError('JEXO_NOTHING_OFFERED', `${path} exports no function and no server.`, { where: path });
  }
  const file = resolve(path);
  return defineServer({
    name: serverName(file),
    version: projectVersion(dirname(file)),
    offers: [wrapFunctions(namespace, { types: file })],
  });
}

/** Names hosts accept everywhere: letters, digits and underscores. */
function serverName(file: string): string {
  return basename(file, extname(file)).replaceAll(/[^A-Za-z0-9_]+/g, '_') || 'functions';
}

function projectVersion(from: string): string {
  for (let folder = from; ; folder = dirname(folder)) {
    const manifest = join(folder, 'package.json');
    if (existsSync(manifest)) {
      try {
        const { version } = JSON.parse(readFileSync(manifest, 'utf8')) as { version?: unknown };
        if (typeof version === 'string' && version !== '') return version;
      } catch {
        return '0.0.0'; // a manifest that cannot be read is not ours to complain of
      }
    }
    if (folder === dirname(folder)) return '0.0.0';
  }
}
