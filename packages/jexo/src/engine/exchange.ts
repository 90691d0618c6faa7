import type { JsonRpcMessage, Params, RequestId } from '../protocol/json-rpc.js';
import type { ParamsOf, RequestMethod, ResultOf } from '../protocol/methods.js';
import type { Peer, RequestOptions } from './peer.js';
import type { Caller } from './servable.js';
import { ThinnedProgress } from './thinned-progress.js';

/** Where a message leaves: one line of stdio, one HTTP answer, one half of a pair in memory. */
export interface Channel {
  /** Sends one message. */
  send(message: JsonRpcMessage | readonly JsonRpcMessage[]): void;
  /** Who sent what came with this channel, where a transport can tell it for each message. */
  readonly caller?: Caller;
  /** A header of the message's request, by its lower-case name, where the transport has headers. */
  header?(name: string): string | undefined;
  /** Told that the request will have no answer, because it was cancelled: nothing more needs to be kept open for it. */
  dropped?(id: RequestId): void;
}

/**
 * One request of the other side while it is being answered. What is sent through it belongs to that request, so a
 * transport can put it on the same stream (Transports, "Sending Messages to the Server").
 */
export class Exchange {
  private controller: AbortController | undefined;
  private cancelReason: string | undefined;
  private progressing: ThinnedProgress | undefined;
  private finished = false;

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
    this.progressing?.end(!this.cancelled);
    this.finished = true;
  }

  /** Who asks; undefined where the transport tells it for the whole session only. */
  get caller(): Caller | undefined {
    return this.channel.caller;
  }

  header(name: string): string | undefined {
    return this.channel.header?.(name);
  }

  notify(method: string, params?: Params): void {
    if (!this.finished) this.peer.notify(method, params, this.channel);
  }

  request<M extends RequestMethod>(method: M, params: ParamsOf<M> | undefined, options: RequestOptions = {}): Promise<ResultOf<M>> {
    return this.peer.request(method, params, { signal: this.signal, ...options, channel: this.channel });
  }

  /** Reports progress if the other side asked for it (Base protocol, "Progress"). */
  progress(progress: number, total?: number, message?: string): void {
    const token = this.params._meta?.progressToken as RequestId | undefined;
    if (token === undefined || this.finished) return;
    this.progressing ??= new ThinnedProgress(this.peer, token, (params) => this.notify('notifications/progress', params));
    this.progressing.report(progress, total, message);
  }
}
