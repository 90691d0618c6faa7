import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { systemClock } from '../../engine/clock.js';
import { describeFault } from '../../engine/faults.js';
import { pause } from '../../engine/pause.js';
import type { Servable } from '../../engine/servable.js';
import { JexoError } from '../../errors.js';
import { surviveStrays } from '../strays.js';
import { serveAdmin } from './admin.js';
import type { Seen } from './forwarded.js';
import type { FrontPage } from './front-page.js';
import { createGate, loopbackNames } from './gate.js';
import { listen } from './listen.js';
import { nodeHandler, type NodeHandlerOptions } from './node-handler.js';
import { createOlderPair, type OlderPair } from './older-pair.js';
import { watchReadiness } from './readiness.js';
import { createRoutes, limited, postPath, type RoutingOptions } from './routes.js';
import { createTlsServer, type TlsFiles } from './tls.js';
import { readPublicUrl } from './public-url.js';

/** Answers a request of node:http. */
export type OwnRoute = (request: IncomingMessage, response: ServerResponse) => void;

/** How `serveHttp` serves. */
export interface ServeHttpOptions extends Omit<NodeHandlerOptions, 'allowedHosts'> {
  /** Default 0: any free port. */
  readonly port?: number;
  /** Address to listen at. Default 127.0.0.1: this machine only. */
  readonly host?: string;
  /** True says that anybody who reaches the address may call: needed for every address but those of this machine alone. */
  readonly open?: boolean;
  /** Default `/mcp`. */
  readonly path?: string;
  /** Put before every path, where a proxy in front hands paths on as they are: `/tools`. Default: nothing. */
  readonly basePath?: string;
  /**
   * Where clients reach the endpoint, when that is not where it listens: `https://apiary.example/mcp`. Its host and its pages are allowed,
   * and it is the address that is told.
   */
  readonly publicUrl?: string;
  /** Default: the loopback names, `host`, and that of `publicUrl`. */
  readonly allowedHosts?: readonly string[];
  /** Serves HTTPS with these files; a renewed certificate is taken up without a restart. Default: HTTP. */
  readonly tls?: TlsFiles;
  /** Milliseconds that calls in flight get to finish on close. Default 10,000. */
  readonly graceMs?: number;
  /**
   * Milliseconds on close in which connections are still taken while `/ready` says no, so that what is in front can turn elsewhere.
   * Default 0.
   */
  readonly drainMs?: number;
  /** True serves clients of revision 2024-11-05 too, which want a stream at `/sse`. Default false. */
  readonly httpSse?: boolean;
  /** Connections at once. Default 20,000. */
  readonly maxConnections?: number;
  /** Bytes the headers of a request may have. Default 16 KiB; larger ones are answered with 431. */
  readonly maxHeaderBytes?: number;
  /** Requests one address may make in a minute; further ones are answered with 429. Default: any number. */
  readonly requestsPerMinute?: number;
  /** A plain page at `/` tells a person what is offered here, and lets them try it. Default false. */
  readonly page?: boolean;
  /** Own routes beside the endpoint, by their paths: `{ '/metrics': (request, response) => … }`. Who may ask is for them to see to. */
  readonly routes?: Readonly<Record<string, OwnRoute>>;
  /**
   * Takes a request that another process is to answer, because it has the session: see `sessionMark`. True when it did. Default: none does.
   */
  readonly elsewhere?: (request: IncomingMessage, response: ServerResponse, seen: Seen) => boolean;
  /** A port of its own for operators: `/health`, `/ready` and `adminRoutes`. Default: none. */
  readonly adminPort?: number;
  /** Address of the port for operators. Default 127.0.0.1. */
  readonly adminHost?: string;
  /** Routes at the port for operators, by their paths. */
  readonly adminRoutes?: Readonly<Record<string, OwnRoute>>;
}

/** A server that is served over HTTP. */
export interface HttpService {
  /** Where clients connect to. */
  readonly url: string;
  /** The port it listens at. */
  readonly port: number;
  /** The port for operators, where there is one. */
  readonly adminPort: number | undefined;
  /** Sessions that are open. */
  readonly sessions: number;
  /** Event streams that are open. */
  readonly streams: number;
  /** Requests being answered. */
  readonly inFlight: number;
  /** Answers a request that came another way, by a Unix socket say. */
  readonly route: OwnRoute;
  /** Ends all sessions; clients begin new ones. */
  forgetSessions(): void;
  /**
   * Stops: begins no new session, answers what is in flight, has the readers of streams come back (to another process perhaps), and closes
   * the server.
   */
  close(): Promise<void>;
}

/**
 * Serves over Streamable HTTP. Beside the endpoint, `/health` answers as long as the process lives, and `/ready` once the
 * server has read its sources and until it is stopping.
 *
 * @throws JexoError JEXO_PORT_IN_USE, JEXO_ADDRESS, JEXO_OPEN, JEXO_TLS, JEXO_USAGE
 * @example
 * const { url, close } = await serveHttp(apiary, { port: 4300 });   // http://127.0.0.1:4300/mcp
 */
export async function serveHttp(server: Servable, options: ServeHttpOptions = {}): Promise<HttpService> {
  const { port = 0, host = '127.0.0.1', maxHeaderBytes = 16 * 1024, maxConnections = 20_000, tls } = options;
  requireAuth(options);
  const routing = withDefaults(options);
  const handler = nodeHandler(server, routing);
  const older = options.httpSse ? olderPairFor(server, routing) : undefined;
  const readiness = watchReadiness(server, note);
  const release = surviveStrays(note);
  let isStopping = false;
  const route = limited(options, note, createRoutes(routing, { handler, older, readiness, page: pageOf(routing) }));
  const take: OwnRoute = (request, response) => {
    // Whoever has more to ask connects again: to another process, when this one is gone.
    if (isStopping) response.shouldKeepAlive = false;
    route(request, response);
  };
  const letGo = (): Promise<void> =>
    Promise.all([handler.endpoint.close('the server is stopping'), older?.close('the server is stopping')]).then(
      () => undefined,
      (error: unknown) => note(`a source could not be closed: ${describeFault(error)}`),
    );
  let http: Server;
  let admin: Server | undefined;
  try {
    http = tls === undefined ? createServer({ maxHeaderSize: maxHeaderBytes }) : createTlsServer(tls, maxHeaderBytes, note);
    http.on('request', take);
    http.maxConnections = maxConnections;
    await listen(http, port, host);
    if (options.adminPort !== undefined)
      admin = await serveAdmin(options.adminPort, options.adminHost ?? '127.0.0.1', readiness, options.adminRoutes ?? {}).catch(
        (error: unknown) => {
          http.close();
          throw error;
        },
      );
  } catch (error) {
    release();
    await letGo();
    throw error;
  }
  const stop = async (): Promise<void> => {
    const { graceMs = 10_000, drainMs = 0 } = options;
    readiness.stop();
    isStopping = true;
    handler.endpoint.drain();
    if (drainMs > 0) await pause(drainMs);
    const closed = new Promise<void>((resolve) => http.close(() => resolve()));
    await within(graceMs, Promise.all([handler.endpoint.whenIdle(), older?.whenIdle()]));
    await letGo();
    http.closeIdleConnections();
    // Answers have been handed to the sockets; what is still open after a moment has nobody reading it.
    const cut = setTimeout(() => http.closeAllConnections(), 250);
    await closed;
    clearTimeout(cut);
    admin?.close();
    admin?.closeAllConnections();
    release();
  };
  let closing: Promise<void> | undefined;
  return {
    url: options.publicUrl ?? addressOf(http, `${routing.basePath}${routing.path}`),
    port: (http.address() as AddressInfo).port,
    adminPort: (admin?.address() as AddressInfo | undefined)?.port,
    get sessions() {
      return handler.endpoint.sessions;
    },
    get streams() {
      return handler.endpoint.streams;
    },
    get inFlight() {
      return handler.endpoint.inFlight + (older?.inFlight ?? 0);
    },
    route: take,
    forgetSessions: () => handler.endpoint.forgetSessions(),
    close: () => (closing ??= stop()),
  };
}

const note = (text: string) => console.error(`jexo: ${text}`);

/** @throws JexoError JEXO_OPEN */
function requireAuth({ host = '127.0.0.1', open, auth }: ServeHttpOptions): void {
  if (isLoopback(host) || open === true || auth !== undefined) return;
  throw new JexoError('JEXO_OPEN', `Every machine that reaches this one at ${host} could call these tools: there is no sign-in.`, {
    where: host,
  });
}

/** @throws JexoError JEXO_USAGE */
function withDefaults(options: ServeHttpOptions): RoutingOptions {
  const { host = '127.0.0.1', path = '/mcp', basePath = '', publicUrl, allowedOrigins = [] } = options;
  const base = basePath.replace(/\/+$/, '');
  if (base !== '' && !/^\/[^?#]*$/.test(base))
    throw new JexoError('JEXO_USAGE', `basePath must start with a slash; ${JSON.stringify(basePath)} does not.`, { where: 'basePath' });
  const known = publicUrl === undefined ? undefined : readPublicUrl(publicUrl);
  const isWildcard = host === '0.0.0.0' || host === '::';
  // With an address that is told, a wildcard need not mean any name.
  const names = [...loopbackNames, ...(isWildcard ? [] : [host.includes(':') ? `[${host}]` : host]), ...(known ? [known.hostname] : [])];
  return {
    ...options,
    path,
    basePath: base,
    allowedHosts: options.allowedHosts ?? (isWildcard && known === undefined ? ['*'] : names),
    allowedOrigins: [...allowedOrigins, ...(known ? [known.origin] : [])],
  };
}

/** The page asks the endpoint where the browser finds it, which need not be where it is served. */
function pageOf({ page, basePath, path, publicUrl }: RoutingOptions): (() => Promise<FrontPage>) | undefined {
  if (page !== true) return undefined;
  const shown = publicUrl === undefined ? `${basePath}${path}` : new URL(publicUrl).pathname;
  let made: Promise<FrontPage> | undefined;
  return () => (made ??= import('./front-page.js').then(({ frontPage }) => frontPage(shown)));
}

function addressOf(http: Server, path: string): string {
  const { address, port } = http.address() as AddressInfo;
  const scheme = 'setSecureContext' in http ? 'https' : 'http';
  return `${scheme}://${address.includes(':') ? `[${address}]` : address}:${port}${path}`;
}

/** Waits for a work, but no longer than so many milliseconds. */
async function within(ms: number, work: Promise<unknown>): Promise<void> {
  let timer: NodeJS.Timeout | undefined;
  await Promise.race([work, new Promise((resolve) => (timer = setTimeout(resolve, ms)))]);
  clearTimeout(timer);
}

function olderPairFor(server: Servable, options: RoutingOptions): OlderPair {
  const { auth, clock = systemClock, maxSessions = 10_000, maxUnreadBytes = 1024 * 1024, onFault, basePath } = options;
  const gate = createGate(options);
  return createOlderPair(server, {
    gate,
    auth,
    clock,
    postPath: `${basePath}${postPath}`,
    maxSessions,
    maxUnreadBytes,
    ...(onFault && { onFault }),
  });
}

function isLoopback(host: string): boolean {
  return /^(?:localhost|127\.\d+\.\d+\.\d+|::1|\[::1\])$/i.test(host);
}
