import { createServer, request as send, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { rmSync } from 'node:fs';
import type { Seen } from '../transports/http/forwarded.js';
import type { OwnRoute } from '../transports/http/serve-http.js';
import type { WorkerSelf } from './workers.js';

/** The end of the ids of sessions that a worker begins. */
export const markOf = (number: number): string => `.w${number}`;

/** Hands requests of another worker's sessions on to it; false for what is to be answered here. */
export function handOn({ number, socketOf }: WorkerSelf): (request: IncomingMessage, response: ServerResponse, seen: Seen) => boolean {
  return (request, response, seen) => {
    const id = request.headers['mcp-session-id'];
    const owner = typeof id === 'string' ? Number(/\.w(\d{1,3})$/.exec(id)?.[1]) : Number.NaN;
    // What came by a socket was handed on already.
    if (Number.isNaN(owner) || owner === number || request.socket.remoteAddress === undefined) return false;
    pass(request, response, socketOf(owner), seen);
    return true;
  };
}

function pass(request: IncomingMessage, response: ServerResponse, socketPath: string, { address, host }: Seen): void {
  const { method, url, headers } = request;
  const { 'x-forwarded-for': _, 'x-forwarded-host': __, ...rest } = headers;
  const sent = send({
    socketPath,
    method,
    path: url,
    headers: {
      ...rest,
      ...(address !== undefined && { 'x-forwarded-for': address }),
      ...(host !== undefined && { 'x-forwarded-host': host }),
    },
  });
  sent.on('response', (answer) => {
    const { connection: _connection, 'keep-alive': _keepAlive, ...own } = answer.headers;
    response.writeHead(answer.statusCode ?? 502, own);
    response.flushHeaders();
    answer.pipe(response);
    answer.on('error', () => response.destroy());
  });
  sent.on('error', () => {
    if (response.headersSent) return response.destroy();
    // The worker is gone, and its sessions with it: the client begins a new one.
    response.writeHead(404, { 'content-type': 'application/json' });
    response.end(
      '{"jsonrpc":"2.0","error":{"code":-32600,"message":"Session not found: it has ended; send initialize to start a new one"}}',
    );
  });
  response.on('close', () => sent.destroy());
  request.pipe(sent);
}

/** Takes what other workers hand on. */
export async function listenToOthers({ number, socketOf }: WorkerSelf, route: OwnRoute): Promise<Server> {
  const path = socketOf(number);
  rmSync(path, { force: true });
  const http = createServer(route);
  await new Promise<void>((resolve, reject) => {
    http.once('error', reject);
    http.listen(path, resolve);
  });
  return http;
}
