import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Servable } from '../../engine/servable.js';
import { createEndpoint, type Endpoint, type EndpointOptions } from './endpoint.js';
import { loopbackNames } from './gate.js';
import { withNodeRequest } from './node-exchange.js';

/** How `nodeHandler` serves. */
export interface NodeHandlerOptions extends Partial<EndpointOptions> {
  /** Bytes a request body may have. Default 4 MiB; a larger one is answered with 413. */
  readonly maxBodyBytes?: number;
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
  const { maxBodyBytes = 4 * 1024 * 1024 } = options;
  const endpoint = createEndpoint(server, { allowedHosts: loopbackNames, ...options });
  const handle: NodeHandler = Object.assign(
    (request: IncomingMessage & { readonly body?: unknown }, response: ServerResponse, body: unknown = request.body) =>
      withNodeRequest(request, response, maxBodyBytes, body, endpoint.handle),
    { endpoint },
  );
  return handle;
}
