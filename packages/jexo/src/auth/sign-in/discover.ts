import { JexoError, messageOf } from '../../errors.js';
import { isRecord } from '../../protocol/is-record.js';
import { fetchJson, isFetchable } from '../oauth/fetch-json.js';
import { metadataUrls } from '../oauth/server-metadata.js';
import { canonicalEndpoint } from './kept-sign-in.js';
import { scopesIn, type Challenge } from './challenges.js';

/** What protected resource metadata says (RFC 9728). */
export interface ResourceFound {
  readonly resource: string;
  readonly issuers: readonly string[];
  readonly scopes: readonly string[];
}

/** What is used of an authorization server’s metadata. */
export interface ServerFound {
  readonly issuer: string;
  readonly authorization_endpoint: string;
  readonly token_endpoint: string;
  readonly registration_endpoint?: string;
  readonly revocation_endpoint?: string;
  readonly client_id_metadata_document_supported?: boolean;
  readonly authorization_response_iss_parameter_supported?: boolean;
  readonly token_endpoint_auth_methods_supported?: readonly string[];
  /** True when nothing says that it is there. */
  readonly isGuessed?: true;
}

const fail = (message: string, where: string, next?: string) =>
  new JexoError('JEXO_SIGN_IN', message, { where, ...(next !== undefined && { next }) });

/**
 * Finds the metadata of a protected resource: where the challenge says, then at the well-known place of its path, then at the root
 * (Authorization, "Protected Resource Metadata Discovery Requirements").
 * @param passOver told of what is not used, and why
 * @returns undefined when there is none
 */
export async function discoverResource(
  endpoint: string,
  challenge: Challenge | undefined,
  fetchBy: typeof fetch,
  passOver: (why: string) => void,
): Promise<ResourceFound | undefined> {
  const { origin, pathname } = new URL(endpoint);
  const path = pathname.replace(/\/+$/, '');
  const named = challenge?.params.resource_metadata;
  const wellKnown = `${origin}/.well-known/oauth-protected-resource`;
  const places = [...(named === undefined ? [] : [named]), ...(path === '' ? [] : [`${wellKnown}${path}`]), wellKnown];
  for (const place of new Set(places)) {
    // The server speaks for itself: what another origin says of it is not taken (RFC 9728, 3.3).
    if (!URL.canParse(place) || new URL(place).origin !== origin) {
      passOver(`${place} is not at ${origin}, so it is not fetched`);
      continue;
    }
    const found = await fetchJson(new URL(place), fetchBy).catch((error: unknown) => passOver(messageOf(error)));
    if (found === undefined) continue;
    return checkResource(found, place, endpoint);
  }
  return undefined;
}

function checkResource(found: Readonly<Record<string, unknown>>, place: string, endpoint: string): ResourceFound {
  const { resource, authorization_servers: servers, scopes_supported: scopes } = found;
  if (typeof resource !== 'string' || !isResourceOf(resource, endpoint))
    throw fail(`${place} is about ${JSON.stringify(resource)}, not about ${endpoint}: a token for it is not for this server.`, place);
  const issuers = texts(servers).filter((each) => URL.canParse(each) && isFetchable(new URL(each)));
  if (issuers.length === 0) throw fail(`${place} names no authorization server that can be used.`, place, 'They are HTTPS addresses.');
  return { resource, issuers, scopes: texts(scopes) };
}

/** True for the endpoint itself, and for what it lies under. */
function isResourceOf(resource: string, endpoint: string): boolean {
  if (!URL.canParse(resource)) return false;
  const { origin, pathname, search, hash, username } = new URL(resource);
  const own = new URL(endpoint);
  if (origin !== own.origin || search !== '' || hash !== '' || username !== '') return false;
  return `${canonicalEndpoint(endpoint)}/`.startsWith(`${origin}${pathname.replace(/\/+$/, '')}/`);
}

const texts = (value: unknown): string[] => (Array.isArray(value) ? value.filter((each): each is string => typeof each === 'string') : []);

/**
 * The metadata of an authorization server, wherever its variants put it (Authorization, "Authorization Server Metadata Discovery").
 * @param isGuess true when nobody has named the issuer: then it need not answer
 * @returns undefined when none of them has it
 * @throws JexoError JEXO_SIGN_IN when it is another’s, or lacks what a sign-in needs
 */
export async function discoverServer(issuer: string, fetchBy: typeof fetch, isGuess = false): Promise<ServerFound | undefined> {
  let why: unknown;
  for (const url of metadataUrls(issuer)) {
    const found = await fetchJson(url, fetchBy).catch((error: unknown) => void (why ??= error));
    if (found === undefined) continue;
    if (!isSameIssuer(found.issuer, issuer))
      throw fail(`${url.href} is the metadata of ${JSON.stringify(found.issuer)}, not of ${issuer}.`, url.href);
    return checkServer(found, url.href);
  }
  if (why !== undefined && !isGuess) throw why;
  return undefined;
}

/**
 * The authorization server to sign in at: the wanted one, or the first that answers; without metadata of the resource, its own origin.
 * @throws JexoError JEXO_SIGN_IN
 */
export async function chooseServer(
  endpoint: string,
  resource: ResourceFound | undefined,
  issuer: string | undefined,
  send: typeof fetch,
): Promise<ServerFound> {
  if (resource === undefined && issuer !== undefined)
    throw fail(`${endpoint} names no authorization server, so nobody signs in there by ${issuer}.`, endpoint);
  if (resource === undefined) return (await discoverServer(new URL(endpoint).origin, send, true)) ?? usualEndpoints(endpoint);
  if (issuer !== undefined && !resource.issuers.includes(issuer))
    throw new JexoError('JEXO_SIGN_IN', `${endpoint} does not take sign-ins of ${issuer}.`, {
      where: endpoint,
      next: `It takes those of ${resource.issuers.join(', ')}.`,
    });
  let why: unknown;
  for (const each of issuer === undefined ? resource.issuers : [issuer]) {
    const found = await discoverServer(each, send).catch((error: unknown) => void (why ??= error));
    if (found !== undefined) return found;
  }
  throw (
    why ??
    new JexoError('JEXO_SIGN_IN', `${resource.issuers.join(', ')} has no metadata, so nobody can sign in there.`, {
      where: resource.issuers[0]!,
    })
  );
}

/** Scopes as the challenge says, else all that the resource has, else none (Authorization, "Scope Selection Strategy"). */
export function wantedScopes(challenge: Challenge | undefined, resource: ResourceFound | undefined): readonly string[] {
  return challenge?.params.scope !== undefined ? scopesIn(challenge.params.scope) : (resource?.scopes ?? []);
}

/** Issuers differ by a slash at their end when they are written by hand; by nothing else. */
const isSameIssuer = (named: unknown, wanted: string) =>
  typeof named === 'string' && named.replace(/\/$/, '') === wanted.replace(/\/$/, '');

function checkServer(found: Readonly<Record<string, unknown>>, place: string): ServerFound {
  for (const name of ['authorization_endpoint', 'token_endpoint', 'registration_endpoint', 'revocation_endpoint']) {
    const value = found[name];
    if (value === undefined && !name.startsWith('authorization') && !name.startsWith('token')) continue;
    if (typeof value !== 'string' || !URL.canParse(value) || !isFetchable(new URL(value)) || new URL(value).hash !== '')
      throw fail(`The ${name} in ${place} is ${JSON.stringify(value)}, which is no HTTPS address.`, place);
  }
  const methods = texts(found.code_challenge_methods_supported);
  if (!methods.includes('S256'))
    throw fail(
      `${place} does not say that it takes PKCE with S256, so a sign-in there could be stolen.`,
      place,
      'The authorization server has to name S256 in code_challenge_methods_supported.',
    );
  return found as unknown as ServerFound;
}

/** Where a server of revision 2025-03-26 without metadata has its endpoints: at its own origin (Authorization of that revision, 2.3.3). */
export function usualEndpoints(endpoint: string): ServerFound {
  const { origin } = new URL(endpoint);
  return {
    isGuessed: true,
    issuer: origin,
    authorization_endpoint: `${origin}/authorize`,
    token_endpoint: `${origin}/token`,
    registration_endpoint: `${origin}/register`,
  };
}

/** What a person reads of an error document of OAuth. */
export function wordsOf(value: unknown): string {
  if (!isRecord(value)) return '';
  const { error, error_description: description } = value;
  return [error, description]
    .filter((each): each is string => typeof each === 'string')
    .join(': ')
    .slice(0, 300);
}
