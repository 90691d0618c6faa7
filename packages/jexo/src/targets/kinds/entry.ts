import type { Client } from '../../client/connect-link.js';
import { connectUrl } from '../../client/connect-url.js';
import type { HostEntry } from '../../hosts/host-entry.js';
import type { ConnectOptions } from '../connect.js';
import { peekAt } from '../peek.js';
import type { TargetKind } from '../target-kind.js';
import { commandKind } from './command.js';

const parts = /^(.+)#([^#]+)$/;

/** An entry of a host application's configuration: `hosts.json#hives`. */
export const entryKind: TargetKind = {
  kind: 'entry',
  noun: 'an entry of a host application’s configuration',
  example: 'hosts.json#hives',
  about: 'an entry of a host application’s configuration, started as the host would',
  matches(text) {
    const [, file] = parts.exec(text) ?? [];
    return file !== undefined && (/\.(?:jsonc?|toml|ya?ml)$/i.test(file) || peekAt(file).what === 'file');
  },
  connect: async (text, options) => connectEntry(await entryOf(text), options),
  async bridge(text) {
    const { bridgeTarget } = await import('../bridge-target.js');
    return bridgeTarget(text, {}, text);
  },
  name: (text) => parts.exec(text)![2]!,
  hostEntry: entryOf,
};

async function entryOf(text: string): Promise<HostEntry> {
  const [, file, name] = parts.exec(text)!;
  const { readEntryOf } = await import('../../hosts/host-file.js');
  return readEntryOf(file!, name!);
}

/** Connects as a host application would by this entry of its configuration. */
export function connectEntry(entry: HostEntry, options: ConnectOptions): Promise<Client> {
  if (entry.kind === 'url') return connectUrl(entry.url, { ...options, headers: { ...entry.headers, ...options.headers } });
  const { inherit: _, ...own } = options;
  return commandKind.connect!([entry.command, ...entry.args], { ...own, env: { ...entry.env, ...options.env } });
}
