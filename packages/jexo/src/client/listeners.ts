import { systemClock } from '../engine/clock.js';
import { printFault } from '../engine/faults.js';

/** Notices of changed lists that come within so many milliseconds of one are one more change. */
const changeMs = 100;

/** Calls a listener of the user's: one that throws harms nobody else. */
export function tell(task: () => void): void {
  try {
    task();
  } catch (error) {
    printFault(error, 'in a listener of the client');
  }
}

/** The first notice is told at once; those that come soon after it are one more. */
export function merged(task: () => void, isOpen: () => boolean): () => void {
  let isWaiting = false;
  let hasMore = false;
  const go = () => {
    isWaiting = true;
    tell(task);
    systemClock.after(changeMs, () => {
      isWaiting = false;
      if (!hasMore) return;
      hasMore = false;
      if (isOpen()) go();
    });
  };
  return () => {
    if (isWaiting) hasMore = true;
    else go();
  };
}
