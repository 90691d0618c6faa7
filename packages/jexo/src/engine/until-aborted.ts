/** Waits for something no longer than until a signal fires; then it rejects with the signal's reason, and what comes later is dropped. */
export function untilAborted<T>(work: Promise<T> | T, signal: AbortSignal): Promise<T> {
  const promise = Promise.resolve(work);
  promise.catch(() => undefined);
  return new Promise((resolve, reject) => {
    const onAbort = () => reject(signal.reason as Error);
    if (signal.aborted) return onAbort();
    signal.addEventListener('abort', onAbort, { once: true });
    void promise.then(resolve, reject).finally(() => signal.removeEventListener('abort', onAbort));
  });
}
