import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import type { Servable } from '../../engine/servable.js';
import { loopbackNames } from './gate.js';
import { listen } from './listen.js';
import { nodeHandler, type NodeHandlerOptions } from './node-handler.js';

export interface ServeHttpOptions extends Omit<NodeHandlerOptions, 'allowedHosts'> {
  /** Default 0: any free port. */
  readonly port?: number;
  /** Address to listen at. Default 127.0.0.1: this machine only. */
  readonly host?: string;
  /** Default `/mcp`. */
  readonly path?: string;
  /** Default: the loopback names and `host`. */
  readonly allowedHosts?: readonly string[];
  /** Milliseconds that calls in flight get to finish on close. Default 10,000. */
  readonly graceMs?: number;
}

export interface HttpService {
  readonly url: string;
  readonly port: number;
  readonly sessions: number;
  /** Ends all sessions; clients begin new ones. */
  forgetSessions(): void;
  /** Stops listening, answers what is in flight, ends the streams. */
  close(): Promise<void>;
}

/**
 * Serves over Streamable HTTP.
 *
 * @throws JexoError JEXO_PORT_IN_USE, JEXO_ADDRESS
 * @example
 * const { url, close } = await serveHttp(apiary, { port: 4300 });   // http://127.0.0.1:4300/mcp
 */
export async function serveHttp(server: Servable, options: ServeHttpOptions = {}): Promise<HttpService> {
  const { port = 0, host = '127.0.0.1', path = '/mcp', graceMs = 10_000 } = options;
  const wildcard = host === '0.0.0.0' || host === '::';
  const allowedHosts = options.allowedHosts ?? (wildcard ? ['*'] : [...loopbackNames, host.includes(':') ? `[${host}]` : host]);
  const handler = nodeHandler(server, { ...options, allowedHosts });
  const http = createServer((request, response) => {
    const { url = '/' } = request;
    const end = url.indexOf('?');
    if ((end < 0 ? url : url.slice(0, end)) === path) handler(request, response);
    else notFound(request, response, path);
  });
  await listen(http, port, host);
  const address = http.address() as AddressInfo;
  const shownHost = address.address.includes(':') ? `[${address.address}]` : address.address;
  let closing: Promise<void> | undefined;
  return {
    url: `http://${shownHost}:${address.port}${path}`,
    port: address.port,
    get sessions() {
      return handler.endpoint.sessions;
    },
    forgetSessions: () => handler.endpoint.forgetSessions(),
    close() {
      return (closing ??= (async () => {
        const closed = new Promise<void>((resolve) => http.close(() => resolve()));
        let timer: NodeJS.Timeout | undefined;
        await Promise.race([handler.endpoint.whenIdle(), new Promise((resolve) => (timer = setTimeout(resolve, graceMs)))]);
        clearTimeout(timer);
        handler.endpoint.close('the server is stopping');
        http.closeIdleConnections();
        // Answers have been handed to the sockets; what is still open after a moment has nobody reading it.
        const cut = setTimeout(() => http.closeAllConnections(), 250);
        await closed;
        clearTimeout(cut);
      })());
    },
  };
}

function notFound(request: IncomingMessage, response: ServerResponse, path: string): void {
  request.resume();
  response.writeHead(404, { 'content-type': 'text/plain; charset=utf-8' });
  response.end(`Nothing is served here. The protocol is served at ${path}.\n`);
}
