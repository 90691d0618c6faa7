import type { IncomingMessage } from 'node:http';
import { BlockList, isIP } from 'node:net';
import { JexoError } from '../../errors.js';

/** Who sent a request, and to which host it was addressed, as far as those in front of us are believed. */
export interface Seen {
  /** The client's address; undefined where it came by a Unix socket. */
  readonly address: string | undefined;
  /** The host with its port, as in the Host header. */
  readonly host: string | undefined;
}

/** Finds out who sent a request. */
export type See = (request: IncomingMessage) => Seen;

/** A proxy on this machine that comes by a Unix socket has no address. */
export const bySocket = 'socket';

const direct: See = ({ socket, headers }) => ({ address: socket.remoteAddress, host: headers.host });

/**
 * Believes `X-Forwarded-For` and `X-Forwarded-Host` of the proxies that are named, and of nobody else: anybody can send such headers.
 *
 * @param proxies addresses as `127.0.0.1`, networks as `10.0.0.0/8`, or `loopback`; `socket` for those that come by a Unix socket
 * @throws JexoError JEXO_USAGE for what is neither
 */
export function seeThrough(proxies: readonly string[] | undefined): See {
  if (proxies === undefined || proxies.length === 0) return direct;
  const list = new BlockList();
  for (const each of proxies.flatMap((one) => (one === 'loopback' ? ['127.0.0.0/8', '::1'] : [one])))
    if (each !== bySocket) add(list, each);
  const isTrusted = (address: string | undefined) => (address === undefined ? proxies.includes(bySocket) : isWithin(list, address));
  return (request) => {
    const seen = direct(request);
    if (!isTrusted(seen.address)) return seen;
    const { headers } = request;
    const way = listed(headers['x-forwarded-for']);
    // Each proxy adds on the right whom it got the request from: the last one that is no proxy of ours is the client.
    let address = seen.address;
    for (let at = way.length - 1; at >= 0; at--) {
      const plain = bare(way[at]!);
      if (isIP(plain) === 0) break;
      address = plain;
      if (!isTrusted(plain)) break;
    }
    return { address, host: listed(headers['x-forwarded-host']).at(-1) ?? seen.host };
  };
}

function add(list: BlockList, text: string): void {
  const [address = '', bits] = text.split('/');
  const family = isIP(address);
  const length = bits === undefined ? undefined : Number(bits);
  const most = family === 6 ? 128 : 32;
  if (family === 0 || (length !== undefined && !(Number.isInteger(length) && length >= 0 && length <= most && bits !== '')))
    throw new JexoError('JEXO_USAGE', `A proxy is named by its address or network; ${JSON.stringify(text)} is neither.`, {
      where: text,
      next: 'As in: 127.0.0.1, 10.0.0.0/8, loopback',
    });
  const type = family === 6 ? 'ipv6' : 'ipv4';
  if (length === undefined) list.addAddress(address, type);
  else list.addSubnet(address, length, type);
}

function isWithin(list: BlockList, address: string): boolean {
  const plain = bare(address);
  const family = isIP(plain);
  return family !== 0 && list.check(plain, family === 6 ? 'ipv6' : 'ipv4');
}

/** Without a port, brackets, or the form in which IPv6 carries an IPv4 address. */
function bare(address: string): string {
  const plain = /^\[(.+)\](?::\d+)?$/.exec(address)?.[1] ?? /^(\d+\.\d+\.\d+\.\d+):\d+$/.exec(address)?.[1] ?? address;
  return /^::ffff:(\d+\.\d+\.\d+\.\d+)$/i.exec(plain)?.[1] ?? plain;
}

function listed(header: string | readonly string[] | undefined): string[] {
  return [header ?? []]
    .flat()
    .join(',')
    .split(',')
    .map((each) => each.trim())
    .filter((each) => each !== '');
}
