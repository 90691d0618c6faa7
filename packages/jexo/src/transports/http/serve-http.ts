import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { systemClock } from '../../engine/clock.js';
import { after } from '../../engine/store.js';
import { memoryLimits } from '../../stores/memory.js';
import { describeFault } from '../../engine/faults.js';
import type { Servable } from '../../engine/servable.js';
import { JexoError } from '../../errors.js';
import { surviveStrays } from '../strays.js';
import type { FrontPage } from './front-page.js';
import { createGate, loopbackNames } from './gate.js';
import { listen } from './listen.js';
import { withNodeRequest } from './node-exchange.js';
import { nodeHandler, type NodeHandler, type NodeHandlerOptions } from './node-handler.js';
import { createOlderPair, type OlderPair } from './older-pair.js';

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
  /** Default: the loopback names and `host`. */
  readonly allowedHosts?: readonly string[];
  /** Milliseconds that calls in flight get to finish on close. Default 10,000. */
  readonly graceMs?: number;
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
  readonly routes?: Readonly<Record<string, (request: IncomingMessage, response: ServerResponse) => void>>;
}

/** A server that is served over HTTP. */
export interface HttpService {
  /** Where clients connect to. */
  readonly url: string;
  /** The port it listens at. */
  readonly port: number;
  /** Sessions that are open. */
  readonly sessions: number;
  /** Requests being answered. */
  readonly inFlight: number;
  /** Ends all sessions; clients begin new ones. */
  forgetSessions(): void;
  /** Stops listening, answers what is in flight, ends the streams. */
  close(): Promise<void>;
}

const ssePath = '/sse';
const postPath = '/messages';

/**
 * Serves over Streamable HTTP. Beside the endpoint, `/health` answers as long as the process lives, and `/ready` once the
 * server has read its sources and until it is stopping.
 *
 * @throws JexoError JEXO_PORT_IN_USE, JEXO_ADDRESS, JEXO_OPEN
 * @example
 * const { url, close } = await serveHttp(apiary, { port: 4300 });   // http://127.0.0.1:4300/mcp
 */
export async function serveHttp(server: Servable, options: ServeHttpOptions = {}): Promise<HttpService> {
  const { port = 0, host = '127.0.0.1', path = '/mcp', graceMs = 10_000, maxHeaderBytes = 16 * 1024, maxConnections = 20_000 } = options;
  const isWildcard = host === '0.0.0.0' || host === '::';
  if (!isLoopback(host) && options.open !== true && options.authenticate === undefined)
    throw new JexoError('JEXO_OPEN', `Every machine that reaches this one at ${host} could call these tools: there is no sign-in.`, {
      where: host,
    });
  const allowedHosts = options.allowedHosts ?? (isWildcard ? ['*'] : [...loopbackNames, host.includes(':') ? `[${host}]` : host]);
  let made: Promise<FrontPage> | undefined;
  const page = options.page ? () => (made ??= import('./front-page.js').then(({ frontPage }) => frontPage(path))) : undefined;
  const handler = nodeHandler(server, { ...options, allowedHosts });
  const older = options.httpSse ? olderPairFor(server, { ...options, allowedHosts }) : undefined;
  const readiness = watchReadiness(server);
  const release = surviveStrays(note);
  const route = createRoutes({ ...options, path, allowedHosts }, { handler, older, readiness, page });
  const http = createServer({ maxHeaderSize: maxHeaderBytes }, limited(options, route));
  http.maxConnections = maxConnections;
  const letGo = (): Promise<void> =>
    Promise.all([handler.endpoint.close('the server is stopping'), older?.close('the server is stopping')]).then(
      () => undefined,
      (error: unknown) => note(`a source could not be closed: ${describeFault(error)}`),
    );
  try {
    await listen(http, port, host);
  } catch (error) {
    release();
    await letGo();
    throw error;
  }
  const address = http.address() as AddressInfo;
  const shownHost = address.address.includes(':') ? `[${address.address}]` : address.address;
  const stop = async (): Promise<void> => {
    readiness.stop();
    const closed = new Promise<void>((resolve) => http.close(() => resolve()));
    await within(graceMs, Promise.all([handler.endpoint.whenIdle(), older?.whenIdle()]));
    await letGo();
    http.closeIdleConnections();
    // Answers have been handed to the sockets; what is still open after a moment has nobody reading it.
    const cut = setTimeout(() => http.closeAllConnections(), 250);
    await closed;
    clearTimeout(cut);
    release();
  };
  let closing: Promise<void> | undefined;
  return {
    url: `http://${shownHost}:${address.port}${path}`,
    port: address.port,
    get sessions() {
      return handler.endpoint.sessions;
    },
    get inFlight() {
      return handler.endpoint.inFlight + (older?.inFlight ?? 0);
    },
    forgetSessions: () => handler.endpoint.forgetSessions(),
    close: () => (closing ??= stop()),
  };
}

const note = (text: string) => console.error(`jexo: ${text}`);

/** Waits for a work, but no longer than so many milliseconds. */
async function within(ms: number, work: Promise<unknown>): Promise<void> {
  let timer: NodeJS.Timeout | undefined;
  await Promise.race([work, new Promise((resolve) => (timer = setTimeout(resolve, ms)))]);
  clearTimeout(timer);
}

function olderPairFor(server: Servable, options: ServeHttpOptions & { readonly allowedHosts: readonly string[] }): OlderPair {
  const { authenticate, clock = systemClock, maxSessions = 10_000, maxUnreadBytes = 1024 * 1024, onFault } = options;
  const gate = createGate(options);
  return createOlderPair(server, { gate, authenticate, clock, postPath, maxSessions, maxUnreadBytes, ...(onFault && { onFault }) });
}

/** Whether the sources have been read, for those who ask at `/ready`. */
interface Readiness {
  readonly state: 'starting' | 'ready' | 'failed' | 'stopping';
  /** What could not be read may be there by now. */
  tryAgain(): void;
  stop(): void;
}

function watchReadiness(server: Servable): Readiness {
  let state: Readiness['state'] = 'starting';
  let isTold = false;
  const get = () =>
    server.ready().then(
      () => {
        if (state !== 'stopping') state = 'ready';
      },
      (error: unknown) => {
        if (state !== 'stopping') state = 'failed';
        // Clients get a reference only; the operator gets the reason, once.
        if (!isTold) note(`the server cannot be read: ${describeFault(error)}`);
        isTold = true;
      },
    );
  void get();
  return {
    get state() {
      return state;
    },
    tryAgain: () => void get(),
    stop: () => (state = 'stopping'),
  };
}

type Route = (request: IncomingMessage, response: ServerResponse) => void;

/** The route, for those who have not asked too often. */
function limited({ requestsPerMinute, store, clock = systemClock }: ServeHttpOptions, route: Route): Route {
  if (requestsPerMinute === undefined) return route;
  const limits = store?.limits ?? memoryLimits(clock);
  return (request, response) => {
    const { remoteAddress = '' } = request.socket;
    const done = after(limits.take(`requests ${remoteAddress}`, requestsPerMinute, 60_000), (wait) => {
      if (wait === 0) return route(request, response);
      say(request, response, 429, 'Too many requests: slow down.\n', { 'retry-after': String(Math.ceil(wait / 1000)) });
    });
    if (done instanceof Promise)
      done.catch((error: unknown) => {
        note(`the store cannot be asked: ${describeFault(error)}`);
        say(request, response, 503, 'Try again later.\n');
      });
  };
}

interface Routed {
  readonly handler: NodeHandler;
  readonly older: OlderPair | undefined;
  readonly readiness: Readiness;
  readonly page: (() => Promise<FrontPage>) | undefined;
}

function createRoutes(
  options: ServeHttpOptions & { readonly path: string; readonly allowedHosts: readonly string[] },
  { handler, older, readiness, page }: Routed,
): Route {
  const { path, maxBodyBytes = 4 * 1024 * 1024 } = options;
  const gate = createGate(options);
  const routePage = (request: IncomingMessage, response: ServerResponse, shown: NonNullable<Routed['page']>) => {
    const why = gate.refuses(request.headers.host, undefined);
    if (why !== undefined) return say(request, response, 403, `Refused: ${why}.\n`);
    void shown().then(
      ({ html, policy }) =>
        response
          .writeHead(200, {
            'content-type': 'text/html; charset=utf-8',
            'content-security-policy': policy,
            'x-content-type-options': 'nosniff',
            'referrer-policy': 'no-referrer',
          })
          .end(request.method === 'HEAD' ? undefined : html),
      (error: unknown) => say(request, response, 500, `The page cannot be shown: ${describeFault(error)}\n`),
    );
  };
  return (request, response) => {
    const { url = '/', method } = request;
    const end = url.indexOf('?');
    const at = end < 0 ? url : url.slice(0, end);
    if (at === path) return handler(request, response);
    if (at === '/health') return say(request, response, 200, 'alive\n');
    if (at === '/ready') {
      if (readiness.state === 'failed') readiness.tryAgain();
      return say(request, response, readiness.state === 'ready' ? 200 : 503, `${readiness.state}\n`);
    }
    if (older !== undefined && at === ssePath && method === 'GET')
      return withNodeRequest(request, response, maxBodyBytes, undefined, (head, _body, responder) => older.listen(head, responder));
    if (older !== undefined && at === postPath && method === 'POST') {
      const session = new URLSearchParams(url.slice(end + 1)).get('session');
      return withNodeRequest(request, response, maxBodyBytes, undefined, (head, body, responder) =>
        older.post(head, session, body, responder),
      );
    }
    const own = options.routes !== undefined && Object.hasOwn(options.routes, at) ? options.routes[at] : undefined;
    if (own !== undefined) {
      const why = gate.refuses(request.headers.host, undefined);
      return why === undefined ? own(request, response) : say(request, response, 403, `Refused: ${why}.\n`);
    }
    if (page !== undefined && at === '/' && (method === 'GET' || method === 'HEAD')) return routePage(request, response, page);
    say(request, response, 404, `Nothing is served here. The protocol is served at ${path}.\n`);
  };
}

function isLoopback(host: string): boolean {
  return /^(?:localhost|127\.\d+\.\d+\.\d+|::1|\[::1\])$/i.test(host);
}

function say(request: IncomingMessage, response: ServerResponse, status: number, text: string, headers: Record<string, string> = {}): void {
  request.resume();
  response.writeHead(status, { 'content-type': 'text/plain; charset=utf-8', ...headers });
  response.end(text);
}
