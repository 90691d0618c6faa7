import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { systemClock } from '../../engine/clock.js';
import { after, type MaybePromise } from '../../engine/store.js';
import { memoryLimits } from '../../stores/memory.js';
import { describeFault } from '../../engine/faults.js';
import type { Servable } from '../../engine/servable.js';
import { JexoError } from '../../errors.js';
import { surviveStrays } from '../strays.js';
import { createGate, loopbackNames } from './gate.js';
import { listen } from './listen.js';
import { withNodeRequest } from './node-exchange.js';
import { nodeHandler, type NodeHandlerOptions } from './node-handler.js';
import { createOlderPair } from './older-pair.js';

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
}

export interface HttpService {
  readonly url: string;
  readonly port: number;
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
  const {
    port = 0,
    host = '127.0.0.1',
    path = '/mcp',
    graceMs = 10_000,
    maxBodyBytes = 4 * 1024 * 1024,
    maxHeaderBytes = 16 * 1024,
    maxConnections = 20_000,
  } = options;
  const wildcard = host === '0.0.0.0' || host === '::';
  if (!isLoopback(host) && options.open !== true && options.authenticate === undefined)
    throw new JexoError('JEXO_OPEN', `Every machine that reaches this one at ${host} could call these tools: there is no sign-in.`, {
      where: host,
    });
  const allowedHosts = options.allowedHosts ?? (wildcard ? ['*'] : [...loopbackNames, host.includes(':') ? `[${host}]` : host]);
  const handler = nodeHandler(server, { ...options, allowedHosts });
  const { clock = systemClock, maxSessions = 10_000, maxUnreadBytes = 1024 * 1024, onFault } = options;
  const older = options.httpSse
    ? createOlderPair(server, {
        gate: createGate({ ...options, allowedHosts }),
        authenticate: options.authenticate,
        clock,
        postPath,
        maxSessions,
        maxUnreadBytes,
        ...(onFault && { onFault }),
      })
    : undefined;
  const delay = options.requestsPerMinute === undefined ? undefined : delayByAddress(options, options.requestsPerMinute);
  const gate = createGate({ ...options, allowedHosts });
  const page = options.page ? (await import('./front-page.js')).frontPage(path) : undefined;
  let state: 'starting' | 'ready' | 'failed' | 'stopping' = 'starting';
  let told = false;
  const onNote = (note: string) => console.error(`jexo: ${note}`);
  const getReady = () =>
    server.ready().then(
      () => {
        if (state !== 'stopping') state = 'ready';
      },
      (error: unknown) => {
        if (state !== 'stopping') state = 'failed';
        // Clients get a reference only; the operator gets the reason, once.
        if (!told) onNote(`the server cannot be read: ${describeFault(error)}`);
        told = true;
      },
    );
  void getReady();
  const release = surviveStrays(onNote);

  const http = createServer({ maxHeaderSize: maxHeaderBytes }, (request, response) => {
    const limited = after(delay?.(request.socket.remoteAddress ?? '') ?? 0, (wait) => {
      if (wait === 0) return route(request, response);
      say(request, response, 429, 'Too many requests: slow down.\n', { 'retry-after': String(Math.ceil(wait / 1000)) });
    });
    if (limited instanceof Promise)
      limited.catch((error: unknown) => {
        onNote(`the store cannot be asked: ${describeFault(error)}`);
        say(request, response, 503, 'Try again later.\n');
      });
  });
  const route = (request: IncomingMessage, response: ServerResponse): void => {
    const { url = '/' } = request;
    const end = url.indexOf('?');
    const at = end < 0 ? url : url.slice(0, end);
    if (at === path) return handler(request, response);
    if (at === '/health') return say(request, response, 200, 'alive\n');
    if (at === '/ready') {
      // What could not be read may be there by now.
      if (state === 'failed') void getReady();
      return say(request, response, state === 'ready' ? 200 : 503, `${state}\n`);
    }
    if (older !== undefined && at === ssePath && request.method === 'GET')
      return withNodeRequest(request, response, maxBodyBytes, undefined, (head, _body, responder) => older.listen(head, responder));
    if (older !== undefined && at === postPath && request.method === 'POST') {
      const session = new URLSearchParams(url.slice(end + 1)).get('session');
      return withNodeRequest(request, response, maxBodyBytes, undefined, (head, body, responder) =>
        older.post(head, session, body, responder),
      );
    }
    if (page !== undefined && at === '/' && (request.method === 'GET' || request.method === 'HEAD')) {
      const why = gate.refuses(request.headers.host, undefined);
      if (why !== undefined) return say(request, response, 403, `Refused: ${why}.\n`);
      return void page.then(({ html, policy }) =>
        response
          .writeHead(200, {
            'content-type': 'text/html; charset=utf-8',
            'content-security-policy': policy,
            'x-content-type-options': 'nosniff',
            'referrer-policy': 'no-referrer',
          })
          .end(request.method === 'HEAD' ? undefined : html),
      );
    }
    say(request, response, 404, `Nothing is served here. The protocol is served at ${path}.\n`);
  };
  http.maxConnections = maxConnections;
  try {
    await listen(http, port, host);
  } catch (error) {
    release();
    throw error;
  }
  const address = http.address() as AddressInfo;
  const shownHost = address.address.includes(':') ? `[${address.address}]` : address.address;
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
    close() {
      return (closing ??= (async () => {
        state = 'stopping';
        const closed = new Promise<void>((resolve) => http.close(() => resolve()));
        let timer: NodeJS.Timeout | undefined;
        await Promise.race([
          Promise.all([handler.endpoint.whenIdle(), older?.whenIdle()]),
          new Promise((resolve) => (timer = setTimeout(resolve, graceMs))),
        ]);
        clearTimeout(timer);
        await Promise.all([handler.endpoint.close('the server is stopping'), older?.close('the server is stopping')]).catch(
          (error: unknown) => onNote(`a source could not be closed: ${describeFault(error)}`),
        );
        http.closeIdleConnections();
        // Answers have been handed to the sockets; what is still open after a moment has nobody reading it.
        const cut = setTimeout(() => http.closeAllConnections(), 250);
        await closed;
        clearTimeout(cut);
        release();
      })());
    },
  };
}

function isLoopback(host: string): boolean {
  return /^(?:localhost|127\.\d+\.\d+\.\d+|::1|\[::1\])$/i.test(host);
}

/** Milliseconds an address has to wait; 0 when its request may pass. */
function delayByAddress({ store, clock = systemClock }: ServeHttpOptions, perMinute: number): (address: string) => MaybePromise<number> {
  const limits = store?.limits ?? memoryLimits(clock);
  return (address) => limits.take(`requests ${address}`, perMinute, 60_000);
}

function say(request: IncomingMessage, response: ServerResponse, status: number, text: string, headers: Record<string, string> = {}): void {
  request.resume();
  response.writeHead(status, { 'content-type': 'text/plain; charset=utf-8', ...headers });
  response.end(text);
}
