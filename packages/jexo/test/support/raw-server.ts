import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import type { Client, ConnectOptions } from '../../src/index.js';
import { connect } from '../../src/targets/connect.js';

/** Servers written by hand, with nothing of ours in them: what a client meets in the world. */
export interface Asked {
  readonly request: IncomingMessage;
  readonly message: { readonly id?: unknown; readonly method?: string; readonly params?: Record<string, unknown> };
  readonly response: ServerResponse;
  readonly count: number;
}
export type Answer = (asked: Asked) => void | Promise<void>;

export const rawServers: Server[] = [];
/** Closes every raw server; for `afterEach`. */
export const closeRawServers = (): void => rawServers.splice(0).forEach((server) => server.close().closeAllConnections());

export const hello = {
  protocolVersion: '2025-11-25',
  capabilities: { tools: {}, logging: {}, resources: { subscribe: true } },
  serverInfo: { name: 'raw', version: '1' },
};
export const json = (response: ServerResponse, value: unknown, headers: Record<string, string> = {}, status = 200) => {
  response.writeHead(status, { 'content-type': 'application/json', ...headers });
  response.end(typeof value === 'string' ? value : JSON.stringify(value));
};
export const result = ({ message, response }: Asked, value: unknown) => json(response, { jsonrpc: '2.0', id: message.id, result: value });
export const tool = { name: 'look', inputSchema: { type: 'object' } };

/** Answers the handshake and lists one tool; `answer` gets everything else, `get` what is asked by GET. */
export async function rawServer(
  answer: Answer,
  { get, session, greet, tools = [tool] }: { get?: Answer; session?: () => string | undefined; greet?: Answer; tools?: object[] } = {},
): Promise<string> {
  let count = 0;
  const server = createServer((request, response) => {
    let body = '';
    request.on('data', (chunk: Buffer) => (body += chunk.toString()));
    request.on('end', () => {
      const message = (body === '' ? {} : JSON.parse(body)) as Asked['message'];
      const asked: Asked = { request, message, response, count: count++ };
      if (request.method === 'GET') return void (get ?? (({ response: to }) => void to.writeHead(405).end()))(asked);
      if (request.method === 'DELETE') return void response.writeHead(204).end();
      if (message.method === 'initialize') {
        if (greet !== undefined) return void greet(asked);
        const id = session?.();
        return json(response, { jsonrpc: '2.0', id: message.id, result: hello }, id === undefined ? {} : { 'mcp-session-id': id });
      }
      if (message.method === 'notifications/initialized') return void response.writeHead(202).end();
      if (message.method === 'tools/list') return result(asked, { tools });
      void answer(asked);
    });
  });
  rawServers.push(server);
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}/mcp`;
}
export const connectTo = (url: string, options: ConnectOptions = {}): Promise<Client> =>
  connect(url, { backOffMs: 5, timeoutMs: 3000, ...options });
