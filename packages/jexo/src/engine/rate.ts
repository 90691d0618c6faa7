import type { Clock } from './clock.js';

/** Lets through at most `most` in any `perMs` milliseconds. */
export class Rate {
  private started = Number.NEGATIVE_INFINITY;
  private count = 0;

  constructor(
    private readonly clock: Clock,
    private readonly most: number,
    private readonly perMs: number,
  ) {}

  /** True when one more may pass now. */
  take(): boolean {
    const now = this.clock.now();
    if (now - this.started >= this.perMs) {
      this.started = now;
      this.count = 0;
    }
    return ++this.count <= this.most;
  }

  /** Milliseconds until one more may pass. */
  wait(): number {
    return Math.max(0, this.started + this.perMs - this.clock.now());
  }
}
