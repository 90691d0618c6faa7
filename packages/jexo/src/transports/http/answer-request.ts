import type { Clock } from '../../engine/clock.js';
import type { Peer } from '../../engine/peer.js';
import type { Caller, Servable } from '../../engine/servable.js';
import { after, type MaybePromise, type Store } from '../../engine/store.js';
import { encode, errorCodes, type JsonRpcMessage } from '../../protocol/json-rpc.js';
import { assumedHttpRevision, isRevision } from '../../protocol/revisions.js';
import { accepts, formFor, type Form } from './accept.js';
import type { CheckAgain } from './check-again.js';
import { isSameCaller, refuseScopes, withHeaders, withLazyHeaders, type Authenticator } from './authenticate.js';
import type { HttpSession, HttpSessions } from './http-sessions.js';
import type { HttpRequest, RequestBody, Responder } from './http-types.js';
import type { KeepAlive } from './keep-alive.js';
import type { Passing } from './passing.js';
import { PostChannel, primes } from './post-channel.js';
import { readMessage, type Incoming } from './read-message.js';
import { comeBack, eventStream, json, refuse } from './replies.js';

/** What the answers of all requests share. */
export interface Serving {
  readonly server: Servable;
  /** Undefined where everything is kept in this process. */
  readonly sharedStore: Store | undefined;
  readonly sessions: HttpSessions;
  readonly passing: Passing;
  readonly keepAlive: KeepAlive;
  readonly clock: Clock;
  readonly onFault: (error: unknown, reference: string) => void;
  readonly isStateful: boolean;
  readonly auth: Authenticator | undefined;
  /** True when no new session is begun any more. */
  isDraining: boolean;
  /** Sees to it that a stream ends when its caller would no longer be let in. */
  readonly checkAgain: CheckAgain;
  readonly maxUnreadBytes: number;
  /** Idle sessions are looked for from now on. */
  readonly scheduleSweep: () => void;
}

type Headers = Record<string, string>;

/** Takes one message, or a batch where the revision has them (Transports, "Sending Messages to the Server"). */
export function answerPost(
  serving: Serving,
  request: HttpRequest,
  body: RequestBody,
  cors: Headers,
  caller: Caller,
  responder: Responder,
): MaybePromise<void> {
  if (!accepts(request.header('content-type') ?? '', ['application/json']))
    return refuse(responder, 415, cors, 'Unsupported media type: send application/json');
  const form = formFor(request.header('accept') ?? '*/*');
  if (form === undefined) return refuse(responder, 406, cors, 'Not acceptable: accept application/json and text/event-stream');
  const incoming = readMessage(body, cors, responder);
  if (incoming === undefined) return;
  const missing = caller.identity === undefined ? [] : (serving.server.missingScopes?.([incoming.value].flat(), caller) ?? []);
  if (missing.length > 0) return refuseScopes(serving.auth, missing, caller, cors, responder);
  const post: Post = { request, incoming, form, cors, caller, responder };
  if (!serving.isStateful) return postAlone(serving, post);
  if (incoming.isInitialize) return postInitialize(serving, post);
  return after(findSession(serving, request, cors, caller, responder), (session) => {
    if (session === undefined) return;
    const exchangeCaller = isSameCaller(session.caller, caller) ? session.caller : narrowedAs(caller, session.caller);
    take(post, session.peer, channelFor(serving, { ...post, caller: exchangeCaller }, session));
    if (incoming.requests === 0) serving.sessions.passOn(session, incoming.value);
  });
}

/** Opens the stream for unasked-for messages, or takes up one that was cut (Transports, "Listening for Messages from the Server"). */
export function answerGet(serving: Serving, request: HttpRequest, cors: Headers, caller: Caller, responder: Responder): MaybePromise<void> {
  if (!accepts(request.header('accept') ?? '', ['text/event-stream']))
    return refuse(responder, 406, cors, 'Not acceptable: this address answers GET with text/event-stream only');
  if (!serving.isStateful) return keepsNoSessions(cors, responder);
  return after(findSession(serving, request, cors, caller, responder), (session) => {
    if (session === undefined) return;
    const connect = () => {
      const sink = responder.stream({ ...eventStream, ...cors });
      serving.checkAgain(request, session.caller, sink, () => session.peer.close('the caller is no longer let in'));
      return sink;
    };
    const lastEventId = request.header('last-event-id');
    if (lastEventId === undefined || lastEventId === '') return session.streams.listen(connect(), primes(session));
    return after(session.streams.resume(lastEventId, connect), (isKnown) => {
      if (!isKnown) refuse(responder, 400, cors, 'Bad request: the stream that Last-Event-ID names is not known any more');
    });
  });
}

/** Ends a session (Transports, "Session Management"). */
export function answerDelete(
  serving: Serving,
  request: HttpRequest,
  cors: Headers,
  caller: Caller,
  responder: Responder,
): MaybePromise<void> {
  if (!serving.isStateful) return keepsNoSessions(cors, responder);
  return after(findSession(serving, request, cors, caller, responder), (session) => {
    if (session === undefined) return;
    session.peer.close('the client ended the session');
    responder.reply(204, cors, '');
  });
}

/** A session stays narrowed to what it began with. */
function narrowedAs({ narrowedTo: _, ...caller }: Caller, { narrowedTo }: Caller): Caller {
  return narrowedTo === undefined ? caller : { ...caller, narrowedTo };
}

interface Post {
  readonly request: HttpRequest;
  readonly incoming: Incoming;
  readonly form: Form;
  readonly cors: Headers;
  readonly caller: Caller;
  readonly responder: Responder;
}

function keepsNoSessions(cors: Headers, responder: Responder): void {
  refuse(responder, 405, { ...cors, allow: 'POST' }, 'Method not allowed: this server keeps no sessions');
}

/** The session a request belongs to; when there is none, the request has been answered. */
function findSession(
  { sessions, clock, onFault }: Serving,
  request: HttpRequest,
  cors: Headers,
  caller: Caller,
  responder: Responder,
): MaybePromise<HttpSession | undefined> {
  const id = request.header('mcp-session-id');
  const stop = (status: number, message: string) => {
    refuse(responder, status, cors, message);
    return undefined;
  };
  if (id === undefined)
    return stop(400, 'Bad request: the Mcp-Session-Id header is missing; send initialize first and repeat the id it answers with');
  const found = sessions.find(id);
  // A store that cannot be asked knows the session perhaps: the client may ask again, and must not begin a new one.
  const known =
    found instanceof Promise
      ? found.catch((error: unknown) => {
          onFault(error, 'store');
          refuse(responder, 503, { ...cors, ...comeBack }, 'The store of sessions cannot be reached: try again', errorCodes.internalError);
          return null;
        })
      : found;
  return after(known, (session) => {
    if (session === null) return undefined;
    // For any other caller the session does not exist: the answer gives nothing away.
    if (session === undefined || session.caller.identity !== caller.identity)
      return stop(404, 'Session not found: it has ended or never was; send initialize to start a new one');
    const revision = request.header('mcp-protocol-version');
    if (revision !== undefined && revision !== session.peer.revision) {
      const named = JSON.stringify(revision.slice(0, 40));
      return stop(400, `Bad request: MCP-Protocol-Version is ${named}, but this session speaks ${session.peer.revision}`);
    }
    session.lastSeen = clock.now();
    session.uses++;
    return session;
  });
}

function channelFor({ maxUnreadBytes }: Serving, post: Post, session: HttpSession | undefined, isHandshake?: true): PostChannel {
  const { request, incoming, responder, cors, form, caller } = post;
  return new PostChannel({
    expected: incoming.requests,
    caller,
    request,
    responder,
    cors,
    session,
    form,
    maxUnreadBytes,
    asked: incoming.value,
    ...(isHandshake && { isHandshake }),
  });
}

function postInitialize(serving: Serving, post: Post): void {
  const { request, cors, caller, responder, incoming } = post;
  if (request.header('mcp-session-id') !== undefined)
    return refuse(responder, 400, cors, 'Bad request: initialize starts a new session and must not name an old one');
  if (serving.isDraining)
    return refuse(responder, 503, { ...cors, ...comeBack }, 'The server is stopping: try again', errorCodes.internalError);
  if (serving.sharedStore?.isReachable === false)
    return refuse(responder, 503, { ...cors, ...comeBack }, 'The store of sessions cannot be reached: try again', errorCodes.internalError);
  if (!serving.sessions.makeRoom(request.address ?? ''))
    return refuse(responder, 503, { ...cors, 'retry-after': '60' }, 'Too many sessions: try again later', errorCodes.internalError);
  const session = serving.sessions.begin(withHeaders(caller, request));
  serving.scheduleSweep();
  const channel = channelFor(serving, { ...post, caller: session.caller }, session, true);
  // A handshake that failed leaves no session behind, and its answer names none.
  channel.onEnd = () => session.peer.state === 'new' && session.peer.close('the handshake failed');
  session.peer.receive(incoming.value, channel, incoming.envelope);
}

/** Without sessions: a peer for this request alone. */
function postAlone(serving: Serving, post: Post): void {
  const { request, incoming, cors, caller, responder } = post;
  const revision = request.header('mcp-protocol-version') ?? assumedHttpRevision;
  if (!isRevision(revision))
    return refuse(responder, 400, cors, `Bad request: MCP-Protocol-Version ${JSON.stringify(revision.slice(0, 40))} is not supported`);
  const channel = channelFor(serving, post, undefined);
  const { server, clock, onFault, sharedStore: store, passing } = serving;
  const peer = server.open({ outlet: channel, clock, caller: withLazyHeaders(caller, request), onFault, ...(store && { store }) });
  passing.add(peer);
  channel.onEnd = () => peer.close('the request is answered');
  responder.onGone(() => passing.gone(peer) && serving.scheduleSweep());
  // The header names the revision in place of a handshake.
  if (!incoming.isInitialize) peer.begin({ revision });
  take(post, peer, channel);
}

function take({ incoming, cors, responder }: Post, peer: Peer, channel: PostChannel): void {
  const { value, envelope, requests } = incoming;
  if (requests > 0) return peer.receive(value, channel, envelope);
  // Only notifications and answers: taken, nothing to say (Transports, "Sending Messages to the Server").
  let refused: JsonRpcMessage | undefined;
  peer.receive(value, { send: (message) => (refused ??= message as JsonRpcMessage) }, envelope);
  if (refused !== undefined) responder.reply(400, { ...json, ...cors }, encode(refused));
  else responder.reply(202, cors, '');
  channel.onEnd?.();
}
