/** Time, handed in from outside: the engine keeps no timer of its own, so a test may drive it by hand. */
export interface Clock {
  /** Milliseconds; only differences mean something. */
  now(): number;
  /** Runs `task` once after `ms` milliseconds. */
  after(ms: number, task: () => void): unknown;
  cancel(timer: unknown): void;
}

interface Unrefable {
  unref?(): void;
}

/** The clock of the runtime. Its timers never keep a process alive by themselves. */
export const systemClock: Clock = {
  now: () => performance.now(),
  after(ms, task) {
    const timer = setTimeout(task, ms);
    (timer as Unrefable).unref?.();
    return timer;
  },
  cancel: (timer) => clearTimeout(timer as ReturnType<typeof setTimeout>),
};
