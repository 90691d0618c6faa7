import { failure } from '../../engine/peer.js';
import { encode, errorCodes } from '../../protocol/json-rpc.js';
import type { Responder } from './http-types.js';

/** The headers of an answer that carries nothing but JSON; runtimes may know it by identity. */
export const json = { 'content-type': 'application/json' };
export const eventStream = { 'content-type': 'text/event-stream', 'cache-control': 'no-cache, no-transform', 'x-accel-buffering': 'no' };
/** A refusal that is over soon (RFC 9110, 10.2.3). */
export const comeBack = { 'retry-after': '1' };
export const noHeaders: Record<string, string> = {};

/** Refuses a request with an error that has no id: none of its messages has been taken. */
export function refuse(
  responder: Responder,
  status: number,
  headers: Record<string, string>,
  message: string,
  code: number = errorCodes.invalidRequest,
): void {
  responder.reply(status, { ...json, ...headers }, encode(failure(undefined, { code, message })));
}

/** What a browser needs to let a page of this origin read the answer. */
export function corsFor(origin: string | undefined): Record<string, string> {
  if (origin === undefined) return noHeaders;
  return {
    'access-control-allow-origin': origin,
    vary: 'Origin',
    'access-control-allow-methods': 'GET, POST, DELETE',
    'access-control-allow-headers': 'content-type, accept, authorization, mcp-session-id, mcp-protocol-version, last-event-id',
    'access-control-expose-headers': 'mcp-session-id, www-authenticate',
  };
}
