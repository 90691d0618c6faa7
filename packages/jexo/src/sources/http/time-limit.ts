import { deadline } from '../../engine/deadline.js';
import type { Interceptor } from './http-call.js';
import { upstreamError } from './upstream-error.js';

/** Gives one attempt so many milliseconds, its redirects and the reading of its answer included. */
export function timeLimit(title: string, timeoutMs: number): Interceptor {
  return (next) => async (call) => {
    const limit = deadline(timeoutMs, call.signal);
    try {
      return await next({ ...call, signal: limit.signal });
    } catch (error) {
      call.signal.throwIfAborted();
      if (limit.isOver)
        throw upstreamError(
          title,
          call.url,
          `did not answer within ${timeoutMs / 1000} seconds.`,
          'Try again later, or ask for less.',
          error,
        );
      throw error;
    } finally {
      limit.clear();
    }
  };
}
