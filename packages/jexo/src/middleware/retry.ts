import { JexoError } from '../errors.js';
import { pause } from '../engine/pause.js';
import type { Middleware } from '../offers/middleware.js';
import { selects, type Selection } from '../offers/selection.js';

/** When a call is run again. */
export interface RetryOptions extends Selection {
  /** Times a call is run again. Default 2. */
  readonly times?: number;
  /** Milliseconds before the first repetition; each further one waits twice as long. Default 200. */
  readonly afterMs?: number;
  /** True for an error that may pass. Default: connections that fail, time that runs out, services that are busy. */
  readonly when?: (error: unknown) => boolean;
}

const passing = new Set([
  'ECONNRESET',
  'ECONNREFUSED',
  'ETIMEDOUT',
  'EPIPE',
  'EAI_AGAIN',
  'JEXO_CONNECT',
  'JEXO_TIMEOUT',
  'JEXO_SESSION_LOST',
]);
const mayPass = (error: unknown) => passing.has(String((error as { code?: unknown } | null)?.code));

/**
 * Runs a call again when it failed by an error that may pass. Only what can be run twice is: resources, prompts, and tools that
 * say they only read or are idempotent.
 *
 * @example
 * retry({ times: 3, when: (error) => error instanceof BusyError })
 */
export function retry({ times = 2, afterMs = 200, when = mayPass, ...selection }: RetryOptions = {}): Middleware {
  if (!(times >= 0)) throw new JexoError('JEXO_DEFINITION', 'retry: times must be a number from 0.', { where: 'retry' });
  const isFor = selects(selection);
  return async (request, next) => {
    const { offer, call } = request;
    const isRepeatable = offer.kind !== 'tool' || offer.annotations?.readOnlyHint === true || offer.annotations?.idempotentHint === true;
    if (!isRepeatable || !isFor(offer)) return next(request);
    for (let count = 0; ; count++)
      try {
        return await next(request);
      } catch (error) {
        if (count >= times || call.signal.aborted || !when(error)) throw error;
        await pause(afterMs * 2 ** count * (0.75 + Math.random() / 2), call.signal);
      }
  };
}
