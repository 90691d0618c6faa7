/** A signal that fires after a time, or when another one does. */
export interface Deadline {
  readonly signal: AbortSignal;
  /** True when the time was up, and not the other signal. */
  readonly isOver: boolean;
  /** Ends the wait: nothing fires any more. */
  clear(): void;
}

/**
 * A bound on a wait that holds: its timer is held by whoever waits, and keeps the process. Signals made by the runtime are dropped with
 * the garbage while nobody else holds them, and then never fire.
 */
export function deadline(ms: number, parent?: AbortSignal): Deadline {
  const controller = new AbortController();
  let isOver = false;
  const onAbort = () => controller.abort(parent!.reason);
  const timer = setTimeout(() => {
    isOver = true;
    controller.abort(new DOMException(`Nothing came within ${ms} ms`, 'TimeoutError'));
  }, ms);
  if (parent?.aborted) onAbort();
  else parent?.addEventListener('abort', onAbort, { once: true });
  return {
    signal: controller.signal,
    get isOver() {
      return isOver;
    },
    clear() {
      clearTimeout(timer);
      parent?.removeEventListener('abort', onAbort);
    },
  };
}
