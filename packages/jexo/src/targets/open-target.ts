import { existsSync, readFileSync } from 'node:fs';
import { basename, dirname, extname, join, resolve } from 'node:path';
import { JexoError } from '../errors.js';
import { offers, type Choice } from '../offers/choose.js';
import { defineServer, isServer, type Server } from '../offers/define-server.js';
import { wrapFunctions } from '../sources/functions/wrap-functions.js';
import { readDocument, type RestDocument } from '../sources/rest/read-document.js';
import { restSource, type WrapRestOptions } from '../sources/rest/wrap-rest.js';
import { loadModule, loadPackage } from './load-module.js';
import { parseTarget } from './target.js';

export interface OpenOptions {
  /** The name the server gives itself. Default: that of the targets. */
  readonly name?: string;
  /** Which offers are kept, and what they are called. */
  readonly choice?: Choice;
  /** For documents: where the API is, and how it is offered. */
  readonly rest?: Pick<WrapRestOptions, 'base' | 'as' | 'resources' | 'pick' | 'bodyTypes' | 'secrets'>;
  /** Takes modules that have changed anew. */
  readonly again?: boolean;
  /** Takes modules with a state of their own, whatever was loaded before; the packages they import are shared. */
  readonly fresh?: boolean;
}

export interface Opened {
  readonly server: Server;
  /** The local files the server is made of. */
  readonly files: readonly string[];
}

/**
 * Makes a server of a target that is read, not connected to: a module's default-exported server or, with none, its
 * exported functions as tools; an installed package's functions.
 *
 * @throws JexoError
 */
export async function openTarget(text: string, options: OpenOptions = {}): Promise<Server> {
  return (await openTargets([text], options)).server;
}

/** Several targets are served as one: their offers stand side by side, and two of one name are refused. */
export async function openTargets(
  texts: readonly string[],
  { name, choice = {}, again = false, fresh = false, rest = {} }: OpenOptions = {},
): Promise<Opened> {
  const [only] = texts;
  // Among operations it is chosen before they are put behind three tools.
  const within = texts.length === 1 && parseTarget(only!).kind === 'document';
  const opened = await Promise.all(texts.map((text) => open(text, { again, fresh, rest: within ? { ...rest, ...choice } : rest })));
  const servers = opened.map(({ server }) => server);
  const files = opened.flatMap((each) => each.files);
  const [first] = servers;
  const chooses = !within && Object.values(choice).some((value) => value !== undefined);
  if (servers.length === 1 && name === undefined && !chooses) return { server: first!, files };
  const all = servers.flatMap((server) => [...server.definition.offers]);
  const server = defineServer({
    ...(servers.length === 1 && first!.definition),
    name: name ?? servers.map(({ info }) => info.name).join('-'),
    version: first!.info.version,
    offers: chooses ? [offers(all, { ...choice, name: texts.join(', ') })] : all,
    middleware: servers.flatMap(({ definition }) => [...(definition.middleware ?? [])]),
  });
  return { server, files };
}

async function open(text: string, how: Pick<OpenOptions, 'again' | 'fresh' | 'rest'>): Promise<Opened> {
  const target = parseTarget(text);
  switch (target.kind) {
    case 'module': {
      const { namespace, files } = await loadModule(target.path, how);
      return { server: openModule(target.path, namespace), files };
    }
    case 'package': {
      const { namespace, files } = await loadPackage(target.name);
      const server = defineServer({
        name: serverName(target.name),
        version: projectVersion(dirname(files[0]!)),
        offers: [wrapFunctions(namespace, { types: target.name })],
      });
      return { server, files: [] };
    }
    case 'document': {
      // Its title is wanted first: the same reading serves the source when it is read for the first time.
      let first: RestDocument | undefined = await readDocument(target.place);
      const read = async () => {
        const found = first ?? (await readDocument(target.place));
        first = undefined;
        return found;
      };
      const { info } = first.root as { info?: { title?: string; version?: string } };
      const server = defineServer({
        name: serverName((info?.title ?? basename(target.place).replace(/\..*$/, '')).toLowerCase()),
        ...(info?.title !== undefined && { title: info.title }),
        version: info?.version ?? '0.0.0',
        offers: [restSource(read, basename(target.place), how.rest ?? {})],
      });
      return { server, files: /^https?:/i.test(target.place) ? [] : [resolve(target.place)] };
    }
    default:
      throw new JexoError('JEXO_TARGET_UNKNOWN', `${text} is a running server, not something to serve.`, {
        where: text,
        next: 'Give a module or an installed package, whose functions or server are to be served.',
      });
  }
}

export function openModule(path: string, namespace: Readonly<Record<string, unknown>>): Server {
  if (isServer(namespace.default)) return namespace.default;
  const offersSomething = Object.values(namespace).some(
    (value) => typeof value === 'function' || (typeof value === 'object' && value !== null),
  );
  if (!offersSomething) {
    throw new JexoError('JEXO_NOTHING_OFFERED', `${path} exports no function and no server.`, { where: path });
  }
  const file = resolve(path);
  return defineServer({
    name: serverName(basename(file, extname(file))),
    version: projectVersion(dirname(file)),
    offers: [wrapFunctions(namespace, { types: file })],
  });
}

/** Names hosts accept everywhere: letters, digits and underscores. */
function serverName(text: string): string {
  return text.replaceAll(/[^A-Za-z0-9_]+/g, '_').replace(/^_/, '') || 'functions';
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
