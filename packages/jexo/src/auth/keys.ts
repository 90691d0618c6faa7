import { statSync } from 'node:fs';
import type { Caller } from '../engine/servable.js';
import { after, type MaybePromise } from '../engine/store.js';
import { JexoError } from '../errors.js';
import type { Middleware } from '../offers/middleware.js';
import type { Offer } from '../offers/offer.js';
import type { Authenticated, Authenticator } from '../transports/http/authenticate.js';
import { rateLimit } from '../middleware/rate-limit.js';
import { findInStore, findKey, isOver, readKeys, type KeptKey } from './key-file.js';

/** Keys that are kept elsewhere than in a file: `keys({ find: (id) => table.get(id) })`. */
export interface KeyStore {
  /** The key of an id, with the SHA-256 of its secret; undefined when there is none. */
  find(id: string): MaybePromise<KeptKey | undefined>;
}

const mostRight = 10_000;

/** How often the file is looked at, in milliseconds. */
const lookEveryMs = 500;

/**
 * Lets in who sends a key that is in a file, or in a store of your own: `Authorization: Bearer jexo_…`. Only hashes are in the file; `jexo keys` writes it, and
 * changes are taken up without a restart. The caller's identity is the key's id, `claims.name` its holder.
 *
 * @throws JexoError JEXO_KEYS when the file is not there or holds something else; a file that goes bad later lets nobody in
 * @example
 * await serveHttp(apiary, { host: '0.0.0.0', auth: keys('keys.json') })
 */
export function keys(from: string | KeyStore): Authenticator {
  const find = typeof from === 'string' ? inFile(from) : (sent: string) => findInStore(sent, from);
  return ({ header }) => {
    const sent = bearerOf(header('authorization'));
    if (sent === undefined) return { challenge, message: 'Send a key: Authorization: Bearer <key>' };
    return after(find(sent), letIn);
  };
}

const challenge = 'Bearer realm="jexo"';

/** What is sent as `Bearer …` (RFC 6750, 2.1). */
function bearerOf(header = ''): string | undefined {
  return /^Bearer +(\S+)$/i.exec(header)?.[1];
}

/** One object for each key: callers with it are then seen to be the same at a glance. */
const known = new WeakMap<KeptKey, Authenticated>();

function letIn(key: KeptKey | undefined): Authenticated {
  if (key === undefined)
    return { challenge: `${challenge}, error="invalid_token"`, message: 'The key is not known, was revoked or has expired' };
  let found = known.get(key);
  if (found === undefined) {
    const { id, name, scopes, tags, callsPerMinute } = key;
    const claims = { name, ...(tags && { tags }), ...(callsPerMinute !== undefined && { callsPerMinute }) };
    known.set(key, (found = { identity: id, ...(scopes && { scopes }), claims }));
  }
  return found;
}

function inFile(file: string): (sent: string) => KeptKey | undefined {
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
  // Keys that were right a moment ago, so that they are not hashed with every request. What is wrong is hashed each time, and a look-up by
  // the whole text tells nothing of its beginning.
  let right = new Map<string, KeptKey>();
  let rightIn: ReadonlyMap<string, KeptKey> = known;
  return (sent) => {
    const now = current();
    if (now !== rightIn || right.size > mostRight) {
      right = new Map();
      rightIn = now;
    }
    const before = right.get(sent);
    if (before !== undefined) return isOver(before, Date.now()) ? undefined : before;
    const found = findKey(sent, now);
    if (found !== undefined) right.set(sent, found);
    return found;
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
