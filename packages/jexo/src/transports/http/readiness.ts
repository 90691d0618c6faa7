import { describeFault } from '../../engine/faults.js';
import type { Servable } from '../../engine/servable.js';

/** Whether the sources have been read, for those who ask at `/ready`. */
export interface Readiness {
  readonly state: 'starting' | 'ready' | 'failed' | 'stopping';
  /** What could not be read may be there by now. */
  tryAgain(): void;
  stop(): void;
}

/** @param note is told once when the sources cannot be read: clients get a reference only */
export function watchReadiness(server: Servable, note: (text: string) => void): Readiness {
  let state: Readiness['state'] = 'starting';
  let isTold = false;
  const get = () =>
    server.ready().then(
      () => {
        if (state !== 'stopping') state = 'ready';
      },
      (error: unknown) => {
        if (state !== 'stopping') state = 'failed';
        if (!isTold) note(`the server cannot be read: ${describeFault(error)}`);
        isTold = true;
      },
    );
  void get();
  return {
    get state() {
      return state;
    },
    tryAgain: () => void get(),
    stop: () => (state = 'stopping'),
  };
}
