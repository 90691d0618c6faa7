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
  /** Who called, where `auth` has said so. */
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

/** Where an audit is kept when it is no file: a table of a database, see `auditTable`. */
export interface AuditStore {
  /** For messages. */
  readonly name: string;
  /** The last entry; undefined when there is none. */
  last(): Promise<Pick<AuditEntry, 'number' | 'hash'> | undefined>;
  /** Keeps an entry. False when another process has kept one of this number meanwhile. */
  append(entry: AuditEntry): Promise<boolean>;
  /** All entries from a number on, in order; at most `count`. */
  read(from: number, count: number): Promise<readonly AuditEntry[]>;
}

/**
 * Writes a line for every call: who, what, outcome, time. Each line holds the hash of the one before, so that a line that was changed
 * or removed shows; see `verifyAudit`. One process writes to one file; several may share a table.
 *
 * @param to JSON lines, in a file that is made when it is not there, readable by its owner alone; or a store
 * @throws JexoError JEXO_DEFINITION for a file whose last line cannot be read
 * @example
 * defineServer({ …, middleware: [audit('calls.jsonl')] })
 * defineServer({ …, middleware: [audit(auditTable(env('AUDIT_DB')))] })
 */
export function audit(to: string | AuditStore, { inputs = false, onFailed }: AuditOptions = {}): Middleware {
  const write = typeof to === 'string' ? fileWriter(to) : storeWriter(to);
  return async (request, next) => {
    const { method, offer, input, call } = request;
    const at = new Date().toISOString();
    const { identity } = call.caller;
    const failed = (error: unknown) => {
      const where = typeof to === 'string' ? to : to.name;
      if (onFailed === undefined)
        throw new JexoError('JEXO_AUDIT', `The call could not be recorded: ${messageOf(error)}`, { where, cause: error });
      onFailed(error as Error);
    };
    return observed(request, next, async (ended) => {
      try {
        await write({
          at,
          ...(identity !== undefined && { caller: identity }),
          session: sessionName(call.session.id),
          ...(method === 'completion/complete' && { method }),
          kind: offer.kind,
          offer: offer.name,
          ...(inputs && { input }),
          ...ended,
        });
      } catch (error) {
        failed(error);
      }
    });
  };
}

type Unchained = Omit<AuditEntry, 'number' | 'before' | 'hash'>;
type Last = Pick<AuditEntry, 'number' | 'hash'>;

function chained(entry: Unchained, last: Last): AuditEntry {
  const line = { number: last.number + 1, ...entry, before: last.hash };
  return { ...line, hash: hashOf(line) };
}

function fileWriter(file: string): (entry: Unchained) => void {
  let last: Last | undefined;
  return (entry) => {
    const line = chained(entry, (last ??= lastOf(file)));
    appendFileSync(file, `${JSON.stringify(line)}\n`, { mode: 0o600 });
    last = line;
  };
}

/** Others may write between two of ours: then ours takes the next number. */
const mostTries = 20;

function storeWriter(store: AuditStore): (entry: Unchained) => Promise<void> {
  let last: Last | undefined;
  let line = Promise.resolve();
  const write = async (entry: Unchained) => {
    for (let tries = 0; tries < mostTries; tries++) {
      last ??= (await store.last()) ?? { number: 0, hash: first };
      const next = chained(entry, last);
      if (await store.append(next)) {
        last = next;
        return;
      }
      last = undefined;
    }
    throw new Error(`others were quicker ${mostTries} times`);
  };
  return (entry) => {
    // One after the other: each needs the hash of the one before.
    const mine = line.then(() => write(entry));
    line = mine.catch(() => void (last = undefined));
    return mine;
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
export function verifyAudit(file: string): AuditFault | undefined;
export function verifyAudit(store: AuditStore): Promise<AuditFault | undefined>;
export function verifyAudit(audited: string | AuditStore): AuditFault | undefined | Promise<AuditFault | undefined> {
  if (typeof audited !== 'string') return verifyStore(audited);
  let last: Last = { number: 0, hash: first };
  for (const [index, text] of readFileSync(audited, 'utf8').split('\n').entries()) {
    if (text === '') continue;
    let entry: AuditEntry;
    try {
      entry = JSON.parse(text) as AuditEntry;
    } catch {
      return { line: index + 1, why: 'it is no JSON' };
    }
    const why = faultOf(entry, last);
    if (why !== undefined) return { line: index + 1, why };
    last = entry;
  }
  return undefined;
}

const batch = 500;

async function verifyStore(store: AuditStore): Promise<AuditFault | undefined> {
  let last: Last = { number: 0, hash: first };
  for (;;) {
    const entries = await store.read(last.number + 1, batch);
    for (const entry of entries) {
      const why = faultOf(entry, last);
      if (why !== undefined) return { line: last.number + 1, why };
      last = entry;
    }
    if (entries.length === 0) return undefined;
  }
}

function faultOf(entry: AuditEntry, last: Last): string | undefined {
  const { hash, ...line } = entry;
  if (hash !== hashOf(line)) return 'it was changed';
  if (line.before !== last.hash || line.number !== last.number + 1)
    return `a line before it is missing (number ${line.number} follows ${last.number})`;
  return undefined;
}
