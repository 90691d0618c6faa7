import type { Peer } from '../engine/peer.js';
import type { Caller } from '../engine/servable.js';
import { JexoError } from '../errors.js';
import { after, type LimitStore, type MaybePromise, type SessionRecord, type StateStore } from '../engine/store.js';
import { since } from '../protocol/revisions.js';
import { logLevels, type ClientCapabilities, type Implementation, type LogLevel, type ServerCapabilities } from '../protocol/types.js';
import { memoryLimits } from '../stores/memory.js';

/** What a client may be able to do for a handler. */
export type ClientAbility = 'sampling' | 'sampling.tools' | 'sampling.context' | 'elicitation.form' | 'elicitation.url' | 'roots';

export interface SessionParts {
  readonly peer: Peer;
  readonly id: string;
  readonly caller: Caller;
  readonly limits: LimitStore;
  readonly state: StateStore;
  readonly callsPerMinute: number | undefined;
  readonly logsPerSecond: number | undefined;
  /** Called whenever the record has changed. */
  readonly onState: (() => void) | undefined;
}

/** State of a session, as JSON. */
export interface SessionState {
  /** The value; undefined when nothing is kept. @throws JexoError JEXO_STORE */
  read<T>(): Promise<T | undefined>;
  /**
   * Replaces the value in one step: `change` is called again when another call was faster.
   * @throws JexoError JEXO_DEFINITION for what is no JSON, JEXO_TOO_MANY, JEXO_STORE
   * @example
   * const { count } = await call.session.state.update<{ count: number }>((before) => ({ count: (before?.count ?? 0) + 1 }));
   */
  update<T>(change: (before: T | undefined) => T): Promise<T>;
}

/** Times that a change of state is tried. */
const mostSwaps = 50;
/** How long it is remembered who has told a session something. */
const newsMs = 60_000;

/** One client's conversation, as handlers see it. */
export class Session {
  /** Unguessable where the transport has sessions, otherwise a running number. */
  readonly id: string;
  /** Who began the session. */
  readonly caller: Caller;
  private level: LogLevel = 'info';
  private heldBack = 0;
  private readonly openPages = new Set<string>();
  private readonly subscribed = new Set<string>();
  private capabilities: ServerCapabilities | undefined;
  private readonly rootsListeners = new Set<() => void>();
  private readonly peer: Peer;

  constructor(private readonly parts: SessionParts) {
    this.id = parts.id;
    this.caller = parts.caller;
    this.peer = parts.peer;
  }

  /** What handlers keep of this session: it goes with it to other processes, where a store is shared. */
  get state(): SessionState {
    const { state } = this.parts;
    const { id } = this;
    return {
      read: async <T>() => (await state.read(id)).value as T | undefined,
      async update<T>(change: (before: T | undefined) => T) {
        for (let tries = 0; tries < mostSwaps; tries++) {
          const { version, value } = await state.read(id);
          const next = change(value as T | undefined);
          if (JSON.stringify(next) === undefined)
            throw new JexoError('JEXO_DEFINITION', 'The state of a session has to be JSON.', { where: 'call.session.state' });
          if (await state.swap(id, version, next)) return next;
        }
        throw new JexoError('JEXO_TOO_MANY', 'The state of the session is changed by too many calls at once.', {
          where: 'call.session.state',
        });
      },
    };
  }

  /** What the session needs to go on in another process. */
  get record(): SessionRecord {
    const { remote, revision } = this.peer;
    return {
      id: this.id,
      revision,
      client: remote?.info,
      capabilities: remote?.capabilities ?? {},
      caller: this.caller,
      declared: this.capabilities,
      logLevel: this.level,
      subscriptions: [...this.subscribed],
      pages: [...this.openPages],
    };
  }

  /** True for the one process, of those that carry this session, that may tell it something; its news has an id. @throws what the store throws */
  isFirstToTell(newsId: string): MaybePromise<boolean> {
    return after(this.parts.limits.take(`news ${this.id} ${newsId}`, 1, newsMs), (wait) => wait === 0);
  }

  /** Takes up what another process has noted of this session meanwhile. */
  refresh({ logLevel, pages, declared }: SessionRecord): void {
    this.level = logLevel;
    this.capabilities = declared;
    this.openPages.clear();
    for (const page of pages) this.openPages.add(page);
  }

  /** Goes on where another process was. */
  resume(record: SessionRecord): void {
    const { revision, client, capabilities, logLevel, pages, declared } = record;
    this.peer.begin({ revision, ...(client !== undefined && { remote: { info: client, capabilities } }) });
    this.level = logLevel;
    this.capabilities = declared;
    for (const page of pages) this.openPages.add(page);
  }

  /** What this client was told the server can do; undefined where there was no handshake. */
  get declared(): ServerCapabilities | undefined {
    return this.capabilities;
  }

  /** Notes what the client was told in the handshake. */
  declare(capabilities: ServerCapabilities): void {
    this.capabilities = capabilities;
    this.parts.onState?.();
  }

  /** Notes a page the person at this client was sent to. */
  pageOpened(id: string): void {
    this.openPages.add(id);
    this.parts.onState?.();
  }

  /** False when nobody here was sent to the page. */
  pageDone(id: string): boolean {
    const was = this.openPages.delete(id);
    if (was) this.parts.onState?.();
    return was;
  }

  /** Says that a person is done with the page, if they were sent there by this session. False when they were not. */
  finishPage(id: string): boolean {
    const was = this.pageDone(id);
    if (was) this.peer.notify('notifications/elicitation/complete', { elicitationId: id });
    return was;
  }

  /** Runs `task` when the session ends. */
  onEnd(task: () => void): void {
    this.peer.onClose(task);
  }

  /** Sends a log message that belongs to no call, unless the client asked for more severe ones only. Never log secrets. */
  log(level: LogLevel, data: unknown, logger?: string): void {
    if (this.hears(level)) this.peer.notify('notifications/message', logger === undefined ? { level, data } : { level, logger, data });
  }

  /** Notes that the client is subscribed to a resource, or no longer. */
  noteSubscription(uri: string, isSubscribed: boolean): void {
    if (isSubscribed) this.subscribed.add(uri);
    else this.subscribed.delete(uri);
    this.parts.onState?.();
  }

  /** What the client calls itself; undefined before the handshake. */
  get client(): Implementation | undefined {
    return this.peer.remote?.info;
  }

  /** What the client declared that it can do, as it said it; undefined before the handshake. */
  get clientCapabilities(): ClientCapabilities | undefined {
    return this.peer.remote?.capabilities;
  }

  /** The revision of the protocol that both sides agreed on. */
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

  /** Tells those who listen that the client’s roots have changed. */
  rootsChanged(): void {
    for (const task of this.rootsListeners) task();
  }

  /**
   * True when the client wants messages of this level, and has not had too many of late. When some were held back, it is told how
   * many as soon as there is room (Server utilities, "Logging": servers should limit the rate).
   */
  hears(level: LogLevel): boolean {
    if (logLevels.indexOf(level) < logLevels.indexOf(this.level)) return false;
    const { logsPerSecond } = this.parts;
    if (logsPerSecond === undefined) return true;
    const { logLimits, peer } = this;
    const wait = logLimits.take('', logsPerSecond, 1000) as number;
    if (wait === 0) return true;
    if (this.heldBack++ === 0)
      peer.clock.after(wait, () => {
        const data = `${this.heldBack} log messages were held back: more than the server sends in a second.`;
        this.heldBack = 0;
        const at = logLevels[Math.max(logLevels.indexOf(this.level), logLevels.indexOf('warning'))]!;
        peer.notify('notifications/message', { level: at, logger: 'jexo', data });
      });
    return false;
  }

  /** Messages of one process are counted by that process. */
  private get logLimits(): LimitStore {
    return (this.ownLimits ??= memoryLimits(this.peer.clock));
  }
  private ownLimits: LimitStore | undefined;

  /** Milliseconds to wait before the next call, when there have been too many; 0 when it may go on. */
  callDelay(): MaybePromise<number> {
    const { callsPerMinute, limits, caller } = this.parts;
    return callsPerMinute === undefined ? 0 : limits.take(`calls ${caller.transport} ${this.id}`, callsPerMinute, 60_000);
  }

  /** Sends log messages of this level and above from now on. */
  setLevel(level: LogLevel): void {
    this.level = level;
    this.parts.onState?.();
  }
}

/** `null` and `false` are not legal; they count as absent. */
function isDeclared<T>(value: T | undefined): value is T {
  return typeof value === 'object' && value !== null;
}
