import type { Clock } from '../../engine/clock.js';
import type { EventStream } from './endpoint.js';

export interface StreamLimits {
  /** Events kept for each session, so that a lost connection can be taken up again. Default 500. */
  readonly maxKeptEvents?: number;
  /** Bytes of events kept for each session. Default 1 MiB. */
  readonly maxKeptBytes?: number;
  /** Bytes a connection may leave unread before it is cut; the client can take it up again. Default 1 MiB. */
  readonly maxUnreadBytes?: number;
  /** Milliseconds between comments that keep idle streams alive through proxies. Default 15,000; 0 sends none. */
  readonly keepAliveMs?: number;
  /** Milliseconds after which a stream's connection is closed for the client to poll again (2025-11-25). Default: never. */
  readonly closeStreamsAfterMs?: number;
  /** Milliseconds a client should wait before it comes back. Default 1,000. */
  readonly retryMs?: number;
}

/** Bytes of events kept for all sessions together. */
export interface KeptBudget {
  bytes: number;
  readonly most: number;
  /** Makes room, by forgetting what is needed least. */
  relieve(): void;
}

/** Messages kept for a client that has no standing stream open. */
const maxWaiting = 256;
const defaultKeptBytes = 1024 * 1024;
/** Streams that have ended, remembered for those who missed their end. */
const maxEnded = 64;

interface Kept {
  readonly stream: number;
  readonly seq: number;
  readonly text: string;
}

interface Stream {
  readonly number: number;
  readonly primed: boolean;
  seq: number;
  /** The highest number of an event that is no longer kept. */
  forgotten: number;
  sink: EventStream | undefined;
  ended: boolean;
}

/** One stream as its sender sees it. */
export interface OutStream {
  write(message: string): void;
  end(): void;
}

/**
 * The event streams of one session: numbered events, kept for a while, so that a client whose connection was cut gets
 * what it missed, of that stream alone (Transports, "Resumability and Redelivery").
 */
export class SessionStreams {
  private last = 0;
  private streams: Map<number, Stream> | undefined;
  private kept: Kept[] = [];
  private keptBytes = 0;
  private standing: Stream | undefined;
  private waiting: string[] | undefined;
  private waitingBytes = 0;

  constructor(
    private readonly limits: StreamLimits,
    private readonly clock: Clock,
    private readonly onOpen: (sink: EventStream) => void,
    private readonly budget: KeptBudget = { bytes: 0, most: Infinity, relieve: () => undefined },
  ) {}

  /** True while a connection for unasked-for messages is open. */
  get listening(): boolean {
    return this.standing?.sink !== undefined;
  }

  /** Opens a stream. `primed` sends an event without data first, so that even an early cut can be taken up (2025-11-25). */
  open(sink: EventStream, primed: boolean): OutStream {
    const stream: Stream = { number: ++this.last, primed, seq: 0, forgotten: 0, sink: undefined, ended: false };
    (this.streams ??= new Map()).set(stream.number, stream);
    this.attach(stream, sink);
    if (primed) this.push(stream, `id: ${stream.number}.0\ndata: \n\n`);
    return { write: (message) => this.write(stream, message), end: () => this.end(stream) };
  }

  /** Opens the stream for messages that belong to no request; the newest one gets them. */
  listen(sink: EventStream, primed: boolean): void {
    const before = this.standing;
    this.open(sink, primed);
    this.standing = this.streams!.get(this.last)!;
    if (before !== undefined) this.end(before);
    this.deliverWaiting();
  }

  /** Takes up the stream an event id names; false when it is not known or too much of it has been forgotten. */
  resume(lastEventId: string, connect: () => EventStream): boolean {
    const found = /^(\d{1,9})\.(\d{1,9})$/.exec(lastEventId);
    const stream = found === null ? undefined : this.streams?.get(Number(found[1]));
    const seq = Number(found?.[2]);
    if (stream === undefined || seq < stream.forgotten || seq > stream.seq) return false;
    const missed = this.kept.filter((event) => event.stream === stream.number && event.seq > seq);
    stream.sink?.abort();
    this.attach(stream, connect());
    for (const { text } of missed) this.push(stream, text);
    if (stream.ended) this.close(stream);
    else if (stream === this.standing) this.deliverWaiting();
    return true;
  }

  /** Sends a message that belongs to no request, or keeps it until somebody listens. */
  send(message: string): void {
    if (this.standing?.sink !== undefined) return this.write(this.standing, message);
    const waiting = (this.waiting ??= []);
    waiting.push(message);
    this.waitingBytes += message.length;
    while (waiting.length > maxWaiting || (this.waitingBytes > (this.limits.maxKeptBytes ?? defaultKeptBytes) && waiting.length > 1))
      this.waitingBytes -= waiting.shift()!.length;
  }

  closeAll(): void {
    for (const stream of this.streams?.values() ?? []) this.close(stream);
    this.forgetKept();
    this.streams = undefined;
    this.waiting = undefined;
  }

  private attach(stream: Stream, sink: EventStream): void {
    stream.sink = sink;
    sink.onClose(() => {
      if (stream.sink === sink) stream.sink = undefined;
    });
    this.onOpen(sink);
    const { closeStreamsAfterMs, retryMs = 1000 } = this.limits;
    if (closeStreamsAfterMs === undefined || !stream.primed) return; // older clients would not come back
    this.clock.after(closeStreamsAfterMs, () => {
      if (stream.sink !== sink) return;
      // The connection is closed, not the stream: the client comes back for the rest.
      sink.write(`retry: ${retryMs}\n\n`);
      this.close(stream);
    });
  }

  private write(stream: Stream, message: string): void {
    const seq = ++stream.seq;
    const text = `id: ${stream.number}.${seq}\nevent: message\ndata: ${message}\n\n`;
    this.keep({ stream: stream.number, seq, text });
    this.push(stream, text);
  }

  private push(stream: Stream, text: string): void {
    const { sink } = stream;
    if (sink === undefined) return;
    sink.write(text);
    // A client that does not read must not grow our memory.
    if (sink.unread() > (this.limits.maxUnreadBytes ?? 1024 * 1024)) {
      stream.sink = undefined;
      sink.abort();
    }
  }

  private keep(event: Kept): void {
    const { maxKeptEvents = 500, maxKeptBytes = defaultKeptBytes } = this.limits;
    this.kept.push(event);
    this.keptBytes += event.text.length;
    this.budget.bytes += event.text.length;
    while (this.kept.length > maxKeptEvents || (this.keptBytes > maxKeptBytes && this.kept.length > 0)) this.forgetOldest();
    if (this.budget.bytes > this.budget.most) this.budget.relieve();
  }

  /** Forgets what was kept for connections that are lost; open ones go on. */
  forgetKept(): void {
    while (this.kept.length > 0) this.forgetOldest();
  }

  private forgetOldest(): void {
    const oldest = this.kept.shift()!;
    this.keptBytes -= oldest.text.length;
    this.budget.bytes -= oldest.text.length;
    const stream = this.streams?.get(oldest.stream);
    if (stream !== undefined) stream.forgotten = oldest.seq;
  }

  private deliverWaiting(): void {
    const waiting = this.waiting ?? [];
    this.waiting = undefined;
    this.waitingBytes = 0;
    for (const message of waiting) this.send(message);
  }

  private end(stream: Stream): void {
    stream.ended = true;
    this.close(stream);
    const ended = [...this.streams!.values()].filter((each) => each.ended);
    for (const old of ended.slice(0, Math.max(0, ended.length - maxEnded))) this.streams!.delete(old.number);
  }

  private close(stream: Stream): void {
    const { sink } = stream;
    stream.sink = undefined;
    sink?.end();
  }
}
