import * as oauth from 'oauth4webapi';
import { deadline } from '../../engine/deadline.js';
import { JexoError, messageOf } from '../../errors.js';
import { isFetchable } from './fetch-json.js';
import { readServerMetadata, type ServerMetadata } from './server-metadata.js';

/** How this server asks an authorization server about tokens that say nothing by themselves (RFC 7662). */
export interface IntrospectionOptions {
  /** This server’s id at the authorization server. */
  readonly clientId: string;
  /** Its secret there. */
  readonly clientSecret: string;
  /** Seconds that an answer holds: a token that is withdrawn counts so long. Default 60. */
  readonly holdsS?: number;
  /** True asks about signed tokens too, so that one that is withdrawn ends at once. Default false. */
  readonly always?: boolean;
}

/** What an authorization server says of a token: its claims, or that it does not count. */
export type Introspected = { readonly claims: Readonly<Record<string, unknown>> & { readonly exp: number } } | { readonly refused: string };

const waitMs = 5000;
const elsewhere = 'The token is for another resource';

/**
 * Asks an issuer about tokens. One that is not active, has ended, or is for another resource is refused.
 * @returns a question; it rejects with JexoError JEXO_SIGN_IN when the issuer cannot be asked
 */
export function introspection(
  issuer: string,
  { clientId, clientSecret }: IntrospectionOptions,
  audience: readonly string[],
  clockToleranceS: number,
  fetchBy: typeof fetch | undefined,
): (token: string) => Promise<Introspected> {
  let metadata: Promise<ServerMetadata> | undefined;
  const find = () =>
    (metadata ??= readServerMetadata(issuer, fetchBy).catch((error: unknown) => {
      metadata = undefined;
      throw error;
    }));
  return async (token) => {
    const found = await find();
    const place = found.introspection_endpoint;
    const fail = (why: string, cause?: unknown) =>
      new JexoError('JEXO_SIGN_IN', `${issuer} cannot be asked about tokens: ${why}.`, { where: place ?? issuer, cause });
    if (typeof place !== 'string' || !URL.canParse(place) || !isFetchable(new URL(place)))
      throw fail('its metadata names no introspection_endpoint that can be used');
    const as = found as unknown as oauth.AuthorizationServer;
    const client = { client_id: clientId };
    const limit = deadline(waitMs);
    try {
      const response = await oauth.introspectionRequest(as, client, oauth.ClientSecretBasic(clientSecret), token, {
        [oauth.allowInsecureRequests]: true,
        [oauth.customFetch]: (url: string, init: RequestInit) => (fetchBy ?? fetch)(url, init),
        signal: limit.signal,
      } as const);
      return judged(await oauth.processIntrospectionResponse(as, client, response), issuer, audience, clockToleranceS);
    } catch (error) {
      throw fail(limit.isOver ? 'it did not answer in time' : messageOf(error).replace(/\.$/, ''), error);
    } finally {
      limit.clear();
    }
  };
}

function judged(said: oauth.IntrospectionResponse, issuer: string, audience: readonly string[], toleranceS: number): Introspected {
  const { active, iss, aud, exp, nbf, token_type: type } = said;
  const now = Date.now() / 1000;
  if (active !== true) return { refused: 'The token does not count, or no longer' };
  if (iss !== undefined && iss !== issuer) return { refused: 'The token is not of an authorization server that is trusted here' };
  if (![aud ?? []].flat().some((each) => audience.includes(each))) return { refused: elsewhere };
  if (exp !== undefined && exp + toleranceS <= now) return { refused: 'The token has expired' };
  if (nbf !== undefined && nbf - toleranceS > now) return { refused: 'The token is not valid yet' };
  if (type !== undefined && !/^(?:bearer|dpop|access_token)$/i.test(type)) return { refused: 'The token is not an access token' };
  return { claims: { ...(said as object), iss: issuer, exp: exp ?? now + 365 * 86_400 } };
}
