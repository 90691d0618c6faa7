import { errorCodes, RpcError, type Params } from '../protocol/json-rpc.js';
import type { Task, TaskStatus } from '../protocol/types.js';
import type { Clock } from './clock.js';
import type { Channel, Exchange } from './exchange.js';
import type { Peer, RequestOptions } from './peer.js';

export const relatedTaskKey = 'io.modelcontextprotocol/related-task';

/** What a running handler may do with the one who asked, be it a plain request or a task. */
export interface Reach {
  readonly peer: Peer;
  readonly params: Params;
  readonly signal: AbortSignal;
  notify(method: string, params?: Params): void;
  request(method: string, params: Params | undefined, options?: RequestOptions): Promise<Params>;
  progress(progress: number, total?: number, message?: string): void;
}

export interface TaskLimits {
  /** Milliseconds a task is kept when the requester names none. Default 1 hour. */
  readonly ttlMs?: number;
  /** Milliseconds at most, whatever the requester names. Default 24 hours. */
  readonly maxTtlMs?: number;
  /** Suggested to requesters. Default 500. */
  readonly pollIntervalMs?: number;
  /** Tasks that one session may have running at once. Default 100. */
  readonly maxPerOwner?: number;
  /** Tasks that are kept, running or done, all requesters together; of those that are done the oldest go first. Default 10,000. */
  readonly maxTasks?: number;
}

export interface TaskBookOptions extends TaskLimits {
  readonly clock: Clock;
  /** Wall-clock milliseconds, for the dates a task carries. */
  readonly today: () => number;
  readonly newId: () => string;
}

const terminal: readonly TaskStatus[] = ['completed', 'failed', 'cancelled'];

/**
 * The tasks a receiver has taken on (Tasks, 2025-11-25). They belong to an owner, not to a connection: one that was lost
 * may be taken up again by whoever knows the task's id and is the same owner.
 */
export class TaskBook {
  private readonly entries = new Map<string, Entry>();
  constructor(private readonly options: TaskBookOptions) {}

  get size(): number {
    return this.entries.size;
  }

  /** Takes a request on as a task and answers at once; `work` goes on behind it. */
  start(exchange: Exchange, owner: string, work: (reach: Reach) => unknown): { task: Task } {
    const {
      maxPerOwner = 100,
      maxTasks = 10_000,
      ttlMs = 3_600_000,
      maxTtlMs = 86_400_000,
      pollIntervalMs = 500,
      newId,
      clock,
    } = this.options;
    const refuse = (most: number, whose: string): never => {
      throw new RpcError(errorCodes.internalError, `Too many tasks: at most ${most} may run at once${whose}`);
    };
    const running = [...this.entries.values()].filter(
      (entry) => !entry.isDone && entry.owner === owner && entry.startedBy === exchange.peer,
    );
    if (running.length >= maxPerOwner) refuse(maxPerOwner, ' for one client');
    if (this.entries.size >= maxTasks) {
      const oldest = [...this.entries.values()].find((entry) => entry.isDone);
      if (oldest === undefined) return refuse(maxTasks, '');
      clock.cancel(oldest.expiry);
      this.entries.delete(oldest.task.taskId);
    }
    const wanted = exchange.params.task?.ttl as number | undefined;
    const ttl = Math.min(typeof wanted === 'number' && wanted > 0 ? wanted : ttlMs, maxTtlMs);
    const now = this.now();
    const entry = new Entry(
      { taskId: newId(), status: 'working', createdAt: now, lastUpdatedAt: now, ttl, pollInterval: pollIntervalMs },
      owner,
      exchange,
      () => this.now(),
    );
    this.entries.set(entry.task.taskId, entry);
    // It may be deleted once its time has run out, whatever its status.
    entry.expiry = clock.after(ttl, () => {
      this.entries.delete(entry.task.taskId);
      entry.stop('its time has run out');
    });
    void entry.run(work);
    return { task: { ...entry.task } };
  }

  /** The handlers of `tasks/get`, `tasks/result`, `tasks/cancel` and `tasks/list`, for one owner's requests. */
  get(params: Params, owner: string): object {
    return { ...this.find(params, owner).task };
  }

  async result(params: Params, owner: string, exchange: Exchange): Promise<object> {
    const entry = this.find(params, owner);
    const leave = entry.attend(exchange);
    exchange.signal.addEventListener('abort', leave);
    try {
      const result = await entry.outcome;
      return { ...result, _meta: { ...(result as { _meta?: object })._meta, [relatedTaskKey]: { taskId: entry.task.taskId } } };
    } finally {
      leave();
    }
  }

  cancel(params: Params, owner: string): object {
    const entry = this.find(params, owner);
    if (terminal.includes(entry.task.status))
      throw new RpcError(errorCodes.invalidParams, `The task is ${entry.task.status} already and cannot be cancelled`);
    entry.stop('cancelled by the requester');
    return { ...entry.task };
  }

  list(params: Params, owner: string, pageSize: number): object {
    const own = [...this.entries.values()].filter((entry) => entry.owner === owner).map(({ task }) => ({ ...task }));
    const { cursor } = params;
    const start = cursor === undefined ? 0 : own.findIndex(({ taskId }) => `after.${taskId}` === cursor) + 1;
    if (cursor !== undefined && start === 0)
      throw new RpcError(errorCodes.invalidParams, `Invalid cursor: ${JSON.stringify(cursor)} is not one this list has given`);
    const tasks = own.slice(start, start + pageSize);
    return { tasks, ...(start + pageSize < own.length && { nextCursor: `after.${tasks.at(-1)!.taskId}` }) };
  }

  /** Stops all work, as when the receiver itself ends. */
  close(): void {
    for (const entry of this.entries.values()) {
      this.options.clock.cancel(entry.expiry);
      entry.stop('the receiver is stopping');
    }
    this.entries.clear();
  }

  private find(params: Params, owner: string): Entry {
    const entry = this.entries.get(params.taskId);
    // A stranger learns nothing: the answer is the same as for an id that never was.
    if (entry === undefined || entry.owner !== owner)
      throw new RpcError(errorCodes.invalidParams, 'Unknown task: there is none of this id, or its time has run out');
    return entry;
  }

  private now(): string {
    return new Date(this.options.today()).toISOString();
  }
}

/** One task and its work. */
class Entry implements Reach {
  readonly outcome: Promise<object>;
  readonly params: Params;
  expiry: unknown;
  private settle!: (result: object) => void;
  private fail!: (error: unknown) => void;
  private readonly controller = new AbortController();
  /** Who waits in `tasks/result`: the way for questions to the requester. */
  private attendant: Exchange | undefined;
  private waiting: (() => void)[] = [];
  private asking = 0;
  private lastProgress = Number.NEGATIVE_INFINITY;

  constructor(
    public task: Task,
    readonly owner: string,
    private exchange: Exchange,
    private readonly now: () => string,
  ) {
    this.params = exchange.params;
    this.outcome = new Promise((resolve, reject) => {
      this.settle = resolve;
      this.fail = reject;
    });
    this.outcome.catch(() => undefined); // whoever asks for the result gets the error; nobody need ask
  }

  /** The connection the task was asked for on. */
  get startedBy(): Peer {
    return this.exchange.peer;
  }
  get isDone(): boolean {
    return terminal.includes(this.task.status);
  }
  get peer(): Peer {
    return (this.attendant ?? this.exchange).peer;
  }
  get signal(): AbortSignal {
    return this.controller.signal;
  }

  async run(work: (reach: Reach) => unknown): Promise<void> {
    try {
      const result = (await work(this)) as object;
      const isError = (result as { isError?: boolean }).isError === true;
      this.become(isError ? 'failed' : 'completed', isError ? 'The tool reported an error' : undefined);
      this.settle(result);
    } catch (error) {
      if (this.isDone) return; // it was stopped, and what it throws of that is no fault
      const rpc =
        error instanceof RpcError ? error : new RpcError(errorCodes.internalError, `Internal error (reference ${this.peer.fault(error)})`);
      this.become('failed', rpc.message);
      this.fail(rpc);
    }
  }

  stop(why: string): void {
    if (terminal.includes(this.task.status)) return;
    this.become('cancelled', why);
    this.controller.abort(new DOMException(why, 'AbortError'));
    this.fail(new RpcError(errorCodes.invalidRequest, `The task was cancelled: ${why}`));
    this.release();
  }

  private release(): void {
    const waiting = this.waiting;
    this.waiting = [];
    for (const go of waiting) go();
  }

  /** Terminal states never change. */
  private become(status: TaskStatus, statusMessage?: string): void {
    if (terminal.includes(this.task.status) || this.task.status === status) return;
    const { statusMessage: _, ...rest } = this.task;
    this.task = { ...rest, status, lastUpdatedAt: this.now(), ...(statusMessage !== undefined && { statusMessage }) };
    // A courtesy: requesters poll all the same.
    this.peer.notify('notifications/tasks/status', { ...this.task });
  }

  attend(exchange: Exchange): () => void {
    this.attendant = exchange;
    this.release();
    return () => {
      if (this.attendant === exchange) this.attendant = undefined;
    };
  }

  private get channel(): Channel {
    return this.attendant?.channel ?? this.exchange.peer.outlet;
  }

  notify(method: string, params: Params = {}): void {
    if (terminal.includes(this.task.status)) return;
    this.peer.notify(method, tagged(params, this.task.taskId), this.channel);
  }

  /** A question waits until the requester asks for the result: only then is there somebody to answer it. */
  async request(method: string, params: Params | undefined, options: RequestOptions = {}): Promise<Params> {
    this.asking++;
    this.become('input_required', 'Waiting for an answer; ask for the result to get the question');
    try {
      if (this.attendant === undefined) await new Promise<void>((resolve) => this.waiting.push(resolve));
      if (this.signal.aborted) throw this.signal.reason;
      const { peer, channel } = this;
      return await peer.request(method, tagged(params ?? {}, this.task.taskId), { signal: this.signal, ...options, channel });
    } finally {
      if (--this.asking === 0) this.become('working');
    }
  }

  /** The token of the request stays good until the task ends. */
  progress(progress: number, total?: number, message?: string): void {
    const progressToken = this.params._meta?.progressToken;
    if (progressToken === undefined || !(progress > this.lastProgress)) return;
    this.lastProgress = progress;
    this.notify('notifications/progress', {
      progressToken,
      progress,
      ...(total !== undefined && { total }),
      ...(message !== undefined && { message }),
    });
  }
}

function tagged(params: Params, taskId: string): Params {
  return { ...params, _meta: { ...params._meta, [relatedTaskKey]: { taskId } } };
}
