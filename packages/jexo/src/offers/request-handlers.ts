import { Exchange, type Channel } from '../engine/exchange.js';
import { answerInitialize } from '../engine/handshake.js';
import type { NotificationHandler, Peer, RequestHandler } from '../engine/peer.js';
import type { Caller } from '../engine/servable.js';
import type { JobEnd, TaskJob } from '../engine/store.js';
import type { TaskBook } from '../engine/task-book.js';
import { grammarOf } from '../protocol/grammar.js';
import { errorCodes, RpcError, type Params } from '../protocol/json-rpc.js';
import type { ClientCapabilities, ServerCapabilities } from '../protocol/types.js';
import { showsViews, viewExtension } from '../protocol/views.js';
import { callTool, workOnTask, type ToolCallContext } from './call-tool.js';
import type { Catalogue } from './catalogue.js';
import { defaultPageSize, infoOf, mayChange, type ServerDefinition } from './definition.js';
import type { LiveCatalogue } from './live-catalogue.js';
import type { Request } from './middleware.js';
import { requireScopes } from './offer-scopes.js';
import { completeArgument, readResource, renderPrompt, requireResource } from './serve-offers.js';
import type { Session } from './session.js';
import { sightOf } from './sight.js';
import type { Subscriptions } from './subscriptions.js';

/** What the requests of a server's clients are answered with. */
export interface Answering {
  readonly definition: () => ServerDefinition;
  /** True when every kind of offer was declared from the start, whatever the definition says by now. */
  readonly declaresAll: boolean;
  readonly live: LiveCatalogue;
  /** The handler with the middleware around it. */
  readonly run: (request: Request) => unknown;
  readonly subscriptions: Subscriptions;
  readonly sessionOf: (exchange: Exchange) => Session;
  readonly tasksOf: (exchange: Exchange) => TaskBook;
  /** True when workers do the tasks of a session. */
  readonly queues: (exchange: Exchange) => boolean;
}

/** Handlers by method. Params are checked by the grammar of the revision before a handler sees them. */
export function requestHandlers(answering: Answering): ReadonlyMap<string, RequestHandler> {
  const handlers = new Map<string, RequestHandler>([
    ['initialize', withCatalogue(answering, (found, params, exchange) => initialize(answering, found, params, exchange))],
    ['ping', () => ({})],
  ]);
  const checked = { ...listHandlers(answering), ...useHandlers(answering), ...taskHandlers(answering) };
  for (const [method, handler] of Object.entries(checked)) handlers.set(method, withGrammar(handler));
  return handlers;
}

export function notificationHandlers(sessions: ReadonlyMap<unknown, Session>): ReadonlyMap<string, NotificationHandler> {
  return new Map([['notifications/roots/list_changed', (_params, peer) => sessions.get(peer)?.rootsChanged()]]);
}

function withGrammar(handler: RequestHandler): RequestHandler {
  return (params, exchange) => {
    const { method, peer } = exchange;
    const known = grammarOf(peer.revision).requests.client[method];
    if (known === undefined) throw new RpcError(errorCodes.methodNotFound, `Method not found: ${method}`);
    const why = known.params(params, 'params');
    if (why !== undefined) throw new RpcError(errorCodes.invalidParams, `Invalid params of ${method}: ${why}`);
    return handler(params, exchange);
  };
}

/** Who is asking: the transport tells it for each message, or for the whole session. */
function callerOf({ sessionOf }: Answering, exchange: Exchange): Caller {
  return exchange.caller ?? sessionOf(exchange).caller;
}

/**
 * Runs `use` at once when the sources have been read, so that a call costs no extra turn of the event loop. What the caller may not
 * see is not in the catalogue that `use` gets.
 */
function withCatalogue(answering: Answering, use: (catalogue: Catalogue, params: Params, exchange: Exchange) => unknown): RequestHandler {
  const { live, definition } = answering;
  return (params, exchange) => {
    const seen = (found: Catalogue) => {
      const caller = callerOf(answering, exchange);
      const sees = sightOf(definition(), caller, found.hasScopes);
      const seen = sees === undefined ? found : found.seenBy(caller, sees);
      const capabilities = exchange.method === 'initialize' ? params.capabilities : exchange.peer.remote?.capabilities;
      return showsViews(capabilities as ClientCapabilities | undefined) ? seen : seen.withoutViews;
    };
    return live.current === undefined
      ? live.get().then((found) => use(seen(found), params, exchange))
      : use(seen(live.current), params, exchange);
  };
}

function initialize(answering: Answering, found: Catalogue, params: Params, exchange: Exchange): object {
  const definition = answering.definition();
  const { experimental, extensions } = definition.capabilities ?? {};
  const hasViews = found.withoutViews !== found;
  const capabilities: ServerCapabilities = {
    ...(experimental !== undefined && { experimental }),
    ...((extensions !== undefined || hasViews) && { extensions: { ...extensions, ...(hasViews && { [viewExtension]: {} }) } }),
    ...capabilitiesOf(found, answering.declaresAll || mayChange(definition), tellsRequestersApart(callerOf(answering, exchange))),
  };
  const hello = { info: infoOf(definition), capabilities, instructions: definition.instructions };
  const answer = answerInitialize(exchange.peer, params, hello);
  // Only now: a handshake that is refused changes nothing.
  answering.sessionOf(exchange).declare(capabilities);
  return answer;
}

function listHandlers(answering: Answering): Record<string, RequestHandler> {
  const { sessionOf } = answering;
  return {
    'tools/list': withCatalogue(answering, (found, { cursor }, { peer }) => found.pages.tools(peer.revision, cursor)),
    'resources/list': withCatalogue(answering, (found, { cursor }, { peer }) => found.resourcesPage(peer.revision, cursor)),
    'resources/templates/list': withCatalogue(answering, (found, { cursor }, { peer }) => found.pages.templates(peer.revision, cursor)),
    'prompts/list': withCatalogue(answering, (found, { cursor }, { peer }) => found.pages.prompts(peer.revision, cursor)),
    'logging/setLevel': ({ level }, exchange) => {
      sessionOf(exchange).setLevel(level);
      return {};
    },
  };
}

function useHandlers(answering: Answering): Record<string, RequestHandler> {
  const { run, subscriptions, sessionOf, definition } = answering;
  const withOffers = (use: Parameters<typeof withCatalogue>[1]) =>
    withCatalogue(answering, (found, params, exchange) => {
      requireScopes(found, definition(), exchange.method, params, callerOf(answering, exchange));
      return use(found, params, exchange);
    });
  return {
    'tools/call': withOffers((catalogue, params, exchange) => callTool(toolContext(answering, catalogue, exchange), params, exchange)),
    'resources/read': withOffers((found, { uri }, exchange) => readResource(found, run, uri, exchange, sessionOf(exchange))),
    'resources/subscribe': withOffers((found, { uri }, exchange) => {
      subscriptions.add(exchange.peer, uri, requireResource(found, uri));
      sessionOf(exchange).noteSubscription(uri, true);
      return {};
    }),
    'resources/unsubscribe': ({ uri }, exchange) => {
      subscriptions.remove(exchange.peer, uri);
      sessionOf(exchange).noteSubscription(uri, false);
      return {};
    },
    'prompts/get': withOffers((found, params, exchange) => renderPrompt(found, run, params, exchange, sessionOf(exchange))),
    'completion/complete': withOffers((found, params, exchange) => completeArgument(found, run, params, exchange, sessionOf(exchange))),
  };
}

function toolContext(answering: Answering, catalogue: Catalogue, exchange: Exchange): ToolCallContext {
  const { run, sessionOf, tasksOf, definition, queues } = answering;
  return {
    catalogue,
    run,
    hasMiddleware: (definition().middleware?.length ?? 0) > 0,
    session: sessionOf(exchange),
    tasks: tasksOf(exchange),
    owner: ownerOf(callerOf(answering, exchange)),
    queueTasks: queues(exchange),
  };
}

/** Works on a task that was begun in another process, with what its caller may see and use. */
export async function workOnJob(answering: Answering, peer: Peer, job: TaskJob, run: number, signal: AbortSignal): Promise<JobEnd> {
  const channel: Channel = {
    send: (message) => peer.outlet.send(message),
    caller: job.caller,
    header: (name) => job.caller.headers?.[name],
  };
  const exchange = new Exchange(peer, job.taskId, 'tools/call', job.params, channel);
  const work = withCatalogue(answering, (found) => workOnTask(toolContext(answering, found, exchange), { job, run, signal, exchange }));
  return (await work(job.params, exchange)) as JobEnd;
}

function taskHandlers(answering: Answering): Record<string, RequestHandler> {
  const { tasksOf, definition } = answering;
  const owner = (exchange: Exchange) => ownerOf(callerOf(answering, exchange));
  return {
    'tasks/get': (params, exchange) => tasksOf(exchange).get(params, owner(exchange)),
    'tasks/result': (params, exchange) => tasksOf(exchange).result(params, owner(exchange), exchange),
    'tasks/cancel': (params, exchange) => tasksOf(exchange).cancel(params, owner(exchange)),
    'tasks/list': (params, exchange) => {
      if (!tellsRequestersApart(callerOf(answering, exchange)))
        throw new RpcError(errorCodes.methodNotFound, 'Method not found: tasks/list (requesters cannot be told apart here)');
      return tasksOf(exchange).list(params, owner(exchange), definition().pageSize ?? defaultPageSize);
    },
  };
}

/** Tasks belong to whoever can be told from others; where nobody can, the task's id is the secret. */
function ownerOf({ identity, transport }: Caller): string {
  return identity === undefined ? transport : `${transport} ${identity}`;
}

function tellsRequestersApart({ transport, identity }: Caller): boolean {
  return transport !== 'http' || identity !== undefined;
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
