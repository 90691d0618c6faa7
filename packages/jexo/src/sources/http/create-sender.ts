import type { Prover } from './prover.js';
import { followRedirects } from './follow-redirects.js';
import { intercepted, type Send } from './http-call.js';
import { limitConcurrency } from './limit-concurrency.js';
import { retry } from './retry.js';
import { sendOnce } from './send-once.js';
import { renewAccess, signIn } from './sign-in.js';
import { trace } from './trace.js';
import { timeLimit } from './time-limit.js';

export interface SendOptions {
  /** Milliseconds one attempt may take. Default 30,000. */
  readonly timeoutMs?: number;
  /** Times a request that may be repeated is sent again when the API is busy or away. Default 2. */
  readonly maxRetries?: number;
  /** Requests at once; others wait. Default 8. */
  readonly concurrency?: number;
  /** Bytes an answer may have, unpacked. Default 10,000,000. */
  readonly maxBytes?: number;
  /** Other hosts that redirects and next pages may lead to, as `files.example` or `files.example:8443`. Default: only the API's own. */
  readonly hosts?: readonly string[];
}

/**
 * Sends requests to one service, within bounds.
 *
 * @param title the service, for messages
 */
export function createSender(title: string, prover: Prover, fetchOne: typeof fetch, options: SendOptions): Send {
  const { timeoutMs = 30_000, maxRetries = 2, concurrency = 8, maxBytes = 10_000_000, hosts = [] } = options;
  return intercepted(sendOnce(title, fetchOne, maxBytes), [
    trace,
    limitConcurrency(concurrency),
    retry(maxRetries),
    renewAccess(prover),
    timeLimit(title, timeoutMs),
    followRedirects(title, hosts),
    signIn(prover),
  ]);
}
