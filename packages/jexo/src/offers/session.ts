import type { Peer } from '../engine/peer.js';
import { Rate } from '../engine/rate.js';
import type { Caller } from '../engine/servable.js';
import { since } from '../protocol/revisions.js';
import { logLevels, type ClientCapabilities, type Implementation, type LogLevel, type ServerCapabilities } from '../protocol/types.js';

/** What a client may be able to do for a handler. */
export type ClientAbility = 'sampling' | 'sampling.tools' | 'sampling.context' | 'elicitation.form' | 'elicitation.url' | 'roots';

/** One client's conversation, as handlers see it. */
export class Session {
  private level = logLevels.indexOf('info');
  private readonly logRate: Rate | undefined;
  private heldBack = 0;
  private readonly callRate: Rate | undefined;
  /** Pages the person at this client was sent to and is not known to be done with. */
  readonly pages = new Set<string>();
  /** What this client was told the server can do; undefined where there was no handshake. */
  declared: ServerCapabilities | undefined;
  private readonly rootsListeners = new Set<() => void>();

  constructor(
    private readonly peer: Peer,
    /** Unguessable where the transport has sessions, otherwise a running number. */
    readonly id: string,
    readonly caller: Caller,
    callsPerMinute?: number,
    logsPerSecond?: number,
  ) {
    this.logRate = logsPerSecond === undefined ? undefined : new Rate(peer.clock, logsPerSecond, 1000);
    this.callRate = callsPerMinute === undefined ? undefined : new Rate(peer.clock, callsPerMinute, 60_000);
  }

  /** What the client calls itself; undefined before the handshake. */
  get client(): Implementation | undefined {
    return this.peer.remote?.info;
  }

  /** What the client declared that it can do, as it said it; undefined before the handshake. */
  get clientCapabilities(): ClientCapabilities | undefined {
    return this.peer.remote?.capabilities;
  }

  get revision(): string {
    return this.peer.revision;
  }

  /** True when the client has declared the ability and the revision agreed on knows it: both are needed. */
  can(ability: ClientAbility): boolean {
    const { sampling, elicitation, roots } = this.peer.remote?.capabilities ?? {};
    const newest = since(this.peer.revision, '2025-11-25');
    switch (ability) {
      case 'roots':
        return isDeclared(roots);
      case 'sampling':
        return isDeclared(sampling);
      case 'sampling.tools':
        return newest && isDeclared(sampling?.tools);
      case 'sampling.context':
        return !newest ? isDeclared(sampling) : isDeclared(sampling?.context);
      case 'elicitation.form':
        if (!since(this.peer.revision, '2025-06-18') || !isDeclared(elicitation)) return false;
        // An empty object means form only (Client features, "Elicitation", "Capabilities").
        return !newest || isDeclared(elicitation.form) || !isDeclared(elicitation.url);
      case 'elicitation.url':
        return newest && isDeclared(elicitation?.url);
    }
  }

  /** Runs `task` whenever the client says that its roots have changed; returns how to stop. */
  onRootsChanged(task: () => void): () => void {
    this.rootsListeners.add(task);
    return () => this.rootsListeners.delete(task);
  }

  rootsChanged(): void {
    for (const task of this.rootsListeners) task();
  }

  /**
   * True when the client wants messages of this level, and has not had too many of late. When some were held back, it is told how
   * many as soon as there is room (Server utilities, "Logging": servers should limit the rate).
   */
  hears(level: LogLevel): boolean {
    if (logLevels.indexOf(level) < this.level) return false;
    if (this.logRate === undefined || this.logRate.take()) return true;
    if (this.heldBack++ === 0)
      this.peer.clock.after(this.logRate.wait(), () => {
        const data = `${this.heldBack} log messages were held back: more than the server sends in a second.`;
        this.heldBack = 0;
        const level = logLevels[Math.max(this.level, logLevels.indexOf('warning'))]!;
        this.peer.notify('notifications/message', { level, logger: 'jexo', data });
      });
    return false;
  }

  /** Milliseconds to wait before the next call, when there have been too many; 0 when it may go on. */
  callDelay(): number {
    return this.callRate === undefined || this.callRate.take() ? 0 : this.callRate.wait();
  }

  setLevel(level: LogLevel): void {
    this.level = logLevels.indexOf(level);
  }
}

/** `null` and `false` are not legal; they count as absent. */
function isDeclared<T>(value: T | undefined): value is T {
  return typeof value === 'object' && value !== null;
}
