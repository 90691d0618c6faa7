import { describeFault } from '../engine/faults.js';

/** The servers in this process; each hears of errors that nobody caught. */
const listeners = new Set<(note: string) => void>();

const onRejection = (error: unknown) => tell(`unhandled rejection: ${describeFault(error)}`);
const onException = (error: unknown) => tell(`uncaught exception: ${describeFault(error)}`);
/** Stderr may be closed while the process lives; what is said then is lost, and nothing else. */
const ignore = () => undefined;

function tell(note: string): void {
  // One of them is enough: they all lead to the same operator.
  const [listener] = listeners;
  try {
    listener?.(note);
  } catch {
    // There is nowhere left to say it.
  }
}

export interface StrayOptions {
  /** True where the process is ours: then an exception that nobody caught does not end it either. Default false. */
  readonly exceptions?: boolean;
}

/**
 * Keeps a slip of the user's code from ending a process that serves others: a promise nobody waits for, a closed stderr. What
 * happened is told.
 * @returns how to stop
 */
export function surviveStrays(onNote: (note: string) => void, { exceptions = false }: StrayOptions = {}): () => void {
  const listener = (note: string) => onNote(note);
  if (listeners.size === 0) {
    process.on('unhandledRejection', onRejection);
    process.stderr.on('error', ignore);
  }
  listeners.add(listener);
  if (exceptions) process.on('uncaughtException', onException);
  return () => {
    if (!listeners.delete(listener)) return;
    if (exceptions) process.off('uncaughtException', onException);
    if (listeners.size > 0) return;
    process.off('unhandledRejection', onRejection);
    process.stderr.off('error', ignore);
  };
}
