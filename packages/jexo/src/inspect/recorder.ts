import { JexoError } from '../errors.js';
import { maxDepth } from '../protocol/depth.js';
import { isSecretField } from '../protocol/secret-names.js';
import type { WireEvent } from '../transports/link.js';

/** One message on the trace. */
export interface WireEntry extends WireEvent {
  /** Counts up from 1; never reused within a bench. */
  readonly seq: number;
  /** The connection it passed on. */
  readonly connection: number;
  /** Why it is not what the protocol wants. */
  readonly wrong?: string;
}

/** Keeps the messages that passed. */
export interface Recorder {
  /** Keeps one message of a connection, with why it is wrong when it is. */
  record(connection: number, event: WireEvent, wrong?: string): void;
  /** Entries after `seq`, oldest first. */
  since(seq: number): readonly WireEntry[];
  /** Calls `task` for each new entry; returns how to stop. */
  subscribe(task: (entry: WireEntry) => void): () => void;
  /** The whole trace, or one connection's, as JSON lines. */
  toJsonLines(connection?: number): string;
}

/** Deeper than any message may be; what a stack can take many times over. */
const deepestShown = 2 * maxDepth;

/** Replaces the values of fields that hold secrets by their name. Unchanged parts are shared, not copied. */
export function maskSecrets(value: unknown, depth = 0): unknown {
  if (typeof value !== 'object' || value === null) return value;
  if (depth > deepestShown) return '(nested too deep to be shown)';
  if (Array.isArray(value)) {
    const masked = value.map((item) => maskSecrets(item, depth + 1));
    return masked.some((item, index) => item !== value[index]) ? masked : value;
  }
  let changed = false;
  const entries = Object.entries(value).map(([key, item]) => {
    const masked = isSecretField(key) && typeof item === 'string' ? '(masked)' : maskSecrets(item, depth + 1);
    changed ||= masked !== item;
    return [key, masked] as const;
  });
  return changed ? Object.fromEntries(entries) : value;
}

/** Keeps what passed, up to `limit` messages; the oldest go first. Secrets are masked before anything is kept. */
export function createRecorder(limit = 50_000): Recorder {
  let entries: WireEntry[] = [];
  let last = 0;
  const subscribers = new Set<(entry: WireEntry) => void>();
  return {
    record(connection, event, wrong) {
      const { http } = event;
      const entry: WireEntry = {
        ...event,
        ...(http && { http: maskSecrets(http) as NonNullable<WireEvent['http']> }),
        message: maskSecrets(event.message),
        seq: ++last,
        connection,
        ...(wrong !== undefined && { wrong }),
      };
      entries.push(entry);
      if (entries.length > limit + 1000) entries = entries.slice(-limit);
      for (const task of subscribers) task(entry);
    },
    since: (seq) => (entries.length === 0 || seq < entries[0]!.seq ? entries : entries.slice(seq - entries[0]!.seq + 1)),
    subscribe(task) {
      subscribers.add(task);
      return () => subscribers.delete(task);
    },
    toJsonLines: (connection) =>
      entries
        .filter((entry) => connection === undefined || entry.connection === connection)
        .map((entry) => `${JSON.stringify(entry)}\n`)
        .join(''),
  };
}

/**
 * Reads a trace or a wire log back; a line that is none is named.
 * @throws JexoError JEXO_USAGE
 */
export function readJsonLines(text: string): WireEvent[] {
  return text.split('\n').flatMap((line, index) => {
    if (line.trim() === '') return [];
    const refuse = (why: string) =>
      new JexoError('JEXO_USAGE', `Line ${index + 1} is not a line of a wire log: ${why}.`, {
        where: `line ${index + 1}`,
        next: 'Give a file that jexo wrote: with --wire-log, or saved from the trace.',
      });
    let value: Partial<WireEvent> | null;
    try {
      value = JSON.parse(line) as Partial<WireEvent> | null;
    } catch {
      throw refuse('it is not JSON');
    }
    if (typeof value !== 'object' || value === null || (value.way !== 'sent' && value.way !== 'received') || typeof value.at !== 'number')
      throw refuse('it says neither when nor which way');
    const { at, way, bytes, message, http, note } = value;
    return [{ at, way, bytes: bytes ?? JSON.stringify(message ?? '').length, message, ...(http && { http }), ...(note && { note }) }];
  });
}
