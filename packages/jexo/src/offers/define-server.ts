import { systemClock } from '../engine/clock.js';
import type { Exchange } from '../engine/exchange.js';
import { printFault } from '../engine/faults.js';
import { Peer } from '../engine/peer.js';
import type { Servable, SessionOptions } from '../engine/servable.js';
import type { SessionRecord, Store } from '../engine/store.js';
import { TaskBook } from '../engine/task-book.js';
import type { Catalogue } from './catalogue.js';
import { checkDefinition, defaultMaxCalls, infoOf, type ServerDefinition } from './definition.js';
import { createLiveCatalogue, type Difference, type LiveCatalogue } from './live-catalogue.js';
import { compose } from './middleware.js';
import { notificationHandlers, requestHandlers, workOnJob, type Answering } from './request-handlers.js';
import type { Selection } from './selection.js';
import { hasResource, requireResource } from './serve-offers.js';
import { Session, type SessionParts } from './session.js';
import { shareNews } from './shared-news.js';
import { missingScopes } from './offer-scopes.js';
import { memoryStates, memoryStore } from '../stores/memory.js';
import { sightOf } from './sight.js';
import { readContext, type ReadContext } from './source.js';
import { createSubscriptions, type Subscriptions } from './subscriptions.js';

export type { ServerDefinition } from './definition.js';

const brand = Symbol.for('jexo.server');
const succeed = Symbol.for('jexo.server.succeed');

/** A server as a value: it describes what is offered and runs nothing. */
export interface Server extends Servable {
  readonly [brand]: true;
  /** Makes `elder`, whose sessions go on, the one that hears what is said to this server. */
  readonly [succeed]: (elder: Server) => void;
  /** The definition that holds now; `reload` changes it. */
  readonly definition: ServerDefinition;
  /** What is offered now. Reads the sources on first use. */
  catalogue(context?: Partial<ReadContext>): Promise<Catalogue>;
  /**
   * Reads the sources again and tells every open session what has changed. The old offers stay when a source fails.
   *
   * @param next takes this server's place: its offers, name, instructions, middleware and limits, while sessions live on and calls in
   *   flight finish on what they began with. What is said to `next` from then on (`updated`, `pageDone`) is said here.
   */
  reload(next?: Server): Promise<Catalogue>;
  /**
   * Switches offers on and off while the server runs. What is off is neither listed nor found, on every way; sessions that saw it, or see
   * it now, get a list_changed notification. Calls in flight finish.
   *
   * @param selection names after renaming, `list_*`, `tag:scales`; undefined switches everything on
   * @example
   * server.switch({ except: ['tag:booking'] });
   */
  switch(selection: Selection | undefined): void;
  /** What is switched on; undefined when it is everything. */
  readonly switches: Selection | undefined;
  /** Says that a resource has changed: whoever has subscribed to it, or to one it lies under, is told. */
  updated(uri: string): void;
  /** Says that a person is done with the page of `call.askByUrl` or `urlElicitationRequired`. False when nobody waits for it. */
  pageDone(id: string): boolean;
}

/** What is said to `inner` from now on (`updated`, `pageDone`, `switch`) is said to `outer` too, which was made of its offers. */
export function speaksTo(inner: Server, outer: Server): void {
  if (inner !== outer) inner[succeed](outer);
}

/** The servers whose offers a server serves. Those in between are held by nothing else, and what is said to the innermost passes through them. */
const inners = new WeakMap<Server, Set<Server>>();
function hold(outer: Server, inner: Server): void {
  inners.set(outer, (inners.get(outer) ?? new Set()).add(inner));
}

/** True for what `defineServer` gives, of any copy of this package. */
export function isServer(value: unknown): value is Server {
  return typeof value === 'object' && value !== null && brand in value;
}

/**
 * Describes a server. The transport, the port and the packaging are chosen when it is served.
 *
 * @throws JexoError JEXO_DEFINITION when a field has the wrong kind
 * @example
 * export default defineServer({ name: 'alderwick-apiary', version: '1.0.0', offers: [wrapFunctions(hives, { types: new URL('./hives.ts', import.meta.url) })] });
 */
// eslint-disable-next-line max-lines-per-function -- the members of a server share its state
export function defineServer(definition: ServerDefinition): Server {
  checkDefinition(definition);
  let active = definition;
  let run = compose(active.middleware ?? []);
  /** Servers that were made of this one's offers, as long as somebody serves them. */
  const elders = new Set<WeakRef<Server>>();
  const everyElder = (): Server[] =>
    [...elders].flatMap((ref) => {
      const elder = ref.deref();
      if (elder === undefined) elders.delete(ref);
      return elder ?? [];
    });
  const sessions = new Map<Peer, Session>();
  const subscriptions = createSubscriptions((...heard) => mayHear(...heard));
  const tasks = taskBooks(
    () => active.tasks ?? {},
    () => active.name,
  );
  const live = createLiveCatalogue(
    () => active,
    (next) => {
      active = next;
      run = compose(active.middleware ?? []);
    },
    (changed) => tellChanged(sessions, active, changed),
  );
  const mayHear = (peer: Peer, subscribed: string, changed: string): boolean => {
    const [found, session] = [live.current, sessions.get(peer)];
    if (found === undefined || session === undefined) return false;
    const sees = sightOf(active, session.caller, found.hasScopes);
    const seen = sees === undefined ? found : found.seenBy(session.caller, sees);
    // What has changed may lie below what was subscribed to, and be an offer of its own, which is hidden.
    return hasResource(seen, subscribed) && (subscribed === changed || hasResource(seen, changed) || !hasResource(live.whole!, changed));
  };
  const sessionOf = ({ peer }: Exchange) => sessions.get(peer)!;
  const answering: Answering = {
    definition: () => active,
    declaresAll: definition.changes === true,
    live,
    run: (request) => run(request),
    subscriptions,
    sessionOf,
    tasksOf: ({ peer }) => tasks.of(peer),
    queues: ({ peer }) => tasks.queues(peer),
  };
  const requests = requestHandlers(answering);
  const notifications = notificationHandlers(sessions);
  const load = {
    count: 0,
    get most() {
      return active.maxCalls ?? defaultMaxCalls;
    },
  };
  let sessionCount = 0;
  const ownStates = memoryStates();

  /** News that other processes have too has an id: of those that carry a session, one tells it. */
  const tellUpdated = (uri: string, newsId: string | undefined) =>
    subscriptions.updated(uri, newsId === undefined ? undefined : (peer) => sessions.get(peer)?.isFirstToTell(newsId) ?? false);
  const shared = shareNews(
    () => active.name,
    (news, id) => {
      if ('updated' in news) tellUpdated(news.updated, id);
      else live.switch(news.switch ?? undefined);
    },
  );

  const server: Server = {
    [brand]: true,
    [succeed](older) {
      if (older === server || everyElder().includes(older)) return;
      elders.add(new WeakRef(older));
      hold(older, server);
    },
    get definition() {
      return active;
    },
    get info() {
      return infoOf(active);
    },
    catalogue: (context) => live.get(context),
    ready: async (context) => void (await live.get(readContext(context))),
    async reload(next) {
      const found = await live.reload(next?.definition);
      if (next !== undefined) inners.delete(server);
      next?.[succeed](server);
      return found;
    },
    switch(selection) {
      live.switch(selection);
      shared.publish({ switch: selection ?? null });
      for (const elder of everyElder()) elder.switch(selection);
    },
    get switches() {
      return live.switches;
    },
    updated(uri) {
      // It may be served by itself too.
      tellUpdated(uri, shared.publish({ updated: uri }));
      for (const elder of everyElder()) elder.updated(uri);
    },
    pageDone(id) {
      return [...sessions.values()].some((session) => session.finishPage(id)) || everyElder().some((elder) => elder.pageDone(id));
    },
    join: (store) => shared.join(store),
    missingScopes: (messages, caller) => (live.current === undefined ? [] : missingScopes(live.current, active, messages, caller)),
    open(options) {
      const { outlet, clock, onFault = printFault, idPrefix } = options;
      const prefixed = idPrefix === undefined ? {} : { idPrefix };
      const peer = new Peer({ role: 'server', outlet, clock, requests, notifications, load, onFault, ...prefixed });
      const { limits } = tasks.join(peer, options);
      const session = sessionFor(peer, options, active, { limits, state: options.store?.state ?? ownStates }, () => String(++sessionCount));
      sessions.set(peer, session);
      live.watch();
      peer.onClose(() => {
        sessions.delete(peer);
        void ownStates.delete(session.id);
        subscriptions.drop(peer);
        if (sessions.size === 0) live.unwatch();
      });
      options.follow?.((record) => session.refresh(record));
      if (options.resume !== undefined) resume(options.resume, { peer, session, live, subscriptions });
      return peer;
    },
    workOnTask: (peer, job, run, signal) => workOnJob(answering, peer, job, run, signal),
    async close() {
      for (const peer of [...sessions.keys()]) peer.close('the server is closed');
      tasks.close();
      await live.close();
    },
  };

  return server;
}

function sessionFor(
  peer: Peer,
  { sessionId, caller = { transport: 'memory' }, onState }: SessionOptions,
  { callsPerMinute, logsPerSecond }: ServerDefinition,
  kept: Pick<SessionParts, 'limits' | 'state'>,
  nextId: () => string,
): Session {
  const session: Session = new Session({
    peer,
    id: sessionId ?? nextId(),
    caller,
    ...kept,
    callsPerMinute,
    logsPerSecond,
    onState: onState && (() => onState(session.record)),
  });
  return session;
}

interface Resuming {
  readonly peer: Peer;
  readonly session: Session;
  readonly live: LiveCatalogue;
  readonly subscriptions: Subscriptions;
}

/** A session that was begun elsewhere: its subscriptions hold here too, once the sources have been read. */
function resume(record: SessionRecord, { peer, session, live, subscriptions }: Resuming): void {
  session.resume(record);
  const renew = (found: Catalogue) => {
    for (const uri of record.subscriptions) {
      try {
        subscriptions.add(peer, uri, requireResource(found, uri));
        session.noteSubscription(uri, true);
      } catch {
        // it is no longer offered
      }
    }
  };
  if (record.subscriptions.length > 0) live.get().then(renew, (error: unknown) => void peer.fault(error));
}

/** Notifies the sessions that see something of what has changed, if the list was declared as changeable. */
function tellChanged(sessions: ReadonlyMap<Peer, Session>, definition: ServerDefinition, changed: readonly Difference[]): void {
  if (changed.length === 0) return;
  for (const [peer, { declared, caller }] of sessions) {
    if (peer.state !== 'ready') continue;
    const sees = sightOf(definition, caller, true);
    const isSeen = (offer: Difference['before']) => offer !== undefined && (sees?.(offer, caller) ?? true);
    const kinds = new Set(changed.filter(({ before, after }) => isSeen(before) || isSeen(after)).map(({ kind }) => kind));
    for (const kind of kinds) if (declared?.[kind]?.listChanged) peer.notify(`notifications/${kind}/list_changed`);
  }
}

/** One book of tasks for each store that the server is served with; without a store, one in memory. */
function taskBooks(limits: () => NonNullable<ServerDefinition['tasks']>, name: () => string) {
  let own: Store | undefined;
  const books = new Map<Store, TaskBook>();
  const ofPeer = new WeakMap<Peer, TaskBook>();
  const queued = new WeakSet<Peer>();
  const make = ({ tasks: store, bus, processes, queue }: Store) =>
    new TaskBook({
      limits,
      store,
      bus,
      processes,
      queue: queue && (() => queue(name())),
      clock: systemClock,
      today: Date.now,
      newId: () => globalThis.crypto.randomUUID(),
    });
  return {
    /** Chooses the store of a session, and gives it. */
    join(peer: Peer, { store: given, queueTasks = false }: SessionOptions): Store {
      if (queueTasks) queued.add(peer);
      const store = given ?? (own ??= memoryStore());
      let book = books.get(store);
      if (book === undefined) books.set(store, (book = make(store)));
      ofPeer.set(peer, book);
      return store;
    },
    of: (peer: Peer) => ofPeer.get(peer)!,
    queues: (peer: Peer) => queued.has(peer),
    close() {
      for (const book of books.values()) book.close();
      books.clear();
    },
  };
}
