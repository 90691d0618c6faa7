import { keepToken } from '../../engine/caller-token.js';
import { systemClock, type Clock } from '../../engine/clock.js';
import { JexoError } from '../../errors.js';
import type { Authenticated, Authenticator, IncomingRequest } from '../../transports/http/authenticate.js';
import { isRecord } from '../../protocol/is-record.js';
import { isFetchable } from './fetch-json.js';
import type { IntrospectionOptions } from './introspect.js';
import type { Proven } from './proof.js';
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
  /** Scopes that only some offers need: they are in the metadata, and asked for when they are needed. */
  readonly moreScopes?: readonly string[];
  /** Scopes that every caller needs; others get 403 and are told which. Default: none. */
  readonly required?: readonly string[];
  /** Signatures that are taken. Default: `RS256`, `PS256`, `ES256`, `EdDSA`. Those with a shared secret, and none, are never taken. */
  readonly algorithms?: readonly string[];
  /** Seconds that clocks may differ. Default 30. */
  readonly clockToleranceS?: number;
  /** How the authorization servers are asked about tokens that say nothing by themselves (RFC 7662). Default: such tokens are refused. */
  readonly introspection?: IntrospectionOptions;
  /**
   * `required` takes only tokens that are bound to a key of the caller's, with a proof of it (DPoP, RFC 9449). Default `allowed`: a token that is
   * bound needs its proof, others do without.
   */
  readonly proof?: 'allowed' | 'required';
  /**
   * True serves the authorization server's metadata at this server's own origin too, where clients of revision 2025-03-26 look for it. They name no
   * `resource`, so the authorization server has to give them tokens for this one by itself. For one issuer only. Default false.
   */
  readonly olderClients?: boolean;
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
  readonly documents: Readonly<Record<string, object | (() => Promise<object>)>>;
}

/** Signatures that a proof of a key may have. */
export const proofAlgorithms = ['ES256', 'EdDSA', 'Ed25519', 'RS256', 'PS256'];
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
  const { resource, scopes = [], moreScopes = [], required = [], clockToleranceS = 30, algorithms = usualAlgorithms } = options;
  const { introspection, proof = 'allowed' } = options;
  requireFields(options);
  const issuers = [options.issuer].flat();
  const audience = options.audience === undefined ? canonical(resource) : [options.audience].flat();
  requireSense(issuers, resource, algorithms, options.olderClients === true);
  const { documents, metadataUrl } = resourceMetadata(
    resource,
    issuers,
    [...new Set([...required, ...scopes, ...moreScopes])],
    proof === 'required',
  );
  const mirror = () => mirrored(issuers[0]!, new URL(resource).origin, options.fetch);
  const older = options.olderClients === true ? { '/.well-known/oauth-authorization-server': mirror } : {};
  const challenge = (parts: Readonly<Record<string, string>>) =>
    `Bearer ${Object.entries({ ...parts, resource_metadata: metadataUrl })
      .map(([name, value]) => `${name}="${value.replaceAll(/[^\x20-\x7e]|["\\]/g, ' ')}"`)
      .join(', ')}`;
  const wanted = [...new Set([...required, ...(required.length > 0 ? [] : scopes)])].join(' ');
  const proofChallenge = (message: string) =>
    challenge({ error: 'invalid_dpop_proof', error_description: message, algs: proofAlgorithms.join(' ') }).replace(/^Bearer/, 'DPoP');
  const tooNarrow = (missing: readonly string[], { scopes: granted = [] }: { readonly scopes?: readonly string[] }) =>
    challenge({
      error: 'insufficient_scope',
      // What the caller has stays in it: a client that asks for this alone must not lose the rest.
      scope: [...new Set([...granted, ...missing])].join(' '),
      error_description: `The token lacks ${missing.join(' ')}`,
    });
  const unknown = (message: string): Authenticated => ({
    challenge: challenge({ error: 'invalid_token', error_description: message, ...(wanted !== '' && { scope: wanted }) }),
    message,
  });
  const identityOf = options.identity ?? (({ iss, sub, client_id: client }) => `${String(iss)} ${String(sub ?? client)}`);
  let known = new Map<string, Known>();
  let loading: Promise<(token: string) => Promise<CheckedToken>> | undefined;
  // What checks signatures is loaded with the first token.
  const load = () =>
    (loading ??= import('./check-token.js').then(({ createTokenCheck }) =>
      createTokenCheck({ issuers, audience, algorithms, clockToleranceS, introspection, fetch: options.fetch, clock: options.clock }),
    ));
  let proofs: Promise<(proof: string | undefined, about: Proven) => Promise<string | undefined>> | undefined;
  const loadProofs = () => (proofs ??= import('./proof.js').then(({ createProofCheck }) => createProofCheck(options.clock ?? systemClock)));
  const check = async (token: string): Promise<Known | { readonly refused: Authenticated }> => {
    const checked = await (await load())(token);
    if ('refused' in checked) return { refused: unknown(checked.refused) };
    const { claims, isStillRight } = checked;
    const granted = scopesOf(claims);
    const missing = required.filter((each) => !granted.includes(each));
    if (missing.length > 0)
      return {
        refused: { status: 403, challenge: tooNarrow(missing, { scopes: granted }), message: `The token lacks ${missing.join(' ')}` },
      };
    const found = { found: { identity: identityOf(claims), scopes: granted, claims }, isStillRight, thumbprint: thumbprintIn(claims) };
    keepToken(claims, token);
    if (known.size >= mostKnown) known = new Map();
    // A signature costs more than all the rest of a small call.
    known.set(token, found);
    return found;
  };
  const prove = async (token: string, { found, thumbprint }: Known, { header, method }: IncomingRequest): Promise<Authenticated> => {
    if (thumbprint === undefined) return unknown('The token is not bound to a key, as this server wants it');
    const wrong = await (await loadProofs())(header('dpop'), { token, thumbprint, method, url: resource });
    return wrong === undefined ? found : { challenge: proofChallenge(wrong), message: wrong };
  };
  const pass = (scheme: string, token: string, checked: Known, request: IncomingRequest): Authenticated | Promise<Authenticated> => {
    const isBearer = scheme.toLowerCase() === 'bearer';
    if (isBearer && checked.thumbprint === undefined && proof !== 'required') return checked.found;
    if (!isBearer) return prove(token, checked, request);
    const message = 'The token is bound to a key, or has to be: send it as DPoP, with a proof';
    return { challenge: proofChallenge(message), message };
  };
  const guard = (request: IncomingRequest): Authenticated | Promise<Authenticated> => {
    const [, scheme, token] = /^(Bearer|DPoP) +([\w.~+/-]+=*)$/i.exec(request.header('authorization') ?? '') ?? [];
    if (token === undefined)
      return { challenge: challenge(wanted === '' ? {} : { scope: wanted }), message: 'Sign in, and send the token' };
    const before = known.get(token);
    if (before?.isStillRight()) return pass(scheme!, token, before, request);
    known.delete(token);
    return check(token).then((checked) => ('refused' in checked ? checked.refused : pass(scheme!, token, checked, request)));
  };
  return Object.assign(guard, { documents: { ...documents, ...older }, tooNarrow });
}

/** A token that was checked. */
interface Known {
  readonly found: Authenticated;
  readonly isStillRight: () => boolean;
  /** Of the key that it is bound to, if it is. */
  readonly thumbprint: string | undefined;
}

/** RFC 9449, 6.1. A binding of another kind is one that cannot be checked here. */
function thumbprintIn({ cnf }: Readonly<Record<string, unknown>>): string | undefined {
  if (cnf === undefined) return undefined;
  const { jkt } = (isRecord(cnf) ? cnf : {}) as { jkt?: unknown };
  return typeof jkt === 'string' ? jkt : '';
}

/** `scope` is one text (RFC 8693, 4.2); some issuers give a list under `scp`. */
function scopesOf({ scope, scp }: Readonly<Record<string, unknown>>): readonly string[] {
  const given = scope ?? scp;
  if (typeof given === 'string') return given.split(' ').filter((each) => each !== '');
  return Array.isArray(given) ? given.filter((each): each is string => typeof each === 'string') : [];
}

/** With and without a slash at its end: clients and issuers differ. */
const canonical = (resource: string): string[] => [resource.replace(/\/$/, ''), `${resource.replace(/\/$/, '')}/`];

function requireSense(issuers: readonly string[], resource: string, algorithms: readonly string[], olderClients: boolean): void {
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
  if (olderClients && issuers.length > 1)
    refuse('olderClients', 'Older clients can be sent to one authorization server only.', 'Name one issuer, or remove olderClients.');
  const shared = algorithms.find((each) => /^(?:HS|none)/i.test(each));
  if (shared !== undefined)
    refuse('algorithms', `${shared} is never taken: whoever can check such a token can make one.`, 'Name algorithms with a public key.');
}

/** The metadata of an authorization server as that of this origin: its endpoints stay where they are (Authorization of 2025-03-26, 2.3). */
async function mirrored(issuer: string, origin: string, fetchBy: typeof fetch | undefined): Promise<object> {
  const { readServerMetadata } = await import('./server-metadata.js');
  // Its answers name itself as the issuer, which such a client would take for another's.
  const {
    authorization_response_iss_parameter_supported: _,
    signed_metadata: __,
    ...found
  } = (await readServerMetadata(issuer, fetchBy)) as unknown as Record<string, unknown>;
  return { ...found, issuer: origin };
}

/** Protected resource metadata, at the place that belongs to the resource's path and at the root (RFC 9728, 3.1). */
function resourceMetadata(resource: string, issuers: readonly string[], scopes: readonly string[], bound: boolean) {
  const { origin, pathname } = new URL(resource);
  const path = pathname.replace(/\/$/, '');
  const root = '/.well-known/oauth-protected-resource';
  const document = {
    resource: resource.replace(/\/$/, ''),
    authorization_servers: issuers,
    bearer_methods_supported: ['header'],
    dpop_signing_alg_values_supported: proofAlgorithms,
    ...(bound && { dpop_bound_access_tokens_required: true }),
    ...(scopes.length > 0 && { scopes_supported: scopes }),
  };
  return { documents: { [root]: document, [`${root}${path}`]: document }, metadataUrl: `${origin}${root}${path}` };
}

/** @throws JexoError JEXO_SIGN_IN when a field is not there: an unset variable, say */
function requireFields({ issuer, resource }: OAuthOptions): void {
  for (const [name, value] of [
    ['issuer', issuer],
    ['resource', resource],
  ] as const)
    if (value === undefined || value === '')
      throw new JexoError('JEXO_SIGN_IN', `oauth needs ${name}.`, {
        where: name,
        next: "As in: oauth({ issuer: 'https://login.example', resource: 'https://apiary.example/mcp' })",
      });
}
