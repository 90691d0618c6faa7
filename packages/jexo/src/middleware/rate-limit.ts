import { JexoError } from '../errors.js';
import type { Middleware, Request } from '../offers/middleware.js';
import { durationOf } from './duration.js';
import { selects, type Selection } from '../offers/selection.js';
import { counted } from '../protocol/counted.js';

/** How calls are counted. */
export interface RateLimitOptions extends Selection {
  /** Calls in a span. */
  readonly calls: number;
  /** The span: `1 min`, or milliseconds. Default 1 minute. */
  readonly per?: string | number;
  /** What is counted apart: callers, offers, or both. Default `caller`. */
  readonly by?: 'caller' | 'offer' | 'caller and offer';
}

const mostCounted = 100_000;

/**
 * Refuses calls beyond a number in a span, and says when to come back. A caller is its identity, or else its session.
 *
 * @throws JexoError JEXO_DEFINITION; for the caller JEXO_TOO_MANY
 * @example
 * rateLimit({ calls: 60, per: '1 min', only: ['tag:expensive'] })
 */
export function rateLimit({ calls, per = '1 min', by = 'caller', ...selection }: RateLimitOptions): Middleware {
  const spanMs = durationOf(per, 'rateLimit');
  if (!(calls >= 1)) throw new JexoError('JEXO_DEFINITION', 'rateLimit: calls must be a number from 1.', { where: 'rateLimit' });
  const isFor = selects(selection);
  // Each has a theoretical time at which the next call is due; calls may come early by a whole span at most.
  const due = new Map<string, number>();
  const apart = spanMs / calls;
  // Completions come with every letter typed: they are counted apart.
  const keyOf = (request: Request) => (request.method === 'completion/complete' ? `completions ${keyOfCall(request)}` : keyOfCall(request));
  const keyOfCall = ({ offer, call }: Request) => {
    const { identity } = call.caller;
    const caller = identity === undefined ? `session ${call.session.id}` : `caller ${identity}`;
    return by === 'offer' ? offer.name : by === 'caller' ? caller : `${caller} ${offer.name}`;
  };
  return (request, next) => {
    if (!isFor(request.offer)) return next(request);
    const now = Date.now();
    const key = keyOf(request);
    const at = Math.max(now, due.get(key) ?? 0);
    const early = at + apart - now;
    if (early > spanMs + 0.5) {
      const seconds = Math.max(1, Math.ceil((early - spanMs) / 1000));
      throw new JexoError(
        'JEXO_TOO_MANY',
        `Too many calls: ${request.offer.name} was not run. Try again in ${counted(seconds, 'second')}.`,
        { data: { retryAfter: seconds } },
      );
    }
    due.delete(key);
    due.set(key, at + apart);
    if (due.size > mostCounted) for (const [old, time] of due) if (time <= now || due.size > mostCounted) due.delete(old);
    return next(request);
  };
}
