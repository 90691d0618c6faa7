import type { Params, RequestId } from '../protocol/json-rpc.js';
import { since } from '../protocol/revisions.js';
import type { Peer } from './peer.js';

/** At most one progress notice per request in this many milliseconds (Base protocol, "Progress": both sides should limit the rate). */
const intervalMs = 50;

/**
 * The progress of one request or task. Values that do not grow are dropped (Base protocol, "Progress": the value MUST increase with
 * each notification), and bursts are thinned to the newest.
 */
export class ThinnedProgress {
  private last = Number.NEGATIVE_INFINITY;
  private sentAt = Number.NEGATIVE_INFINITY;
  private waiting: Params | undefined;
  private timer: unknown;

  constructor(
    private readonly peer: Peer,
    private readonly token: RequestId,
    private readonly send: (params: Params) => void,
  ) {}

  report(progress: number, total?: number, message?: string): void {
    if (!(progress > this.last)) return;
    this.last = progress;
    const params: Params = { progressToken: this.token, progress };
    if (total !== undefined) params.total = total;
    if (message !== undefined && since(this.peer.revision, '2025-03-26')) params.message = message;
    const wait = this.sentAt + intervalMs - this.peer.clock.now();
    if (wait <= 0) return this.go(params);
    this.waiting = params;
    this.timer ??= this.peer.clock.after(wait, () => {
      this.timer = undefined;
      if (this.waiting !== undefined) this.go(this.waiting);
    });
  }

  /** Nothing leaves after this. @param flush true sends what was held back first */
  end(flush: boolean): void {
    if (this.waiting !== undefined && flush) this.go(this.waiting);
    this.waiting = undefined;
    if (this.timer !== undefined) this.peer.clock.cancel(this.timer);
    this.timer = undefined;
  }

  private go(params: Params): void {
    this.waiting = undefined;
    this.sentAt = this.peer.clock.now();
    this.send(params);
  }
}
