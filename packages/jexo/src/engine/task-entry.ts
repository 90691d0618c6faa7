import { errorCodes, RpcError, type Params, type RequestId } from '../protocol/json-rpc.js';
import type { ParamsOf, RequestMethod, ResultOf } from '../protocol/methods.js';
import type { Task, TaskStatus } from '../protocol/types.js';
import type { Channel, Exchange } from './exchange.js';
import type { Peer, RequestOptions } from './peer.js';
import type { Caller } from './servable.js';
import { ThinnedProgress } from './thinned-progress.js';

export const relatedTaskKey = 'io.modelcontextprotocol/related-task';

/** What a running handler may do with the one who asked, be it a plain request or a task. */
export interface Reach {
  readonly peer: Peer;
  readonly params: Params;
  readonly signal: AbortSignal;
  readonly caller: Caller | undefined;
  /** A header of the request that brought it, by its lower-case name, where the transport has headers. */
  header(name: string): string | undefined;
  notify(method: string, params?: Params): void;
  request<M extends RequestMethod>(method: M, params: ParamsOf<M> | undefined, options?: RequestOptions): Promise<ResultOf<M>>;
  progress(progress: number, total?: number, message?: string): void;
}

/** Thrown by the work of a task whose handler is to run once more. */
export class TryAgain extends Error {
  constructor(
    readonly inMs: number,
    message: string,
  ) {
    super(message);
  }
}

const terminal: readonly TaskStatus[] = ['completed', 'failed', 'cancelled'];

/** True when a task has an outcome; its status never changes any more. */
export function isDone({ status }: Task): boolean {
  return terminal.includes(status);
}

/** How a task ended: with a result, or with an error. */
export type Outcome = { readonly result: object } | { readonly error: RpcError };

/** One task and its work, in the process that runs it. */
export class TaskEntry implements Reach {
  readonly outcome: Promise<object>;
  readonly params: Params;
  readonly caller: Caller | undefined;
  private settle!: (result: object) => void;
  private fail!: (error: unknown) => void;
  private readonly controller = new AbortController();
  /** Who waits in `tasks/result`: the way for questions to the requester. */
  private attendant: Pick<Exchange, 'peer' | 'channel'> | undefined;
  private waiting: (() => void)[] = [];
  private asking = 0;
  private progressing: ThinnedProgress | undefined;

  /** @param onChange called whenever the task or its outcome has changed */
  constructor(
    private standing: Task,
    readonly owner: string,
    private readonly exchange: Exchange,
    private readonly now: () => string,
    private readonly onChange: (task: Task, outcome: Outcome | undefined) => void,
  ) {
    this.params = exchange.params;
    this.caller = exchange.caller;
    this.outcome = new Promise((resolve, reject) => {
      this.settle = resolve;
      this.fail = reject;
    });
    this.outcome.catch(() => undefined); // whoever asks for the result gets the error; nobody need ask
  }

  get task(): Task {
    return this.standing;
  }
  /** The connection the task was asked for on. */
  get startedBy(): Peer {
    return this.exchange.peer;
  }
  get peer(): Peer {
    return (this.attendant ?? this.exchange).peer;
  }
  get signal(): AbortSignal {
    return this.controller.signal;
  }

  header(name: string): string | undefined {
    return this.exchange.header(name);
  }

  /** Says what it is waiting for. */
  say(message: string): void {
    if (isDone(this.standing)) return;
    this.standing = { ...this.standing, statusMessage: message, lastUpdatedAt: this.now() };
    this.onChange(this.standing, undefined);
  }

  /** @throws TryAgain when the work is to be done once more */
  async run(work: (reach: Reach) => unknown): Promise<void> {
    try {
      const result = (await work(this)) as object;
      const isError = (result as { isError?: boolean }).isError === true;
      this.become(isError ? 'failed' : 'completed', isError ? 'The tool reported an error' : undefined, { result });
      this.settle(result);
    } catch (error) {
      if (isDone(this.standing)) return; // it was stopped, and what it throws of that is no fault
      if (error instanceof TryAgain) throw error;
      const rpc =
        error instanceof RpcError ? error : new RpcError(errorCodes.internalError, `Internal error (reference ${this.peer.fault(error)})`);
      this.become('failed', rpc.message, { error: rpc });
      this.fail(rpc);
    }
  }

  stop(why: string): void {
    if (isDone(this.standing)) return;
    const error = new RpcError(errorCodes.invalidRequest, `The task was cancelled: ${why}`);
    this.become('cancelled', why, { error });
    this.controller.abort(new DOMException(why, 'AbortError'));
    this.fail(error);
    this.release();
  }

  /** Fails, because its process ends before it; it may be called again. */
  lose(message: string): void {
    if (isDone(this.standing)) return;
    const error = new RpcError(errorCodes.internalError, message, { retryable: true });
    this.become('failed', message, { error });
    this.controller.abort(new DOMException(message, 'AbortError'));
    this.fail(error);
    this.release();
  }

  attend(exchange: Pick<Exchange, 'peer' | 'channel'>): () => void {
    this.attendant = exchange;
    this.release();
    return () => {
      if (this.attendant === exchange) this.attendant = undefined;
    };
  }

  /** The same for one who waits in another process: this one's connection asks, over the way that leads there. */
  attendFrom(channel: Channel): () => void {
    return this.attend({ peer: this.exchange.peer, channel });
  }

  notify(method: string, params: Params = {}): void {
    if (isDone(this.standing)) return;
    this.peer.notify(method, tagged(params, this.standing.taskId), this.channel);
  }

  /** A question waits until the requester asks for the result: only then is there somebody to answer it. */
  async request<M extends RequestMethod>(method: M, params: ParamsOf<M> | undefined, options: RequestOptions = {}): Promise<ResultOf<M>> {
    this.asking++;
    this.become('input_required', 'Waiting for an answer; ask for the result to get the question');
    try {
      if (this.attendant === undefined) await new Promise<void>((resolve) => this.waiting.push(resolve));
      if (this.signal.aborted) throw this.signal.reason;
      const { peer, channel } = this;
      return await peer.request(method, tagged(params ?? ({} as ParamsOf<M>), this.standing.taskId), {
        signal: this.signal,
        ...options,
        channel,
      });
    } finally {
      if (--this.asking === 0) this.become('working');
    }
  }

  /** The token of the request stays good until the task ends. */
  progress(progress: number, total?: number, message?: string): void {
    const token = this.params._meta?.progressToken as RequestId | undefined;
    if (token === undefined || isDone(this.standing)) return;
    this.progressing ??= new ThinnedProgress(this.exchange.peer, token, (params) => this.notify('notifications/progress', params));
    this.progressing.report(progress, total, message);
  }

  private release(): void {
    const waiting = this.waiting;
    this.waiting = [];
    for (const go of waiting) go();
  }

  private become(status: TaskStatus, statusMessage?: string, outcome?: Outcome): void {
    if (isDone(this.standing) || this.standing.status === status) return;
    const { statusMessage: _, ...rest } = this.standing;
    const next: Task = { ...rest, status, lastUpdatedAt: this.now(), ...(statusMessage !== undefined && { statusMessage }) };
    // What was held back belongs to the time before the end.
    if (isDone(next)) this.progressing?.end(true);
    this.standing = next;
    this.onChange(next, outcome);
    // A courtesy: requesters poll all the same.
    this.peer.notify('notifications/tasks/status', { ...next });
  }

  private get channel(): Channel {
    return this.attendant?.channel ?? this.exchange.peer.outlet;
  }
}

function tagged<P extends { readonly _meta?: Params }>(params: P, taskId: string): P {
  return { ...params, _meta: { ...params._meta, [relatedTaskKey]: { taskId } } };
}
