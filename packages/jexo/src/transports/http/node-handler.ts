import type { IncomingMessage, ServerResponse } from 'node:http';
import { failure } from '../../engine/peer.js';
import type { Servable } from '../../engine/servable.js';
import { encode, errorCodes } from '../../protocol/json-rpc.js';
import { createEndpoint, type Endpoint, type EndpointOptions, type EventStream } from './endpoint.js';
import { loopbackNames } from './gate.js';

export interface NodeHandlerOptions extends Partial<EndpointOptions> {
  /** Bytes a request body may have. Default 4 MiB; a larger one is answered with 413. */
  readonly maxBodyBytes?: number;
}

export interface NodeHandler {
  (request: IncomingMessage, response: ServerResponse): void;
  readonly endpoint: Endpoint;
}

/**
 * Serves at any path of an app that speaks node:http; the app routes to it. Only requests addressed to this machine by a
 * loopback name pass, unless `allowedHosts` says otherwise.
 *
 * @example
 * const mcp = nodeHandler(apiary);
 * http.createServer((req, res) => (req.url === '/mcp' ? mcp(req, res) : app(req, res))).listen(4300);
 */
export function nodeHandler(server: Servable, options: NodeHandlerOptions = {}): NodeHandler {
  const { maxBodyBytes = 4 * 1024 * 1024 } = options;
  const endpoint = createEndpoint(server, { allowedHosts: loopbackNames, ...options });
  const handle = (request: IncomingMessage, response: ServerResponse): void => {
    const { headers } = request;
    const head = {
      method: request.method ?? 'GET',
      header: (name: string) => headers[name] as string | undefined,
      address: request.socket.remoteAddress,
    };
    const responder = {
      reply(status: number, replyHeaders: Record<string, string>, body: string) {
        response.writeHead(status, body === '' ? replyHeaders : { ...replyHeaders, 'content-length': String(Buffer.byteLength(body)) });
        response.end(body);
      },
      stream: (streamHeaders: Record<string, string>) => openStream(response, streamHeaders),
    };
    if (request.method !== 'POST') {
      request.resume();
      return endpoint.handle(head, '', responder);
    }
    const parts: Buffer[] = [];
    let size = 0;
    request.on('data', (chunk: Buffer) => {
      size += chunk.length;
      if (size <= maxBodyBytes) parts.push(chunk);
      else if (!response.headersSent) {
        const body = encode(
          failure(undefined, {
            code: errorCodes.invalidRequest,
            message: `Payload too large: a request may have at most ${maxBodyBytes} bytes`,
          }),
        );
        response.writeHead(413, {
          'content-type': 'application/json',
          'content-length': String(Buffer.byteLength(body)),
          connection: 'close',
        });
        response.end(body, () => request.destroy());
      }
    });
    request.on('end', () => {
      if (size <= maxBodyBytes)
        endpoint.handle(head, parts.length === 1 ? parts[0]!.toString() : Buffer.concat(parts).toString(), responder);
    });
    // A request cut off half-way was never taken; there is nobody to answer.
    request.on('error', () => undefined);
  };
  return Object.assign(handle, { endpoint });
}

function openStream(response: ServerResponse, headers: Record<string, string>): EventStream {
  response.writeHead(200, headers);
  response.flushHeaders();
  return {
    write: (text) => void response.write(text),
    end: () => void response.end(),
    abort: () => void response.destroy(),
    unread: () => response.writableLength,
    onClose: (task) => void response.on('close', task),
  };
}
