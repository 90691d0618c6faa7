import { statSync } from 'node:fs';
import type { Caller } from '../engine/servable.js';
import { JexoError } from '../errors.js';
import type { Middleware } from '../offers/middleware.js';
import type { Offer } from '../offers/offer.js';
import type { Authenticate } from '../transports/http/authenticate.js';
import { rateLimit } from '../middleware/rate-limit.js';
import { findKey, readKeys, type KeptKey } from './key-file.js';

/** How often the file is looked at, in milliseconds. */
const lookEveryMs = 500;

/**
 * Lets in who sends a key that is in a file: `Authorization: Bearer jexo_…`. Only hashes are in the file; `jexo keys` writes it, and
 * changes are taken up without a restart. The caller's identity is the key's id, `claims.name` its holder.
 *
 * @throws JexoError JEXO_KEYS when the file is not there or holds something else; a file that goes bad later lets nobody in
 * @example
 * await serveHttp(apiary, { host: '0.0.0.0', authenticate: keys('keys.json') })
 */
export function keys(file: string): Authenticate {
  let known = readKeys(file, true);
  let stamp = stampOf(file);
  let lookedAt = Date.now();
  const current = (): ReadonlyMap<string, KeptKey> => {
    const now = Date.now();
    if (now - lookedAt < lookEveryMs) return known;
    lookedAt = now;
    const next = stampOf(file);
    if (next === stamp) return known;
    stamp = next;
    // Until the file can be read again, nobody has a key.
    known = new Map();
    known = readKeys(file, true);
    return known;
  };
  return ({ header }) => {
    const [, sent] = /^Bearer +(\S+)$/i.exec(header('authorization') ?? '') ?? [];
    const challenge = 'Bearer realm="jexo"';
    if (sent === undefined) return { challenge, message: 'Send a key: Authorization: Bearer <key>' };
    const key = findKey(sent, current());
    if (key === undefined)
      return { challenge: `${challenge}, error="invalid_token"`, message: 'The key is not known, was revoked or has expired' };
    const { id, name, scopes, tags, callsPerMinute } = key;
    return {
      identity: id,
      ...(scopes && { scopes }),
      claims: { name, ...(tags && { tags }), ...(callsPerMinute !== undefined && { callsPerMinute }) },
    };
  };
}

function stampOf(file: string): string {
  const found = statSync(file, { throwIfNoEntry: false });
  return found === undefined ? '' : `${found.ino} ${found.mtimeMs} ${found.size}`;
}

/** What a key lets its holder see: offers with one of its tags, or all. For `visible` of a server. */
export function seenWithKey(offer: Offer, { claims }: Caller): boolean {
  const tags = claims?.tags as readonly string[] | undefined;
  return tags === undefined || tags.some((tag) => offer.tags?.includes(tag) ?? false);
}

/** Holds each key to its number of calls in a minute. @throws for the caller: JexoError JEXO_TOO_MANY */
export function limitByKey(): Middleware {
  const limits = new Map<number, Middleware>();
  return (request, next) => {
    const calls = request.call.caller.claims?.callsPerMinute;
    if (typeof calls !== 'number') return next(request);
    const limit = limits.get(calls) ?? rateLimit({ calls, per: '1 min', by: 'caller' });
    limits.set(calls, limit);
    return limit(request, next);
  };
}

/** @throws JexoError JEXO_KEYS for an id or name that no key has, or several */
export function oneKey(wanted: string, all: ReadonlyMap<string, KeptKey>, file: string): KeptKey {
  const found = [...all.values()].filter(({ id, name }) => id === wanted || name === wanted);
  if (found.length === 1) return found[0]!;
  throw new JexoError(
    'JEXO_KEYS',
    found.length === 0
      ? `No key in ${file} has the id or name ${wanted}.`
      : `${found.length} keys are called ${wanted}; give the id of one.`,
    {
      where: file,
      next: `List them with: jexo keys list --keys ${file}`,
    },
  );
}
