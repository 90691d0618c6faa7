import { createHash } from 'node:crypto';
import { isRecord } from '../protocol/is-record.js';
import type { Request } from '../offers/middleware.js';

/** How a call ended. */
export type Outcome = 'ok' | 'failed' | 'cancelled';

/** What a call came to. */
export interface Ended {
  readonly outcome: Outcome;
  /** The code of the error, without the words of others. */
  readonly code?: string;
  readonly ms: number;
}

/** Runs a call and tells how it ended, whatever it did; a fault of the teller goes before the call's own. */
export async function observed(request: Request, next: (request: Request) => unknown, tell: (ended: Ended) => void): Promise<unknown> {
  const began = performance.now();
  const took = () => Math.round(10 * (performance.now() - began)) / 10;
  let value: unknown;
  try {
    value = await next(request);
  } catch (error) {
    const { code } = error as { code?: unknown };
    const known = typeof code === 'string' || typeof code === 'number' ? { code: String(code) } : {};
    tell({ outcome: request.call.signal.aborted ? 'cancelled' : 'failed', ...known, ms: took() });
    throw error;
  }
  tell({ outcome: isRecord(value) && value.isError === true ? 'failed' : 'ok', ms: took() });
  return value;
}

/** A session as logs name it: its id is a secret of its client. */
export const sessionName = (id: string): string => createHash('sha256').update(id).digest('hex').slice(0, 12);
