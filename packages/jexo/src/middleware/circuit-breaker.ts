import { JexoError } from '../errors.js';
import type { Middleware } from '../offers/middleware.js';
import { durationOf } from './duration.js';
import { selects, type Selection } from '../offers/selection.js';

/** When calls are no longer let through. */
export interface CircuitBreakerOptions extends Selection {
  /** Failures in a row that open it. Default 5. */
  readonly failures?: number;
  /** How long it stays open: `30 s`, or milliseconds. Then one call is let through to try. Default 30 seconds. */
  readonly reset?: string | number;
}

interface Circuit {
  failures: number;
  openUntil: number;
  isTrying: boolean;
}

/**
 * Stops calling what keeps failing: after so many failures in a row, calls of that offer are refused at once for a while. Errors that
 * the caller has caused (a wrong input) do not count.
 *
 * @throws for the caller: JexoError JEXO_UNAVAILABLE
 * @example
 * circuitBreaker({ failures: 5, reset: '30 s', only: ['tag:registry'] })
 */
export function circuitBreaker({ failures = 5, reset = '30 s', ...selection }: CircuitBreakerOptions = {}): Middleware {
  const resetMs = durationOf(reset, 'circuitBreaker');
  const isFor = selects(selection);
  // By name: a template read is another object each time, and a reload heals nothing.
  const circuits = new Map<string, Circuit>();
  return async (request, next) => {
    const { offer, call } = request;
    if (!isFor(offer)) return next(request);
    const key = `${request.method} ${offer.name}`;
    const circuit = circuits.get(key) ?? { failures: 0, openUntil: 0, isTrying: false };
    circuits.set(key, circuit);
    const isOpen = circuit.failures >= failures;
    if (isOpen && (Date.now() < circuit.openUntil || circuit.isTrying)) {
      const seconds = Math.max(1, Math.ceil((circuit.openUntil - Date.now()) / 1000));
      throw new JexoError(
        'JEXO_UNAVAILABLE',
        `${offer.name} has failed ${circuit.failures} times in a row, and is not called now. Try again in ${seconds} s.`,
        { data: { retryAfter: seconds } },
      );
    }
    circuit.isTrying = isOpen;
    try {
      const value = await next(request);
      circuit.failures = 0;
      return value;
    } catch (error) {
      const code = (error as { code?: unknown } | null)?.code;
      if (!call.signal.aborted && code !== 'JEXO_INPUT_INVALID' && code !== 'JEXO_NOT_ACCEPTED' && code !== 'JEXO_NOT_SUPPORTED') {
        circuit.failures++;
        if (circuit.failures >= failures) circuit.openUntil = Date.now() + resetMs;
      }
      throw error;
    } finally {
      circuit.isTrying = false;
    }
  };
}
