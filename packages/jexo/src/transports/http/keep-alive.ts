import type { Clock } from '../../engine/clock.js';
import type { EventStream } from './http-types.js';

export interface KeepAlive {
  /** Streams that are open. */
  readonly size: number;
  add(sink: EventStream): void;
  stop(): void;
}

/** One timer for all open streams writes a comment now and then, which proxies take for life. @param ms 0 writes none */
export function createKeepAlive(clock: Clock, ms: number): KeepAlive {
  const sinks = new Set<EventStream>();
  let beating: unknown;
  const beat = () => {
    beating = undefined;
    for (const sink of sinks) if (sink.unread() === 0) sink.write(': still here\n\n');
    if (sinks.size > 0) beating = clock.after(ms, beat);
  };
  return {
    get size() {
      return sinks.size;
    },
    add(sink) {
      sinks.add(sink);
      sink.onClose(() => sinks.delete(sink));
      if (ms > 0) beating ??= clock.after(ms, beat);
    },
    stop() {
      if (beating !== undefined) clock.cancel(beating);
    },
  };
}
