import type { WireEvent } from '../transports/link.js';

/** One message on the trace. */
export interface WireEntry extends WireEvent {
  /** Counts up from 1; never reused within a bench. */
  readonly seq: number;
}

export interface Recorder {
  record(event: WireEvent): void;
  /** Entries after `seq`, oldest first. */
  since(seq: number): readonly WireEntry[];
  /** Calls `task` for each new entry; returns how to stop. */
  subscribe(task: (entry: WireEntry) => void): () => void;
  /** The whole trace as JSON lines. */
  toJsonLines(): string;
}

const secretKey =
  /^(authorization|proxy-authorization|cookie|set-cookie|x-api-key|mcp-session-id|api[-_]?key|access[-_]?token|refresh[-_]?token|client[-_]?secret|password|passwd|secret)$/i;

/** Replaces the values of fields that hold secrets by their name. Unchanged parts are shared, not copied. */
export function maskSecrets(value: unknown): unknown {
  if (typeof value !== 'object' || value === null) return value;
  if (Array.isArray(value)) {
    const masked = value.map(maskSecrets);
    return masked.some((item, index) => item !== value[index]) ? masked : value;
  }
  let changed = false;
  const entries = Object.entries(value).map(([key, item]) => {
    const masked = secretKey.test(key) && typeof item === 'string' ? '(masked)' : maskSecrets(item);
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
    record(event) {
      const entry: WireEntry = { ...event, message: maskSecrets(event.message), seq: ++last };
      entries.push(entry);
      if (entries.length > limit + 1000) entries = entries.slice(-limit);
      for (const task of subscribers) task(entry);
    },
    since: (seq) => (entries.length === 0 || seq < entries[0]!.seq ? entries : entries.slice(seq - entries[0]!.seq + 1)),
    subscribe(task) {
      subscribers.add(task);
      return () => subscribers.delete(task);
    },
    toJsonLines: () => entries.map((entry) => `${JSON.stringify(entry)}\n`).join(''),
  };
}
