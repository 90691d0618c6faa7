import type { Channel } from '../../engine/exchange.js';
import type { JsonRpcMessage, RequestId } from '../../protocol/json-rpc.js';
import type { Link } from '../link.js';
import { HttpConnection, type HttpLinkOptions } from './http-connection.js';
import { listenForUnasked } from './listen-for-unasked.js';
import { postMessage, requestsOf } from './post-message.js';

export type { HttpLinkOptions } from './http-connection.js';

/** A server is told that we leave, and not waited for longer. */
const goodbyeMs = 2000;

/** A link to a server over Streamable HTTP. Runs wherever there is fetch, browsers included. */
export function httpLink(url: string, options: HttpLinkOptions = {}): Link {
  const connection = new HttpConnection(url, options);
  /** Of requests that wait for their answer, so that one that is cancelled reads on no longer. */
  const reading = new Map<RequestId, AbortController>();
  const send = (message: JsonRpcMessage | readonly JsonRpcMessage[]) => {
    const controller = connection.begin();
    const ids = requestsOf(message);
    for (const id of ids) reading.set(id, controller);
    // What a request that is cancelled would still bring is not read.
    const { method, params } = message as { method?: string; params?: { requestId?: RequestId } };
    const ended = method === 'notifications/cancelled' ? reading.get(params!.requestId!) : undefined;
    postMessage(connection, message, controller)
      .catch((error: unknown) => {
        if (!connection.isEnding) for (const id of ids) connection.events.failed(id, error as Error);
      })
      .finally(() => {
        connection.end(controller);
        for (const id of ids) reading.delete(id);
        ended?.abort();
      });
  };
  return {
    address: url,
    async start(events) {
      connection.events = events;
      return { send } satisfies Channel;
    },
    agreed(revision) {
      connection.revision = revision;
      listenForUnasked(connection, connection.sessionId).catch(() => connection.onReconnect?.('GET stream, given up'));
    },
    async close() {
      if (connection.isEnding) return;
      connection.isEnding = true;
      if (connection.sessionId !== undefined) await connection.sayGoodbye(goodbyeMs);
      connection.endAll();
      connection.events?.closed();
    },
  };
}
