import type { ReadLimits } from './driver.js';
import type { WaitingLine } from './waiting-line.js';

/** What differs from driver to driver when a connection is lent. */
export interface Lending<T> {
  /** Stops what a connection is doing in the database. */
  cancel(connection: T): Promise<void>;
  /** The driver's error as one of ours. */
  translate(error: unknown, timeoutMs: number): unknown;
  /** True when the connection, and not the statement, has failed. */
  isBroken(error: unknown): boolean;
  /** True when the connection was lost. */
  isLost(error: unknown): boolean;
  /** True when it was lost before anything was sent. */
  neverSent(error: unknown): boolean;
  /** Connections that may have been lost at once. */
  readonly attempts: number;
}

/** Runs `work` with a connection; `reads` lets it run again when a connection that had been idle turns out to be lost. */
export type Lend<T> = <R>(
  from: WaitingLine<T>,
  limits: Pick<ReadLimits, 'timeoutMs' | 'signal'>,
  work: (connection: T) => Promise<R>,
  kind?: 'reads' | 'writes',
) => Promise<R>;

const againMs = 50;

export function lender<T extends object>({ cancel, translate, isBroken, isLost, neverSent, attempts: most }: Lending<T>): Lend<T> {
  /** Connections that have answered before: only those may have been lost while nobody used them. */
  const used = new WeakSet<T>();
  return async (from, { timeoutMs, signal }, work, kind = 'reads') => {
    for (let attempts = 0; ; attempts++) {
      let wasUsed = false;
      try {
        return await from.use(
          async (connection) => {
            wasUsed = used.has(connection);
            let isOver = false;
            let stopping: Promise<void> | undefined;
            // A call has several statements: what is stopped between two of them goes on with the next.
            const stop = () => {
              stopping = (async () => {
                while (!isOver) {
                  await cancel(connection);
                  await new Promise((resolve) => setTimeout(resolve, againMs));
                }
              })();
            };
            signal.addEventListener('abort', stop, { once: true });
            try {
              const result = await work(connection);
              used.add(connection);
              return result;
            } catch (error) {
              throw signal.aborted ? signal.reason : translate(error, timeoutMs);
            } finally {
              isOver = true;
              signal.removeEventListener('abort', stop);
              await stopping;
            }
          },
          signal,
          (error) => isBroken(error) && !signal.aborted,
        );
      } catch (error) {
        const mayTryAgain = wasUsed && attempts <= most && !signal.aborted;
        if (mayTryAgain && (kind === 'reads' ? isLost(error) : neverSent(error))) continue;
        throw error;
      }
    }
  };
}
