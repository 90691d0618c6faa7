import { systemClock } from '../engine/clock.js';
import { printFault } from '../engine/faults.js';
import { hold, type Servable } from '../engine/servable.js';
import type { JobEnd, Store, TaskJob } from '../engine/store.js';
import { JexoError } from '../errors.js';
import { createHttpSessions, type HttpSession } from '../transports/http/http-sessions.js';

/** How tasks are worked on. */
export interface WorkOptions {
  /** The store of the processes that serve, with a queue. */
  readonly store: Store;
  /** Tasks at once. Default 4. */
  readonly concurrency?: number;
  /** Milliseconds that tasks under way get to end when the worker is closed. Default 10,000. */
  readonly graceMs?: number;
  /** Called with faults and the reference the client gets. Default: printed to stderr. */
  readonly onFault?: (error: unknown, reference: string) => void;
}

/** A worker, until it is closed. */
export interface TaskWorker {
  /** Tasks under way. */
  readonly active: number;
  /** Tasks it has ended so far. */
  readonly done: number;
  /**
   * Takes no further task, waits for those under way, and then stops them: those of tools that are read-only or idempotent go to another worker, the
   * others fail with an error that says they may be called again.
   */
  close(): Promise<void>;
}

/**
 * Works on the tasks that processes with `queueTasks` leave to workers (Tasks, 2025-11-25). Any number of workers may share the queue; each task is
 * worked on by one at a time, and has one result. A worker that dies loses its tasks within 10 seconds.
 *
 * @throws JexoError JEXO_DEFINITION for a store without a queue, JEXO_STORE when it cannot be reached, JEXO_PACKAGE_MISSING
 * @example
 * const worker = await workTasks(apiary, { store: redis('redis://127.0.0.1:6379'), concurrency: 8 });
 */
export async function workTasks(server: Servable, options: WorkOptions): Promise<TaskWorker> {
  const { store, concurrency = 4, graceMs = 10_000, onFault = printFault } = options;
  if (store.queue === undefined || server.workOnTask === undefined)
    throw new JexoError('JEXO_DEFINITION', 'This store has no queue, so that no task can wait in it.', {
      where: 'store',
      next: "Use one that has: redis('redis://…').",
    });
  const release = hold(server);
  try {
    await server.ready();
  } catch (error) {
    await release();
    throw error;
  }
  const sessions = createHttpSessions({
    server,
    store,
    isShared: true,
    mark: '',
    limits: { sessionIdleMs: Infinity, maxSessions: Infinity, maxSessionsPerAddress: Infinity },
    clock: systemClock,
    onStream: () => {},
    onFault,
  });
  const using = new Map<HttpSession, number>();
  let done = 0;
  const count = () => [...using.values()].reduce((sum, each) => sum + each, 0);
  let idle: (() => void) | undefined;

  const work = async (job: TaskJob, run: number, signal: AbortSignal): Promise<JobEnd> => {
    // Its session may have ended; the task goes on, for whoever asks for it.
    const session = (await sessions.find(job.session.id)) ?? sessions.revive(job.session);
    using.set(session, (using.get(session) ?? 0) + 1);
    try {
      const end = await server.workOnTask!(session.peer, job, run, signal);
      if (end === 'done') done++;
      return end;
    } finally {
      const left = using.get(session)! - 1;
      if (left > 0) using.set(session, left);
      else {
        using.delete(session);
        sessions.release(session);
      }
      if (count() === 0) idle?.();
    }
  };
  let stop: () => Promise<void>;
  try {
    stop = await store.queue(server.info.name).work(work, concurrency);
  } catch (error) {
    sessions.leave('the worker could not start');
    await release();
    throw error;
  }
  return {
    get active() {
      return count();
    },
    get done() {
      return done;
    },
    async close() {
      const stopped = stop();
      let timer: NodeJS.Timeout | undefined;
      const patience = new Promise<void>((resolve) => (timer = setTimeout(resolve, graceMs)));
      if (count() > 0) await Promise.race([new Promise<void>((resolve) => (idle = resolve)), patience]);
      clearTimeout(timer);
      // Tasks still under way are given back, or fail.
      await release();
      await stopped;
      sessions.leave('the worker has stopped');
    },
  };
}
