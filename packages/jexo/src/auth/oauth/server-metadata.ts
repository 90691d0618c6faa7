import { JexoError } from '../../errors.js';
import { fetchJson } from './fetch-json.js';

/** What is used of an authorization server's metadata (RFC 8414). */
export interface ServerMetadata {
  readonly issuer: string;
  readonly jwks_uri?: string;
  readonly introspection_endpoint?: string;
}

/** Where an issuer's metadata may be, in the order in which it is looked for (Authorization, "Authorization Server Metadata Discovery"). */
export function metadataUrls(issuer: string): URL[] {
  const { origin, pathname } = new URL(issuer);
  const path = pathname.replace(/\/+$/, '');
  const wellKnown = (name: string) => new URL(`${origin}/.well-known/${name}${path}`);
  return [
    wellKnown('oauth-authorization-server'),
    wellKnown('openid-configuration'),
    ...(path === '' ? [] : [new URL(`${origin}${path}/.well-known/openid-configuration`)]),
  ];
}

/**
 * The metadata of an issuer. It must name this issuer: another's document would bring another's keys (RFC 8414, 3.3).
 * @throws JexoError JEXO_SIGN_IN
 */
export async function readServerMetadata(issuer: string, fetchBy?: typeof fetch): Promise<ServerMetadata> {
  for (const url of metadataUrls(issuer)) {
    const found = await fetchJson(url, fetchBy);
    if (found === undefined) continue;
    if (found.issuer !== issuer)
      throw new JexoError('JEXO_SIGN_IN', `${url.href} is the metadata of ${JSON.stringify(found.issuer)}, not of ${issuer}.`, {
        where: url.href,
        next: 'Give the issuer exactly as its metadata names it.',
      });
    return found as unknown as ServerMetadata;
  }
  throw new JexoError('JEXO_SIGN_IN', `${issuer} has no metadata at any of ${metadataUrls(issuer).map(String).join(', ')}.`, {
    where: issuer,
  });
}
