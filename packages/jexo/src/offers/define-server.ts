import { JexoError } from '../errors.js';
import { systemClock } from '../engine/clock.js';
import type { Exchange } from '../engine/exchange.js';
import { answerInitialize } from '../engine/handshake.js';
import { printFault } from '../engine/faults.js';
import { Peer, type NotificationHandler, type RequestHandler } from '../engine/peer.js';
import type { Servable, SessionOptions } from '../engine/servable.js';
import { TaskBook, type TaskLimits } from '../engine/task-book.js';
import { grammarOf } from '../protocol/grammar.js';
import { errorCodes, RpcError, type Params } from '../protocol/json-rpc.js';
import type { Icon, Implementation, ServerCapabilities } from '../protocol/types.js';
import { callTool } from './call-tool.js';
import { collect, type Catalogue } from './catalogue.js';
import { compose, type Middleware } from './middleware.js';
import type { Offer, Source } from './offer.js';
import { completeArgument, readResource, renderPrompt, requireResource } from './serve-offers.js';
import { Session } from './session.js';
import { createSubscriptions } from './subscriptions.js';

const brand = Symbol.for('jexo.server');
const succeed = Symbol.for('jexo.server.succeed');

export interface ServerDefinition {
  /** Programmatic name, shown to clients. */
  readonly name: string;
  readonly version: string;
  /** For people. */
  readonly title?: string;
  /** One short text: what this server is. */
  readonly description?: string;
  /** How to use the server; a client may put it before its model. */
  readonly instructions?: string;
  readonly icons?: readonly Icon[];
  readonly websiteUrl?: string;
  readonly offers: readonly (Offer | Source)[];
  /**
   * Declared to every client beside what the offers are for: features that both sides have agreed on outside the standard (Lifecycle,
   * "Capability Negotiation"). What a client declares is in `call.session.clientCapabilities`.
   */
  readonly capabilities?: Pick<ServerCapabilities, 'experimental' | 'extensions'>;
  /** Runs around every handler, outermost first. */
  readonly middleware?: readonly Middleware[];
  /** Entries a page of a listing holds. Default 100. */
  readonly pageSize?: number;
  /** Tool calls one session may make in a minute. Default: any number. */
  readonly callsPerMinute?: number;
  /** Log messages one session gets in a second; of further ones it is told how many there were. Default: any number. */
  readonly logsPerSecond?: number;
  /** Requests that may be in flight at once, all clients together; further ones are refused. Default 10,000. */
  readonly maxCalls?: number;
  /** For tools that run as tasks. */
  readonly tasks?: TaskLimits;
  /**
   * True declares every kind of offer from the start, because later ones may come. Default: true when a source can change.
   */
  readonly changes?: boolean;
  /** Told when a source that said it had changed could not be read again; the old offers stay. Default: nobody. */
  readonly onReloadFailed?: (error: unknown) => void;
}

/** A server as a value: it describes what is offered and runs nothing. */
export interface Server extends Servable {
  readonly [brand]: true;
  /** Makes `elder`, whose sessions go on, the one that hears what is said to this server. */
  readonly [succeed]: (elder: Server) => void;
  readonly definition: ServerDefinition;
  /** What is offered now. Reads the sources on first use. */
  catalogue(): Promise<Catalogue>;
  /**
   * Reads the sources again and tells every open session what has changed. The old offers stay when a source fails.
   *
   * @param next takes this server's place: its offers, instructions, middleware and limits, while sessions live on and calls in
   *   flight finish on what they began with. What is said to `next` from then on (`updated`, `pageDone`) is said here.
   */
  reload(next?: Server): Promise<Catalogue>;
  /** Says that a resource has changed: whoever has subscribed to it, or to one it lies under, is told. */
  updated(uri: string): void;
  /** Says that a person is done with the page of `call.askByUrl` or `visitFirst`. False when nobody waits for it. */
  pageDone(id: string): boolean;
}

export function isServer(value: unknown): value is Server {
  return typeof value === 'object' && value !== null && brand in value;
}

/**
 * Describes a server. The transport, the port and the packaging are chosen when it is served.
 *
 * @throws JexoError JEXO_DEFINITION when a field has the wrong kind
 * @example
 * export default defineServer({ name: 'alderwick-apiary', version: '1.0.0', offers: [wrapFunctions(hives)] });
 */
export function defineServer(definition: ServerDefinition): Server {
  checkDefinition(definition);
  let active = definition;
  let run = compose(active.middleware ?? []);
  let elder: Server | undefined;
  const sessions = new Map<Peer, Session>();
  const subscriptions = createSubscriptions();
  const tasks = new TaskBook({ ...definition.tasks, clock: systemClock, today: Date.now, newId: () => globalThis.crypto.randomUUID() });
  let sessionCount = 0;
  const inFlight = { count: 0, most: definition.maxCalls ?? defaultMaxCalls };
  let loading: Promise<Catalogue> | undefined;
  let current: Catalogue | undefined;

  const load = async (from: ServerDefinition): Promise<Catalogue> => {
    const found = await collect(from.offers, from.pageSize ?? defaultPageSize);
    current = found;
    return found;
  };
  const catalogue = (): Promise<Catalogue> => {
    if (loading === undefined) {
      loading = load(active);
      loading.catch(() => (loading = undefined)); // every caller gets the error; the next one tries again
    }
    return loading;
  };
  const sessionOf = (exchange: Exchange) => sessions.get(exchange.peer)!;
  /** Tasks belong to whoever can be told from others; where nobody can, the task's id is the secret. */
  const ownerOf = (exchange: Exchange) => {
    const { identity, transport } = sessionOf(exchange).caller;
    return identity === undefined ? transport : `${transport} ${identity}`;
  };
  const tellsRequestersApart = (exchange: Exchange) =>
    sessionOf(exchange).caller.transport !== 'http' || sessionOf(exchange).caller.identity !== undefined;

  /** Runs `use` at once when the sources have been read, so that a call costs no extra turn of the event loop. */
  const withCatalogue =
    (use: (catalogue: Catalogue, params: Params, exchange: Exchange) => unknown): RequestHandler =>
    (params, exchange) =>
      current === undefined ? catalogue().then((found) => use(found, params, exchange)) : use(current, params, exchange);
  /** Params are read by the grammar of the revision before they are used. */
  const checked =
    (handler: RequestHandler): RequestHandler =>
    (params, exchange) => {
      const { method, peer } = exchange;
      const known = grammarOf(peer.revision).requests.client[method];
      if (known === undefined) throw new RpcError(errorCodes.methodNotFound, `Method not found: ${method}`);
      const why = known.params(params, 'params');
      if (why !== undefined) throw new RpcError(errorCodes.invalidParams, `Invalid params of ${method}: ${why}`);
      return handler(params, exchange);
    };

  const info = infoOf(definition);
  const initialize = withCatalogue((found, params, exchange) => {
    const { experimental, extensions } = definition.capabilities ?? {};
    const capabilities: ServerCapabilities = {
      ...(experimental !== undefined && { experimental }),
      ...(extensions !== undefined && { extensions }),
      ...capabilitiesOf(found, definition.changes === true || mayChange(active), tellsRequestersApart(exchange)),
    };
    const answer = answerInitialize(exchange.peer, params, { info, capabilities, instructions: active.instructions });
    // Only now: a handshake that is refused changes nothing.
    sessionOf(exchange).declared = capabilities;
    return answer;
  });

  /** Sources are watched while somebody is connected; who connects later gets what they have become meanwhile. */
  let watching: (() => void)[] | undefined;
  let stale = false;
  const sourceChanged = () => {
    // Only what was read may be out of date; a source that changes while it is read says so once more.
    server.reload().catch((error: unknown) => active.onReloadFailed?.(error));
  };
  const watchSources = () => {
    if (watching !== undefined) return;
    if (stale) sourceChanged();
    stale = false;
    watching = active.offers.flatMap((offer) => ('read' in offer && offer.watch !== undefined ? [offer.watch(sourceChanged)] : []));
  };
  const unwatchSources = () => {
    for (const stop of watching ?? []) stop();
    stale = (watching?.length ?? 0) > 0;
    watching = undefined;
  };

  const requests = new Map<string, RequestHandler>([
    ['initialize', initialize],
    ['ping', () => ({})],
  ]);
  const others: Record<string, RequestHandler> = {
    'tools/call': withCatalogue((found, params, exchange) =>
      callTool({ catalogue: found, run, session: sessionOf(exchange), tasks, owner: ownerOf(exchange) }, params, exchange),
    ),
    'tools/list': withCatalogue((found, { cursor }, { peer }) => found.pages.tools(peer.revision, cursor)),
    'resources/list': withCatalogue((found, { cursor }, { peer }) => found.resourcesPage(peer.revision, cursor)),
    'resources/templates/list': withCatalogue((found, { cursor }, { peer }) => found.pages.templates(peer.revision, cursor)),
    'resources/read': withCatalogue((found, { uri }, exchange) => readResource(found, run, uri, exchange, sessionOf(exchange))),
    'resources/subscribe': withCatalogue((found, { uri }, { peer }) => subscriptions.add(peer, uri, requireResource(found, uri))),
    'resources/unsubscribe': ({ uri }, { peer }) => subscriptions.remove(peer, uri),
    'prompts/list': withCatalogue((found, { cursor }, { peer }) => found.pages.prompts(peer.revision, cursor)),
    'prompts/get': withCatalogue((found, params, exchange) => renderPrompt(found, run, params, exchange, sessionOf(exchange))),
    'completion/complete': withCatalogue((found, params) => completeArgument(found, params)),
    'logging/setLevel': ({ level }, exchange) => {
      sessionOf(exchange).setLevel(level);
      return {};
    },
    'tasks/get': (params, exchange) => tasks.get(params, ownerOf(exchange)),
    'tasks/result': (params, exchange) => tasks.result(params, ownerOf(exchange), exchange),
    'tasks/cancel': (params, exchange) => tasks.cancel(params, ownerOf(exchange)),
    'tasks/list': (params, exchange) => {
      if (!tellsRequestersApart(exchange))
        throw new RpcError(errorCodes.methodNotFound, 'Method not found: tasks/list (requesters cannot be told apart here)');
      return tasks.list(params, ownerOf(exchange), active.pageSize ?? defaultPageSize);
    },
  };
  for (const [method, handler] of Object.entries(others)) requests.set(method, checked(handler));
  const notifications = new Map<string, NotificationHandler>([
    ['notifications/roots/list_changed', (_params, peer) => sessions.get(peer)?.rootsChanged()],
  ]);

  const server: Server = {
    [brand]: true,
    [succeed](older) {
      elder = older;
    },
    get definition() {
      return active;
    },
    info,
    catalogue,
    ready: async () => void (await catalogue()),
    async reload(next) {
      const before = current;
      const found = await load(next?.definition ?? active);
      if (next !== undefined) {
        active = next.definition;
        run = compose(active.middleware ?? []);
        next[succeed](server);
        if (watching !== undefined) {
          unwatchSources();
          stale = false;
          watchSources();
        }
      }
      loading = Promise.resolve(found);
      const changed = before === undefined ? [] : await changedKinds(before, found);
      for (const [peer, session] of sessions) {
        if (peer.state !== 'ready') continue;
        for (const kind of changed) if (session.declared?.[kind]?.listChanged) peer.notify(`notifications/${kind}/list_changed`);
      }
      return found;
    },
    updated(uri) {
      if (elder === undefined) subscriptions.updated(uri);
      else elder.updated(uri);
    },
    pageDone(id) {
      if (elder !== undefined) return elder.pageDone(id);
      for (const [peer, session] of sessions) {
        if (!session.pages.delete(id)) continue;
        peer.notify('notifications/elicitation/complete', { elicitationId: id });
        return true;
      }
      return false;
    },
    open(options: SessionOptions) {
      const peer = new Peer({
        role: 'server',
        outlet: options.outlet,
        clock: options.clock,
        requests,
        notifications,
        load: inFlight,
        onFault: options.onFault ?? printFault,
      });
      sessions.set(
        peer,
        new Session(
          peer,
          options.sessionId ?? String(++sessionCount),
          options.caller ?? { transport: 'memory' },
          active.callsPerMinute,
          active.logsPerSecond,
        ),
      );
      watchSources();
      peer.onClose(() => {
        sessions.delete(peer);
        subscriptions.drop(peer);
        if (sessions.size === 0) unwatchSources();
      });
      return peer;
    },
  };
  return server;
}

const defaultPageSize = 100;
const defaultMaxCalls = 10_000;

function mayChange({ changes, offers }: ServerDefinition): boolean {
  return changes ?? offers.some((offer) => 'read' in offer && offer.watch !== undefined);
}

function infoOf({ name, version, title, description, icons, websiteUrl }: ServerDefinition): Implementation {
  const all = { name, version, title, description, icons, websiteUrl };
  return Object.fromEntries(Object.entries(all).filter(([, value]) => value !== undefined)) as unknown as Implementation;
}

/** What is offered is declared; a source that may change can come to offer anything. */
function capabilitiesOf({ tools, resources, templates, prompts }: Catalogue, changes: boolean, canListTasks: boolean): ServerCapabilities {
  const completes = [...templates.values(), ...prompts.values()].some(({ offer }) => Object.keys(offer.complete ?? {}).length > 0);
  const hasTasks = [...tools.values()].some(({ offer }) => offer.taskSupport === 'optional' || offer.taskSupport === 'required');
  return {
    logging: {},
    ...((tools.size > 0 || changes) && { tools: { listChanged: true } }),
    ...((resources.size > 0 || templates.size > 0 || changes) && { resources: { subscribe: true, listChanged: true } }),
    ...((prompts.size > 0 || changes) && { prompts: { listChanged: true } }),
    ...((completes || changes) && { completions: {} }),
    ...(hasTasks && { tasks: { cancel: {}, requests: { tools: { call: {} } }, ...(canListTasks && { list: {} }) } }),
  };
}

async function changedKinds(before: Catalogue, after: Catalogue): Promise<('tools' | 'resources' | 'prompts')[]> {
  const text = async (catalogue: Catalogue) => {
    const all = (map: ReadonlyMap<string, { readonly offer: Offer }>) =>
      JSON.stringify(
        [...map].map(([key, { offer }]) => [key, { ...offer, ...('template' in offer && { template: offer.template.text }) }]),
      );
    return { tools: all(catalogue.tools), resources: all(catalogue.resources) + all(catalogue.templates), prompts: all(catalogue.prompts) };
  };
  const [old, fresh] = await Promise.all([text(before), text(after)]);
  return (['tools', 'resources', 'prompts'] as const).filter((kind) => old[kind] !== fresh[kind]);
}

function checkDefinition(definition: ServerDefinition): void {
  const refuse = (field: string, wanted: string): never => {
    throw new JexoError('JEXO_DEFINITION', `defineServer: ${field} must be ${wanted}.`, { where: field });
  };
  if (typeof definition !== 'object' || definition === null) refuse('its argument', 'an object');
  if (typeof definition.name !== 'string' || definition.name === '') refuse('name', 'a text');
  if (typeof definition.version !== 'string' || definition.version === '') refuse('version', 'a text');
  if (!Array.isArray(definition.offers)) refuse('offers', 'a list of offers and sources');
  definition.offers.forEach((offer: unknown, index: number) => {
    const known = typeof offer === 'object' && offer !== null && ('kind' in offer || typeof (offer as Source).read === 'function');
    if (!known) refuse(`offers[${index}]`, 'made by tool(), resource(), template(), prompt(), wrapFunctions() or another source');
  });
  const { pageSize, callsPerMinute } = definition;
  if (callsPerMinute !== undefined && !(callsPerMinute >= 1)) refuse('callsPerMinute', 'a number from 1');
  if (pageSize !== undefined && (!Number.isInteger(pageSize) || pageSize < 1)) refuse('pageSize', 'a whole number from 1');
}
