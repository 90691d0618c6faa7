import type { WireEntry } from './model';

export type Lane = 'sent' | 'back' | 'asked' | 'view';
export interface TraceRow {
  readonly entry: WireEntry;
  readonly lane: Lane;
  readonly title: string;
  readonly failed: boolean;
  /** For an answer: milliseconds since its request, and the request's number. */
  readonly took?: number;
  readonly tiedTo?: number;
}

interface Envelope {
  readonly id?: string | number;
  readonly method?: string;
  readonly result?: { readonly isError?: boolean };
  readonly error?: { readonly message?: string };
  readonly params?: { readonly name?: string; readonly uri?: string };
}

/** Messages kept in the page. */
const most = 60_000;

/** Every message in its lane, answers tied to their requests. Rows are made once, as messages come. */
export class TraceBook {
  rows: TraceRow[] = [];
  longest = 1;
  private readonly open = new Map<string, { readonly entry: WireEntry; readonly subject: string }>();
  private readonly texts = new WeakMap<TraceRow, string>();

  add(entries: readonly WireEntry[]): void {
    for (const entry of entries) this.rows.push(this.read(entry));
    if (this.rows.length > most + 1000) this.rows = this.rows.slice(-most);
    else this.rows = [...this.rows]; // a new list, so that views see that it has changed
  }

  /** What a search looks through; made on the first search. */
  textOf(row: TraceRow): string {
    let text = this.texts.get(row);
    if (text === undefined)
      this.texts.set(row, (text = `${row.title} ${JSON.stringify(row.entry.message) ?? ''} ${row.entry.note ?? ''}`.toLowerCase()));
    return text;
  }

  private read(entry: WireEntry): TraceRow {
    const message = (typeof entry.message === 'object' && entry.message !== null ? entry.message : {}) as Envelope;
    const isView = entry.note === 'view';
    // Views number their messages by themselves; other notes say how a message travelled.
    const key = (way: string) => `${entry.connection} ${isView ? 'view' : ''} ${way} ${typeof message.id} ${String(message.id)}`;
    if (message.method !== undefined) {
      // A notification asks for nothing: it came back like an answer.
      const lane = isView ? 'view' : entry.way === 'sent' ? 'sent' : message.id === undefined ? 'back' : 'asked';
      const about = message.params?.name ?? message.params?.uri;
      if (message.id !== undefined) this.open.set(key(entry.way), { entry, subject: about ?? message.method });
      return { entry, lane, title: about === undefined ? message.method : `${message.method} ${about}`, failed: false };
    }
    const back = entry.way === 'received';
    const request = this.open.get(key(back ? 'sent' : 'received'));
    const took = request && entry.at - request.entry.at;
    if (took !== undefined) this.longest = Math.max(this.longest, took);
    return {
      entry,
      lane: isView ? 'view' : back ? 'back' : 'sent',
      title: titleOf(entry, message, request?.subject),
      failed: message.error !== undefined || message.result?.isError === true || (isSignIn(entry.note) && (entry.http?.status ?? 0) >= 400),
      ...(request && took !== undefined && { took, tiedTo: request.entry.seq }),
    };
  }
}

/** True for a step of a sign-in, which is no message of the protocol. */
export const isSignIn = (note: string | undefined): boolean => note?.startsWith('sign-in: ') ?? false;

function titleOf({ message, http, note }: WireEntry, { error }: Envelope, subject: string | undefined): string {
  if (error !== undefined) return `error: ${error.message ?? ''}`;
  if (subject !== undefined) return `answer: ${subject}`;
  if (isSignIn(note)) return note!.split('\n')[0]!;
  if (typeof message === 'string') return message === '' ? '(nothing)' : message;
  if (message === undefined && http !== undefined)
    return http.method === undefined ? `HTTP ${http.status ?? ''}` : `${http.method} (no body)`;
  return note === 'view' ? 'answer' : (note ?? 'answer');
}
