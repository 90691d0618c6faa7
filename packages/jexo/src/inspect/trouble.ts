import { isJexoError, messageOf } from '../errors.js';
import { RpcError } from '../protocol/json-rpc.js';

/** An error as the page shows it: what happened, where, what to do next. */
export interface Trouble {
  readonly code: string;
  readonly message: string;
  readonly where?: string;
  readonly next?: string;
}

/** Words for what the network library says in its own; each with what to do. */
const networkSays: readonly (readonly [RegExp, string, string])[] = [
  [
    /wrong version number|packet length too long|EPROTO|http request/i,
    'The address begins with https:, but the server there speaks plain HTTP.',
    'Write http: in place of https:, or put a certificate before the server.',
  ],
  [
    /self[- ]signed|unable to (?:verify|get)|DEPTH_ZERO|CERT_|certificate/i,
    'The server’s certificate is not one this machine trusts.',
    'Trust its issuer with NODE_EXTRA_CA_CERTS=<file>, and start jexo again.',
  ],
  [
    /ENOTFOUND|EAI_AGAIN|no such host/i,
    'There is no machine of that name.',
    'Check the spelling of the address, and that this machine is online.',
  ],
];

export function troubleOf(error: unknown): Trouble {
  if (isJexoError(error)) {
    const { code, message, where, next } = error;
    const known = code === 'JEXO_CONNECT' ? networkSays.find(([pattern]) => pattern.test(message)) : undefined;
    const said =
      known === undefined ? { message, next } : { message: `${known[1]} ${message.split('\n')[0]!.replace(/: .*$/, '')}.`, next: known[2] };
    return { code, ...otherTransport(code, said), ...(where !== undefined && { where }) };
  }
  if (error instanceof RpcError) return { code: String(error.code), message: error.message };
  return { code: 'JEXO_INTERNAL', message: messageOf(error) };
}

/** A server that was started by command but listens over HTTP says so on stdout, where the protocol should be. */
function otherTransport(code: string, said: { message: string; next: string }): { message: string; next: string } {
  if (code !== 'JEXO_NOT_PROTOCOL') return said;
  const address = /https?:\/\/[^\s"'<>]+/.exec(said.message.replace(/^https?:\S+ answered with[^:]*:/, ''))?.[0];
  if (address !== undefined)
    return { ...said, next: `It seems to serve over HTTP: start it by itself, then connect to ${address.replace(/[.,)]+$/, '')}` };
  if (!/answered with/.test(said.message)) return said;
  return {
    ...said,
    next: 'Something else than a protocol server answers at this address. Check the port and the path; most servers answer at /mcp.',
  };
}
