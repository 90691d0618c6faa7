import type { Interceptor } from './http-call.js';

/** Lets so many calls through at once; the others wait in line, and leave it when their caller gives up. */
export function limitConcurrency(most: number): Interceptor {
  let inside = 0;
  const waiting: (() => void)[] = [];
  const enter = async (signal: AbortSignal): Promise<void> => {
    while (inside >= most) {
      signal.throwIfAborted();
      await new Promise<void>((resolve, reject) => {
        const go = () => {
          signal.removeEventListener('abort', giveUp);
          resolve();
        };
        const giveUp = () => {
          waiting.splice(waiting.indexOf(go), 1);
          reject(signal.reason as Error);
        };
        waiting.push(go);
        signal.addEventListener('abort', giveUp, { once: true });
      });
    }
    inside++;
  };
  return (next) => async (call) => {
    await enter(call.signal);
    try {
      return await next(call);
    } finally {
      inside--;
      waiting.shift()?.();
    }
  };
}
