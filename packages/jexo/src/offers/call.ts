import type { Caller } from '../engine/servable.js';
import type { Exchange } from '../engine/exchange.js';
import type { LogLevel } from '../protocol/types.js';
import type { Session } from './session.js';

/**
 * The second argument of every handler: the request it answers, and the way back to whoever is calling.
 *
 * @example
 * tool('move_hive', { input }, async ({ hive }, call) => {
 *   call.progress(1, 2, 'closing the entrance');
 *   return move(hive, { signal: call.signal });
 * });
 */
export class Call {
  private bag: Record<string, unknown> | undefined;

  constructor(
    private readonly exchange: Exchange,
    /** The session the call came in, the same object for all calls of one client. */
    readonly session: Session,
  ) {}

  /** Fires when the caller cancels, or its connection ends. Hand it to everything that can be stopped. */
  get signal(): AbortSignal {
    return this.exchange.signal;
  }

  /** Who is calling, as far as the transport can tell. */
  get caller(): Caller {
    return this.session.caller;
  }

  /** What middleware hands to the handler, for this one request. */
  get state(): Record<string, unknown> {
    return (this.bag ??= {});
  }

  /**
   * Tells the caller how far the work is, if it asked to be told. Values must grow; bursts are thinned.
   * @param progress how much is done, in any unit
   * @param total how much there is, in the same unit
   * @param message what is happening, in a few words
   */
  progress(progress: number, total?: number, message?: string): void {
    this.exchange.progress(progress, total, message);
  }

  /** Sends a log message to the caller, unless it asked only for graver ones. Never log secrets. */
  log(level: LogLevel, data: unknown, logger?: string): void {
    if (this.session.hears(level))
      this.exchange.notify('notifications/message', logger === undefined ? { level, data } : { level, logger, data });
  }
}
