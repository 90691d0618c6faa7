import { pause } from '../../engine/pause.js';
import type { Interceptor, Received } from './http-call.js';
import { UnreachedError } from './upstream-error.js';

/** Methods that may be sent twice without doing more (RFC 9110, 9.2.2). */
const repeatable = new Set(['GET', 'HEAD', 'PUT', 'DELETE', 'OPTIONS']);
const busy = new Set([429, 502, 503, 504]);
/** The longest a service may have a call wait, in milliseconds; beyond that the caller is told to come back. */
const longestPauseMs = 20_000;

/** Sends a request that may be repeated again when the service is busy or cannot be reached, up to `maxRetries` times. */
export function retry(maxRetries: number): Interceptor {
  return (next) => async (call) => {
    for (let count = 0; ; count++) {
      const mayRepeat = (call.isRepeatable ?? repeatable.has(call.method)) && count < maxRetries;
      const patienceMs = 250 * 2 ** count;
      let received: Received;
      try {
        received = await next(call);
      } catch (error) {
        if (!(error instanceof UnreachedError) || !mayRepeat) throw error;
        await pause(patienceMs, call.signal);
        continue;
      }
      if (!busy.has(received.status) || !mayRepeat) return received;
      const wanted = retryAfter(received.headers) ?? patienceMs;
      if (wanted > longestPauseMs) return received;
      await pause(wanted, call.signal);
    }
  };
}

/** Milliseconds, from the seconds or the date of a Retry-After header (RFC 9110, 10.2.3). */
export function retryAfter(headers: Headers): number | undefined {
  const text = headers.get('retry-after');
  if (text === null) return undefined;
  const ms = /^\d+$/.test(text) ? Number(text) * 1000 : Date.parse(text) - Date.now();
  return Number.isNaN(ms) ? undefined : Math.max(0, ms);
}
