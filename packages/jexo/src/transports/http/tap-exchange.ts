import { wireTime, type WireTap } from '../link.js';
import { byteLength } from '../../protocol/byte-length.js';
import { ParsedBody, type EventStream, type HttpRequest, type RequestBody, type Responder } from './http-types.js';

/** Headers worth seeing on a trace. */
const telling = ['host', 'origin', 'accept', 'content-type', 'authorization', 'mcp-session-id', 'mcp-protocol-version', 'last-event-id'];

/** Of these it is worth seeing only that they are there. */
const secret = new Set(['authorization', 'mcp-session-id']);

/** Reports one HTTP exchange to a wire tap: the request, and whatever leaves for it. */
export function tapExchange(tap: WireTap, request: HttpRequest, given: RequestBody, responder: Responder): Responder {
  const body = given instanceof ParsedBody ? JSON.stringify(given.value) : given;
  const headers = Object.fromEntries(
    telling.flatMap((name) => {
      const value = request.header(name);
      return value === undefined ? [] : [[name, secret.has(name) ? '(masked)' : value]];
    }),
  );
  tap({ at: wireTime(), way: 'received', bytes: byteLength(body), message: parsed(body), http: { method: request.method, headers } });
  const sent = (text: string, message: unknown, http?: { status: number; headers: Record<string, string> }) =>
    tap({ at: wireTime(), way: 'sent', bytes: byteLength(text), message, ...(http && { http }) });
  return {
    onGone: (task) => responder.onGone(task),
    reply(status, replyHeaders, text) {
      sent(text, parsed(text), { status, headers: masked(replyHeaders) });
      responder.reply(status, replyHeaders, text);
    },
    stream(streamHeaders) {
      const stream = responder.stream(streamHeaders);
      sent('', undefined, { status: 200, headers: masked(streamHeaders) });
      const tapped: EventStream = {
        ...stream,
        write(text) {
          const data = /^data: (.+)$/m.exec(text)?.[1];
          sent(text, data === undefined ? text.trim() : parsed(data));
          stream.write(text);
        },
      };
      return tapped;
    },
  };
}

function masked(headers: Record<string, string>): Record<string, string> {
  return Object.fromEntries(Object.entries(headers).map(([name, value]) => [name, secret.has(name) ? '(masked)' : value]));
}

function parsed(text: string): unknown {
  if (text === '') return undefined;
  try {
    return JSON.parse(text);
  } catch {
    return text; // not JSON is worth seeing too
  }
}
