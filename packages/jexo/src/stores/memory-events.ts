import type { EventStore, KeptEvent } from '../engine/store.js';
import { byteLength } from '../protocol/byte-length.js';

/** How much is kept for clients that come back. */
export interface EventLimits {
  /** Events kept for each session, so that a lost connection can be resumed. Default 500. */
  readonly maxKeptEvents?: number;
  /** Bytes of events kept for each session. Default 1 MiB. */
  readonly maxKeptBytes?: number;
  /** Bytes of events kept for all sessions together; those of the least used go first. Default 256 MiB. */
  readonly maxKeptBytesInAll?: number;
}

/** Streams that have ended, remembered for those who missed their end. */
const maxEnded = 64;
/** When there is too much, room is made down to this share, so that not every event has to make it. */
const relieved = 0.8;

interface StreamMark {
  /** The highest number of an event that is no longer kept. */
  forgotten: number;
  last: number;
  isEnded: boolean;
}
interface SessionEvents {
  readonly events: KeptEvent[];
  readonly streams: Map<number, StreamMark>;
  bytes: number;
}

export function memoryEvents(limits: EventLimits): EventStore {
  const { maxKeptEvents = 500, maxKeptBytes = 1024 * 1024, maxKeptBytesInAll = 256 * 1024 * 1024 } = limits;
  /** The one that has been used last stands last. */
  const sessions = new Map<string, SessionEvents>();
  let total = 0;
  const sessionOf = (id: string): SessionEvents => {
    const known = sessions.get(id) ?? { events: [], streams: new Map(), bytes: 0 };
    sessions.delete(id);
    sessions.set(id, known);
    return known;
  };
  const streamOf = ({ streams }: SessionEvents, stream: number): StreamMark => {
    let mark = streams.get(stream);
    if (mark === undefined) streams.set(stream, (mark = { forgotten: 0, last: 0, isEnded: false }));
    return mark;
  };
  const forgetOldest = (session: SessionEvents) => {
    const { stream, seq, text } = session.events.shift()!;
    const bytes = byteLength(text);
    session.bytes -= bytes;
    total -= bytes;
    const mark = session.streams.get(stream);
    if (mark !== undefined) mark.forgotten = seq;
  };
  const relieve = () => {
    for (const session of sessions.values()) {
      while (session.events.length > 0 && total > maxKeptBytesInAll * relieved) forgetOldest(session);
      if (total <= maxKeptBytesInAll * relieved) return;
    }
  };
  return {
    begin: (id, stream) => void streamOf(sessionOf(id), stream),
    append(id, event) {
      const session = sessionOf(id);
      const bytes = byteLength(event.text);
      streamOf(session, event.stream).last = event.seq;
      session.events.push(event);
      session.bytes += bytes;
      total += bytes;
      while (session.events.length > 0 && (session.events.length > maxKeptEvents || session.bytes > maxKeptBytes)) forgetOldest(session);
      if (total > maxKeptBytesInAll) relieve();
    },
    end(id, stream) {
      const { streams } = sessionOf(id);
      streamOf(sessionOf(id), stream).isEnded = true;
      const ended = [...streams].filter(([, { isEnded }]) => isEnded);
      for (const [old] of ended.slice(0, Math.max(0, ended.length - maxEnded))) streams.delete(old);
    },
    since(id, stream, seq) {
      const session = sessions.get(id);
      const mark = session?.streams.get(stream);
      if (session === undefined || mark === undefined || seq < mark.forgotten || seq > mark.last) return undefined;
      return { events: session.events.filter((event) => event.stream === stream && event.seq > seq), isEnded: mark.isEnded };
    },
    forget(id) {
      const session = sessions.get(id);
      if (session === undefined) return;
      total -= session.bytes;
      sessions.delete(id);
    },
  };
}
