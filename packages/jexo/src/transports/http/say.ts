import type { IncomingMessage, ServerResponse } from 'node:http';

/** Answers a request with a line of plain text. */
export function say(
  request: IncomingMessage,
  response: ServerResponse,
  status: number,
  text: string,
  headers: Record<string, string> = {},
): void {
  request.resume();
  response.writeHead(status, { 'content-type': 'text/plain; charset=utf-8', ...headers });
  response.end(text);
}
