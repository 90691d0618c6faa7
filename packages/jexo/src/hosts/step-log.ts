import { appendFileSync } from 'node:fs';
import type { Step } from '../conversation/steps.js';
import { messageOf } from '../errors.js';
import { isRecord } from '../protocol/is-record.js';
import { isSecretField } from '../protocol/secret-names.js';

/** Steps of a conversation on their way into a file. */
export interface StepLog {
  /** For `onStep` of `converse`. */
  readonly onStep: (step: Step) => void;
  /** Why the file could not be written; undefined while it could. */
  trouble(): string | undefined;
}

/**
 * Writes the steps of conversations into a file, a line of JSON each with the time: who asked for what, what was approved by whom, what was
 * called and what came of it. Values of fields that hold secrets by their name are masked. Parts of texts and progress are not written.
 * The file can be read by its owner alone. A full disk ends the log and not the conversation; `trouble` says so.
 *
 * @example
 * const log = stepLog('calls.jsonl');
 * await converse({ clients, request, onStep: log.onStep });
 */
export function stepLog(file: string): StepLog {
  let trouble: string | undefined;
  return {
    trouble: () => trouble,
    onStep(step) {
      if (step.kind === 'text' || step.kind === 'progress' || trouble !== undefined) return;
      try {
        appendFileSync(file, `${JSON.stringify({ time: new Date().toISOString(), ...(masked(step) as object) })}\n`, { mode: 0o600 });
      } catch (error) {
        trouble = `${file} cannot be written: ${messageOf(error)}`;
      }
    },
  };
}

function masked(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(masked);
  if (!isRecord(value)) return value;
  return Object.fromEntries(
    Object.entries(value).map(([key, each]) => [key, isSecretField(key) && typeof each === 'string' ? '(masked)' : masked(each)]),
  );
}
