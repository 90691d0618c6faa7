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
  /** What `type` says for each kind, where the entries have one. */
  readonly types: Partial<Record<HostEntry['kind'], string>>;
}

const texts = (value: unknown): Record<string, string> =>
  isRecord(value) ? Object.fromEntries(Object.entries(value).filter((each): each is [string, string] => typeof each[1] === 'string')) : {};

export function isEntry(value: unknown): value is Record<string, unknown> {
  return isRecord(value) && (typeof value.command === 'string' || Array.isArray(value.command) || typeof value.url === 'string');
}

const kindOf = ({ command }: Record<string, unknown>): HostEntry['kind'] => (command === undefined ? 'url' : 'command');

/** Reads an entry; undefined when it is none. */
export function readEntry(value: unknown): HostEntry | undefined {
  if (!isEntry(value)) return undefined;
  if (kindOf(value) === 'url') return { kind: 'url', url: String(value.url), headers: texts(value.headers) };
  const words = [value.command, value.args ?? []].flat().map(String);
  return {
    kind: 'command',
    command: words[0] ?? '',
    args: words.slice(1),
    env: texts(Object.entries(value).find(([key]) => /^env/i.test(key))?.[1]),
  };
}

/** How the entries that are there are written, so that a new one is written alike. */
export function styleOf(entries: readonly unknown[]): EntryStyle {
  const found = entries.filter(isEntry);
  const typeOf = (kind: HostEntry['kind']) =>
    found.find((each) => kindOf(each) === kind && typeof each.type === 'string')?.type as string | undefined;
  const types = { command: typeOf('command'), url: typeOf('url') };
  // Only the protocol's own names of its transports tell what the other kind is called (Transports).
  if (types.command === 'stdio') types.url ??= 'http';
  if (types.url === 'http') types.command ??= 'stdio';
  const envKey = found.flatMap((each) => Object.keys(each)).find((key) => /^env/i.test(key));
  return {
    commandIsList: found.some(({ command }) => Array.isArray(command)),
    envKey: envKey ?? 'env',
    types: { ...(types.command !== undefined && { command: types.command }), ...(types.url !== undefined && { url: types.url }) },
  };
}

export function writeEntry(entry: HostEntry, { commandIsList, envKey, types }: EntryStyle): Record<string, unknown> {
  const type = types[entry.kind] !== undefined && { type: types[entry.kind] };
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

const mapName = /servers$/i;

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
    const isNamedSo = mapName.test(path.at(-1) ?? '') && (holds || inner.length === 0);
    const rank = isNamedSo ? (holds ? 3 : 2) : inner.some((each) => isEntry(each) && each.command !== undefined) ? 1 : 0;
    if (path.length > 0 && rank > 0) found.push({ path, rank });
    if (!holds) for (const [key, each] of Object.entries(value)) visit(each, [...path, key]);
  };
  visit(root, []);
  return found.sort((a, b) => b.rank - a.rank || a.path.length - b.path.length)[0]?.path;
}
