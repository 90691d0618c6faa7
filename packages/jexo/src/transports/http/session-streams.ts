import type { Clock } from '../../engine/clock.js';
import {
  after,
  type Bus,
  type EventStore,
  type KeptEvent,
  type MaybePromise,
  type Processes,
  type StreamHolder,
  type StreamRest,
} from '../../engine/store.js';
import { encode } from '../../protocol/json-rpc.js';
import { byteLength } from '../../protocol/byte-length.js';
import type { EventStream } from './http-types.js';
import { answersIn, lost } from './lost-answers.js';

export interface StreamLimits {
  /** Bytes of unasked-for messages that wait for a client that has no stream open. Default 1 MiB. */
  readonly maxKeptBytes?: number;
  /** Bytes a connection may leave unread before it is cut; the client can resume it. Default 1 MiB. */
  readonly maxUnreadBytes?: number;
  /** Milliseconds between comments that keep idle streams alive through proxies. Default 15,000; 0 sends none. */
  readonly keepAliveMs?: number;
  /** Milliseconds after which a stream's connection is closed for the client to poll again (2025-11-25). Default: never. */
  readonly closeStreamsAfterMs?: number;
  /** Milliseconds a client should wait before it comes back. Default 1,000. */
  readonly retryMs?: number;
}

export interface StreamParts {
  readonly events: EventStore;
  /** What carries events to the process that holds a stream's connection; undefined where one process holds them all. */
  readonly bus: Bus | undefined;
  /** This process, as it is known to the others. */
  readonly self?: string | undefined;
  readonly processes?: Processes | undefined;
  readonly limits: StreamLimits;
  readonly clock: Clock;
  readonly onOpen: (sink: EventStream) => void;
  readonly onFault: (error: unknown) => void;
}

/** Messages kept for a client that has no standing stream open. */
const maxWaiting = 256;
const defaultKeptBytes = 1024 * 1024;
/** Streams that have ended, remembered for those who missed their end. */
const maxEnded = 64;
/** Where several processes open streams of one session, their numbers are drawn from so many. */
const streamNumbers = 999_999_999;

interface Stream {
  readonly number: number;
  readonly primed: boolean;
  /** Ids of the requests that it answers. */
  readonly requests: readonly (string | number)[];
  /** True when another process writes it, and only its connection is here. */
  isForeign: boolean;
  /** The number that whoever reads it here had before. */
  from: number;
  seq: number;
  sink: EventStream | undefined;
  ended: boolean;
  /** What waits until the stream is known to others; undefined when nothing does. */
  held: string[] | undefined;
  /** True when it has been closed meanwhile. */
  closesWhenReleased?: true;
  /** Events written while what was missed is fetched. */
  catching: { readonly seq: number; readonly text: string }[] | undefined;
  stop: (() => void) | undefined;
}

/** One stream as its sender sees it. */
export interface OutStream {
  write(message: string): void;
  end(): void;
}

/** How often it is asked whether the process that writes a stream still lives. */
const holderCheckMs = 2000;

/** What passes on the bus about a stream: an event, or its end. */
type StreamNews = { readonly seq: number; readonly text: string } | { readonly end: true };

/**
 * The event streams of one session: numbered events, kept for a while, so that a client whose connection was cut gets
 * what it missed, of that stream alone (Transports, "Resumability and Redelivery").
 */
export class SessionStreams {
  private last = 0;
  private streams: Map<number, Stream> | undefined;
  private standing: Stream | undefined;
  private standingStop: (() => void) | undefined;
  private waiting: string[] | undefined;
  private waitingBytes = 0;
  private stopWaiting: (() => void) | undefined;

  /** @param parts what all sessions share */
  constructor(
    private readonly session: string,
    private readonly parts: StreamParts,
  ) {}

  /** True while a connection for unasked-for messages is open. */
  get listening(): boolean {
    return this.standing?.sink !== undefined;
  }

  /** Opens a stream. `primed` sends an event without data first, so that even an early cut can be resumed (2025-11-25). */
  open(sink: EventStream, primed: boolean, requests: readonly (string | number)[] = []): OutStream {
    const stream = this.begin(sink, primed, requests);
    return { write: (message) => this.write(stream, message), end: () => this.end(stream) };
  }

  /** Opens the stream for messages that belong to no request; the newest one gets them. */
  listen(sink: EventStream, primed: boolean): void {
    const before = this.standing;
    this.standing = this.begin(sink, primed, []);
    if (before !== undefined) this.end(before);
    this.becomeListener();
    this.deliverWaiting();
  }

  /** Takes up the stream an event id names; false when it is not known or too much of it has been forgotten. */
  resume(lastEventId: string, connect: () => EventStream): MaybePromise<boolean> {
    const found = /^(\d{1,9})\.(\d{1,9})$/.exec(lastEventId);
    if (found === null) return false;
    const [number, seq] = [Number(found[1]), Number(found[2])];
    const stream = this.streams?.get(number) ?? this.foreign(number);
    if (stream === undefined) return false;
    const catching: NonNullable<Stream['catching']> = [];
    stream.catching = catching;
    stream.from = seq;
    if (stream.isForeign) stream.seq = seq;
    return after(this.parts.events.since(this.session, number, seq), (rest) => {
      stream.catching = undefined;
      if (rest === undefined) {
        if (stream.isForeign) this.drop(stream);
        return false;
      }
      return after(this.adopted(stream, rest), (whole) => {
        this.reconnect(stream, connect(), whole, catching);
        return true;
      });
    });
  }

  /** Sends a message that belongs to no request, or keeps it until somebody listens. */
  send(message: string): void {
    if (this.standing?.sink !== undefined) return this.write(this.standing, message);
    const { session } = this;
    const { bus } = this.parts;
    if (bus === undefined) return this.wait(message);
    this.guard(after(bus.publish(unaskedTopic(session), message), (reached) => (reached === 0 ? this.wait(message) : undefined)));
  }

  /** Ends what this process has not answered and will not: whoever waits for it is told so, and may call again. */
  loseAll(): void {
    for (const stream of this.streams?.values() ?? []) {
      if (stream.ended || stream.isForeign || stream.requests.length === 0) continue;
      for (const id of stream.requests) this.write(stream, encode(lost(id)));
      this.end(stream);
    }
  }

  /** @param forget true when the session is over, and not only leaves this process */
  closeAll(forget: boolean): void {
    const { retryMs = 1000 } = this.parts.limits;
    for (const stream of this.streams?.values() ?? []) {
      // Whoever reads it comes back: to another process, or to begin a new session.
      if (!stream.ended) stream.sink?.write(`retry: ${retryMs}\n\n`);
      this.close(stream);
      stream.stop?.();
    }
    this.standingStop?.();
    this.stopWaiting?.();
    this.streams = undefined;
    this.waiting = undefined;
    if (forget) this.guard(this.parts.events.forget(this.session));
  }

  private begin(sink: EventStream, primed: boolean, requests: readonly (string | number)[]): Stream {
    const { session } = this;
    const { bus, events, self } = this.parts;
    const number = bus === undefined ? ++this.last : 1 + Math.floor(Math.random() * streamNumbers);
    const stream: Stream = {
      number,
      primed,
      requests,
      isForeign: false,
      from: 0,
      seq: 0,
      sink: undefined,
      ended: false,
      held: undefined,
      catching: undefined,
      stop: undefined,
    };
    (this.streams ??= new Map()).set(number, stream);
    const begun = events.begin(session, number, self === undefined ? undefined : { process: self, requests });
    if (begun instanceof Promise) {
      // A client that knows the stream may ask another process for the rest of it: that one has to know it too.
      stream.held = [];
      const release = () => this.release(stream);
      begun.catch(this.parts.onFault).then(release, release);
    }
    this.attach(stream, sink);
    if (primed) this.push(stream, `id: ${number}.0\ndata: \n\n`);
    return stream;
  }

  /** A stream that another process writes; undefined where there is no other. */
  private foreign(number: number): Stream | undefined {
    const { session } = this;
    const { bus } = this.parts;
    if (bus === undefined) return undefined;
    const stream: Stream = {
      number,
      primed: true,
      requests: [],
      isForeign: true,
      from: 0,
      seq: 0,
      sink: undefined,
      ended: false,
      held: undefined,
      catching: undefined,
      stop: undefined,
    };
    (this.streams ??= new Map()).set(number, stream);
    // Before what was missed is fetched, so that nothing falls in between.
    stream.stop = bus.subscribe(streamTopic(session, number), (text) => {
      const news = JSON.parse(text) as StreamNews;
      if ('end' in news) return this.endForeign(stream);
      if (stream.catching !== undefined) stream.catching.push(news);
      else if (news.seq > stream.seq) {
        stream.seq = news.seq;
        this.push(stream, news.text);
      }
    });
    const stopGaps = bus.onGap?.(() => stream.isForeign && this.close(stream)); // the client comes back for what it missed
    const { stop } = stream;
    stream.stop = () => {
      stop();
      stopGaps?.();
    };
    return stream;
  }

  private endForeign(stream: Stream): void {
    stream.ended = true;
    if (stream.catching === undefined) this.drop(stream);
  }

  /**
   * A stream whose process has died is ended here, with an error for each request that was not answered. One for unasked-for messages goes on here,
   * wherever it was before.
   */
  private adopted(stream: Stream, rest: StreamRest): MaybePromise<StreamRest> {
    const { self, processes, events } = this.parts;
    const { holder } = rest;
    if (self === undefined || holder === undefined || rest.isEnded || !stream.isForeign || events.takeOver === undefined) return rest;
    const { session } = this;
    if (holder.requests.length === 0)
      return after(events.takeOver(session, stream.number, holder.process, self), (isOurs) => {
        if (!isOurs) return rest;
        this.becomeOwn(stream, rest);
        const before = this.standing;
        this.standing = stream;
        if (before !== undefined && before !== stream) this.end(before);
        return rest;
      });
    // What this process itself wrote, and knows nothing of any more, has ended with its session here.
    return after(holder.process === self ? false : (processes?.isAlive(holder.process) ?? true), (isAlive) => {
      if (isAlive) {
        this.watchHolder(stream);
        return rest;
      }
      return this.endForDead(stream, rest, holder);
    });
  }

  /** Ends a stream in the place of the process that has died; one process does it, the others hear of it. */
  private endForDead(stream: Stream, rest: StreamRest, holder: StreamHolder): MaybePromise<StreamRest> {
    const { session } = this;
    const { events, self } = this.parts;
    return after(events.takeOver!(session, stream.number, holder.process, self!), (isOurs) => {
      if (!isOurs) return rest;
      const answered = new Set(rest.events.flatMap(({ text }) => answersIn(text)));
      this.becomeOwn(stream, rest);
      const more = holder.requests
        .filter((id) => !answered.has(id))
        .map((id): KeptEvent => {
          const seq = ++stream.seq;
          const text = `id: ${stream.number}.${seq}\nevent: message\ndata: ${encode(lost(id))}\n\n`;
          const event = { stream: stream.number, seq, text };
          this.guard(events.append(session, event));
          return event;
        });
      this.guard(events.end(session, stream.number));
      return { events: [...rest.events, ...more], isEnded: true };
    });
  }

  private becomeOwn(stream: Stream, { events }: StreamRest): void {
    stream.isForeign = false;
    stream.stop?.();
    stream.stop = undefined;
    stream.seq = Math.max(stream.seq, events.at(-1)?.seq ?? stream.from);
  }

  /** A process that dies while its stream is read here is noticed. */
  private watchHolder(stream: Stream): void {
    const { clock, processes, events } = this.parts;
    clock.after(holderCheckMs, () => {
      const { sink } = stream;
      if (sink === undefined || stream.ended || !stream.isForeign) return;
      const deliver = ({ events: missed, isEnded }: StreamRest) => {
        for (const { seq, text } of missed) {
          if (seq <= stream.seq && stream.isForeign) continue; // it came over the bus meanwhile
          stream.seq = Math.max(stream.seq, seq);
          this.push(stream, text);
        }
        if (isEnded) this.drop(stream);
        else this.watchHolder(stream);
      };
      const look = after(events.since(this.session, stream.number, stream.seq), (rest) => {
        if (rest === undefined) return this.drop(stream);
        const { holder } = rest;
        if (holder === undefined || rest.isEnded) return deliver(rest);
        return after(processes!.isAlive(holder.process), (isAlive) => {
          if (isAlive) return deliver(rest);
          return after(this.endForDead(stream, rest, holder), (whole) => {
            // What was missed is older than what ends it, whoever has ended it.
            stream.isForeign = true;
            deliver(whole);
          });
        });
      });
      if (look instanceof Promise)
        look.catch((error: unknown) => {
          this.parts.onFault(error);
          this.watchHolder(stream);
        });
    });
  }

  private reconnect(stream: Stream, sink: EventStream, { events, isEnded }: StreamRest, catching: NonNullable<Stream['catching']>): void {
    stream.sink?.abort();
    this.attach(stream, sink);
    let latest = 0;
    for (const { seq, text } of [...events, ...catching]) {
      if (seq <= latest) continue;
      latest = seq;
      if (stream.isForeign) stream.seq = Math.max(stream.seq, seq);
      this.push(stream, text);
    }
    if (stream.ended || isEnded) {
      if (stream.isForeign) this.drop(stream);
      else this.close(stream);
    } else if (stream === this.standing) {
      this.becomeListener();
      this.deliverWaiting();
    }
  }

  private attach(stream: Stream, sink: EventStream): void {
    stream.sink = sink;
    sink.onClose(() => {
      if (stream.sink === sink) stream.sink = undefined;
      if (stream === this.standing) this.standingStop?.();
    });
    this.parts.onOpen(sink);
    const { closeStreamsAfterMs, retryMs = 1000 } = this.parts.limits;
    if (closeStreamsAfterMs === undefined || !stream.primed) return; // older clients would not come back
    this.parts.clock.after(closeStreamsAfterMs, () => {
      if (stream.sink !== sink) return;
      // The connection is closed, not the stream: the client comes back for the rest.
      sink.write(`retry: ${retryMs}\n\n`);
      this.close(stream);
    });
  }

  private write(stream: Stream, message: string): void {
    if (stream.ended) return;
    const { session } = this;
    const { events, bus } = this.parts;
    const seq = ++stream.seq;
    const text = `id: ${stream.number}.${seq}\nevent: message\ndata: ${message}\n\n`;
    const kept = events.append(session, { stream: stream.number, seq, text });
    stream.catching?.push({ seq, text });
    if (stream.sink !== undefined && stream.catching === undefined) {
      this.guard(kept);
      return this.push(stream, text);
    }
    // The connection may be with another process by now.
    this.guard(
      bus === undefined ? kept : after(kept, () => bus.publish(streamTopic(session, stream.number), JSON.stringify({ seq, text }))),
    );
  }

  private push(stream: Stream, text: string): void {
    if (stream.held !== undefined) return void stream.held.push(text);
    const { sink } = stream;
    if (sink === undefined) return;
    sink.write(text);
    // A client that does not read must not grow our memory.
    if (sink.unread() > (this.parts.limits.maxUnreadBytes ?? 1024 * 1024)) {
      stream.sink = undefined;
      sink.abort();
    }
  }

  private release(stream: Stream): void {
    const { held = [] } = stream;
    stream.held = undefined;
    for (const text of held) this.push(stream, text);
    if (stream.closesWhenReleased) this.close(stream);
  }

  private wait(message: string): void {
    const { session } = this;
    const { bus, limits } = this.parts;
    const waiting = (this.waiting ??= []);
    waiting.push(message);
    this.waitingBytes += byteLength(message);
    while (waiting.length > maxWaiting || (this.waitingBytes > (limits.maxKeptBytes ?? defaultKeptBytes) && waiting.length > 1))
      this.waitingBytes -= byteLength(waiting.shift()!);
    // Another process says when it has opened the standing stream.
    this.stopWaiting ??= bus?.subscribe(standingTopic(session), () => this.deliverWaiting());
  }

  private deliverWaiting(): void {
    const waiting = this.waiting ?? [];
    this.waiting = undefined;
    this.waitingBytes = 0;
    for (const message of waiting) this.send(message);
  }

  /** This process has the standing stream: what others have for it comes here. */
  private becomeListener(): void {
    const { session } = this;
    const { bus } = this.parts;
    if (bus === undefined) return;
    this.standingStop?.();
    const stop = bus.subscribe(unaskedTopic(session), (message) => this.standing?.sink !== undefined && this.write(this.standing, message));
    this.standingStop = () => {
      stop();
      this.standingStop = undefined;
    };
    this.guard(bus.publish(standingTopic(session), ''));
  }

  private end(stream: Stream): void {
    if (stream.ended) return;
    const { session } = this;
    const { events, bus } = this.parts;
    stream.ended = true;
    const noted = events.end(session, stream.number);
    this.guard(bus === undefined ? noted : after(noted, () => bus.publish(streamTopic(session, stream.number), '{"end":true}')));
    this.close(stream);
    const ended = [...this.streams!.values()].filter((each) => each.ended);
    for (const old of ended.slice(0, Math.max(0, ended.length - maxEnded))) this.streams!.delete(old.number);
  }

  private drop(stream: Stream): void {
    stream.stop?.();
    this.close(stream);
    this.streams?.delete(stream.number);
  }

  private close(stream: Stream): void {
    if (stream.held !== undefined) {
      stream.closesWhenReleased = true;
      return;
    }
    const { sink } = stream;
    stream.sink = undefined;
    sink?.end();
  }

  /** A store that fails is a fault of the operator's; what can be sent is sent. */
  private guard(work: MaybePromise<unknown>): void {
    if (work instanceof Promise) work.catch(this.parts.onFault);
  }
}

/** Topics of the bus: the events of one stream, unasked-for messages, and that a standing stream has been opened. */
const streamTopic = (session: string, number: number) => `stream ${session} ${number}`;
const unaskedTopic = (session: string) => `unasked ${session}`;
const standingTopic = (session: string) => `standing ${session}`;
