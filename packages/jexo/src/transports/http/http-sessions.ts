import type { Clock } from '../../engine/clock.js';
import type { Channel } from '../../engine/exchange.js';
import type { Peer } from '../../engine/peer.js';
import type { Caller, Servable } from '../../engine/servable.js';
import { after, type MaybePromise, type SessionRecord, type Store } from '../../engine/store.js';
import { encode } from '../../protocol/json-rpc.js';
import type { EventStream } from './http-types.js';
import { SessionStreams, type StreamLimits, type StreamParts } from './session-streams.js';

export interface HttpSession {
  readonly id: string;
  readonly peer: Peer;
  readonly streams: SessionStreams;
  /** Who began it: only the same identity may use it. */
  readonly caller: Caller;
  /** True where several processes carry it. */
  readonly isShared: boolean;
  /** True when this process alone has dropped it: it goes on elsewhere, until the store forgets it. */
  isDropped: boolean;
  /** Set while what other processes need of the session is being kept. */
  saving: Promise<void> | undefined;
  lastSeen: number;
  /** Requests after the handshake. */
  uses: number;
}

export interface SessionLimits {
  /** Milliseconds without a request after which a session with no open stream ends; four times that while calls are in flight. */
  readonly sessionIdleMs: number;
  readonly maxSessions: number;
  readonly maxSessionsPerAddress: number;
}

export interface HttpSessionsParts {
  readonly server: Servable;
  readonly store: Store;
  /** True when other processes may use the same store. */
  readonly isShared: boolean;
  /** Ends the ids of sessions that are begun here. */
  readonly mark: string;
  readonly limits: SessionLimits & StreamLimits;
  /** True when tasks wait for workers. */
  readonly queueTasks?: boolean;
  readonly clock: Clock;
  readonly onStream: (sink: EventStream) => void;
  readonly onFault: (error: unknown, reference: string) => void;
}

export interface HttpSessions {
  readonly size: number;
  all(): IterableIterator<HttpSession>;
  begin(caller: Caller): HttpSession;
  /** The session of an id: one of this process, or one that was begun elsewhere and goes on here. */
  find(id: string): MaybePromise<HttpSession | undefined>;
  /** Hands what asks for no answer to the other processes that carry the session: they may wait for it. */
  passOn(session: HttpSession, body: unknown): void;
  /** Room for one more session: one that has done nothing makes way, then one that is idle. False when none can. */
  makeRoom(address: string): boolean;
  /** Ends those that have been idle for too long. */
  sweep(now: number): void;
  /** Opens a session by its record, as `find` does for one that the store holds. */
  revive(record: SessionRecord): HttpSession;
  /** Drops a session that is not needed here any more; it goes on elsewhere. */
  release(session: HttpSession): void;
  /** Ends the sessions of this process; those in a shared store go on elsewhere. */
  leave(reason: string): void;
}

/** How many times the idle time a session with calls in flight may be silent. */
const patienceWithCalls = 4;
/** A session that has been used makes room for another only when it has been silent for so long. */
const evictableAfterMs = 60_000;

/** Sessions that were used within so long are kept in the store. */
const touchedMs = 120_000;

const inboxTopic = (id: string) => `inbox ${id}`;

// eslint-disable-next-line max-lines-per-function -- the operations share the sessions
export function createHttpSessions(parts: HttpSessionsParts): HttpSessions {
  const { server, store, isShared, limits, clock, onFault } = parts;
  const sessions = new Map<string, HttpSession>();
  const perAddress = new Map<string, number>();
  /** This process among those that share the store. */
  const self = (isShared ? store.processes?.self : undefined) ?? globalThis.crypto.randomUUID().slice(0, 8);
  let isLeaving = false;
  const guard = (work: MaybePromise<unknown>) => {
    if (work instanceof Promise) work.catch((error: unknown) => onFault(error, 'store'));
  };
  const leaveServer = isShared ? server.join?.(store) : undefined;
  let leaveStore: MaybePromise<() => void> | undefined = isShared ? store.processes?.join(self) : undefined;
  guard(leaveStore);

  const streamParts: StreamParts = {
    events: store.events,
    bus: isShared ? store.bus : undefined,
    self: isShared ? self : undefined,
    processes: isShared ? store.processes : undefined,
    limits,
    clock,
    onOpen: parts.onStream,
    onFault: (error) => onFault(error, 'store'),
  };

  const open = (id: string, caller: Caller, resume?: SessionRecord): HttpSession => {
    const streams = new SessionStreams(id, streamParts);
    let refresh: (record: SessionRecord) => void = () => {};
    const session: HttpSession = {
      id,
      streams,
      peer: undefined as never,
      caller,
      isShared,
      isDropped: false,
      saving: undefined,
      lastSeen: clock.now(),
      uses: 0,
    };
    const outlet: Channel = { send: (message) => streams.send(encode(message)) };
    const peer = server.open({
      outlet,
      clock,
      caller,
      sessionId: id,
      onFault,
      ...(isShared && {
        store,
        queueTasks: parts.queueTasks ?? false,
        idPrefix: `${self}-`,
        onState: (record: SessionRecord) => save(session, record),
        follow: (take: (record: SessionRecord) => void) => (refresh = take),
      }),
      ...(resume && { resume }),
    });
    (session as { peer: Peer }).peer = peer;
    sessions.set(id, session);
    const { address = '' } = caller;
    perAddress.set(address, (perAddress.get(address) ?? 0) + 1);
    const stopListening = isShared ? store.bus.subscribe(inboxTopic(id), (text) => hear(session, text, refresh)) : undefined;
    peer.onClose(() => {
      sessions.delete(id);
      const left = (perAddress.get(address) ?? 1) - 1;
      if (left === 0) perAddress.delete(address);
      else perAddress.set(address, left);
      stopListening?.();
      const goesOn = isShared && (isLeaving || session.isDropped);
      streams.closeAll(!goesOn);
      if (isShared && !goesOn) {
        guard(store.sessions.delete(id));
        guard(store.state?.delete(id));
        guard(store.bus.publish(inboxTopic(id), JSON.stringify({ from: self, end: true })));
      }
    });
    return session;
  };

  /** What another process was sent for this session: an answer that is waited for here, a cancellation, the session's end. */
  const hear = ({ peer }: HttpSession, text: string, refresh: (record: SessionRecord) => void) => {
    const news = JSON.parse(text) as { from: string; body?: unknown; end?: boolean; record?: SessionRecord };
    if (news.from === self) return;
    if (news.record !== undefined) return refresh(news.record);
    if (news.end === true) peer.close('the session has ended elsewhere');
    else peer.receive(news.body, { send: () => undefined });
  };

  /** Keeps the record, then tells the processes that carry the session too. */
  const save = (session: HttpSession, record: SessionRecord) => {
    const saved = store.sessions.save(record);
    const told = after(saved, () => store.bus.publish(inboxTopic(record.id), JSON.stringify({ from: self, record })));
    if (!(told instanceof Promise)) return;
    const saving = told.then(() => undefined);
    session.saving = saving;
    saving
      .catch((error: unknown) => onFault(error, 'store'))
      .finally(() => {
        if (session.saving === saving) session.saving = undefined;
      });
  };

  const drop = (session: HttpSession, why: string) => {
    session.isDropped = true;
    if (isShared) session.streams.loseAll();
    session.peer.close(why);
  };

  const isIdle = ({ peer, streams }: HttpSession) => !streams.listening && peer.inFlight.incoming === 0 && peer.inFlight.outgoing === 0;

  return {
    get size() {
      return sessions.size;
    },
    all: () => sessions.values(),
    begin: (caller) => open(`${globalThis.crypto.randomUUID()}${parts.mark}`, caller),
    find(id) {
      const known = sessions.get(id);
      if (known !== undefined || !isShared) return known;
      return after(
        store.sessions.load(id),
        (record) => sessions.get(id) ?? (record === undefined ? undefined : open(id, record.caller, record)),
      );
    },
    passOn({ id }, body) {
      if (isShared) guard(store.bus.publish(inboxTopic(id), JSON.stringify({ from: self, body })));
    },
    makeRoom(address) {
      const isFull = sessions.size >= limits.maxSessions;
      if (!isFull && (perAddress.get(address) ?? 0) < limits.maxSessionsPerAddress) return true;
      const now = clock.now();
      const rank = ({ uses, lastSeen }: HttpSession) => (uses === 0 ? 0 : Number.MAX_SAFE_INTEGER / 2) + lastSeen;
      let victim: HttpSession | undefined;
      for (const session of sessions.values()) {
        if (!isFull && (session.caller.address ?? '') !== address) continue;
        if (!isIdle(session) || (session.uses > 0 && now - session.lastSeen < evictableAfterMs)) continue;
        if (victim === undefined || rank(session) < rank(victim)) victim = session;
      }
      if (victim !== undefined) drop(victim, 'the session made room for another');
      return victim !== undefined;
    },
    sweep(now) {
      for (const session of [...sessions.values()]) {
        const { id, peer, streams, lastSeen } = session;
        // The store forgets sessions that nobody uses, in whatever process.
        if (isShared && (streams.listening || now - lastSeen < touchedMs)) guard(store.sessions.touch?.(id));
        // A call in flight may take its time, but not for ever: its client may be gone without a word.
        const patience = peer.inFlight.incoming > 0 ? patienceWithCalls : 1;
        if (now - lastSeen > limits.sessionIdleMs * patience && !streams.listening) drop(session, 'the session was idle for too long');
      }
    },
    revive: (record) => sessions.get(record.id) ?? open(record.id, record.caller, record),
    release: (session) => drop(session, 'it is not needed here any more'),
    leave(reason) {
      isLeaving = true;
      leaveServer?.();
      guard(after(leaveStore, (leave) => leave?.()));
      leaveStore = undefined;
      for (const { peer, streams } of [...sessions.values()]) {
        if (isShared) streams.loseAll();
        peer.close(reason);
      }
    },
  };
}
