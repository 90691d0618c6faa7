/** Time, handed in from outside: the engine keeps no timer of its own, so a test may drive it by hand. */
export interface Clock {
  /** Milliseconds; only differences mean something. */
  now(): number;
  /** Runs `task` once after `ms` milliseconds. `holds` keeps a process alive until then. */
  after(ms: number, task: () => void, holds?: boolean): unknown;
  /** Cancels what `after` has planned. */
  cancel(timer: unknown): void;
}

interface Unrefable {
  unref?(): void;
}

/** The clock of the runtime. Its timers keep a process alive only where that is asked for. */
export const systemClock: Clock = {
  now: () => performance.now(),
  after(ms, task, holds = false) {
    const timer = setTimeout(task, ms);
    if (!holds) (timer as Unrefable).unref?.();
    return timer;
  },
  cancel: (timer) => clearTimeout(timer as ReturnType<typeof setTimeout>),
};
