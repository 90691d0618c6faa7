import { JexoError } from '../errors.js';
import type { Middleware } from '../offers/middleware.js';
import { selects, type Selection } from '../offers/selection.js';

/** How many calls run at once. */
export interface ConcurrencyOptions extends Selection {
  /** Calls at once. */
  readonly calls: number;
  /** Calls that wait; further ones are refused. Default 100. */
  readonly queue?: number;
}

/**
 * Lets so many calls run at once; others wait in order, and leave the line when their caller cancels.
 *
 * @throws JexoError JEXO_DEFINITION; for the caller JEXO_TOO_MANY when the line is full
 * @example
 * concurrency({ calls: 4, only: ['season_report'] })
 */
export function concurrency({ calls, queue = 100, ...selection }: ConcurrencyOptions): Middleware {
  if (!Number.isInteger(calls) || calls < 1)
    throw new JexoError('JEXO_DEFINITION', 'concurrency: calls must be a whole number from 1.', { where: 'concurrency' });
  const isFor = selects(selection);
  let running = 0;
  const line = new Set<() => void>();
  const release = () => {
    const [first] = line;
    if (first === undefined) running--;
    else {
      line.delete(first);
      first();
    }
  };
  const turn = (signal: AbortSignal, name: string) =>
    new Promise<void>((resolve, reject) => {
      if (line.size >= queue)
        return reject(new JexoError('JEXO_TOO_MANY', `Too many calls wait for ${name}; it was not run.`, { next: 'Try again later.' }));
      const go = () => {
        signal.removeEventListener('abort', leave);
        resolve();
      };
      const leave = () => {
        line.delete(go);
        reject(signal.reason as Error);
      };
      signal.addEventListener('abort', leave, { once: true });
      line.add(go);
    });
  return async (request, next) => {
    if (!isFor(request.offer)) return next(request);
    request.call.signal.throwIfAborted();
    if (running < calls) running++;
    else await turn(request.call.signal, request.offer.name);
    try {
      return await next(request);
    } finally {
      release();
    }
  };
}
