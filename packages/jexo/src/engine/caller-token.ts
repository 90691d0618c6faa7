import type { Caller } from './servable.js';

/** Tokens by the claims they came with: handlers see the claims, and have no way to the token. */
const tokens = new WeakMap<object, string>();

/** Remembers the token that a caller proved itself with. It is passed on to nobody; it can be exchanged for one of an upstream’s (RFC 8693). */
export function keepToken(claims: object, token: string): void {
  tokens.set(claims, token);
}

/** The token that a caller proved itself with, where it was one. */
export function tokenOf({ claims }: Caller): string | undefined {
  return claims === undefined ? undefined : tokens.get(claims);
}
