import { LRUCache } from 'lru-cache';
import type { Middleware } from '../offers/middleware.js';
import type { Offer } from '../offers/offer.js';
import { durationOf } from './duration.js';
import { selects, type Selection } from '../offers/selection.js';

/** What is kept, and how long. */
export interface CacheOptions extends Selection {
  /** How long an answer is kept: `5 min`, or milliseconds. Default 1 minute. */
  readonly ttl?: string | number;
  /** Answers at most; the oldest go first. Default 1000. */
  readonly entries?: number;
  /** Keeps one answer for all callers. Only for what is the same for everybody. Default false. */
  readonly shared?: boolean;
}

/** A cache, which can be emptied. */
export type Cache = Middleware & {
  /** Forgets answers: of offers with this tag or name, or all. */
  clear(of?: string): void;
};

/**
 * Keeps the answers of tools that only read, by input and caller, so that the same question is answered once. Failures are not kept, and
 * nothing once the lists of its source have changed.
 *
 * @example
 * const kept = cache({ ttl: '5 min', only: ['tag:registry'] });
 * defineServer({ …, middleware: [kept] });   // and after a change: kept.clear('registry')
 */
export function cache({ ttl = '1 min', entries = 1000, shared = false, ...selection }: CacheOptions = {}): Cache {
  const isFor = selects(selection);
  const kept = new LRUCache<string, { readonly value: Promise<unknown>; readonly of: readonly string[] }>({
    max: entries,
    ttl: durationOf(ttl, 'cache'),
  });
  // An offer that was read again is another one: what was kept of the old one is not found any more.
  const ids = new WeakMap<Offer, number>();
  let count = 0;
  const idOf = (offer: Offer): number => {
    const id = ids.get(offer) ?? ++count;
    ids.set(offer, id);
    return id;
  };
  const run: Middleware = (request, next) => {
    const { offer, input, call } = request;
    if (offer.kind !== 'tool' || offer.annotations?.readOnlyHint !== true || !isFor(offer)) return next(request);
    const { identity } = call.caller;
    const caller = shared ? '' : identity === undefined ? `session ${call.session.id}` : `caller ${identity}`;
    const key = `${caller}\n${idOf(offer)}\n${stable(input)}`;
    const known = kept.get(key);
    if (known !== undefined) return known.value;
    // The same question asked meanwhile waits for the same answer.
    const value = Promise.resolve(next(request));
    kept.set(key, { value, of: [offer.name, ...(offer.tags ?? [])] });
    value.then(
      (answer) => {
        if ((answer as { isError?: unknown } | null)?.isError === true) kept.delete(key);
      },
      () => kept.delete(key),
    );
    return value;
  };
  return Object.assign(run, {
    clear(of?: string) {
      if (of === undefined) kept.clear();
      else for (const [key, entry] of kept.entries()) if (entry.of.includes(of)) kept.delete(key);
    },
  });
}

/** JSON with keys in order, so that the same input is the same text. */
function stable(value: unknown): string {
  return JSON.stringify(value, (_key, each: unknown) =>
    typeof each === 'object' && each !== null && !Array.isArray(each)
      ? Object.fromEntries(Object.entries(each).sort(([a], [b]) => (a < b ? -1 : 1)))
      : each,
  );
}
