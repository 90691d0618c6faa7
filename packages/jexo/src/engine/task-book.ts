import { errorCodes, RpcError, type JsonRpcMessage, type Params } from '../protocol/json-rpc.js';
import type { Task } from '../protocol/types.js';
import type { Clock } from './clock.js';
import type { Channel, Exchange } from './exchange.js';
import {
  after,
  type Bus,
  type JobEnd,
  type MaybePromise,
  type Processes,
  type TaskJob,
  type TaskQueue,
  type TaskRecord,
  type TaskStore,
} from './store.js';
import { isDone, relatedTaskKey, TaskEntry, TryAgain, type Outcome, type Reach } from './task-entry.js';

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
  /** Which processes live, where several share the store. */
  readonly processes?: Processes | undefined;
  /** Where tasks wait for workers, where the store has a queue. */
  readonly queue?: (() => TaskQueue) | undefined;
  readonly clock: Clock;
  /** Wall-clock milliseconds, for the dates a task carries. */
  readonly today: () => number;
  readonly newId: () => string;
}

/** What a worker is to do. */
export interface TaskWork {
  readonly job: TaskJob;
  /** Which run of the job this is. */
  readonly run: number;
  /** Fires when the job has been given to another worker. */
  readonly signal: AbortSignal;
  readonly exchange: Exchange;
  /** True when a run that was cut short may be repeated. */
  readonly isRepeatable: boolean;
  /** @throws TryAgain when it is to be done once more */
  readonly perform: (reach: Reach) => unknown;
}

interface Running {
  readonly entry: TaskEntry;
  /** What records say of who works on it. */
  readonly by: Partial<TaskRecord>;
  /** False when the store holds another outcome than this process has come to. */
  saved?: Promise<boolean | void>;
  readonly forget: () => void;
}

/**
 * The tasks a receiver has taken on (Tasks, 2025-11-25). They belong to an owner, not to a connection: whoever knows the id of one
 * and is the same owner may ask for it over another connection, in another process too when the store is shared.
 */
export class TaskBook {
  /** Those whose work was begun in this process, until their time has run out. */
  private readonly running = new Map<string, Running>();
  /** Those who wait for a result in other processes, and how they leave. */
  private readonly away = new Map<string, () => void>();
  private isClosing = false;
  constructor(private readonly options: TaskBookOptions) {}

  get size(): number {
    return this.running.size;
  }

  /**
   * Takes a request on as a task and answers at once; `work` goes on behind it.
   * @param job given when a worker is to do it, and not this process
   */
  start(
    exchange: Exchange,
    owner: string,
    work: (reach: Reach) => unknown,
    job?: Omit<TaskJob, 'taskId' | 'throws'>,
  ): MaybePromise<{ task: Task }> {
    if (job !== undefined) return this.enqueue(exchange, owner, job);
    this.makeRoom(exchange, owner);
    const first = this.first(exchange);
    const { taskId } = first;
    const { entry, forget } = this.begin(first, owner, exchange);
    const by = this.by;
    this.running.set(taskId, { entry, forget, by });
    // The next request may come to another process, which has to know the task by then.
    const begin = () => {
      void this.runHere(entry, work);
      return { task: { ...entry.task } };
    };
    const saved = this.options.store.save({ task: first, owner, ...by });
    if (!(saved instanceof Promise)) return begin();
    return saved.then(begin, (error: unknown) => {
      this.running.delete(taskId);
      forget();
      throw error;
    });
  }

  private async runHere(entry: TaskEntry, work: (reach: Reach) => unknown): Promise<void> {
    for (;;) {
      try {
        return await entry.run(work);
      } catch (error) {
        if (!(error instanceof TryAgain)) throw error;
        entry.say(error.message);
        await new Promise<void>((resolve) => void this.options.clock.after(error.inMs, resolve));
        if (isDone(entry.task)) return;
      }
    }
  }

  private first(exchange: Exchange): Task {
    const { ttlMs = 3_600_000, maxTtlMs = 86_400_000, pollIntervalMs = 500 } = this.options.limits();
    const wanted = exchange.params.task?.ttl as number | undefined;
    const ttl = Math.min(typeof wanted === 'number' && wanted > 0 ? wanted : ttlMs, maxTtlMs);
    const now = this.now();
    return { taskId: this.options.newId(), status: 'working', createdAt: now, lastUpdatedAt: now, ttl, pollInterval: pollIntervalMs };
  }

  /** An entry that hears what others want of it, until it is forgotten. */
  private begin(first: Task, owner: string, exchange: Exchange): { readonly entry: TaskEntry; readonly forget: () => void } {
    const { taskId, ttl, createdAt } = first;
    const entry = new TaskEntry(
      first,
      owner,
      exchange,
      () => this.now(),
      (task, outcome) => this.changed(owner, task, outcome),
    );
    const unsubscribe = this.options.bus.subscribe(orders(taskId), (order) => this.obey(entry, order));
    // It may be deleted once its time has run out, whatever its status.
    const left = Math.max(1, Date.parse(createdAt) + ttl! - this.options.today());
    const expiry = this.options.clock.after(left, () => this.expire(taskId, 'its time has run out'));
    const forget = () => {
      this.options.clock.cancel(expiry);
      unsubscribe();
    };
    return { entry, forget };
  }

  private async enqueue(exchange: Exchange, owner: string, job: Omit<TaskJob, 'taskId' | 'throws'>): Promise<{ task: Task }> {
    const { limits, store, queue } = this.options;
    const { maxPerOwner = 100 } = limits();
    const own = await store.list(owner);
    if (own.filter(({ task }) => !isDone(task)).length >= maxPerOwner) throw tooMany(maxPerOwner, ' for one client');
    const task: Task = { ...this.first(exchange), statusMessage: 'Waiting for a worker' };
    const { taskId } = task;
    await store.save({ task, owner, isQueued: true });
    try {
      await queue!().add({ ...job, taskId, throws: 0 });
    } catch (error) {
      await Promise.resolve(store.delete(taskId)).catch(() => undefined); // it is the queue that is reported
      throw error;
    }
    return { task };
  }

  /** Works on a task that waited in the queue. At most one run of it ever sets its outcome. */
  async work({ job, run, signal, exchange, isRepeatable, perform }: TaskWork): Promise<JobEnd> {
    const { store, bus } = this.options;
    const { taskId } = job;
    const record = await store.load(taskId);
    if (record === undefined || isDone(record.task)) return 'done';
    const by: Partial<TaskRecord> = { ...this.by, run, isQueued: isRepeatable };
    const { statusMessage: _, ...task } = record.task;
    if (record.process !== undefined && !isRepeatable) {
      await store.save(lostRecord({ ...record, run }, this.now()));
      await bus.publish(news(taskId), '');
      return 'done';
    }
    const claimed: Task = { ...task, status: 'working', lastUpdatedAt: this.now() };
    if ((await store.save({ task: claimed, owner: record.owner, ...by })) === false) return 'done';
    const { entry, forget } = this.begin(claimed, record.owner, exchange);
    this.running.set(taskId, { entry, forget, by });
    const give = () => this.letGo(taskId);
    signal.addEventListener('abort', give, { once: true });
    const released = async (message: string): Promise<void> => {
      this.letGo(taskId);
      await store.save({
        task: { ...claimed, statusMessage: message, lastUpdatedAt: this.now() },
        owner: record.owner,
        run,
        isQueued: true,
      });
    };
    try {
      // A cancellation may have come between the look at the record and the claim.
      const now = await store.load(taskId);
      if (now === undefined || isDone(now.task)) return 'done';
      await entry.run(perform);
      if (this.running.get(taskId)?.entry === entry) await this.running.get(taskId)!.saved;
      else if (this.isClosing && isRepeatable) {
        await released('Its worker has stopped: waiting for another one');
        return { againInMs: 0 };
      }
      return 'done';
    } catch (error) {
      if (!(error instanceof TryAgain)) throw error;
      await released(error.message);
      return { againInMs: error.inMs, hasThrown: true };
    } finally {
      signal.removeEventListener('abort', give);
      this.letGo(taskId);
    }
  }

  /** Does what another process wants of a task that runs here. */
  private obey(entry: TaskEntry, order: string): void {
    const { taskId } = entry.task;
    if (order === 'cancel') return entry.stop(cancelledByRequester);
    const [, what, waiter] = /^(attend|leave) (.+)$/.exec(order) ?? [];
    if (what === 'leave') this.away.get(waiter!)?.();
    if (what !== 'attend') return;
    // Questions go to where the result is waited for; their answers come back over the session.
    const channel: Channel = {
      send: (message) => this.guard(this.options.bus.publish(messages(taskId, waiter!), JSON.stringify(message)), entry),
    };
    const leave = entry.attendFrom(channel);
    this.away.set(waiter!, () => {
      this.away.delete(waiter!);
      leave();
    });
  }

  /** What a record says of the process that works on it. */
  private get by(): { readonly process?: string } {
    const { processes } = this.options;
    return processes === undefined ? {} : { process: processes.self };
  }

  /** Answers `tasks/get`. */
  get(params: Params, owner: string): MaybePromise<object> {
    return after(this.find(params, owner), ({ task }) => ({ ...task }));
  }

  /** Answers `tasks/result`: waits for the outcome, wherever the work runs. */
  async result(params: Params, owner: string, exchange: Exchange): Promise<object> {
    const { task } = await this.find(params, owner);
    const here = this.running.get(task.taskId);
    const result =
      here === undefined ? await this.outcomeElsewhere(task.taskId, exchange) : await this.outcomeHere(task.taskId, here, exchange);
    return { ...result, _meta: { ...(result as { _meta?: object })._meta, [relatedTaskKey]: { taskId: task.taskId } } };
  }

  /** The outcome of a task that runs here; where a store is shared, the one that it holds. */
  private async outcomeHere(taskId: string, running: Running, exchange: Exchange): Promise<object> {
    const outcome = attended(running.entry, exchange);
    if (this.options.processes === undefined) return outcome;
    await outcome.catch(() => undefined);
    return (await running.saved) === false ? this.outcomeElsewhere(taskId, exchange) : outcome;
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
      return after(this.options.bus.publish(orders(task.taskId), 'cancel'), (reached) =>
        reached === 0 && record.isQueued === true ? this.cancelQueued(record, stopped) : stopped,
      );
    });
  }

  /** Nobody works on it yet; a worker that begins in this moment hears of it too. */
  private async cancelQueued(record: TaskRecord, stopped: Task): Promise<object> {
    const { store, bus, queue } = this.options;
    const { taskId } = stopped;
    const error = { code: errorCodes.invalidRequest, message: `The task was cancelled: ${cancelledByRequester}` };
    const isKept = await store.save({ ...record, run: Number.MAX_SAFE_INTEGER, task: stopped, error });
    await bus.publish(orders(taskId), 'cancel');
    await bus.publish(news(taskId), '');
    if (isKept === false) return (await store.load(taskId))?.task ?? stopped;
    await queue?.().remove(taskId);
    return stopped;
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
    const why = 'the receiver is stopping';
    this.isClosing = true;
    for (const [taskId, { entry, forget, by }] of [...this.running]) {
      if (this.options.processes === undefined) this.expire(taskId, why);
      else if (by.isQueued === true) this.letGo(taskId);
      else {
        // Others go on giving its outcome.
        entry.lose('The process that worked on this has stopped. It may have been done or not: call again if that does no harm.');
        this.running.delete(taskId);
        forget();
      }
    }
  }

  /** @throws RpcError when there are too many, and none of them is done */
  private makeRoom({ peer }: Exchange, owner: string): void {
    const { maxPerOwner = 100, maxTasks = 10_000 } = this.options.limits();
    let own = 0;
    for (const { entry } of this.running.values()) if (!isDone(entry.task) && entry.owner === owner && entry.startedBy === peer) own++;
    if (own >= maxPerOwner) throw tooMany(maxPerOwner, ' for one client');
    if (this.running.size < maxTasks) return;
    const oldest = [...this.running.values()].find(({ entry }) => isDone(entry.task));
    if (oldest === undefined) throw tooMany(maxTasks, '');
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
      ...this.running.get(task.taskId)?.by,
      ...(outcome !== undefined && 'result' in outcome && { result: outcome.result }),
      ...(error !== undefined && {
        error: { code: error.code, message: error.message, ...(error.data !== undefined && { data: error.data }) },
      }),
    });
  }

  private save(record: TaskRecord): void {
    const running = this.running.get(record.task.taskId);
    if (running === undefined) return;
    const { entry } = running;
    const { taskId } = record.task;
    const kept = this.options.store.save(record);
    if (kept instanceof Promise) {
      running.saved = kept;
      kept.catch(() => undefined); // it is reported below
    }
    const saved = after(kept, (isKept) => {
      // Another process has given it an outcome, because this one was silent for too long: that one holds.
      if (isKept === false) return this.letGo(taskId);
      return isDone(record.task) ? this.options.bus.publish(news(taskId), '') : 0;
    });
    this.guard(saved, entry);
  }

  private letGo(taskId: string): number {
    const known = this.running.get(taskId);
    this.running.delete(taskId);
    known?.forget();
    known?.entry.stop('another process has ended it');
    return 0;
  }

  /** A store that fails is a fault of the operator's; the work goes on. */
  private guard(work: MaybePromise<unknown>, entry: TaskEntry): void {
    if (work instanceof Promise) work.catch((error: unknown) => entry.peer.fault(error));
  }

  private find(params: Params, owner: string): MaybePromise<TaskRecord> {
    const taskId = params.taskId as string;
    const here = this.running.get(taskId)?.entry;
    const found =
      here === undefined
        ? after(this.options.store.load(taskId), (record) => this.settled(record))
        : { task: here.task, owner: here.owner };
    return after(found, (record: TaskRecord | undefined) => {
      // A stranger learns nothing: the answer is the same as for an id that never was.
      if (record === undefined || record.owner !== owner)
        throw new RpcError(errorCodes.invalidParams, 'Unknown task: there is none of this id, or its time has run out');
      return record;
    });
  }

  /** A task whose process has died has failed; one process notes it, and what is noted holds. */
  private settled(record: TaskRecord | undefined): MaybePromise<TaskRecord | undefined> {
    const { processes, store, bus } = this.options;
    if (record?.process === undefined || record.isQueued || processes === undefined || isDone(record.task)) return record;
    if (record.process === processes.self) return record;
    return after(processes.isAlive(record.process), (isAlive) => {
      if (isAlive) return record;
      const failed = lostRecord(record, this.now());
      const { taskId } = record.task;
      return after(store.save(failed), (isKept) =>
        isKept === false ? store.load(taskId) : after(bus.publish(news(taskId), ''), () => failed),
      );
    });
  }

  /** The outcome of a task that another process runs. */
  private async outcomeElsewhere(taskId: string, { signal, channel }: Exchange): Promise<object> {
    const { store, bus, clock } = this.options;
    const waiter = globalThis.crypto.randomUUID();
    const stopHearing = bus.subscribe(messages(taskId, waiter), (text) => channel.send(JSON.parse(text) as JsonRpcMessage));
    let look: unknown;
    let stop: () => void = () => undefined;
    let heard: () => void = () => undefined;
    try {
      const told = new Promise<void>((resolve, reject) => {
        heard = resolve;
        const unsubscribe = bus.subscribe(news(taskId), () => resolve());
        const leave = () => reject(signal.reason as Error);
        signal.addEventListener('abort', leave, { once: true });
        stop = () => {
          unsubscribe();
          signal.removeEventListener('abort', leave);
        };
      });
      let record = await this.settled(await store.load(taskId));
      if (record !== undefined && !isDone(record.task)) {
        await bus.publish(orders(taskId), `attend ${waiter}`);
        const lookAgain = () => {
          look = clock.after(aliveCheckMs, () => {
            // The news of an outcome may have been lost with the process; what fails is tried again.
            const found = Promise.resolve(store.load(taskId)).then((now) => this.settled(now));
            found.then((now) => (now === undefined || isDone(now.task) ? heard() : lookAgain()), lookAgain);
          });
        };
        if (this.options.processes !== undefined) lookAgain();
        await told;
        record = await store.load(taskId);
      }
      if (record?.error !== undefined) throw new RpcError(record.error.code, record.error.message, record.error.data);
      if (record?.result === undefined) throw new RpcError(errorCodes.invalidParams, 'Unknown task: its time has run out');
      return record.result;
    } finally {
      stop();
      stopHearing();
      if (look !== undefined) clock.cancel(look);
      await Promise.resolve(bus.publish(orders(taskId), `leave ${waiter}`)).catch(() => undefined);
    }
  }

  private now(): string {
    return new Date(this.options.today()).toISOString();
  }
}

const tooMany = (most: number, whose: string) =>
  new RpcError(errorCodes.internalError, `Too many tasks: at most ${most} may run at once${whose}`);

/** A task whose process has died before it had an outcome. */
function lostRecord(record: TaskRecord, now: string): TaskRecord {
  const message = 'The process that worked on this has ended. It may have been done or not: call again if that does no harm.';
  return {
    ...record,
    task: { ...record.task, status: 'failed', statusMessage: message, lastUpdatedAt: now },
    error: { code: errorCodes.internalError, message, data: { retryable: true } },
  };
}

const cancelledByRequester = 'cancelled by the requester';

/** Topics of the bus: what others want of a task, and that it has ended. */
const orders = (taskId: string) => `task-orders ${taskId}`;
/** For one who waits for the result elsewhere: what the task asks of the client. */
const messages = (taskId: string, waiter: string) => `task-messages ${taskId} ${waiter}`;
/** How often it is asked whether the process of a task still lives. */
const aliveCheckMs = 2000;
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
