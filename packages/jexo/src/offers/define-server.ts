import { JexoError } from '../errors.js';
import type { Exchange } from '../engine/exchange.js';
import { answerInitialize } from '../engine/handshake.js';
import { Peer, type RequestHandler } from '../engine/peer.js';
import type { Servable, SessionOptions } from '../engine/servable.js';
import { errorCodes, RpcError } from '../protocol/json-rpc.js';
import { logLevels, type Icon, type Implementation } from '../protocol/types.js';
import { callTool } from './call-tool.js';
import { collect, type Catalogue } from './catalogue.js';
import { compose, type Middleware } from './middleware.js';
import type { Offer, Source } from './offer.js';
import { Session } from './session.js';

const brand = Symbol.for('jexo.server');

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
  /** Runs around every tool, outermost first. */
  readonly middleware?: readonly Middleware[];
  /** Entries a page of a listing holds. Default 100. */
  readonly pageSize?: number;
}

/** A server as a value: it describes what is offered and runs nothing. */
export interface Server extends Servable {
  readonly [brand]: true;
  readonly definition: ServerDefinition;
  /** What is offered now. Reads the sources on first use. */
  catalogue(): Promise<Catalogue>;
  /** Reads the sources again and tells every open session. The old offers stay when a source fails. */
  reload(): Promise<Catalogue>;
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
  const { pageSize = 100, middleware = [] } = definition;
  const run = compose(middleware);
  const sessions = new Map<Peer, Session>();
  let sessionCount = 0;
  let loading: Promise<Catalogue> | undefined;
  let current: Catalogue | undefined;

  const load = async (): Promise<Catalogue> => {
    const found = await collect(definition.offers, pageSize);
    current = found;
    return found;
  };
  const catalogue = (): Promise<Catalogue> => {
    if (loading === undefined) {
      loading = load();
      loading.catch(() => (loading = undefined)); // every caller gets the error; the next one tries again
    }
    return loading;
  };
  /** Runs `use` at once when the sources have been read, so that a call costs no extra turn of the event loop. */
  const withCatalogue =
    (use: (catalogue: Catalogue, params: Record<string, unknown>, exchange: Exchange) => unknown): RequestHandler =>
    (params, exchange) =>
      current === undefined ? catalogue().then((found) => use(found, params, exchange)) : use(current, params, exchange);

  const info: Implementation = {
    name: definition.name,
    version: definition.version,
    ...(definition.title !== undefined && { title: definition.title }),
    ...(definition.description !== undefined && { description: definition.description }),
    ...(definition.icons !== undefined && { icons: definition.icons }),
    ...(definition.websiteUrl !== undefined && { websiteUrl: definition.websiteUrl }),
  };
  const hello = { info, capabilities: { tools: { listChanged: true }, logging: {} }, instructions: definition.instructions };

  const requests = new Map<string, RequestHandler>([
    ['initialize', (params, exchange) => answerInitialize(exchange.peer, params, hello)],
    ['ping', () => ({})],
    ['tools/list', withCatalogue((found, params, exchange) => found.toolsPage(exchange.peer.revision, params.cursor))],
    ['tools/call', withCatalogue((found, params, exchange) => callTool(found, run, params, exchange, sessions.get(exchange.peer)!))],
    [
      'logging/setLevel',
      (params, exchange) => {
        if (!logLevels.includes(params.level))
          throw new RpcError(
            errorCodes.invalidParams,
            `Invalid log level: ${JSON.stringify(params.level)}; the levels are ${logLevels.join(', ')}`,
          );
        sessions.get(exchange.peer)!.setLevel(params.level);
        return {};
      },
    ],
  ]);

  return {
    [brand]: true,
    definition,
    info,
    catalogue,
    ready: async () => void (await catalogue()),
    async reload() {
      const before = current;
      const found = await load();
      loading = Promise.resolve(found);
      if (before !== undefined)
        for (const peer of sessions.keys()) if (peer.state === 'ready') peer.notify('notifications/tools/list_changed');
      return found;
    },
    open(options: SessionOptions) {
      const peer = new Peer({
        role: 'server',
        outlet: options.outlet,
        clock: options.clock,
        requests,
        ...(options.onFault && { onFault: options.onFault }),
      });
      sessions.set(peer, new Session(peer, options.sessionId ?? String(++sessionCount), options.caller ?? { transport: 'memory' }));
      peer.onClose(() => sessions.delete(peer));
      return peer;
    },
  };
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
    if (!known) refuse(`offers[${index}]`, 'made by tool(), wrapFunctions() or another source');
  });
  const { pageSize } = definition;
  if (pageSize !== undefined && (!Number.isInteger(pageSize) || pageSize < 1)) refuse('pageSize', 'a whole number from 1');
}
