import { lookup } from 'node:dns/promises';
import { request as plainRequest, type IncomingMessage } from 'node:http';
import { request as secureRequest } from 'node:https';
import { BlockList, isIP, type LookupFunction } from 'node:net';

/** Where an address lies. */
type Region = 'public' | 'private' | 'loopback' | 'forbidden';

const list = (...subnets: readonly (readonly [string, number])[]): BlockList => {
  const made = new BlockList();
  for (const [address, prefix] of subnets) made.addSubnet(address, prefix, isIP(address) === 6 ? 'ipv6' : 'ipv4');
  return made;
};
const loopback = list(['127.0.0.0', 8], ['::1', 128]);
/** Link-local, where clouds keep their secrets, and what is no host at all. */
const forbidden = list(['169.254.0.0', 16], ['0.0.0.0', 8], ['224.0.0.0', 3], ['fe80::', 10], ['ff00::', 8], ['::', 128]);
/** Private networks, and addresses that stand for others by translation. */
const inside = list(
  ['10.0.0.0', 8],
  ['172.16.0.0', 12],
  ['192.168.0.0', 16],
  ['100.64.0.0', 10],
  ['192.0.0.0', 24],
  ['198.18.0.0', 15],
  ['fc00::', 7],
  ['64:ff9b::', 96],
  ['64:ff9b:1::', 48],
  ['2002::', 16],
  ['2001::', 32],
);

/** Where an IP address lies. One of IPv4 in the clothes of IPv6 is taken for what it is. */
export function regionOf(address: string): Region {
  const mapped = /^::ffff:(?:(\d+\.\d+\.\d+\.\d+)|([0-9a-f]{1,4}):([0-9a-f]{1,4}))$/i.exec(address);
  if (mapped !== null) {
    const [, dotted, high, low] = mapped;
    const bits = dotted === undefined ? parseInt(high!, 16) * 65_536 + parseInt(low!, 16) : 0;
    return regionOf(dotted ?? [24, 16, 8, 0].map((shift) => Math.floor(bits / 2 ** shift) % 256).join('.'));
  }
  const family = isIP(address) === 6 ? 'ipv6' : 'ipv4';
  if (loopback.check(address, family)) return 'loopback';
  if (forbidden.check(address, family)) return 'forbidden';
  return inside.check(address, family) ? 'private' : 'public';
}

type Lookup = (host: string) => Promise<readonly { readonly address: string; readonly family: number }[]>;
const lookUp: Lookup = (host) => lookup(host, { all: true });

/** Bytes that an answer may have. */
const mostBytes = 1_000_000;

/**
 * A `fetch` for what a server names (Security, "Server-Side Request Forgery"): a public server may name public addresses only, one in a private network
 * also those of private networks, one on this machine any. Link-local addresses are never fetched from. The addresses that were checked are those that
 * are connected to, whatever the name stands for a moment later; redirects are not followed.
 *
 * @param endpoint the server that names them
 */
export function fetchNear(endpoint: string, find: Lookup = lookUp): typeof fetch {
  let reach: Promise<Region> | undefined;
  const addressesOf = async (url: URL) => {
    const host = url.hostname.replace(/^\[|\]$/g, '');
    return isIP(host) ? [{ address: host, family: isIP(host) }] : find(host);
  };
  const isAllowed = (region: Region, from: Region) => {
    if (region === 'forbidden') return false;
    if (region === 'public' || from === 'loopback') return true;
    return from === 'private' && region === 'private';
  };
  /** The farthest that all addresses of the server allow. */
  const regionOfEndpoint = async (): Promise<Region> => {
    const regions = (await addressesOf(new URL(endpoint))).map(({ address }) => regionOf(address));
    return regions.every((region) => region === 'loopback')
      ? 'loopback'
      : regions.every((region) => region === 'private')
        ? 'private'
        : 'public';
  };
  return async (input, init = {}) => {
    const url = new URL(input instanceof Request ? input.url : input);
    const found = await addressesOf(url);
    const from = await (reach ??= regionOfEndpoint());
    const bad = found.find(({ address }) => !isAllowed(regionOf(address), from));
    if (bad !== undefined || found.length === 0)
      throw new TypeError('fetch failed', {
        cause: new Error(
          bad === undefined
            ? `${url.hostname} has no address`
            : `${url.hostname} is ${bad.address}, which a ${from === 'public' ? 'public' : from} server has no business to name`,
        ),
      });
    return send(url, init, found);
  };
}

async function send(
  url: URL,
  init: RequestInit,
  found: readonly { readonly address: string; readonly family: number }[],
): Promise<Response> {
  const { method = 'GET', signal } = init;
  const body = init.body === undefined || init.body === null ? undefined : Buffer.from(await new Response(init.body).arrayBuffer());
  const headers = new Headers(init.headers);
  if (body !== undefined && !headers.has('content-type') && init.body instanceof URLSearchParams)
    headers.set('content-type', 'application/x-www-form-urlencoded;charset=UTF-8');
  if (body !== undefined) headers.set('content-length', String(body.length));
  // The name is not looked up again: it could stand for another address by then.
  const pinned: LookupFunction = (_host, options, done) => {
    const [first] = found;
    if (options.all) done(null, [...found]);
    else done(null, first!.address, first!.family);
  };
  const answer = await new Promise<IncomingMessage>((resolve, reject) => {
    const request = (url.protocol === 'https:' ? secureRequest : plainRequest)(
      url,
      { method, headers: Object.fromEntries(headers), lookup: pinned, agent: false, ...(signal && { signal }) },
      resolve,
    );
    request.once('error', (error) => reject(new TypeError('fetch failed', { cause: error })));
    request.end(body);
  });
  const parts: Buffer[] = [];
  let bytes = 0;
  for await (const part of answer as AsyncIterable<Buffer>) {
    bytes += part.length;
    if (bytes > mostBytes) {
      answer.destroy();
      throw new TypeError('fetch failed', { cause: new Error(`${url.href} answers with more than ${mostBytes} bytes`) });
    }
    parts.push(part);
  }
  const status = answer.statusCode ?? 502;
  const isEmpty = status === 204 || status === 205 || status === 304;
  const received = new Headers();
  for (const [name, value] of Object.entries(answer.headers)) for (const each of [value ?? []].flat()) received.append(name, each);
  return new Response(isEmpty ? null : Buffer.concat(parts), { status, headers: received });
}
