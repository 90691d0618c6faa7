import cluster, { type Worker } from 'node:cluster';
import { mkdtempSync, rmSync } from 'node:fs';
import { createServer, type AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { messageOf } from '../errors.js';
import { sumOfCounts, type Counted } from '../middleware/metrics.js';

/** A worker that lives for so long has come up; one that dies sooner is started again after a longer pause. */
const steadyMs = 10_000;
const leastPauseMs = 200;
const mostPauseMs = 5000;
/** What workers have to tell their counts. */
const countsMs = 2000;

type Note = (text: string) => void;
type News = {
  readonly jexo: 'counts?' | 'counts' | 'sum?' | 'sum';
  readonly id: number;
  readonly counts?: Counted;
  readonly text?: string;
};
const isNews = (value: unknown): value is News => typeof value === 'object' && value !== null && 'jexo' in value;

/**
 * Runs this command line in several processes that share the port, and sees to it that so many live. A session stays with the process that
 * began it; requests that reach another are handed on.
 *
 * @param place where they listen. Without a port one is chosen here: it is theirs for as long as this process lives, whichever of them dies.
 * @returns the exit code, once all have ended
 */
export async function runWorkers(
  count: number,
  note: Note,
  place: { readonly host?: string; readonly port?: number } = {},
): Promise<number> {
  const port = place.port === undefined || place.port === 0 ? await freePortAt(place.host) : undefined;
  const sockets = mkdtempSync(join(tmpdir(), 'jexo-'));
  const workers = new Map<number, Worker>();
  let isStopping = false;
  let hasListened = false;
  let code = 0;
  return new Promise((resolve) => {
    const gone = (number: number, startedAt: number, pauseMs: number) => (exit: number | null, signal: string | null) => {
      workers.delete(number);
      const failedToStart = !hasListened && !isStopping;
      if (failedToStart) {
        // What one cannot do, none can: it has said why.
        code = exit ?? 1;
        stop('SIGTERM');
      }
      if (isStopping) return workers.size === 0 ? end() : undefined;
      const next = Date.now() - startedAt > steadyMs ? leastPauseMs : Math.min(2 * pauseMs, mostPauseMs);
      note(`worker ${number} ended (${signal ?? `code ${exit}`}); its sessions are lost, and another takes its place`);
      setTimeout(() => !isStopping && start(number, next), pauseMs);
    };
    const start = (number: number, pauseMs = leastPauseMs) => {
      const worker = cluster.fork({
        JEXO_WORKER_NUMBER: String(number),
        JEXO_WORKER_SOCKETS: sockets,
        ...(port !== undefined && { JEXO_WORKER_PORT: String(port) }),
      });
      workers.set(number, worker);
      worker.on('listening', () => (hasListened = true));
      worker.on(
        'message',
        (news: unknown) =>
          isNews(news) &&
          news.jexo === 'sum?' &&
          void answerSum(worker, news.id, [...workers.values()]).catch((error: unknown) =>
            note(`counts could not be told: ${messageOf(error)}`),
          ),
      );
      worker.on('exit', gone(number, Date.now(), pauseMs));
    };
    const stop = (signal: NodeJS.Signals) => {
      isStopping = true;
      for (const worker of workers.values()) worker.process.kill(signal);
      if (workers.size === 0) end();
    };
    const end = () => {
      rmSync(sockets, { recursive: true, force: true });
      resolve(code);
    };
    for (const signal of ['SIGINT', 'SIGTERM'] as const)
      process.on(signal, () => {
        if (isStopping) code = 130;
        stop(isStopping ? 'SIGKILL' : 'SIGTERM');
      });
    process.on('SIGHUP', () => {
      for (const worker of workers.values()) worker.process.kill('SIGHUP');
    });
    for (let number = 1; number <= count; number++) start(number);
  });
}

/** Puts the counts of all workers together for one of them. */
async function answerSum(asking: Worker, id: number, all: readonly Worker[]): Promise<void> {
  const counts = await Promise.all(
    all.map(
      (worker) =>
        new Promise<Counted>((resolve) => {
          const done = (counted: Counted) => {
            clearTimeout(timer);
            worker.off('message', hear);
            resolve(counted);
          };
          const hear = (news: unknown) => isNews(news) && news.jexo === 'counts' && news.id === id && done(news.counts ?? []);
          const timer = setTimeout(() => done([]), countsMs);
          worker.on('message', hear);
          worker.send({ jexo: 'counts?', id } satisfies News);
        }),
    ),
  );
  asking.send({ jexo: 'sum', id, text: await sumOfCounts(counts) } satisfies News);
}

/** What a worker knows of itself. */
export interface WorkerSelf {
  /** From 1. */
  readonly number: number;
  /** The port that was chosen for all of them, where none was named. */
  readonly port: number | undefined;
  /** The socket of one of the workers. */
  socketOf(number: number): string;
  /** Tells its counts when they are asked for; gives the sum of all workers' counts as text. */
  share(values: () => Promise<Counted>): () => Promise<string>;
}

/** A port that nobody listens at; undefined for an address that cannot be listened at, which the workers say themselves. */
function freePortAt(host = '127.0.0.1'): Promise<number | undefined> {
  return new Promise((resolve) => {
    const probe = createServer().once('error', () => resolve(undefined));
    probe.listen(0, host, () => {
      const { port } = probe.address() as AddressInfo;
      probe.close(() => resolve(port));
    });
  });
}

/** This process as a worker; undefined when it is none. */
export function workerSelf(): WorkerSelf | undefined {
  const { JEXO_WORKER_NUMBER: number, JEXO_WORKER_SOCKETS: sockets, JEXO_WORKER_PORT: port } = process.env;
  if (!cluster.isWorker || number === undefined || sockets === undefined) return undefined;
  let lastId = Number(number) * 1_000_000;
  const waiting = new Map<number, (text: string) => void>();
  return {
    number: Number(number),
    port: port === undefined ? undefined : Number(port),
    socketOf: (other) => join(sockets, `${other}.sock`),
    share(values) {
      process.on('message', (news: unknown) => {
        if (!isNews(news)) return;
        if (news.jexo === 'sum') return waiting.get(news.id)?.(news.text ?? '');
        if (news.jexo === 'counts?') void values().then((counts) => process.send?.({ jexo: 'counts', id: news.id, counts } satisfies News));
      });
      return () =>
        new Promise((resolve) => {
          const id = ++lastId;
          waiting.set(id, (text) => {
            waiting.delete(id);
            resolve(text);
          });
          process.send?.({ jexo: 'sum?', id } satisfies News);
        });
    },
  };
}
