import type { Caller } from '../../engine/servable.js';
import { after, type MaybePromise } from '../../engine/store.js';
import { isSecretSetting } from '../../protocol/secret-names.js';
import { errorCodes } from '../../protocol/json-rpc.js';
import type { HttpRequest, Responder } from './http-types.js';
import { refuse } from './replies.js';

/** What an authenticator is shown of a request. */
export interface IncomingRequest {
  /** `POST`, `GET` or `DELETE`. */
  readonly method: string;
  /** A header by its lower-case name. */
  readonly header: (name: string) => string | undefined;
  /** The remote address, where the runtime knows it. */
  readonly address: string | undefined;
}

/** Who is calling, or how the caller can prove it. */
export type Authenticated =
  | {
      /** Tells this caller from every other: a session belongs to the identity that began it. */
      readonly identity: string;
      readonly scopes?: readonly string[];
      readonly claims?: Readonly<Record<string, unknown>>;
    }
  | {
      /** The value of `WWW-Authenticate` (RFC 9110, 11.6.1), as `Bearer realm="apiary"`. */
      readonly challenge: string;
      /** 403 when the caller is known and may not. Default 401. */
      readonly status?: 401 | 403;
      /** What the client is told, in a sentence. */
      readonly message?: string;
    };

/**
 * Finds out who sends a request, before anything else is done with it. It is called for every request, also within a session.
 * What it throws is a fault of the server: the client gets a 500 with a reference.
 *
 * @example
 * const auth: Authenticator = ({ header }) =>
 *   header('x-apiary-key') === process.env.APIARY_KEY ? { identity: 'keeper' } : { challenge: 'ApiKey realm="apiary"' };
 */
export interface Authenticator {
  (request: IncomingRequest): MaybePromise<Authenticated>;
  /** The value of `WWW-Authenticate` for a caller who lacks scopes. Default: a `Bearer` challenge that names them. */
  readonly tooNarrow?: (missing: readonly string[], caller: { readonly scopes?: readonly string[] }) => string;
  /** Documents that `serveHttp` serves to anybody, by their paths on the host, whatever the base path: where to sign in, say. */
  readonly documents?: Readonly<Record<string, object | (() => Promise<object>)>>;
}

/** The caller of a request; when there is none, the request has been answered with the challenge. */
export function identify(
  auth: Authenticator | undefined,
  request: HttpRequest,
  cors: Record<string, string>,
  responder: Responder,
  mayNarrow: boolean,
): MaybePromise<Caller | undefined> {
  const plain = mayNarrow ? narrowed(plainCaller(request), request.query?.('tags')) : plainCaller(request);
  if (auth === undefined) return plain;
  const { method, address } = request;
  const shown: IncomingRequest = { method, address, header: (name) => request.header(name) };
  return after(auth(shown), (found): Caller | undefined => {
    if ('identity' in found) return known(plain, found);
    const { challenge, status = 401, message = status === 401 ? 'Sign in first' : 'This caller may not do that' } = found;
    refuse(responder, status, { ...cors, 'www-authenticate': challenge }, `${status === 401 ? 'Unauthorized' : 'Forbidden'}: ${message}`);
    return undefined;
  });
}

const mostTags = 50;

/** `?tags=inspections,scales` leaves the offers with one of these tags. */
function narrowed(caller: Caller, tags: string | undefined): Caller {
  const wanted = (tags ?? '')
    .split(',')
    .map((each) => each.trim())
    .filter((each) => each !== '')
    .slice(0, mostTags);
  return wanted.length === 0 ? caller : { ...caller, narrowedTo: wanted };
}

/** Refuses what a caller lacks a scope for, and says which; clients can ask for it and come back (Authorization, "Scope Challenge Handling"). */
export function refuseScopes(
  auth: Authenticator | undefined,
  missing: readonly string[],
  caller: Caller,
  cors: Record<string, string>,
  responder: Responder,
): void {
  const challenge = auth?.tooNarrow?.(missing, caller) ?? `Bearer error="insufficient_scope", scope="${missing.join(' ')}"`;
  refuse(
    responder,
    403,
    { ...cors, 'www-authenticate': challenge },
    `Forbidden: This needs the scope ${missing.join(' ')}`,
    errorCodes.forbidden,
  );
}

/** Whether the sender of an earlier request would be let in again, as the same caller. */
export function isStillLetIn(auth: Authenticator, request: HttpRequest, caller: Caller): MaybePromise<boolean> {
  const { method, address } = request;
  return after(
    auth({ method, address, header: (name) => request.header(name) }),
    (found) => 'identity' in found && found.identity === caller.identity,
  );
}

function known(plain: Caller, { identity, scopes, claims }: Extract<Authenticated, { identity: string }>): Caller {
  const { transport, address, narrowedTo } = plain;
  return {
    transport,
    identity,
    ...(scopes && { scopes }),
    ...(claims && { claims }),
    ...(address !== undefined && { address }),
    ...(narrowedTo && { narrowedTo }),
  };
}

function plainCaller(request: HttpRequest): Caller {
  const { address } = request;
  return { transport: 'http', ...(address !== undefined && { address }) };
}

/** True when two requests come from the same caller with the same rights. */
export function isSameCaller(a: Caller, b: Caller): boolean {
  if (a.identity === undefined && b.identity === undefined) return true;
  if (a.identity !== b.identity) return false;
  if (a.scopes === b.scopes && a.claims === b.claims) return true;
  return JSON.stringify([a.scopes, a.claims]) === JSON.stringify([b.scopes, b.claims]);
}

/** The caller that begins a session, with the headers it came with; without those that may carry credentials. */
export function withHeaders(caller: Caller, request: HttpRequest): Caller {
  return { ...caller, headers: sharedHeaders(publicHeaders(request)) };
}

/** The same for a request that stands alone: its headers are copied only when a handler asks for them. */
export function withLazyHeaders(caller: Caller, request: HttpRequest): Caller {
  return {
    ...caller,
    get headers() {
      return publicHeaders(request);
    },
  };
}

/** Headers of the last few sessions: clients of one kind send the same ones, which are then kept once. */
const recentHeaders = new Map<string, Readonly<Record<string, string>>>();
const maxRecentHeaders = 64;

function sharedHeaders(headers: Readonly<Record<string, string>>): Readonly<Record<string, string>> {
  const key = JSON.stringify(headers);
  const known = recentHeaders.get(key);
  if (known !== undefined) return known;
  const [oldest] = recentHeaders.keys();
  if (oldest !== undefined && recentHeaders.size >= maxRecentHeaders) recentHeaders.delete(oldest);
  recentHeaders.set(key, Object.freeze(headers));
  return headers;
}

function publicHeaders(request: HttpRequest): Readonly<Record<string, string>> {
  return Object.fromEntries(Object.entries(request.headers()).filter(([name]) => !isSecretSetting(name)));
}
