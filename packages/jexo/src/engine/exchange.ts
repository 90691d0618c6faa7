import type { JsonRpcMessage, Params, RequestId } from '../protocol/json-rpc.js';
import { since } from '../protocol/revisions.js';
import type { Peer, RequestOptions } from './peer.js';

/** Where a message leaves: one line of stdio, one HTTP answer, one half of a pair in memory. */
export interface Channel {
  send(message: JsonRpcMessage | readonly JsonRpcMessage[]): void;
  /** Told that the request will have no answer, because it was cancelled: nothing more needs to be kept open for it. */
  dropped?(id: RequestId): void;
}

/** At most one progress notice per request in this many milliseconds (Base protocol, "Progress": both sides should limit the rate). */
const progressIntervalMs = 50;

/**
 * One request of the other side while it is being answered. What is sent through it belongs to that request, so a
 * transport can put it on the same stream (Transports, "Sending Messages to the Server").
 */
export class Exchange {
  private controller: AbortController | undefined;
  private cancelReason: string | undefined;
  private lastProgress = Number.NEGATIVE_INFINITY;
  private lastSentAt = Number.NEGATIVE_INFINITY;
  private waiting: Params | undefined;
  private timer: unknown;
  finished = false;

  constructor(
    readonly peer: Peer,
    readonly id: RequestId,
    readonly method: string,
    readonly params: Params,
    readonly channel: Channel,
  ) {}

  /** Fires when the other side cancels the request or the connection ends. Made on first use: most calls never look. */
  get signal(): AbortSignal {
    if (this.controller === undefined) {
      this.controller = new AbortController();
      if (this.cancelReason !== undefined) this.controller.abort(new DOMException(this.cancelReason, 'AbortError'));
    }
    return this.controller.signal;
  }

  get cancelled(): boolean {
    return this.cancelReason !== undefined;
  }

  cancel(reason: string): void {
    if (this.cancelReason !== undefined) return;
    this.cancelReason = reason;
    this.finish();
    this.controller?.abort(new DOMException(reason, 'AbortError'));
    this.channel.dropped?.(this.id);
  }

  /** Ends the exchange: a held-back progress notice leaves first, none after. */
  finish(): void {
    if (this.finished) return;
    if (this.waiting !== undefined && !this.cancelled) this.sendProgress(this.waiting);
    this.waiting = undefined;
    this.finished = true;
    if (this.timer !== undefined) this.peer.clock.cancel(this.timer);
  }

  notify(method: string, params?: Params): void {
    if (!this.finished) this.peer.notify(method, params, this.channel);
  }

  request(method: string, params: Params | undefined, options: RequestOptions = {}): Promise<Params> {
    return this.peer.request(method, params, { signal: this.signal, ...options, channel: this.channel });
  }

  get wantsProgress(): boolean {
    return this.progressToken !== undefined;
  }

  private get progressToken(): RequestId | undefined {
    return this.params._meta?.progressToken;
  }

  /**
   * Reports progress if the other side asked for it. Values that do not grow are dropped (Base protocol, "Progress":
   * the value MUST increase with each notification), and bursts are thinned to the newest.
   */
  progress(progress: number, total?: number, message?: string): void {
    const progressToken = this.progressToken;
    if (progressToken === undefined || this.finished || !(progress > this.lastProgress)) return;
    this.lastProgress = progress;
    const params: Params = { progressToken, progress };
    if (total !== undefined) params.total = total;
    if (message !== undefined && since(this.peer.revision, '2025-03-26')) params.message = message;
    const now = this.peer.clock.now();
    const wait = this.lastSentAt + progressIntervalMs - now;
    if (wait <= 0) return this.sendProgress(params);
    this.waiting = params;
    this.timer ??= this.peer.clock.after(wait, () => {
      this.timer = undefined;
      if (this.waiting !== undefined) this.sendProgress(this.waiting);
    });
  }

  private sendProgress(params: Params): void {
    this.waiting = undefined;
    this.lastSentAt = this.peer.clock.now();
    this.notify('notifications/progress', params);
  }
}
