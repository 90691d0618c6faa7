import type { Clock } from '../../engine/clock.js';
import type { Peer } from '../../engine/peer.js';
import type { Servable } from '../../engine/servable.js';
import { isTooDeep, maxDepth } from '../../protocol/depth.js';
import { encode, errorCodes } from '../../protocol/json-rpc.js';
import { failure } from '../../engine/peer.js';
import type { EventStream, HttpRequest, Responder } from './endpoint.js';
import type { Gate } from './gate.js';

export interface OlderPairOptions {
  readonly gate: Gate;
  readonly clock: Clock;
  /** Path the client is told to post to. */
  readonly postPath: string;
  readonly maxSessions: number;
  readonly maxUnreadBytes: number;
  readonly onFault?: (error: unknown, reference: string) => void;
}

export interface OlderPair {
  /** GET of the stream. */
  listen(request: HttpRequest, responder: Responder): void;
  /** POST of one message, for the session in the query. */
  post(request: HttpRequest, session: string | null, body: string, responder: Responder): void;
  /** Requests being answered. */
  readonly inFlight: number;
  /** Resolves when nothing is being answered. */
  whenIdle(): Promise<void>;
  close(reason: string): void;
}

/** The transport of revision 2024-11-05: one stream that carries everything to the client, one address that takes what it says. */
export function createOlderPair(
  server: Servable,
  { gate, clock, postPath, maxSessions, maxUnreadBytes, onFault }: OlderPairOptions,
): OlderPair {
  const sessions = new Map<string, Peer>();
  const refuse = (responder: Responder, status: number, message: string) =>
    responder.reply(
      status,
      { 'content-type': 'application/json' },
      encode(failure(undefined, { code: errorCodes.invalidRequest, message })),
    );
  const passes = (request: HttpRequest, responder: Responder): boolean => {
    const why = gate.refuses(request.header('host'), request.header('origin'));
    if (why !== undefined) refuse(responder, 403, `Forbidden: ${why}`);
    return why === undefined;
  };
  return {
    listen(request, responder) {
      if (!passes(request, responder)) return;
      if (sessions.size >= maxSessions) return refuse(responder, 503, 'Too many sessions: try again later');
      const id = globalThis.crypto.randomUUID();
      const sink: EventStream = responder.stream({ 'content-type': 'text/event-stream', 'cache-control': 'no-cache, no-transform' });
      const peer = server.open({
        outlet: {
          send(message) {
            sink.write(`event: message\ndata: ${encode(message)}\n\n`);
            if (sink.unread() > maxUnreadBytes) sink.abort();
          },
        },
        clock,
        sessionId: id,
        caller: { transport: 'http', ...(request.address !== undefined && { address: request.address }) },
        ...(onFault !== undefined && { onFault }),
      });
      sessions.set(id, peer);
      // The stream is the session: when it closes, the session ends.
      sink.onClose(() => peer.close('the client has closed its stream'));
      peer.onClose(() => {
        sessions.delete(id);
        sink.end();
      });
      sink.write(`event: endpoint\ndata: ${postPath}?session=${id}\n\n`);
    },
    post(request, session, body, responder) {
      if (!passes(request, responder)) return;
      const peer = session === null ? undefined : sessions.get(session);
      if (peer === undefined) return refuse(responder, 404, 'Session not found: open the stream first, and post to the address it names');
      if (isTooDeep(body)) return refuse(responder, 400, `Bad request: the message nests deeper than ${maxDepth} levels`);
      let value: unknown;
      try {
        value = JSON.parse(body);
      } catch {
        return responder.reply(
          400,
          { 'content-type': 'application/json' },
          encode(failure(undefined, { code: errorCodes.parseError, message: 'Parse error: the body is not JSON' })),
        );
      }
      responder.reply(202, {}, '');
      peer.receive(value);
    },
    get inFlight() {
      return [...sessions.values()].reduce((count, peer) => count + peer.inFlight.incoming, 0);
    },
    async whenIdle() {
      await Promise.all([...sessions.values()].map((peer) => peer.whenIdle()));
    },
    close(reason) {
      for (const peer of [...sessions.values()]) peer.close(reason);
    },
  };
}
