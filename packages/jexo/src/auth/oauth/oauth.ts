import type { Clock } from '../../engine/clock.js';
import { JexoError } from '../../errors.js';
import type { Authenticated, Authenticator, IncomingRequest } from '../../transports/http/authenticate.js';
import { isFetchable } from './fetch-json.js';
import type { CheckedToken } from './check-token.js';

/** Whose tokens are taken, and what they must say. */
export interface OAuthOptions {
  /** The authorization server whose tokens are taken, exactly as its metadata names it; several are taken side by side. */
  readonly issuer: string | readonly string[];
  /** Where clients reach the endpoint, as `https://apiary.example/mcp`: its canonical URI (RFC 8707). */
  readonly resource: string;
  /** What `aud` of a token must hold. Default: `resource`. */
  readonly audience?: string | readonly string[];
  /** Scopes that clients may ask for: in the metadata, and in the challenge. Scopes of offers are best named here too. */
  readonly scopes?: readonly string[];
  /** Scopes that every caller needs; others get 403 and are told which. Default: none. */
  readonly required?: readonly string[];
  /** Signatures that are taken. Default: `RS256`, `PS256`, `ES256`, `EdDSA`. Those with a shared secret, and none, are never taken. */
  readonly algorithms?: readonly string[];
  /** Seconds that clocks may differ. Default 30. */
  readonly clockToleranceS?: number;
  /** What identifies a caller. Default: the issuer and `sub`, or `client_id` where there is no subject. */
  readonly identity?: (claims: Readonly<Record<string, unknown>>) => string;
  /** Fetches the documents of authorization servers. Default: the runtime's own. */
  readonly fetch?: typeof fetch;
  /** By which it is known how old keys are. Default: the runtime’s own. */
  readonly clock?: Clock;
}

/** Lets in callers with a token, and says where they get one. */
export interface OAuthGuard extends Authenticator {
  /** Documents to be served to anybody, by their paths on the host: protected resource metadata (RFC 9728). `serveHttp` does. */
  readonly documents: Readonly<Record<string, object>>;
}

const usualAlgorithms = ['RS256', 'PS256', 'ES256', 'EdDSA'];
const mostKnown = 10_000;

/**
 * Takes access tokens of an authorization server (OAuth 2.1; Authorization, "Access Token Usage"): signed tokens, checked by the issuer's keys,
 * for their issuer, audience, times, kind and signature. Callers without one are told where to sign in by protected resource metadata (RFC 9728).
 * Offers with a `scope` are for callers whose token has it. Tokens are taken from the `Authorization` header only and passed on to nobody.
 *
 * @throws JexoError JEXO_SIGN_IN for an issuer or a resource that is no address, or not HTTPS
 * @example
 * await serveHttp(apiary, { publicUrl: 'https://apiary.example/mcp', auth: oauth({ issuer: 'https://login.example', resource: 'https://apiary.example/mcp' }) });
 */
export function oauth(options: OAuthOptions): OAuthGuard {
  const { resource, scopes = [], required = [], clockToleranceS = 30, algorithms = usualAlgorithms } = options;
  const issuers = [options.issuer].flat();
  const audience = options.audience === undefined ? canonical(resource) : [options.audience].flat();
  requireSense(issuers, resource, algorithms);
  const { documents, metadataUrl } = resourceMetadata(resource, issuers, scopes);
  const challenge = (parts: Readonly<Record<string, string>>) =>
    `Bearer ${Object.entries({ ...parts, resource_metadata: metadataUrl })
      .map(([name, value]) => `${name}="${value.replaceAll(/[^\x20-\x7e]|["\\]/g, ' ')}"`)
      .join(', ')}`;
  const wanted = [...new Set([...required, ...(required.length > 0 ? [] : scopes)])].join(' ');
  const unknown = (message: string): Authenticated => ({
    challenge: challenge({ error: 'invalid_token', error_description: message, ...(wanted !== '' && { scope: wanted }) }),
    message,
  });
  const identityOf = options.identity ?? (({ iss, sub, client_id: client }) => `${String(iss)} ${String(sub ?? client)}`);
  let known = new Map<string, { readonly found: Authenticated; readonly isStillRight: () => boolean }>();
  let loading: Promise<(token: string) => Promise<CheckedToken>> | undefined;
  // What checks signatures is loaded with the first token.
  const load = () =>
    (loading ??= import('./check-token.js').then(({ createTokenCheck }) =>
      createTokenCheck({ issuers, audience, algorithms, clockToleranceS, fetch: options.fetch, clock: options.clock }),
    ));
  const check = async (token: string): Promise<Authenticated> => {
    const checked = await (await load())(token);
    if ('refused' in checked) return unknown(checked.refused);
    const { claims, isStillRight } = checked;
    const granted = scopesOf(claims);
    const missing = required.filter((each) => !granted.includes(each));
    if (missing.length > 0) {
      const description = `The token lacks ${missing.join(' ')}`;
      const scope = [...new Set([...granted, ...required])].join(' ');
      return {
        status: 403,
        challenge: challenge({ error: 'insufficient_scope', scope, error_description: description }),
        message: description,
      };
    }
    const found: Authenticated = { identity: identityOf(claims), scopes: granted, claims };
    if (known.size >= mostKnown) known = new Map();
    // A signature costs more than all the rest of a small call.
    known.set(token, { found, isStillRight });
    return found;
  };
  const guard = ({ header }: IncomingRequest): Authenticated | Promise<Authenticated> => {
    const token = /^Bearer +([\w.~+/-]+=*)$/i.exec(header('authorization') ?? '')?.[1];
    if (token === undefined)
      return { challenge: challenge(wanted === '' ? {} : { scope: wanted }), message: 'Sign in, and send the token' };
    const before = known.get(token);
    if (before?.isStillRight()) return before.found;
    known.delete(token);
    return check(token);
  };
  return Object.assign(guard, { documents });
}

/** `scope` is one text (RFC 8693, 4.2); some issuers give a list under `scp`. */
function scopesOf({ scope, scp }: Readonly<Record<string, unknown>>): readonly string[] {
  const given = scope ?? scp;
  if (typeof given === 'string') return given.split(' ').filter((each) => each !== '');
  return Array.isArray(given) ? given.filter((each): each is string => typeof each === 'string') : [];
}

/** With and without a slash at its end: clients and issuers differ. */
const canonical = (resource: string): string[] => [resource.replace(/\/$/, ''), `${resource.replace(/\/$/, '')}/`];

function requireSense(issuers: readonly string[], resource: string, algorithms: readonly string[]): void {
  const refuse = (where: string, message: string, next: string) => {
    throw new JexoError('JEXO_SIGN_IN', message, { where, next });
  };
  if (issuers.length === 0) refuse('issuer', 'No issuer was given.', 'Name the authorization server: issuer: "https://login.example"');
  for (const each of [...issuers, resource]) {
    const where = each === resource ? 'resource' : 'issuer';
    if (!URL.canParse(each)) refuse(where, `${JSON.stringify(each)} is not an address.`, 'Give a whole URL, as https://login.example');
    const url = new URL(each);
    if (!isFetchable(url)) refuse(where, `${each} is not HTTPS.`, 'Plain HTTP is for this machine only: http://127.0.0.1:…');
    if (url.hash !== '' || url.search !== '') refuse(where, `${each} has a query or a fragment.`, 'Remove it.');
  }
  const shared = algorithms.find((each) => /^(?:HS|none)/i.test(each));
  if (shared !== undefined)
    refuse('algorithms', `${shared} is never taken: whoever can check such a token can make one.`, 'Name algorithms with a public key.');
}

/** Protected resource metadata, at the place that belongs to the resource's path and at the root (RFC 9728, 3.1). */
function resourceMetadata(resource: string, issuers: readonly string[], scopes: readonly string[]) {
  const { origin, pathname } = new URL(resource);
  const path = pathname.replace(/\/$/, '');
  const root = '/.well-known/oauth-protected-resource';
  const document = {
    resource: resource.replace(/\/$/, ''),
    authorization_servers: issuers,
    bearer_methods_supported: ['header'],
    ...(scopes.length > 0 && { scopes_supported: scopes }),
  };
  return { documents: { [root]: document, [`${root}${path}`]: document }, metadataUrl: `${origin}${root}${path}` };
}
