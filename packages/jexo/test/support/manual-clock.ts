import type { Clock } from '../../src/engine/clock.js';

/** A clock that stands still until it is told to go on. */
export function manualClock(): Clock & { advance(ms: number): void; readonly pending: number } {
  let now = 0;
  let last = 0;
  const timers = new Map<number, { at: number; task: () => void }>();
  return {
    now: () => now,
    after(ms, task) {
      timers.set(++last, { at: now + ms, task });
      return last;
    },
    cancel: (timer) => void timers.delete(timer as number),
    get pending() {
      return timers.size;
    },
    advance(ms) {
      const until = now + ms;
      for (;;) {
        const [next] = [...timers].filter(([, { at }]) => at <= until).sort(([, a], [, b]) => a.at - b.at);
        if (next === undefined) break;
        timers.delete(next[0]);
        now = next[1].at;
        next[1].task();
      }
      now = until;
    },
  };
}
