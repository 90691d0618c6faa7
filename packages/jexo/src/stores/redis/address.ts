import { kindOf } from '../../engine/servable.js';
import { JexoError } from '../../errors.js';
import { withoutPassword } from '../../protocol/without-password.js';

/** Where a Redis is: one server, a cluster, or what its sentinels call the main one. */
export interface RedisAddress {
  readonly kind: 'one' | 'cluster' | 'sentinel';
  /** Of the server, of some of a cluster, or of the sentinels. */
  readonly nodes: readonly { readonly host: string; readonly port: number }[];
  /** What the sentinels call the main server. */
  readonly main?: string;
  readonly username?: string;
  readonly password?: string;
  readonly database?: number;
  readonly tls: boolean;
  /** Of all keys, by `?prefix=` */
  readonly prefix?: string;
  /** Without the password. */
  readonly shown: string;
}

const forms = 'redis://127.0.0.1:6379, rediss://… for TLS, redis+cluster://one:7000,two:7000 or redis+sentinel://one:26379,two:26379/main';
const usualPort = { one: 6379, cluster: 6379, sentinel: 26379 } as const;

/** @throws JexoError JEXO_USAGE */
export function readAddress(url: string): RedisAddress {
  if (typeof url !== 'string')
    throw new JexoError('JEXO_USAGE', `The address of a Redis is a text; ${kindOf(url)} was given.`, {
      where: '--store',
      next: `Write it as ${forms}.`,
    });
  const shown = withoutPassword(url).replace(/\?.*$/, '');
  const refuse = (why: string): never => {
    throw new JexoError('JEXO_USAGE', `${shown} is no address of a Redis: ${why}.`, { where: '--store', next: `Write it as ${forms}.` });
  };
  const found = /^redis(s)?(?:\+(cluster|sentinel))?:\/\/(?:([^:@/]*)(?::([^@/]*))?@)?([^/?#]+)(?:\/([^?#]*))?(?:\?([^#]*))?$/.exec(url);
  if (found === null) return refuse('its form is another one');
  const [, s, which, username = '', password = '', hosts, path = '', query = ''] = found;
  const kind = (which as 'cluster' | 'sentinel' | undefined) ?? 'one';
  const nodes = hosts!.split(',').map((text) => {
    const [, host, port] = /^(\[[0-9a-f:.]+\]|[^:[\]\s]+)(?::(\d{1,5}))?$/i.exec(text) ?? [];
    if (host === undefined) return refuse(`${JSON.stringify(text)} is no host with a port`);
    return { host: host.replace(/^\[|\]$/g, ''), port: port === undefined ? usualPort[kind] : Number(port) };
  });
  if (kind === 'one' && nodes.length > 1) refuse('several hosts make a cluster, or are sentinels');
  if (kind === 'sentinel' && path === '') refuse('the name of the main server is missing behind the hosts');
  if (kind === 'cluster' && path !== '') refuse('a cluster has no numbered databases');
  if (kind === 'one' && !/^\d*$/.test(path)) refuse(`${JSON.stringify(path)} is no number of a database`);
  const prefix = new URLSearchParams(query).get('prefix') ?? undefined;
  return {
    kind,
    nodes,
    ...(kind === 'sentinel' && { main: path }),
    ...(username !== '' && { username: decodeURIComponent(username) }),
    ...(password !== '' && { password: decodeURIComponent(password) }),
    ...(kind === 'one' && path !== '' && { database: Number(path) }),
    tls: s !== undefined,
    ...(prefix !== undefined && { prefix }),
    shown,
  };
}
