import { connectLink, type Client, type ClientOptions } from '../client/connect-link.js';
import { connectUrl } from '../client/connect-url.js';
import type { Servable } from '../engine/servable.js';
import { JexoError } from '../errors.js';
import type { Server } from '../offers/define-server.js';
import type { CommandTarget } from '../transports/child-process.js';
import type { HttpLinkOptions } from '../transports/http/http-link.js';
import type { Deviation, WireTap } from '../transports/link.js';
import { memoryLink } from '../transports/memory.js';
import type { StdioLinkOptions } from '../transports/stdio-link.js';
import { findKind, type Found } from './find-kind.js';
import { openTargets, requireOptions, type OpenOptions } from './open-targets.js';
import type { Target } from './target-kind.js';

/** How `connect` reaches a server, and what the client does for it. */
export interface ConnectOptions
  extends
    ClientOptions,
    Omit<HttpLinkOptions, 'tap'>,
    Pick<StdioLinkOptions, 'maxRestarts' | 'maxUnreadBytes' | 'onRestart' | 'onDeviation' | 'strict'>,
    Pick<CommandTarget, 'env' | 'cwd' | 'inherit'>,
    Pick<OpenOptions, 'choice' | 'options' | 'fresh' | 'kinds'> {
  /** Sees every message that passes, both ways. */
  readonly tap?: WireTap;
  /**
   * Called with what a server does that the protocol forbids and that can be passed over: lines on stdout that are no messages, wrong
   * headers, events that are none.
   */
  readonly onDeviation?: (deviation: Deviation) => void;
  /** Each line a started server writes to stderr. */
  readonly onStderr?: (line: string) => void;
  /** Called with faults inside a server that runs in this process. */
  readonly onFault?: (error: unknown, reference: string) => void;
}

/** A server value, or a target of the target grammar; a command is given as a list: `['node', 'server.mjs']`. */
export type ConnectTarget = Servable | Target | URL;

/**
 * Connects to a server: a value made with `defineServer` (in memory), the URL of a running one, a command that starts
 * one, or any other target.
 *
 * @throws JexoError when the target cannot be read, started or reached
 * @example
 * const client = await connect(apiary);
 * const client = await connect('http://127.0.0.1:4300/mcp');
 * const client = await connect(['node', 'server.mjs']);
 * const client = await connect('hives.ts');
 * const client = await connect('hosts.json#hives');   // an entry of a host application's configuration
 */
export async function connect(target: ConnectTarget, options: ConnectOptions = {}): Promise<Client> {
  if (target instanceof URL) return connectUrl(target.href, options);
  if (typeof target === 'object' && target !== null && 'open' in target) return connectLink(memoryLink(target, options), options);
  return (await connectTarget(target, options)).client;
}

/** A connection, with the server behind it when it runs in this process. */
export interface Reached {
  readonly client: Client;
  readonly server?: Server;
}

/** As `connect`, for a target of the target grammar. A server that was opened for it is closed with the client. */
export async function connectTarget(target: Target, options: ConnectOptions = {}): Promise<Reached> {
  const found = await findKind(target, options.kinds);
  if (found.kind.open === undefined) return { client: await connectRunning(found, options) };
  const { choice, options: own, fresh, kinds } = options;
  const { server } = await openTargets([target], {
    ...(choice && { choice }),
    ...(own && { options: own }),
    ...(fresh !== undefined && { fresh }),
    ...(kinds && { kinds }),
  });
  try {
    // What cannot be read is told in its own words, before a client gets a reference in their place.
    await server.ready(options.signal ? { signal: options.signal } : {});
    return { client: await connectLink(memoryLink(server, { ...options, owns: true }), options), server };
  } catch (error) {
    await server.close();
    throw error;
  }
}

/** @throws JexoError JEXO_USAGE when a choice was made among what somebody else serves */
export function connectRunning({ target, kind }: Found, options: ConnectOptions): Promise<Client> {
  if (Object.values(options.choice ?? {}).some((value) => value !== undefined))
    throw new JexoError(
      'JEXO_USAGE',
      `${kind.noun[0]!.toUpperCase()}${kind.noun.slice(1)} offers what it offers: a choice can be made of modules, packages and documents only.`,
      {
        next: 'Remove --only, --except, --rename, --describe and --prefix, or give the module.',
      },
    );
  requireOptions([{ target, kind }], options.options ?? {});
  return kind.connect!(target, options);
}
