import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Servable } from '../../engine/servable.js';
import { createEndpoint, type Endpoint, type EndpointOptions } from './endpoint.js';
import { loopbackNames } from './gate.js';
import { seeThrough } from './forwarded.js';
import { withNodeRequest, type NodeExchangeOptions } from './node-exchange.js';

/** How `nodeHandler` serves. */
export interface NodeHandlerOptions extends Partial<EndpointOptions> {
  /** Bytes a request body may have. Default 4 MiB; a larger one is answered with 413. */
  readonly maxBodyBytes?: number;
  /**
   * Proxies in front whose `X-Forwarded-For` and `X-Forwarded-Host` are believed: addresses, networks as `10.0.0.0/8`, or `loopback`.
   * Default: none; what anybody sends in such headers is ignored.
   */
  readonly proxies?: readonly string[];
  /** True sends answers from 4 KiB on compressed to those who take gzip. Default false: a proxy in front usually does. */
  readonly compress?: boolean;
}

/** How a handler takes requests. */
export function exchangeOptionsOf({ maxBodyBytes = 4 * 1024 * 1024, proxies, compress = false }: NodeHandlerOptions): NodeExchangeOptions {
  return { maxBodyBytes, see: seeThrough(proxies), compress };
}

/** Handles requests of node:http. */
export interface NodeHandler {
  /** `body` is the request's body where the app in front has parsed it already. */
  (request: IncomingMessage & { readonly body?: unknown }, response: ServerResponse, body?: unknown): void;
  /** What is behind it: open sessions, requests in flight, how to close. */
  readonly endpoint: Endpoint;
}

/**
 * Serves at any path of an app that speaks node:http; the app routes to it. Only requests addressed to this machine by a
 * loopback name pass, unless `allowedHosts` says otherwise.
 *
 * @example
 * const mcp = nodeHandler(apiary);
 * http.createServer((req, res) => (req.url === '/mcp' ? mcp(req, res) : app(req, res))).listen(4300);
 * app.all('/mcp', (req, res) => mcp(req, res));                               // where routes take (req, res)
 * app.all('/mcp', (req, reply) => (reply.hijack(), mcp(req.raw, reply.raw, req.body))); // where they wrap them
 */
export function nodeHandler(server: Servable, options: NodeHandlerOptions = {}): NodeHandler {
  const exchange = exchangeOptionsOf(options);
  const endpoint = createEndpoint(server, { allowedHosts: loopbackNames, ...options });
  const handle: NodeHandler = Object.assign(
    (request: IncomingMessage & { readonly body?: unknown }, response: ServerResponse, body: unknown = request.body) =>
      withNodeRequest(request, response, exchange, body, endpoint.handle),
    { endpoint },
  );
  return handle;
}
