import type { IncomingMessage, ServerResponse } from 'node:http';
import { failure } from '../../engine/peer.js';
import { encode, errorCodes } from '../../protocol/json-rpc.js';
import type { EventStream, HttpRequest, Responder } from './endpoint.js';

type Use = (request: HttpRequest, body: string, responder: Responder) => void;

/**
 * Reads a request of node:http and hands it on with a way to answer.
 *
 * @param parsed the body, where the app in front has read and parsed it already
 */
export function withNodeRequest(request: IncomingMessage, response: ServerResponse, maxBodyBytes: number, parsed: unknown, use: Use): void {
  const { headers } = request;
  const head: HttpRequest = {
    method: request.method ?? 'GET',
    header: (name) => headers[name] as string | undefined,
    get address() {
      return request.socket.remoteAddress;
    },
  };
  const responder: Responder = {
    reply(status, replyHeaders, body) {
      response.writeHead(status, body === '' ? replyHeaders : { ...replyHeaders, 'content-length': String(Buffer.byteLength(body)) });
      response.end(body);
    },
    stream: (streamHeaders) => openStream(response, streamHeaders),
  };
  if (request.method !== 'POST') {
    request.resume();
    return use(head, '', responder);
  }
  if (parsed !== undefined) return use(head, typeof parsed === 'string' ? parsed : JSON.stringify(parsed), responder);
  const parts: Buffer[] = [];
  let size = 0;
  request.on('data', (chunk: Buffer) => {
    size += chunk.length;
    if (size <= maxBodyBytes) parts.push(chunk);
    else if (!response.headersSent) {
      const message = `Payload too large: a request may have at most ${maxBodyBytes} bytes`;
      const body = encode(failure(undefined, { code: errorCodes.invalidRequest, message }));
      response.writeHead(413, {
        'content-type': 'application/json',
        'content-length': String(Buffer.byteLength(body)),
        connection: 'close',
      });
      response.end(body, () => request.destroy());
    }
  });
  request.on('end', () => {
    if (size <= maxBodyBytes) use(head, parts.length === 1 ? parts[0]!.toString() : Buffer.concat(parts).toString(), responder);
  });
  // A request cut off half-way was never taken; there is nobody to answer.
  request.on('error', () => undefined);
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
