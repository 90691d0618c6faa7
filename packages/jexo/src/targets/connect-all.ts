import { kindOf } from '../engine/servable.js';
import { existsSync } from 'node:fs';
import { resolve } from 'node:path';
import { connectServers, type Clients, type ClientsOptions, type ServerToConnect } from '../client/clients.js';
import { JexoError } from '../errors.js';
import { entryName } from '../hosts/host-entry.js';
import { connect, type ConnectOptions, type ConnectTarget } from './connect.js';
import { findKind } from './find-kind.js';
import { hostsKind } from './kinds/hosts.js';
import { connectEntry } from './kinds/entry.js';
import { withoutPassword } from '../protocol/without-password.js';
import type { TargetKind } from './target-kind.js';

/** A target with what is different for it: `{ target: 'https://lab.example/mcp', headers: { … } }`. */
export interface TargetWithOptions extends ConnectOptions {
  /** What to connect to. */
  readonly target: ConnectTarget;
}

/** How `connectAll` reaches the servers, and what the client does for them. */
export interface ConnectAllOptions extends ClientsOptions, Omit<ConnectOptions, keyof ClientsOptions> {}

/** A configuration of servers, or targets: a list, or a map by the names they get here. */
export type ConnectAllTargets =
  string | readonly (ConnectTarget | TargetWithOptions)[] | Readonly<Record<string, ConnectTarget | TargetWithOptions>>;

/**
 * Connects to many servers at once, in parallel, and keeps them connected: a server that is lost is tried again, with growing pauses.
 * One that fails does not keep the others. What they offer is listed over all of them.
 *
 * @param targets the file of a host application's configuration (all its entries), any other single target, a list of targets, or a map of
 * them by name
 * @throws JexoError JEXO_HOST_FILE for a configuration that cannot be read, JEXO_DEFINITION for two servers of one name; what a server
 * that is `required` failed with; a single target is, when nothing is said of it
 * @example
 * const clients = await connectAll('hosts.json', { onState: ({ name, state }) => console.error(name, state) });
 * const clients = await connectAll({ hives: 'hives.ts', lab: 'https://lab.example/mcp' });
 * for (const { name, label } of await clients.tools()) console.log(name, label);
 * await clients.call('mix_syrup', { colonies: 12 });
 * await clients.close();
 */
export async function connectAll(targets: ConnectAllTargets, options: ConnectAllOptions = {}): Promise<Clients> {
  const servers = await serversOf(targets, options);
  // One target alone, as one types it, is to be there.
  const isAlone = typeof targets === 'string' && servers.length === 1;
  return connectServers(servers, { ...(isAlone && { required: true }), ...options });
}

async function serversOf(targets: ConnectAllTargets, options: ConnectAllOptions): Promise<ServerToConnect[]> {
  if (typeof targets === 'string') return ofText(targets, options);
  if (typeof targets !== 'object' || targets === null)
    throw new JexoError('JEXO_TARGET_UNKNOWN', `Targets are a text, a list, or a map by name; ${kindOf(targets)} was given.`, {
      where: 'targets',
    });
  if (!Array.isArray(targets))
    return Object.entries(targets as Readonly<Record<string, ConnectTarget | TargetWithOptions>>).map(([name, each]) =>
      serverOf(name, each, options),
    );
  const all: ServerToConnect[] = [];
  for (const each of targets as readonly (ConnectTarget | TargetWithOptions)[]) {
    const found =
      typeof each === 'string' ? await ofText(each, options) : [serverOf(await nameOf(targetIn(each), options.kinds), each, options)];
    for (const server of found) all.push({ ...server, name: freeName(server.name, all) });
  }
  return all;
}

/** Targets of a list have no names of their own to tell them apart. */
function freeName(name: string, taken: readonly ServerToConnect[]): string {
  let free = name;
  for (let count = 2; taken.some((each) => each.name === free); count++) free = `${name}_${count}`;
  return free;
}

async function ofText(text: string, options: ConnectAllOptions): Promise<ServerToConnect[]> {
  const { kind } = await findKind(text, options.kinds);
  if (kind !== hostsKind) return [serverOf(await nameOf(text, options.kinds), text, options)];
  const { openHostFile } = await import('../hosts/host-file.js');
  const { entries } = await openHostFile(text);
  return Object.entries(entries).map(([name, entry]) => ({
    name,
    address: `${resolve(text)}#${name}`,
    open: (own) => connectEntry(entry, { ...options, ...own } as ConnectOptions),
  }));
}

function serverOf(name: string, each: ConnectTarget | TargetWithOptions, options: ConnectAllOptions): ServerToConnect {
  const target = targetIn(each);
  const own = isWithOptions(each) ? each : {};
  const isWrong = typeof target !== 'string' && !(target instanceof URL) && !Array.isArray(target) && !('open' in target);
  if (isWrong || target === '' || name === '')
    throw new JexoError('JEXO_DEFINITION', `The server ${JSON.stringify(name)} has no target that can be connected to.`, {
      where: name,
      next: 'Give a server value, a URL, a target, a command as a list, or { target, …options }.',
    });
  return {
    name,
    address: addressOf(target),
    open: (session) => connect(target, { ...options, ...own, ...session } as ConnectOptions),
  };
}

const isWithOptions = (each: ConnectTarget | TargetWithOptions): each is TargetWithOptions =>
  typeof each === 'object' && !Array.isArray(each) && 'target' in each;
const targetIn = (each: ConnectTarget | TargetWithOptions): ConnectTarget => (isWithOptions(each) ? each.target : each);

/** Approvals hold for an address, and people see it: a file is named by its whole path, and no password is in it. */
const addressOf = (target: ConnectTarget): string =>
  typeof target === 'string'
    ? existsSync(target)
      ? resolve(target)
      : withoutPassword(target)
    : target instanceof URL
      ? withoutPassword(target.href)
      : Array.isArray(target)
        ? `-- ${target.map(withoutPassword).join(' ')}`
        : ((target as { info?: { name?: string } }).info?.name ?? 'this process');

/** What a target is called that was given no name. */
async function nameOf(target: ConnectTarget, kinds: readonly TargetKind[] | undefined): Promise<string> {
  if (typeof target === 'object' && 'open' in target) return entryName(addressOf(target));
  const given = target instanceof URL ? withoutPassword(target.href) : target;
  if (typeof given === 'string' && /^https?:/i.test(given)) return entryName(new URL(given).host.replace(/:\d+$/, ''));
  const { kind } = await findKind(given, kinds);
  const last = (text: string) =>
    text
      .replace(/[\\/]+$/, '')
      .replace(/^.*[\\/]/, '')
      .replace(/\.\w+$/, '');
  return entryName(kind.name?.(given as never) ?? last(String(given)));
}
