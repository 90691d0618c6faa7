import { isRecord } from '../protocol/is-record.js';

/** One server in a host application's configuration, whatever the shape it is written in. */
export type HostEntry =
  | { readonly kind: 'command'; readonly command: string; readonly args: readonly string[]; readonly env: Readonly<Record<string, string>> }
  | { readonly kind: 'url'; readonly url: string; readonly headers: Readonly<Record<string, string>> };

/** How the entries of a file are written. */
export interface EntryStyle {
  /** The whole command as one list. */
  readonly commandIsList: boolean;
  readonly envKey: string;
  /** What `type` says for each kind, where entries have one. */
  readonly types?: { readonly command: string; readonly url: string };
}

const texts = (value: unknown): Record<string, string> =>
  isRecord(value) ? Object.fromEntries(Object.entries(value).filter((each): each is [string, string] => typeof each[1] === 'string')) : {};

export function isEntry(value: unknown): value is Record<string, unknown> {
  return isRecord(value) && (typeof value.command === 'string' || Array.isArray(value.command) || typeof value.url === 'string');
}

/** Reads an entry; undefined when it is none. */
export function readEntry(value: unknown): HostEntry | undefined {
  if (!isEntry(value)) return undefined;
  if (typeof value.url === 'string' && value.command === undefined) return { kind: 'url', url: value.url, headers: texts(value.headers) };
  const words = [value.command, value.args ?? []].flat().map(String);
  return { kind: 'command', command: words[0] ?? '', args: words.slice(1), env: texts(value.env ?? value.environment) };
}

/** How the entries that are there are written, so that a new one is written alike. */
export function styleOf(entries: readonly unknown[]): EntryStyle {
  const found = entries.filter(isEntry);
  const types = found.map(({ type }) => type).filter((type): type is string => typeof type === 'string');
  const isLocal = types.some((type) => /^(?:local|remote)$/.test(type));
  return {
    commandIsList: found.some(({ command }) => Array.isArray(command)),
    envKey: found.some(({ environment }) => isRecord(environment)) ? 'environment' : 'env',
    ...(types.length > 0 && { types: isLocal ? { command: 'local', url: 'remote' } : { command: 'stdio', url: 'http' } }),
  };
}

export function writeEntry(entry: HostEntry, { commandIsList, envKey, types }: EntryStyle): Record<string, unknown> {
  const type = types && { type: types[entry.kind] };
  if (entry.kind === 'url') return { ...type, url: entry.url, ...(Object.keys(entry.headers).length > 0 && { headers: entry.headers }) };
  const { command, args, env } = entry;
  return {
    ...type,
    ...(commandIsList ? { command: [command, ...args] } : { command, args }),
    ...(Object.keys(env).length > 0 && { [envKey]: env }),
  };
}

/** Names that hosts take everywhere: letters, digits and underscores, a letter first. */
export function entryName(text: string): string {
  const name = text
    .replaceAll(/[^A-Za-z0-9]+/g, '_')
    .replaceAll(/^_+|_+$/g, '')
    .slice(0, 48);
  return /^[A-Za-z]/.test(name) ? name : `server_${name}`.replace(/_$/, '');
}

const mapName = /^(?:mcp|context|tool)?[-_.]?servers$/i;

/**
 * Where the map of servers is, at most three levels down: an object that is named like one and holds entries; one that is named like
 * it; or, under any name, one that holds commands. Undefined when there is none.
 */
export function findServers(root: unknown): readonly string[] | undefined {
  const found: { readonly path: readonly string[]; readonly rank: number }[] = [];
  const visit = (value: unknown, path: readonly string[]) => {
    if (!isRecord(value) || path.length > 3) return;
    const inner = Object.values(value);
    const holds = inner.some(isEntry);
    const rank = mapName.test(path.at(-1) ?? '')
      ? holds
        ? 3
        : 2
      : inner.some((each) => isEntry(each) && each.command !== undefined)
        ? 1
        : 0;
    if (path.length > 0 && rank > 0) found.push({ path, rank });
    if (!holds) for (const [key, each] of Object.entries(value)) visit(each, [...path, key]);
  };
  visit(root, []);
  return found.sort((a, b) => b.rank - a.rank || a.path.length - b.path.length)[0]?.path;
}
