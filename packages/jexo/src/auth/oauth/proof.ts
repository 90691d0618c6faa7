import { createHash } from 'node:crypto';
import { calculateJwkThumbprint, EmbeddedJWK, jwtVerify, type JWK } from 'jose';
import type { Clock } from '../../engine/clock.js';
import { proofAlgorithms } from './oauth.js';

/** How old a proof may be, and how far ahead its clock. */
const freshS = 60;
/** Proofs that are remembered; a flood of them makes the oldest ones forgotten, which are the first to be too old. */
const mostRemembered = 100_000;

/** What a proof must be about. */
export interface Proven {
  readonly token: string;
  /** The thumbprint of the key that the token is bound to. */
  readonly thumbprint: string;
  readonly method: string;
  /** The endpoint’s address. */
  readonly url: string;
}

/**
 * Checks proofs that a caller holds the key that a token is bound to (RFC 9449, 4.3). A proof works once.
 * @returns a check; it gives the words for a proof that is refused
 */
export function createProofCheck(clock: Clock): (proof: string | undefined, about: Proven) => Promise<string | undefined> {
  let [recent, older] = [new Set<string>(), new Set<string>()];
  let turnedAt = clock.now();
  const isNew = (id: string): boolean => {
    if (clock.now() - turnedAt > 2000 * freshS || recent.size >= mostRemembered)
      [older, recent, turnedAt] = [recent, new Set(), clock.now()];
    if (recent.has(id) || older.has(id)) return false;
    recent.add(id);
    return true;
  };
  return async (proof, { token, thumbprint, method, url }) => {
    if (proof === undefined) return 'The token is bound to a key, and no proof of it was sent';
    try {
      const { payload, protectedHeader } = await jwtVerify(proof, EmbeddedJWK, {
        typ: 'dpop+jwt',
        algorithms: proofAlgorithms,
        requiredClaims: ['jti', 'htm', 'htu', 'iat', 'ath'],
      });
      const { iat, htm, htu, ath, jti } = payload;
      if (Math.abs(Date.now() / 1000 - iat!) > freshS) return 'The proof is too old, or its clock is ahead';
      if (htm !== method || !isSame(htu, url)) return 'The proof is for another request';
      if (ath !== createHash('sha256').update(token).digest('base64url')) return 'The proof is for another token';
      if ((await calculateJwkThumbprint(protectedHeader.jwk as JWK)) !== thumbprint)
        return 'The proof is by another key than the one the token is bound to';
      if (typeof jti !== 'string' || jti.length > 500 || !isNew(`${thumbprint} ${jti}`)) return 'The proof was used before';
      return undefined;
    } catch {
      return 'The proof cannot be read, or its signature is wrong';
    }
  };
}

function isSame(named: unknown, url: string): boolean {
  if (typeof named !== 'string' || !URL.canParse(named)) return false;
  const { origin, pathname } = new URL(named);
  const own = new URL(url);
  return origin === own.origin && pathname.replace(/\/$/, '') === own.pathname.replace(/\/$/, '');
}
