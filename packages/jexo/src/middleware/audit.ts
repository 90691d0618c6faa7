import { createHash } from 'node:crypto';
import { appendFileSync, closeSync, existsSync, fstatSync, openSync, readFileSync, readSync } from 'node:fs';
import { JexoError, messageOf } from '../errors.js';
import type { Middleware } from '../offers/middleware.js';
import { observed, sessionName, type Outcome } from './outcome.js';

/** One line of an audit: who called what, with which outcome. */
export interface AuditEntry {
  /** Counts from 1. */
  readonly number: number;
  /** When it was called. */
  readonly at: string;
  /** Who called, where `authenticate` has said so. */
  readonly caller?: string;
  /** The session it came in. */
  readonly session: string;
  /** `tool`, `resource`, `template` or `prompt`. */
  readonly kind: string;
  /** The name of what was called. */
  readonly offer: string;
  /** The input, where it is wanted. */
  readonly input?: unknown;
  /** How it ended. */
  readonly outcome: Outcome;
  /** The error, without the words of others. */
  readonly code?: string;
  /** How long it took, in milliseconds. */
  readonly ms: number;
  /** The hash of the line before. */
  readonly before: string;
  /** SHA-256 of this line without this field. */
  readonly hash: string;
}

/** What is written, and where. */
export interface AuditOptions {
  /** Writes inputs too. They may hold what nobody else should read. Default false. */
  readonly inputs?: boolean;
  /** Called when a line could not be written. The call goes on unless this throws. Default: the call fails. */
  readonly onFailed?: (error: Error) => void;
}

const first = '0'.repeat(64);

/**
 * Writes a line for every call: who, what, outcome, time. Each line holds the hash of the one before, so that a line that was changed
 * or removed shows; see `verifyAudit`. One process writes to one file.
 *
 * @param file JSON lines; it is made when it is not there, readable by its owner alone
 * @throws JexoError JEXO_DEFINITION for a file whose last line cannot be read
 * @example
 * defineServer({ …, middleware: [audit('calls.jsonl')] })
 */
export function audit(file: string, { inputs = false, onFailed }: AuditOptions = {}): Middleware {
  let last: { number: number; hash: string } | undefined;
  const write = (entry: Omit<AuditEntry, 'number' | 'before' | 'hash'>): void => {
    last ??= lastOf(file);
    const line = { number: last.number + 1, ...entry, before: last.hash };
    const hash = hashOf(line);
    appendFileSync(file, `${JSON.stringify({ ...line, hash })}\n`, { mode: 0o600 });
    last = { number: line.number, hash };
  };
  return (request, next) => {
    const { offer, input, call } = request;
    const at = new Date().toISOString();
    const { identity } = call.caller;
    return observed(request, next, (ended) => {
      try {
        write({
          at,
          ...(identity !== undefined && { caller: identity }),
          session: sessionName(call.session.id),
          kind: offer.kind,
          offer: offer.name,
          ...(inputs && { input }),
          ...ended,
        });
      } catch (error) {
        if (onFailed === undefined)
          throw new JexoError('JEXO_AUDIT', `The call could not be recorded: ${messageOf(error)}`, { where: file, cause: error });
        onFailed(error as Error);
      }
    });
  };
}

const hashOf = (line: object) => createHash('sha256').update(JSON.stringify(line)).digest('hex');

const mostLineBytes = 1024 * 1024;

function lastOf(file: string): { number: number; hash: string } {
  if (!existsSync(file)) return { number: 0, hash: first };
  const handle = openSync(file, 'r');
  try {
    const { size } = fstatSync(handle);
    const length = Math.min(size, mostLineBytes);
    const bytes = Buffer.alloc(length);
    readSync(handle, bytes, 0, length, size - length);
    const lines = bytes.toString('utf8').trimEnd().split('\n');
    const text = lines.at(-1) ?? '';
    if (text === '') return { number: 0, hash: first };
    const { number, hash } = JSON.parse(text) as AuditEntry;
    if (typeof number !== 'number' || typeof hash !== 'string') throw new Error('it is no line of an audit');
    return { number, hash };
  } catch (error) {
    throw new JexoError('JEXO_AUDIT', `The last line of ${file} cannot be read: ${messageOf(error)}.`, {
      where: file,
      next: 'Move the file away, and keep it: a process may have been killed while it wrote, or somebody has changed it.',
      cause: error,
    });
  } finally {
    closeSync(handle);
  }
}

/** What is wrong with an audit. */
export interface AuditFault {
  /** The line, from 1. */
  readonly line: number;
  /** What is wrong, without a full stop. */
  readonly why: string;
}

/**
 * Checks an audit: every line is whole, and follows the one before.
 * @returns the first fault; undefined when there is none
 */
export function verifyAudit(file: string): AuditFault | undefined {
  let [number, before] = [0, first];
  for (const [index, text] of readFileSync(file, 'utf8').split('\n').entries()) {
    if (text === '') continue;
    let entry: AuditEntry;
    try {
      entry = JSON.parse(text) as AuditEntry;
    } catch {
      return { line: index + 1, why: 'it is no JSON' };
    }
    const { hash, ...line } = entry;
    if (hash !== hashOf(line)) return { line: index + 1, why: 'it was changed' };
    if (line.before !== before || line.number !== number + 1)
      return { line: index + 1, why: `a line before it is missing (number ${line.number} follows ${number})` };
    [number, before] = [line.number, hash];
  }
  return undefined;
}
