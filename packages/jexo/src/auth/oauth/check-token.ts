import { decodeJwt, errors, jwtVerify, type JWTPayload } from 'jose';
import { systemClock, type Clock } from '../../engine/clock.js';
import { introspection, type IntrospectionOptions } from './introspect.js';
import { freshMs, signingKeys } from './signing-keys.js';

/** What a token must be. */
export interface TokenRules {
  readonly issuers: readonly string[];
  readonly audience: readonly string[];
  readonly algorithms: readonly string[];
  readonly clockToleranceS: number;
  readonly introspection?: IntrospectionOptions | undefined;
  readonly fetch?: typeof fetch | undefined;
  readonly clock?: Clock | undefined;
}

/** What a token says, or why it is refused. */
export type CheckedToken =
  { readonly claims: JWTPayload & { readonly exp: number }; readonly isStillRight: () => boolean } | { readonly refused: string };

/** Kinds of token that are access tokens; most issuers name none or `JWT` (RFC 9068, 2.1). */
const accessTypes = new Set(['at+jwt', 'application/at+jwt', 'jwt']);

/**
 * Checks signed access tokens. Nothing that a token says is used before its signature holds, but which of the trusted issuers' keys to try.
 * @returns a check; it rejects with JexoError JEXO_SIGN_IN when the issuer's keys cannot be had
 */
export function createTokenCheck({
  issuers,
  audience,
  algorithms,
  clockToleranceS,
  introspection: asking,
  fetch: by,
  clock = systemClock,
}: TokenRules): (token: string) => Promise<CheckedToken> {
  const note = (text: string) => console.error(`jexo: ${text}`);
  const keys = new Map(issuers.map((issuer) => [issuer, signingKeys(issuer, by, note, clock)]));
  const asks = asking === undefined ? [] : issuers.map((issuer) => introspection(issuer, asking, audience, clockToleranceS, by));
  const holdsMs = 1000 * (asking?.holdsS ?? 60);
  /** Asks one issuer after the other; the first that knows the token says what it is. */
  const ask = async (token: string): Promise<CheckedToken> => {
    let refused = { refused: 'The token does not count, or no longer' };
    for (const each of asks) {
      const said = await each(token);
      if ('refused' in said) {
        refused = said;
        continue;
      }
      const checkedAt = clock.now();
      const endsAt = said.claims.exp + clockToleranceS;
      return { claims: said.claims, isStillRight: () => endsAt > Date.now() / 1000 && clock.now() - checkedAt < holdsMs };
    }
    return refused;
  };
  return async (token) => {
    const issuer = issuerOf(token);
    const own = issuer === undefined ? undefined : keys.get(issuer);
    // A token that names its issuer is of that one or of nobody: it is not asked about elsewhere.
    if (asks.length > 0 && (issuer === undefined || (asking?.always === true && own !== undefined))) return ask(token);
    if (own === undefined) return { refused: 'The token is not of an authorization server that is trusted here' };
    try {
      const { payload, protectedHeader } = await jwtVerify(token, (header, input) => own.find(header, input), {
        issuer: issuer!,
        audience: [...audience],
        algorithms: [...algorithms],
        clockTolerance: clockToleranceS,
        requiredClaims: ['exp', 'iss', 'aud'],
      });
      const { typ } = protectedHeader;
      if (typ !== undefined && !accessTypes.has(typ.toLowerCase())) return { refused: 'The token is not an access token' };
      if (typeof payload.sub !== 'string' && typeof payload.client_id !== 'string')
        return { refused: 'The token names neither a subject nor a client' };
      const { edition } = own;
      const endsAt = payload.exp! + clockToleranceS;
      // After a while it is checked again, by the keys there are then: a key may have been withdrawn.
      const checkedAt = clock.now();
      const isStillRight = () => own.edition === edition && endsAt > Date.now() / 1000 && clock.now() - checkedAt < freshMs;
      return { claims: payload as JWTPayload & { exp: number }, isStillRight };
    } catch (error) {
      const refused = whyRefused(error);
      if (refused === undefined) throw error;
      return { refused };
    }
  };
}

function issuerOf(token: string): string | undefined {
  try {
    return decodeJwt(token).iss;
  } catch {
    return undefined; // not a signed token at all
  }
}

/** The words for a token that is refused; undefined for what is no fault of the token. */
function whyRefused(error: unknown): string | undefined {
  if (error instanceof errors.JWTExpired) return 'The token has expired';
  if (error instanceof errors.JWTClaimValidationFailed) {
    const words: Readonly<Record<string, string>> = { aud: 'The token is for another resource', nbf: 'The token is not valid yet' };
    return words[error.claim] ?? `The token’s ${error.claim} is missing or wrong`;
  }
  if (error instanceof errors.JOSEError) return 'The token’s signature is missing or wrong';
  return error instanceof TypeError ? 'The token cannot be read' : undefined;
}
