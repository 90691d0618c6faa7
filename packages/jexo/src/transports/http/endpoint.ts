import { systemClock, type Clock } from '../../engine/clock.js';
import type { Channel } from '../../engine/exchange.js';
import { assumeInitialized } from '../../engine/handshake.js';
import { printFault } from '../../engine/faults.js';
import { failure, type Peer } from '../../engine/peer.js';
import type { Servable } from '../../engine/servable.js';
import { isTooDeep, maxDepth } from '../../protocol/depth.js';
import { JexoError } from '../../errors.js';
import { encode, errorCodes, readEnvelope, type JsonRpcMessage, type RequestId } from '../../protocol/json-rpc.js';
import { assumedHttpRevision, isRevision, since } from '../../protocol/revisions.js';
import { safeTap, type WireTap } from '../link.js';
import { tapExchange } from './tap-exchange.js';
import { createGate, type GateOptions } from './gate.js';
import { SessionStreams, type KeptBudget, type OutStream, type StreamLimits } from './session-streams.js';

/** The runtime's request, as far as the endpoint needs it. */
export interface HttpRequest {
  readonly method: string;
  /** A header by its lower-case name. */
  header(name: string): string | undefined;
  readonly address?: string | undefined;
  /** How many Host headers it came with, where the runtime can tell: with two, what is checked need not be what is used. */
  readonly hostCount?: number;
}

/** The runtime's way to answer. One of `reply` and `stream` is called, once. */
export interface Responder {
  reply(status: number, headers: Record<string, string>, body: string): void;
  stream(headers: Record<string, string>): EventStream;
  /** Runs `task` when the client is gone before it had its whole answer. */
  onGone(task: () => void): void;
}
export interface EventStream {
  write(text: string): void;
  end(): void;
  /** Cuts the connection without an end. */
  abort(): void;
  /** Bytes written that the other side has not taken yet. */
  unread(): number;
  onClose(task: () => void): void;
}

export interface EndpointOptions extends GateOptions, StreamLimits {
  /** False serves every request by itself, without sessions: for hosts that keep nothing between requests. Default true. */
  readonly sessions?: boolean;
  /**
   * Milliseconds without a request after which a session with no open stream ends; four times that while calls are in flight.
   * Without sessions, what a call whose client is gone may still take. Default 30 minutes.
   */
  readonly sessionIdleMs?: number;
  /**
   * Sessions at once. Default 10,000. When there are so many, one that has done nothing yet makes room, or one that is idle; where
   * there is none, further ones are refused with 503.
   */
  readonly maxSessions?: number;
  /** Of these, sessions one address may have. Default half of them: clients behind one proxy share its address. */
  readonly maxSessionsPerAddress?: number;
  /** Bytes of events kept for all sessions together; those of the least used go first. Default 256 MiB. */
  readonly maxKeptBytesInAll?: number;
  /** Sees every message that passes, both ways, with status and headers. */
  readonly tap?: WireTap;
  readonly clock?: Clock;
  readonly onFault?: (error: unknown, reference: string) => void;
}

export interface Endpoint {
  /** Answers one request; `body` is its whole text, empty for GET and DELETE. */
  handle(request: HttpRequest, body: string, responder: Responder): void;
  readonly sessions: number;
  /** Requests being answered. */
  readonly inFlight: number;
  /** Ends all sessions; clients begin new ones. */
  forgetSessions(): void;
  /** Resolves when nothing is being answered. */
  whenIdle(): Promise<void>;
  close(reason: string): void;
}

interface HttpSession {
  readonly id: string;
  readonly peer: Peer;
  readonly streams: SessionStreams;
  readonly address: string;
  lastSeen: number;
  /** Requests after the handshake. */
  uses: number;
}

/** The headers of an answer that carries nothing but JSON; runtimes may know it by identity. */
export const json = { 'content-type': 'application/json' };
const eventStream = { 'content-type': 'text/event-stream', 'cache-control': 'no-cache, no-transform', 'x-accel-buffering': 'no' };

/** The Streamable HTTP endpoint (Transports, "Streamable HTTP"), for any runtime that can reply and stream. */
export function createEndpoint(server: Servable, options: EndpointOptions): Endpoint {
  const { clock = systemClock, sessionIdleMs = 30 * 60_000, maxSessions = 10_000, onFault = printFault } = options;
  const {
    maxSessionsPerAddress = Math.ceil(maxSessions / 2),
    maxKeptBytesInAll = 256 * 1024 * 1024,
    maxUnreadBytes = 1024 * 1024,
  } = options;
  const stateful = options.sessions ?? true;
  const gate = createGate(options);
  const sessions = new Map<string, HttpSession>();
  const perAddress = new Map<string, number>();
  const tap = options.tap === undefined ? undefined : safeTap(options.tap, onFault);
  const kept: KeptBudget = {
    bytes: 0,
    most: maxKeptBytesInAll,
    relieve() {
      const idlest = [...sessions.values()].sort((a, b) => a.lastSeen - b.lastSeen);
      for (const { streams } of idlest) {
        if (kept.bytes <= kept.most * 0.8) return;
        streams.forgetKept();
      }
    },
  };
  /** Peers of one request each, where there are no sessions, with the time since which their client is gone. */
  const passing = new Map<Peer, number>();
  let sweeping: unknown;

  const sweep = () => {
    sweeping = undefined;
    const now = clock.now();
    for (const { peer, streams, lastSeen } of [...sessions.values()]) {
      // A call in flight may take its time, but not for ever: its client may be gone without a word.
      const patience = peer.inFlight.incoming > 0 ? patienceWithCalls : 1;
      if (now - lastSeen > sessionIdleMs * patience && !streams.listening) peer.close('the session was idle for too long');
    }
    // A client that vanished has not cancelled (Transports, "Sending Messages to the Server"); but nobody can fetch this answer.
    for (const [peer, goneAt] of [...passing]) if (now - goneAt > sessionIdleMs) peer.close('the client is gone');
    if (sessions.size > 0 || [...passing.values()].some(Number.isFinite)) scheduleSweep();
  };
  const scheduleSweep = () => (sweeping ??= clock.after(Math.min(sessionIdleMs, 60_000), sweep));

  const sinks = new Set<EventStream>();
  const { keepAliveMs = 15_000 } = options;
  let beating: unknown;
  const beat = () => {
    beating = undefined;
    for (const sink of sinks) if (sink.unread() === 0) sink.write(': still here\n\n');
    if (sinks.size > 0) beating = clock.after(keepAliveMs, beat);
  };
  /** One timer for all open streams writes a comment now and then, which proxies take for life. */
  const keepAlive = (sink: EventStream) => {
    if (keepAliveMs === 0) return;
    sinks.add(sink);
    sink.onClose(() => sinks.delete(sink));
    beating ??= clock.after(keepAliveMs, beat);
  };
  const openPeer = (request: HttpRequest, outlet: Channel, sessionId?: string): Peer =>
    server.open({
      outlet,
      clock,
      caller: { transport: 'http', ...(request.address !== undefined && { address: request.address }) },
      ...(sessionId !== undefined && { sessionId }),
      onFault,
    });

  const openSession = (request: HttpRequest): HttpSession => {
    const id = globalThis.crypto.randomUUID();
    const { address = '' } = request;
    const streams = new SessionStreams(options, clock, keepAlive, kept);
    const peer = openPeer(request, { send: (message) => streams.send(encode(message)) }, id);
    const session: HttpSession = { id, streams, peer, address, lastSeen: clock.now(), uses: 0 };
    sessions.set(id, session);
    perAddress.set(address, (perAddress.get(address) ?? 0) + 1);
    session.peer.onClose(() => {
      sessions.delete(id);
      const left = (perAddress.get(address) ?? 1) - 1;
      if (left === 0) perAddress.delete(address);
      else perAddress.set(address, left);
      streams.closeAll();
    });
    scheduleSweep();
    return session;
  };

  /** Room for one more session: one that has done nothing makes way, then one that is idle. False when none can. */
  const makeRoom = (address: string): boolean => {
    const isFull = sessions.size >= maxSessions;
    if (!isFull && (perAddress.get(address) ?? 0) < maxSessionsPerAddress) return true;
    const now = clock.now();
    let victim: HttpSession | undefined;
    const rank = ({ uses, lastSeen }: HttpSession) => (uses === 0 ? 0 : Number.MAX_SAFE_INTEGER / 2) + lastSeen;
    for (const session of sessions.values()) {
      if (!isFull && session.address !== address) continue;
      const { peer, streams, uses, lastSeen } = session;
      if (streams.listening || peer.inFlight.incoming > 0 || peer.inFlight.outgoing > 0) continue;
      if (uses > 0 && now - lastSeen < evictableAfterMs) continue;
      if (victim === undefined || rank(session) < rank(victim)) victim = session;
    }
    victim?.peer.close('the session made room for another');
    return victim !== undefined;
  };

  /** The session a request belongs to; when there is none, the request has been answered. */
  const findSession = (request: HttpRequest, cors: Record<string, string>, responder: Responder): HttpSession | undefined => {
    const id = request.header('mcp-session-id');
    if (id === undefined) {
      refuse(
        responder,
        400,
        cors,
        'Bad request: the Mcp-Session-Id header is missing; send initialize first and repeat the id it answers with',
      );
      return undefined;
    }
    const session = sessions.get(id);
    if (session === undefined) {
      refuse(responder, 404, cors, 'Session not found: it has ended or never was; send initialize to start a new one');
      return undefined;
    }
    const revision = request.header('mcp-protocol-version');
    if (revision !== undefined && revision !== session.peer.revision) {
      refuse(
        responder,
        400,
        cors,
        `Bad request: MCP-Protocol-Version is ${JSON.stringify(revision.slice(0, 40))}, but this session speaks ${session.peer.revision}`,
      );
      return undefined;
    }
    session.lastSeen = clock.now();
    session.uses++;
    return session;
  };

  const post = (request: HttpRequest, body: string, cors: Record<string, string>, responder: Responder) => {
    if (!accepts(request.header('content-type') ?? '', ['application/json']))
      return refuse(responder, 415, cors, 'Unsupported media type: send application/json');
    const form = formFor(request.header('accept') ?? '*/*');
    if (form === undefined) return refuse(responder, 406, cors, 'Not acceptable: accept application/json and text/event-stream');
    if (isTooDeep(body)) return refuse(responder, 400, cors, `Bad request: the message nests deeper than ${maxDepth} levels`);
    let value: unknown;
    try {
      value = JSON.parse(body);
    } catch {
      return refuse(responder, 400, cors, 'Parse error: the body is not JSON', errorCodes.parseError);
    }
    if (typeof value !== 'object' || value === null)
      return refuse(responder, 400, cors, 'Invalid request: a message must be a JSON object');
    const requests = countRequests(value);
    const initialize = isInitialize(value);
    if (!stateful) {
      const revision = request.header('mcp-protocol-version') ?? assumedHttpRevision;
      if (!isRevision(revision))
        return refuse(responder, 400, cors, `Bad request: MCP-Protocol-Version ${JSON.stringify(revision.slice(0, 40))} is not supported`);
      const channel = new PostChannel({ expected: requests, responder, cors, session: undefined, form, maxUnreadBytes });
      const peer = openPeer(request, channel);
      passing.set(peer, Infinity);
      peer.onClose(() => passing.delete(peer));
      channel.onEnd = () => peer.close('the request is answered');
      responder.onGone(() => {
        if (!passing.has(peer)) return;
        passing.set(peer, clock.now());
        scheduleSweep();
      });
      if (!initialize) assumeInitialized(peer, revision);
      return take(peer, value, requests, channel, cors, responder);
    }
    if (initialize) {
      if (request.header('mcp-session-id') !== undefined)
        return refuse(responder, 400, cors, 'Bad request: initialize starts a new session and must not name an old one');
      if (!makeRoom(request.address ?? ''))
        return refuse(responder, 503, { ...cors, 'retry-after': '60' }, 'Too many sessions: try again later', errorCodes.internalError);
      const session = openSession(request);
      const channel = new PostChannel({ expected: requests, responder, cors, session, form, maxUnreadBytes, isHandshake: true });
      // A handshake that failed leaves no session behind, and its answer names none.
      channel.onEnd = () => session.peer.state === 'new' && session.peer.close('the handshake failed');
      return session.peer.receive(value, channel);
    }
    const session = findSession(request, cors, responder);
    if (session === undefined) return;
    const channel = new PostChannel({ expected: requests, responder, cors, session, form, maxUnreadBytes });
    take(session.peer, value, requests, channel, cors, responder);
  };

  const take = (peer: Peer, value: unknown, requests: number, channel: PostChannel, cors: Record<string, string>, responder: Responder) => {
    if (requests > 0) return peer.receive(value, channel);
    // Only notifications and answers: taken, nothing to say (Transports, "Sending Messages to the Server").
    let refused: JsonRpcMessage | undefined;
    peer.receive(value, { send: (message) => (refused ??= message as JsonRpcMessage) });
    if (refused !== undefined) responder.reply(400, { ...json, ...cors }, encode(refused));
    else responder.reply(202, cors, '');
    channel.onEnd?.();
  };

  const get = (request: HttpRequest, cors: Record<string, string>, responder: Responder) => {
    if (!accepts(request.header('accept') ?? '', ['text/event-stream']))
      return refuse(responder, 406, cors, 'Not acceptable: this address answers GET with text/event-stream only');
    if (!stateful) return refuse(responder, 405, { ...cors, allow: 'POST' }, 'Method not allowed: this server keeps no sessions');
    const session = findSession(request, cors, responder);
    if (session === undefined) return;
    const connect = () => responder.stream({ ...eventStream, ...cors });
    const lastEventId = request.header('last-event-id');
    if (lastEventId === undefined || lastEventId === '') return session.streams.listen(connect(), primes(session));
    if (!session.streams.resume(lastEventId, connect))
      refuse(responder, 400, cors, 'Bad request: the stream that Last-Event-ID names is not known any more');
  };

  const answer = (request: HttpRequest, body: string, given: Responder) => {
    const origin = request.header('origin');
    const refusal = gate.refuses(request.header('host'), origin);
    const isDoubled = (request.hostCount ?? 1) > 1;
    // What records the traffic sees a body only once it is known to be of a size and depth that can be looked at.
    const isFit = () => refusal === undefined && !isDoubled && !isTooDeep(body);
    const responder = tap === undefined ? given : tapExchange(tap, request, isFit() ? body : '', given);
    if (isDoubled) return refuse(responder, 400, {}, 'Bad request: there is more than one Host header');
    if (refusal !== undefined) return refuse(responder, 403, {}, `Forbidden: ${refusal}`);
    const cors = origin === undefined ? noHeaders : corsFor(origin);
    switch (request.method) {
      case 'POST':
        return post(request, body, cors, responder);
      case 'GET':
        return get(request, cors, responder);
      case 'DELETE': {
        if (!stateful) return refuse(responder, 405, { ...cors, allow: 'POST' }, 'Method not allowed: this server keeps no sessions');
        const session = findSession(request, cors, responder);
        if (session === undefined) return;
        session.peer.close('the client ended the session');
        return responder.reply(204, cors, '');
      }
      case 'OPTIONS':
        return responder.reply(204, { ...cors, allow: 'GET, POST, DELETE' }, '');
      default:
        return refuse(responder, 405, { ...cors, allow: 'GET, POST, DELETE' }, 'Method not allowed: use GET, POST or DELETE');
    }
  };

  return {
    handle(request, body, responder) {
      try {
        answer(request, body, responder);
      } catch (error) {
        // A request that cannot be answered ends by itself; the others go on.
        const reference = Math.floor(Math.random() * 0xffffff)
          .toString(16)
          .padStart(6, '0');
        onFault(error, reference);
        try {
          refuse(responder, 500, {}, `Internal error (reference ${reference})`, errorCodes.internalError);
        } catch {
          // It has been answered in part already.
        }
      }
    },
    get sessions() {
      return sessions.size;
    },
    get inFlight() {
      let count = 0;
      for (const { peer } of sessions.values()) count += peer.inFlight.incoming;
      for (const peer of passing.keys()) count += peer.inFlight.incoming;
      return count;
    },
    forgetSessions() {
      for (const { peer } of [...sessions.values()]) peer.close('the server has ended all sessions');
    },
    async whenIdle() {
      await Promise.all([...[...sessions.values()].map(({ peer }) => peer), ...passing.keys()].map((peer) => peer.whenIdle()));
    },
    close(reason) {
      for (const timer of [sweeping, beating]) if (timer !== undefined) clock.cancel(timer);
      for (const { peer } of [...sessions.values()]) peer.close(reason);
      for (const peer of [...passing.keys()]) peer.close(reason);
    },
  };
}

/** How many times the idle time a session with calls in flight may be silent. */
const patienceWithCalls = 4;

/** A session that has been used makes room for another only when it has been silent for so long. */
const evictableAfterMs = 60_000;

const noHeaders: Record<string, string> = {};

function corsFor(origin: string): Record<string, string> {
  return {
    'access-control-allow-origin': origin,
    vary: 'Origin',
    'access-control-allow-methods': 'GET, POST, DELETE',
    'access-control-allow-headers': 'content-type, accept, authorization, mcp-session-id, mcp-protocol-version, last-event-id',
    'access-control-expose-headers': 'mcp-session-id, www-authenticate',
  };
}

function refuse(
  responder: Responder,
  status: number,
  headers: Record<string, string>,
  message: string,
  code: number = errorCodes.invalidRequest,
): void {
  responder.reply(status, { ...json, ...headers }, encode(failure(undefined, { code, message })));
}

function accepts(header: string, wanted: readonly string[]): boolean {
  // The exact texts that clients send; anything else is read properly.
  if (header === 'application/json, text/event-stream') return true;
  if (header === 'application/json') return wanted.includes('application/json');
  const given = header.split(',').map((part) => part.split(';')[0]!.trim().toLowerCase());
  return given.some((type) => type === '*/*' || wanted.includes(type) || wanted.some((each) => type === `${each.split('/')[0]}/*`));
}

/** How an answer may be sent: as JSON, as a stream, or as whichever fits; undefined when the client takes neither. */
type Form = 'json' | 'stream' | 'either';

function formFor(accept: string): Form | undefined {
  const [asJson, asStream] = [accepts(accept, ['application/json']), accepts(accept, ['text/event-stream'])];
  return asJson ? (asStream ? 'either' : 'json') : asStream ? 'stream' : undefined;
}

/** How many answers a body will get. Of a list, what is no legal message is answered with an error, so it counts. */
function countRequests(value: object): number {
  if (Array.isArray(value)) return value.length === 0 ? 1 : value.filter(isAnswered).length;
  return readEnvelope(value).kind === 'request' ? 1 : 0;
}
function isAnswered(value: unknown): boolean {
  if (typeof value !== 'object' || value === null) return true;
  if ('method' in value) return 'id' in value || typeof value.method !== 'string';
  return !('result' in value || 'error' in value);
}
function isInitialize(value: unknown): boolean {
  return typeof value === 'object' && value !== null && (value as { method?: unknown }).method === 'initialize' && 'id' in value;
}

/** Older clients may try to parse the event without data that primes a stream. */
function primes({ peer }: HttpSession): boolean {
  return since(peer.revision, '2025-11-25');
}

/** An error without an id refuses the body as a whole, however many requests it held. */
function countAnswers(message: JsonRpcMessage | readonly JsonRpcMessage[], expected: number): number {
  if (Array.isArray(message)) return message.length;
  if ('method' in message) return 0;
  return (message as { id?: unknown }).id === undefined ? expected : 1;
}

/**
 * The answer to one POST: plain JSON when nothing precedes the result, a stream as soon as something does. Decided by
 * the first message that leaves, so that both are one code path.
 */
class PostChannel implements Channel {
  onEnd: (() => unknown) | undefined;
  private expected: number;
  private stream: OutStream | undefined;
  private done = false;

  constructor(private readonly made: PostOptions) {
    this.expected = made.expected;
  }

  send(message: JsonRpcMessage | readonly JsonRpcMessage[]): void {
    if (this.done) return;
    const answers = countAnswers(message, this.expected);
    const { form, responder } = this.made;
    if (form === 'json' && answers === 0) {
      // A client that takes no stream gets its answer and nothing before it; and it cannot be asked.
      if ('id' in message)
        throw new JexoError('JEXO_NOT_SUPPORTED', 'The client accepts application/json only, so nothing can be asked of it during a call.');
      return;
    }
    const text = encode(message);
    if (form !== 'stream' && this.stream === undefined && answers >= this.expected) {
      const headers = this.headers();
      responder.reply(200, headers === noHeaders ? json : { ...json, ...headers }, text);
      return this.end();
    }
    this.open().write(text);
    this.expected -= answers;
    if (this.expected <= 0) this.end();
  }

  dropped(_id: RequestId): void {
    if (this.done) return;
    this.expected -= 1;
    if (this.expected > 0) return;
    if (this.made.form === 'json') this.made.responder.reply(202, this.headers(), '');
    else this.open();
    this.end();
  }

  /** A handshake names its session when it has come about. */
  private headers(): Record<string, string> {
    const { cors, session, isHandshake } = this.made;
    return isHandshake && session?.peer.state === 'ready' ? { ...cors, 'mcp-session-id': session.id } : cors;
  }

  private open(): OutStream {
    if (this.stream !== undefined) return this.stream;
    const { session, responder, maxUnreadBytes } = this.made;
    const sink = responder.stream({ ...eventStream, ...this.headers() });
    this.stream = session?.streams.open(sink, primes(session)) ?? {
      write: (message) => {
        sink.write(`event: message\ndata: ${message}\n\n`);
        // A client that does not read must not grow our memory; without a session there is nothing to take up again.
        if (sink.unread() > maxUnreadBytes) this.cut(sink);
      },
      end: () => sink.end(),
    };
    return this.stream;
  }

  private cut(sink: EventStream): void {
    sink.abort();
    this.done = true;
    this.onEnd?.();
  }

  private end(): void {
    this.done = true;
    this.stream?.end();
    this.onEnd?.();
  }
}

interface PostOptions {
  readonly expected: number;
  readonly responder: Responder;
  readonly cors: Record<string, string>;
  /** Whose stream it becomes, if it becomes one; without sessions there is nothing to take up again. */
  readonly session: HttpSession | undefined;
  readonly form: Form;
  readonly maxUnreadBytes: number;
  readonly isHandshake?: true;
}
