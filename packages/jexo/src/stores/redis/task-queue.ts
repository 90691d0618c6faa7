import type { Job, Queue, Worker } from 'bullmq';
import type { JobEnd, TaskJob, TaskQueue } from '../../engine/store.js';
import { JexoError } from '../../errors.js';
import { loadPackage } from '../../optional-package.js';
import type { RedisConnection } from './connection.js';
import type { QueueClient } from './open-client.js';

type Bull = { readonly Queue: typeof Queue; readonly Worker: typeof Worker; readonly DelayedError: new () => Error };

/** A worker that has not been heard from for so long loses its jobs to others. */
const leaseMs = 6000;
/** A job is never given up for the workers it has lost: the server says what becomes of it. */
const anyNumber = 1_000_000;
const closeMs = 2000;

/** The jobs of all servers on one Redis, each in a queue of BullMQ by the server’s name. */
export class RedisQueues {
  private readonly queues = new Map<string, Promise<Queue>>();
  private readonly workers = new Set<Worker>();
  private readonly connections = new Set<QueueClient>();

  constructor(
    private readonly connection: RedisConnection,
    private readonly prefix: string,
    private readonly onFault: (error: unknown) => void,
  ) {}

  of(server: string): TaskQueue {
    return {
      add: (job) =>
        this.guarded(async () => {
          const queue = await this.queue(server);
          await queue.add('task', job, { jobId: job.taskId, removeOnComplete: true, removeOnFail: true });
        }),
      remove: (taskId) =>
        this.guarded(async () => {
          // A worker that has just begun it holds it, and learns of its end by itself.
          await (await this.queue(server)).remove(taskId);
        }),
      work: (work, most) => this.work(server, work, most),
    };
  }

  async close(): Promise<void> {
    await Promise.all([...this.workers].map((worker) => worker.close(true).catch(this.onFault)));
    for (const opened of this.queues.values()) {
      const queue = await opened.catch(() => undefined);
      await queue?.close().catch(this.onFault);
    }
    this.queues.clear();
    await Promise.all([...this.connections].map((made) => made.close().catch(this.onFault)));
  }

  private queue(server: string): Promise<Queue> {
    let found = this.queues.get(server);
    if (found !== undefined) return found;
    found = (async () => {
      const { Queue } = await loadPackage<Bull>('bullmq');
      const queue = new Queue(nameOf(server), { ...(await this.options()), skipWaitingForReady: true });
      queue.on('error', () => undefined); // its commands fail with the same error
      return queue;
    })();
    this.queues.set(server, found);
    found.catch(() => this.queues.delete(server));
    return found;
  }

  private async work(
    server: string,
    work: (job: TaskJob, run: number, signal: AbortSignal) => Promise<JobEnd>,
    most: number,
  ): Promise<() => Promise<void>> {
    const { Worker, DelayedError } = await loadPackage<Bull>('bullmq');
    /** Jobs whose end the queue has not heard of yet. */
    const active = new Set<string | undefined>();
    const perform = async (job: Job<TaskJob>, token: string | undefined, signal = new AbortController().signal) => {
      active.add(job.id);
      const end = await work(job.data, job.attemptsStarted, signal);
      if (end === 'done' || signal.aborted) return;
      active.delete(job.id);
      if (end.hasThrown) await job.updateData({ ...job.data, throws: job.data.throws + 1 });
      await job.moveToDelayed(Date.now() + end.againInMs, token);
      throw new DelayedError();
    };
    const worker = new Worker<TaskJob>(nameOf(server), perform, {
      ...(await this.options()),
      concurrency: most,
      lockDuration: leaseMs,
      stalledInterval: leaseMs / 2,
      maxStalledCount: anyNumber,
      maxStartedAttempts: anyNumber,
    });
    this.workers.add(worker);
    let isAway = false;
    worker.on('error', (error) => {
      // A Redis that is away makes every try fail, many times a second.
      if (!isAway) this.onFault(this.connection.failed(error));
      isAway = true;
    });
    worker.on('active', () => (isAway = false));
    worker.on('completed', ({ id }) => active.delete(id));
    worker.on('failed', (job, error) => {
      active.delete(job?.id);
      this.onFault(error);
    });
    worker.on('lockRenewalFailed', (ids) => {
      for (const id of ids) worker.cancelJob(id, 'another worker has it');
    });
    await this.guarded(() => worker.waitUntilReady());
    return async () => {
      let timer: NodeJS.Timeout | undefined;
      const late = new Promise<void>((resolve) => (timer = setTimeout(resolve, closeMs)));
      // A worker that waits for a job waits for seconds; one without any can be cut.
      await Promise.race([worker.close(active.size === 0).catch(this.onFault), late]);
      clearTimeout(timer);
      this.workers.delete(worker);
    };
  }

  private async options() {
    const made = await this.connection.forQueue();
    this.connections.add(made);
    return { connection: made.client as never, prefix: `{${this.prefix}tasks}` };
  }

  /** @throws JexoError JEXO_STORE */
  private async guarded<T>(use: () => Promise<T>): Promise<T> {
    try {
      return await use();
    } catch (error) {
      throw error instanceof JexoError ? error : this.connection.failed(error);
    }
  }
}

/** BullMQ keeps colons for itself. */
function nameOf(server: string): string {
  return server.replaceAll(':', '.');
}
