import { JexoError } from '../../errors.js';

/** Things that are made when needed, lent to one caller at a time and closed when nobody has wanted them for a while. */
export interface WaitingLine<T> {
  /** Runs `work` with one of them; `broken` says that it must not be lent again. */
  use<R>(work: (lent: T) => Promise<R>, signal: AbortSignal, isBroken: (error: unknown, lent: T) => boolean): Promise<R>;
  /** Those that are open. */
  count(): number;
  /** Callers that wait for one. */
  waiting(): number;
  close(): Promise<void>;
}

interface LineOptions<T> {
  readonly most: number;
  readonly queue: number;
  readonly idleMs: number;
  readonly open: (signal: AbortSignal) => Promise<T>;
  readonly close: (lent: T) => Promise<void> | void;
  /** As a sentence begins with it: `The database scales`. */
  readonly what: string;
}

/** A pool: at most `most` are open, at most `queue` callers wait. @throws JexoError JEXO_DATABASE when the line is full or closed */
// eslint-disable-next-line max-lines-per-function -- the operations share the line
export function waitingLine<T>({ most, queue, idleMs, open, close, what }: LineOptions<T>): WaitingLine<T> {
  const idle: { readonly item: T; readonly timer: NodeJS.Timeout }[] = [];
  const waiting: { readonly go: (item: T | undefined) => void; readonly stop: (error: unknown) => void }[] = [];
  let opened = 0;
  let lent = 0;
  let isClosed = false;
  let onDrained: (() => void)[] = [];
  const returned = () => {
    if (--lent > 0) return;
    onDrained.forEach((done) => done());
    onDrained = [];
  };
  const drop = async (item: T) => {
    opened--;
    await close(item);
  };
  const acquire = (signal: AbortSignal): Promise<T> | T => {
    signal.throwIfAborted();
    if (isClosed) throw new JexoError('JEXO_DATABASE', `${what} is closed.`, { next: 'Serve it again.' });
    const free = idle.pop();
    if (free !== undefined) {
      clearTimeout(free.timer);
      return free.item;
    }
    if (opened < most) {
      opened++;
      return open(signal).catch((error: unknown) => {
        opened--;
        // One who waits may try in its place.
        waiting.shift()?.go(undefined);
        throw error;
      });
    }
    if (waiting.length >= queue)
      throw new JexoError('JEXO_DATABASE', `${what} is busy: ${most} connections are in use and ${queue} calls wait.`, {
        next: 'Try again in a moment, or raise pool.connections or pool.queue.',
      });
    return new Promise<T | undefined>((resolve, reject) => {
      const entry = {
        go: (item: T | undefined) => {
          signal.removeEventListener('abort', giveUp);
          resolve(item);
        },
        stop: reject,
      };
      const giveUp = () => {
        waiting.splice(waiting.indexOf(entry), 1);
        reject(signal.reason as Error);
      };
      waiting.push(entry);
      signal.addEventListener('abort', giveUp, { once: true });
    }).then((item) => item ?? acquire(signal));
  };
  const release = (item: T) => {
    const next = waiting.shift();
    if (next !== undefined) return next.go(item);
    if (isClosed) return void drop(item);
    const timer = setTimeout(() => {
      idle.splice(
        idle.findIndex((each) => each.item === item),
        1,
      );
      void drop(item);
    }, idleMs);
    timer.unref();
    idle.push({ item, timer });
  };
  return {
    async use(work, signal, isBroken) {
      const item = await acquire(signal);
      lent++;
      try {
        const result = await work(item);
        release(item);
        returned();
        return result;
      } catch (error) {
        if (isBroken(error, item)) {
          await drop(item);
          waiting.shift()?.go(undefined);
        } else release(item);
        returned();
        throw error;
      }
    },
    count: () => opened,
    waiting: () => waiting.length,
    async close() {
      isClosed = true;
      for (const { stop } of waiting.splice(0)) stop(new JexoError('JEXO_DATABASE', `${what} is closed.`, { next: 'Serve it again.' }));
      await Promise.all(
        idle.splice(0).map(({ item, timer }) => {
          clearTimeout(timer);
          return drop(item);
        }),
      );
      // What is lent is closed when it comes back.
      if (lent > 0) await new Promise<void>((done) => onDrained.push(done));
      isClosed = false;
    },
  };
}
