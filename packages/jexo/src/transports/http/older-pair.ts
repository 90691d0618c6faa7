import type { Clock } from '../../engine/clock.js';
import type { Peer } from '../../engine/peer.js';
import { printFault } from '../../engine/faults.js';
import type { Channel } from '../../engine/exchange.js';
import { hold, type Caller, type Servable } from '../../engine/servable.js';
import { after } from '../../engine/store.js';
import { maxDepth } from '../../protocol/depth.js';
import { encode, errorCodes } from '../../protocol/json-rpc.js';
import { identify, withHeaders, type Authenticator } from './authenticate.js';
import { ParsedBody, type EventStream, type HttpRequest, type RequestBody, type Responder } from './http-types.js';
import { isBodyTooDeep } from './read-message.js';
import { noHeaders, refuse } from './replies.js';
import type { Gate } from './gate.js';

export interface OlderPairOptions {
  readonly gate: Gate;
  readonly auth: Authenticator | undefined;
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
  post(request: HttpRequest, session: string | null, body: RequestBody, responder: Responder): void;
  /** Requests being answered. */
  readonly inFlight: number;
  /** Resolves when nothing is being answered. */
  whenIdle(): Promise<void>;
  /** Ends the sessions, and releases the server. */
  close(reason: string): Promise<void>;
}

interface OlderSession {
  readonly peer: Peer;
  readonly caller: Caller;
}

/** The transport of revision 2024-11-05: one stream that carries everything to the client, one address that takes what it says. */
export function createOlderPair(server: Servable, options: OlderPairOptions): OlderPair {
  const { gate, auth, clock, postPath, maxSessions, maxUnreadBytes, onFault = printFault } = options;
  const release = hold(server);
  const sessions = new Map<string, OlderSession>();
  /** Calls `use` for a request that may pass, with who sends it. */
  const admitted = (request: HttpRequest, responder: Responder, use: (caller: Caller) => void) => {
    const why = gate.refuses(request.header('host'), request.header('origin'));
    if (why !== undefined) return refuse(responder, 403, noHeaders, `Forbidden: ${why}`);
    const failed = (error: unknown) => {
      onFault(error, 'authenticate');
      refuse(responder, 500, noHeaders, 'Internal error', errorCodes.internalError);
    };
    try {
      const work = after(identify(auth, request, noHeaders, responder, false), (caller) => caller && use(caller));
      if (work instanceof Promise) work.catch(failed);
    } catch (error) {
      failed(error);
    }
  };
  const begin = (caller: Caller, request: HttpRequest, responder: Responder) => {
    if (sessions.size >= maxSessions) return refuse(responder, 503, noHeaders, 'Too many sessions: try again later');
    const id = globalThis.crypto.randomUUID();
    const sink: EventStream = responder.stream({ 'content-type': 'text/event-stream', 'cache-control': 'no-cache, no-transform' });
    const outlet: Channel = {
      send(message) {
        sink.write(`event: message\ndata: ${encode(message)}\n\n`);
        if (sink.unread() > maxUnreadBytes) sink.abort();
      },
    };
    const peer = server.open({ outlet, clock, sessionId: id, caller: withHeaders(caller, request), onFault });
    sessions.set(id, { peer, caller });
    // The stream is the session: when it closes, the session ends.
    sink.onClose(() => peer.close('the client has closed its stream'));
    peer.onClose(() => {
      sessions.delete(id);
      sink.end();
    });
    sink.write(`event: endpoint\ndata: ${postPath}?session=${id}\n\n`);
  };
  const take = (caller: Caller, id: string | null, body: RequestBody, responder: Responder) => {
    const session = id === null ? undefined : sessions.get(id);
    if (session === undefined || session.caller.identity !== caller.identity)
      return refuse(responder, 404, noHeaders, 'Session not found: open the stream first, and post to the address it names');
    if (isBodyTooDeep(body)) return refuse(responder, 400, noHeaders, `Bad request: the message nests deeper than ${maxDepth} levels`);
    let value: unknown;
    try {
      value = body instanceof ParsedBody ? body.value : JSON.parse(body);
    } catch {
      return refuse(responder, 400, noHeaders, 'Parse error: the body is not JSON', errorCodes.parseError);
    }
    responder.reply(202, {}, '');
    session.peer.receive(value);
  };
  return {
    listen: (request, responder) => admitted(request, responder, (caller) => begin(caller, request, responder)),
    post: (request, session, body, responder) => admitted(request, responder, (caller) => take(caller, session, body, responder)),
    get inFlight() {
      return [...sessions.values()].reduce((count, { peer }) => count + peer.inFlight.incoming, 0);
    },
    async whenIdle() {
      await Promise.all([...sessions.values()].map(({ peer }) => peer.whenIdle()));
    },
    async close(reason) {
      for (const { peer } of [...sessions.values()]) peer.close(reason);
      await release();
    },
  };
}
