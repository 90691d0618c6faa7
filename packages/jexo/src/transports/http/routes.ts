import { printFault } from '../../engine/faults.js';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { systemClock } from '../../engine/clock.js';
import { describeFault } from '../../engine/faults.js';
import { after } from '../../engine/store.js';
import { memoryLimits } from '../../stores/memory.js';
import type { See } from './forwarded.js';
import type { FrontPage } from './front-page.js';
import { createGate } from './gate.js';
import { withNodeRequest } from './node-exchange.js';
import { exchangeOptionsOf, type NodeHandler } from './node-handler.js';
import type { OlderPair } from './older-pair.js';
import type { Readiness } from './readiness.js';
import { say } from './say.js';
import type { OwnRoute, ServeHttpOptions } from './serve-http.js';

/** Where the older pair listens and takes messages. */
export const ssePath = '/sse';
export const postPath = '/messages';

/** What there is to route to. */
export interface Routed {
  readonly handler: NodeHandler;
  readonly older: OlderPair | undefined;
  readonly readiness: Readiness;
  readonly page: (() => Promise<FrontPage>) | undefined;
}

/** Options with what stands in for those that were not given. */
export type RoutingOptions = ServeHttpOptions & {
  readonly path: string;
  readonly basePath: string;
  readonly allowedHosts: readonly string[];
};

/** Paths of a server that is served over HTTP, all of them below `basePath`. */
export function createRoutes(options: RoutingOptions, { handler, older, readiness, page }: Routed): OwnRoute {
  const { path, basePath } = options;
  const exchange = exchangeOptionsOf(options);
  const refusal = hostCheck(options, exchange.see);
  const probes = probeRoutes(readiness);
  const withoutBase = stripper(basePath);
  const { documents } = options.auth ?? {};
  return (request, response) => {
    const { url = '/', method } = request;
    const end = url.indexOf('?');
    // Well-known places are at the root of the host, whatever stands before the other paths (RFC 8615).
    const known = documents !== undefined && url.startsWith('/.well-known/') ? (end < 0 ? url : url.slice(0, end)) : undefined;
    if (known !== undefined && Object.hasOwn(documents!, known)) return sayDocument(request, response, documents![known]!);
    const at = withoutBase(end < 0 ? url : url.slice(0, end));
    if (at === path) return options.elsewhere?.(request, response, exchange.see(request)) === true ? undefined : handler(request, response);
    const probe = at === undefined ? undefined : probes.get(at);
    if (probe !== undefined) return probe(request, response);
    if (older !== undefined && at === ssePath && method === 'GET')
      return withNodeRequest(request, response, exchange, undefined, (head, _body, responder) => older.listen(head, responder));
    if (older !== undefined && at === postPath && method === 'POST') {
      const session = new URLSearchParams(url.slice(end + 1)).get('session');
      return withNodeRequest(request, response, exchange, undefined, (head, body, responder) => older.post(head, session, body, responder));
    }
    const own = at !== undefined && options.routes !== undefined && Object.hasOwn(options.routes, at) ? options.routes[at] : undefined;
    if (own !== undefined) return refusal(request, response) ? undefined : own(request, response);
    if (page !== undefined && at === '/' && (method === 'GET' || method === 'HEAD'))
      return refusal(request, response) ? undefined : showPage(request, response, page);
    say(request, response, 404, `Nothing is served here. The protocol is served at ${basePath}${path}.\n`);
  };
}

/** `/health` as long as the process lives, `/ready` while it takes work. */
export function probeRoutes(readiness: Readiness): ReadonlyMap<string, OwnRoute> {
  return new Map<string, OwnRoute>([
    ['/health', (request, response) => say(request, response, 200, 'alive\n')],
    [
      '/ready',
      (request, response) => {
        if (readiness.state === 'failed') readiness.tryAgain();
        say(request, response, readiness.state === 'ready' ? 200 : 503, `${readiness.state}\n`);
      },
    ],
  ]);
}

function stripper(basePath: string): (path: string) => string | undefined {
  if (basePath === '') return (path) => path;
  return (path) => (path === basePath ? '/' : path.startsWith(`${basePath}/`) ? path.slice(basePath.length) : undefined);
}

/** A document that any page may read. */
function sayDocument(request: IncomingMessage, response: ServerResponse, document: object | (() => Promise<object>)): void {
  const headers = { 'content-type': 'application/json', 'access-control-allow-origin': '*', 'cache-control': 'max-age=300' };
  if (request.method === 'OPTIONS') return void response.writeHead(204, { ...headers, 'access-control-allow-headers': '*' }).end();
  if (request.method !== 'GET' && request.method !== 'HEAD')
    return say(request, response, 405, 'Only GET is served here.\n', { allow: 'GET, HEAD' });
  const send = (found: object) => response.writeHead(200, headers).end(request.method === 'HEAD' ? undefined : JSON.stringify(found));
  if (typeof document !== 'function') return void send(document);
  document().then(send, (error: unknown) => {
    printFault(error, request.url ?? '');
    say(request, response, 503, 'This document cannot be had now. Try again later.\n', { 'retry-after': '30' });
  });
}

/** Refuses a request that is addressed to another host; true when it was. */
function hostCheck(options: RoutingOptions, see: See): (request: IncomingMessage, response: ServerResponse) => boolean {
  const gate = createGate(options);
  return (request, response) => {
    const why = gate.refuses(see(request).host, undefined);
    if (why !== undefined) say(request, response, 403, `Refused: ${why}.\n`);
    return why !== undefined;
  };
}

function showPage(request: IncomingMessage, response: ServerResponse, page: () => Promise<FrontPage>): void {
  page().then(
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
}

/** The route, for those who have not asked too often. */
export function limited(
  { requestsPerMinute, store, proxies, clock = systemClock }: ServeHttpOptions,
  note: (text: string) => void,
  route: OwnRoute,
): OwnRoute {
  if (requestsPerMinute === undefined) return route;
  const limits = store?.limits ?? memoryLimits(clock);
  const { see } = exchangeOptionsOf(proxies === undefined ? {} : { proxies });
  return (request, response) => {
    const { address = '' } = see(request);
    const done = after(limits.take(`requests ${address}`, requestsPerMinute, 60_000), (wait) => {
      if (wait === 0) return route(request, response);
      say(request, response, 429, 'Too many requests: slow down.\n', { 'retry-after': String(Math.ceil(wait / 1000)) });
    });
    if (done instanceof Promise)
      done.catch((error: unknown) => {
        note(`the store cannot be asked: ${describeFault(error)}`);
        say(request, response, 503, 'Try again later.\n', { 'retry-after': '1' });
      });
  };
}
