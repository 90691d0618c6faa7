import type { Peer } from '../engine/peer.js';
import type { Caller } from '../engine/servable.js';
import { logLevels, type Implementation, type LogLevel } from '../protocol/types.js';

/** One client's conversation, as handlers see it. */
export class Session {
  private level = logLevels.indexOf('info');

  constructor(
    private readonly peer: Peer,
    /** Unguessable where the transport has sessions, otherwise a running number. */
    readonly id: string,
    readonly caller: Caller,
  ) {}

  /** What the client calls itself; undefined before the handshake. */
  get client(): Implementation | undefined {
    return this.peer.remote?.info;
  }

  get revision(): string {
    return this.peer.revision;
  }

  hears(level: LogLevel): boolean {
    return logLevels.indexOf(level) >= this.level;
  }

  setLevel(level: LogLevel): void {
    this.level = logLevels.indexOf(level);
  }
}
