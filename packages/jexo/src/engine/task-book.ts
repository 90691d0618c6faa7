import { errorCodes, RpcError, type Params } from '../protocol/json-rpc.js';
import type { Task } from '../protocol/types.js';
import type { Clock } from './clock.js';
import type { Exchange } from './exchange.js';
import { after, type Bus, type MaybePromise, type TaskRecord, type TaskStore } from './store.js';
import { isDone, relatedTaskKey, TaskEntry, type Outcome, type Reach } from './task-entry.js';

/** How many tasks there may be, and for how long. */
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

export interface TaskBookOptions {
  readonly limits: () => TaskLimits;
  readonly store: TaskStore;
  readonly bus: Bus;
  readonly clock: Clock;
  /** Wall-clock milliseconds, for the dates a task carries. */
  readonly today: () => number;
  readonly newId: () => string;
}

interface Running {
  readonly entry: TaskEntry;
  readonly forget: () => void;
}

/**
 * The tasks a receiver has taken on (Tasks, 2025-11-25). They belong to an owner, not to a connection: whoever knows the id of one
 * and is the same owner may ask for it over another connection, in another process too when the store is shared.
 */
export class TaskBook {
  /** Those whose work was begun in this process, until their time has run out. */
  private readonly running = new Map<string, Running>();
  constructor(private readonly options: TaskBookOptions) {}

  get size(): number {
    return this.running.size;
  }

  /** Takes a request on as a task and answers at once; `work` goes on behind it. */
  start(exchange: Exchange, owner: string, work: (reach: Reach) => unknown): { task: Task } {
    const { ttlMs = 3_600_000, maxTtlMs = 86_400_000, pollIntervalMs = 500 } = this.options.limits();
    this.makeRoom(exchange, owner);
    const wanted = exchange.params.task?.ttl as number | undefined;
    const ttl = Math.min(typeof wanted === 'number' && wanted > 0 ? wanted : ttlMs, maxTtlMs);
    const now = this.now();
    const taskId = this.options.newId();
    const first: Task = { taskId, status: 'working', createdAt: now, lastUpdatedAt: now, ttl, pollInterval: pollIntervalMs };
    const entry = new TaskEntry(
      first,
      owner,
      exchange,
      () => this.now(),
      (task, outcome) => this.changed(owner, task, outcome),
    );
    const unsubscribe = this.options.bus.subscribe(orders(taskId), (order) => order === 'cancel' && entry.stop(cancelledByRequester));
    // It may be deleted once its time has run out, whatever its status.
    const expiry = this.options.clock.after(ttl, () => this.expire(taskId, 'its time has run out'));
    const forget = () => {
      this.options.clock.cancel(expiry);
      unsubscribe();
    };
    this.running.set(taskId, { entry, forget });
    this.save({ task: first, owner });
    void entry.run(work);
    return { task: { ...entry.task } };
  }

  /** Answers `tasks/get`. */
  get(params: Params, owner: string): MaybePromise<object> {
    return after(this.find(params, owner), ({ task }) => ({ ...task }));
  }

  /** Answers `tasks/result`: waits for the outcome, wherever the work runs. */
  async result(params: Params, owner: string, exchange: Exchange): Promise<object> {
    const { task } = await this.find(params, owner);
    const here = this.running.get(task.taskId)?.entry;
    const result = here === undefined ? await this.outcomeElsewhere(task.taskId, exchange.signal) : await attended(here, exchange);
    return { ...result, _meta: { ...(result as { _meta?: object })._meta, [relatedTaskKey]: { taskId: task.taskId } } };
  }

  /** Answers `tasks/cancel`. */
  cancel(params: Params, owner: string): MaybePromise<object> {
    return after(this.find(params, owner), (record): MaybePromise<object> => {
      const { task } = record;
      if (isDone(task)) throw new RpcError(errorCodes.invalidParams, `The task is ${task.status} already and cannot be cancelled`);
      const here = this.running.get(task.taskId)?.entry;
      here?.stop(cancelledByRequester);
      if (here !== undefined) return { ...here.task };
      const stopped: Task = { ...task, status: 'cancelled', statusMessage: cancelledByRequester, lastUpdatedAt: this.now() };
      return after(this.options.bus.publish(orders(task.taskId), 'cancel'), () => stopped);
    });
  }

  /** Answers `tasks/list`. */
  list(params: Params, owner: string, pageSize: number): MaybePromise<object> {
    return after(this.options.store.list(owner), (own) => {
      const { cursor } = params;
      const start = cursor === undefined ? 0 : own.findIndex(({ task }) => `after.${task.taskId}` === cursor) + 1;
      if (cursor !== undefined && start === 0)
        throw new RpcError(errorCodes.invalidParams, `Invalid cursor: ${JSON.stringify(cursor)} is not one this list has given`);
      const tasks = own.slice(start, start + pageSize).map(({ task }) => ({ ...task }));
      return { tasks, ...(start + pageSize < own.length && { nextCursor: `after.${tasks.at(-1)!.taskId}` }) };
    });
  }

  /** Stops all work of this process, and forgets it. */
  close(): void {
    for (const taskId of [...this.running.keys()]) this.expire(taskId, 'the receiver is stopping');
  }

  /** @throws RpcError when there are too many, and none of them is done */
  private makeRoom({ peer }: Exchange, owner: string): void {
    const { maxPerOwner = 100, maxTasks = 10_000 } = this.options.limits();
    const refuse = (most: number, whose: string): never => {
      throw new RpcError(errorCodes.internalError, `Too many tasks: at most ${most} may run at once${whose}`);
    };
    let own = 0;
    for (const { entry } of this.running.values()) if (!isDone(entry.task) && entry.owner === owner && entry.startedBy === peer) own++;
    if (own >= maxPerOwner) refuse(maxPerOwner, ' for one client');
    if (this.running.size < maxTasks) return;
    const oldest = [...this.running.values()].find(({ entry }) => isDone(entry.task));
    if (oldest === undefined) return refuse(maxTasks, '');
    this.expire(oldest.entry.task.taskId, '');
  }

  private expire(taskId: string, why: string): void {
    const known = this.running.get(taskId);
    if (known === undefined) return;
    this.running.delete(taskId);
    known.forget();
    known.entry.stop(why);
    this.guard(this.options.store.delete(taskId), known.entry);
  }

  private changed(owner: string, task: Task, outcome: Outcome | undefined): void {
    const error = outcome !== undefined && 'error' in outcome ? outcome.error : undefined;
    this.save({
      task,
      owner,
      ...(outcome !== undefined && 'result' in outcome && { result: outcome.result }),
      ...(error !== undefined && {
        error: { code: error.code, message: error.message, ...(error.data !== undefined && { data: error.data }) },
      }),
    });
  }

  private save(record: TaskRecord): void {
    const { entry } = this.running.get(record.task.taskId) ?? {};
    if (entry === undefined) return;
    const saved = after(this.options.store.save(record), () =>
      isDone(record.task) ? this.options.bus.publish(news(record.task.taskId), '') : 0,
    );
    this.guard(saved, entry);
  }

  /** A store that fails is a fault of the operator's; the work goes on. */
  private guard(work: MaybePromise<unknown>, entry: TaskEntry): void {
    if (work instanceof Promise) work.catch((error: unknown) => entry.peer.fault(error));
  }

  private find(params: Params, owner: string): MaybePromise<TaskRecord> {
    const taskId = params.taskId as string;
    const here = this.running.get(taskId)?.entry;
    return after(here === undefined ? this.options.store.load(taskId) : { task: here.task, owner: here.owner }, (record) => {
      // A stranger learns nothing: the answer is the same as for an id that never was.
      if (record === undefined || record.owner !== owner)
        throw new RpcError(errorCodes.invalidParams, 'Unknown task: there is none of this id, or its time has run out');
      return record;
    });
  }

  /** The outcome of a task that another process runs. */
  private async outcomeElsewhere(taskId: string, signal: AbortSignal): Promise<object> {
    const { store, bus } = this.options;
    let stop: () => void = () => undefined;
    try {
      const told = new Promise<void>((resolve, reject) => {
        const unsubscribe = bus.subscribe(news(taskId), () => resolve());
        const leave = () => reject(signal.reason as Error);
        signal.addEventListener('abort', leave, { once: true });
        stop = () => {
          unsubscribe();
          signal.removeEventListener('abort', leave);
        };
      });
      let record = await store.load(taskId);
      if (record !== undefined && !isDone(record.task)) {
        await told;
        record = await store.load(taskId);
      }
      if (record?.error !== undefined) throw new RpcError(record.error.code, record.error.message, record.error.data);
      if (record?.result === undefined) throw new RpcError(errorCodes.invalidParams, 'Unknown task: its time has run out');
      return record.result;
    } finally {
      stop();
    }
  }

  private now(): string {
    return new Date(this.options.today()).toISOString();
  }
}

const cancelledByRequester = 'cancelled by the requester';

/** Topics of the bus: what others want of a task, and that it has ended. */
const orders = (taskId: string) => `task-orders ${taskId}`;
const news = (taskId: string) => `task-news ${taskId}`;

async function attended(entry: TaskEntry, exchange: Exchange): Promise<object> {
  const leave = entry.attend(exchange);
  exchange.signal.addEventListener('abort', leave);
  try {
    return await entry.outcome;
  } finally {
    leave();
  }
}
