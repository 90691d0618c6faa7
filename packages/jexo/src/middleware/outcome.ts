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

/** What a call came to, and how long its answer was. */
export interface Answered extends Ended {
  /** Of the result as JSON; 0 for an error. */
  readonly bytes: number;
}

/** Runs a call and tells how it ended, whatever it did; a fault of the teller goes before the call's own. */
export async function observed(
  request: Request,
  next: (request: Request) => unknown,
  tell: (ended: Ended) => void | Promise<void>,
): Promise<unknown> {
  const began = performance.now();
  let value: unknown;
  try {
    value = next(request);
    if (value instanceof Promise) value = await value;
  } catch (error) {
    await tell(failedBy(error, request, began));
    throw error;
  }
  const told = tell({ outcome: outcomeOf(value), ms: since(began) });
  if (told instanceof Promise) await told;
  return value;
}

const since = (began: number) => Math.round(10 * (performance.now() - began)) / 10;
const outcomeOf = (value: unknown): Outcome => (isRecord(value) && value.isError === true ? 'failed' : 'ok');

function failedBy(error: unknown, { call }: Request, began: number): Ended {
  const { code } = error as { code?: unknown };
  const known = typeof code === 'string' || typeof code === 'number' ? { code: String(code) } : {};
  return { outcome: call.signal.aborted ? 'cancelled' : 'failed', ...known, ms: since(began) };
}

/**
 * As `observed`, once the answer is written down and its size is known. The teller must not throw. A call that stays synchronous does so
 * here.
 */
export function observedWhole(request: Request, next: (request: Request) => unknown, tell: (ended: Answered) => void): unknown {
  const { call } = request;
  const began = performance.now();
  let ended: Ended | undefined;
  call.onAnswered((bytes) => tell({ ...(ended ?? { outcome: 'ok', ms: since(began) }), bytes }));
  const succeeded = (value: unknown) => {
    ended = { outcome: outcomeOf(value), ms: since(began) };
    return value;
  };
  const failed = (error: unknown) => {
    ended = failedBy(error, request, began);
    throw error;
  };
  try {
    const value = next(request);
    return value instanceof Promise ? value.then(succeeded, failed) : succeeded(value);
  } catch (error) {
    return failed(error);
  }
}

/** Digests of the last few sessions. */
const known = new Map<string, string>();
const mostKnown = 10_000;

/** A session as logs name it: its id is a secret of its client. */
export function sessionName(id: string): string {
  let name = known.get(id);
  if (name === undefined) {
    name = createHash('sha256').update(id).digest('hex').slice(0, 12);
    if (known.size >= mostKnown) known.clear();
    known.set(id, name);
  }
  return name;
}
