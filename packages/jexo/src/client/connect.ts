import type { Servable } from '../engine/servable.js';
import { memoryLink } from '../transports/memory.js';
import type { HostEntry } from '../hosts/host-entry.js';
import type { HttpLinkOptions } from '../transports/http/http-link.js';
import type { CommandTarget } from '../transports/child-process.js';
import type { StdioLinkOptions } from '../transports/stdio-link.js';
import type { Departure, Link, WireTap } from '../transports/link.js';
import { isServerUrl, parseTarget } from '../targets/target.js';
import { connectLink, type Client, type ClientOptions } from './connect-link.js';
import { connectUrl } from './connect-url.js';

export interface ConnectOptions
  extends
    ClientOptions,
    Omit<HttpLinkOptions, 'tap'>,
    Pick<StdioLinkOptions, 'maxRestarts' | 'onRestart' | 'onDeparture' | 'strict'>,
    Pick<CommandTarget, 'env' | 'cwd' | 'inherit'> {
  /** Sees every message that passes, both ways. */
  readonly tap?: WireTap;
  /**
   * Told of what a server does that the protocol forbids and that can be passed over: lines on stdout that are no messages, wrong
   * headers, events that are none.
   */
  readonly onDeparture?: (departure: Departure) => void;
  /** Each line a started server writes to stderr. */
  readonly onStderr?: (line: string) => void;
  /** Told of faults inside a server that runs in this process. */
  readonly onFault?: (error: unknown, reference: string) => void;
}

/** A server value, or text in the target grammar; a command is given as a list: `['node', 'server.mjs']`. */
export type ConnectTarget = Servable | string | URL | readonly string[];

/**
 * Connects to a server: a value made with `defineServer` (in memory), the URL of a running one, a command that starts
 * one, or a file of the target grammar.
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
  if (target instanceof URL || (typeof target === 'string' && isServerUrl(target))) return connectUrl(String(target), options);
  const named = typeof target === 'string' ? parseTarget(target) : undefined;
  if (named?.kind === 'entry') {
    const { readEntryOf } = await import('../hosts/host-file.js');
    return connectEntry(await readEntryOf(named.file, named.name), options);
  }
  return connectLink(await linkTo(target, options), options);
}

/** Connects as a host application would by this entry of its configuration. */
export async function connectEntry(entry: HostEntry, options: ConnectOptions = {}): Promise<Client> {
  if (entry.kind === 'url') return connectUrl(entry.url, { ...options, headers: { ...entry.headers, ...options.headers } });
  const { stdioLink } = await import('../transports/stdio-link.js');
  const { command, args, env } = entry;
  const { cwd, inherit } = options;
  const how = { ...(cwd !== undefined && { cwd }), ...(inherit && { inherit }) };
  return connectLink(stdioLink({ command, args, env: { ...env, ...options.env }, ...how }, options), options);
}

async function linkTo(target: Servable | string | readonly string[], options: ConnectOptions): Promise<Link> {
  if (typeof target === 'object' && 'open' in target) return memoryLink(target, options);
  // What needs a file system or processes is loaded only when it is asked for: this file runs in browsers too.
  const { stdioLink } = await import('../transports/stdio-link.js');
  if (typeof target !== 'string') {
    const { env, cwd, inherit } = options;
    const how = { ...(env && { env }), ...(cwd !== undefined && { cwd }), ...(inherit && { inherit }) };
    return stdioLink({ command: target[0] ?? '', args: target.slice(1), ...how }, options);
  }
  const { openTarget } = await import('../targets/open-target.js');
  return memoryLink(await openTarget(target), options);
}
