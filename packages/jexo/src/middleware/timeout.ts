import { JexoError } from '../errors.js';
import type { Middleware } from '../offers/middleware.js';
import { durationOf } from './duration.js';
import { selects, type Selection } from '../offers/selection.js';

/**
 * Ends a call that takes too long: the caller gets an error, and the handler's `call.signal` fires.
 *
 * @param duration `30 s`, `5 min`, or milliseconds
 * @throws JexoError JEXO_DEFINITION for what is no duration; for the caller JEXO_TIMEOUT
 * @example
 * defineServer({ …, middleware: [timeout('30 s')] })
 */
export function timeout(duration: string | number, selection: Selection = {}): Middleware {
  const ms = durationOf(duration, 'timeout');
  const isFor = selects(selection);
  return async (request, next) => {
    if (!isFor(request.offer)) return next(request);
    const controller = new AbortController();
    const { call } = request;
    const cancelled = () => controller.abort(call.signal.reason);
    call.signal.addEventListener('abort', cancelled, { once: true });
    // The handler's call is the caller's, but for the signal.
    const own = Object.create(call, { signal: { value: controller.signal } }) as typeof call;
    let timer: ReturnType<typeof setTimeout> | undefined;
    const late = new Promise<never>((_, reject) => {
      timer = setTimeout(() => {
        const error = new JexoError('JEXO_TIMEOUT', `${request.offer.name} took longer than ${ms / 1000} s, and was given up.`, {
          next: 'Ask for less at once, or try again later.',
        });
        // First the caller's answer, then the handler's signal: a handler that ends at once must not be in time.
        reject(error);
        controller.abort(error);
      }, ms);
    });
    try {
      return await Promise.race([next({ ...request, call: own }), late]);
    } finally {
      clearTimeout(timer);
      call.signal.removeEventListener('abort', cancelled);
    }
  };
}
