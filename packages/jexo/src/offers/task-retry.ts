import { TryAgain } from '../engine/task-entry.js';
import { messageOf } from '../errors.js';

/** When a task whose handler has thrown is run again. */
export interface TaskRetry {
  /** How often at most, after the first time. */
  readonly times: number;
  /** Milliseconds before the first repetition; each further wait is twice as long, up to a minute. Default 1,000. */
  readonly delayMs?: number;
  /** False for an error that no repetition helps against. Default: every error is worth one. */
  readonly when?: (error: unknown) => boolean;
}

const longestMs = 60_000;

/** @param throws how often the handler has thrown before @returns what ends this run, if there is to be another one */
export function nextTry(retry: TaskRetry | undefined, throws: number, error: unknown): TryAgain | undefined {
  if (retry === undefined || throws >= retry.times || retry.when?.(error) === false) return undefined;
  const inMs = Math.min((retry.delayMs ?? 1000) * 2 ** throws, longestMs);
  return new TryAgain(inMs, `${messageOf(error)} Trying again in ${inMs / 1000} s (${throws + 2} of ${retry.times + 1})`);
}
