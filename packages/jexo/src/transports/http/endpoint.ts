import { systemClock, type Clock } from '../../engine/clock.js';
import { printFault } from '../../engine/faults.js';
import { JexoError } from '../../errors.js';
import { hold, type Caller, type Servable } from '../../engine/servable.js';
import { after, type MaybePromise, type Store } from '../../engine/store.js';
import { errorCodes } from '../../protocol/json-rpc.js';
import { memoryStore } from '../../stores/memory.js';
import { safeTap, type WireTap } from '../link.js';
import { checkAgain } from './check-again.js';
import { identify, type Authenticator } from './authenticate.js';
import { answerDelete, answerGet, answerPost, type Serving } from './answer-request.js';
import { createGate, type GateOptions } from './gate.js';
import { createHttpSessions } from './http-sessions.js';
import type { HttpRequest, RequestBody, Responder } from './http-types.js';
import { createKeepAlive } from './keep-alive.js';
import { createPassing } from './passing.js';
import { isBodyTooDeep } from './read-message.js';
import { comeBack, corsFor, refuse } from './replies.js';
import type { StreamLimits } from './session-streams.js';
import { tapExchange } from './tap-exchange.js';

/** Limits and checks of a server over HTTP. */
export interface EndpointOptions extends GateOptions, StreamLimits {
  /** Finds out who sends each request. Default: nobody is asked, and no caller has an identity. */
  readonly auth?: Authenticator;
  /** True lets a client narrow what it sees by the query: `/mcp?tags=inspections,scales` leaves the offers with one of these tags. */
  readonly narrowing?: boolean;
  /** Ends the ids of sessions, so that what is in front can tell where one is: `.w2`. Default: nothing. */
  readonly sessionMark?: string;
  /** Where sessions, events, tasks and limits are kept. Default: in the memory of this process. Several processes may share one. */
  readonly store?: Store;
  /**
   * True leaves tasks to workers (`jexo work`, `workTasks`), which may be other processes: they wait in the queue of the `store` until one has time.
   * Default false: this process does them.
   */
  readonly queueTasks?: boolean;
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
  /** Events kept for each session, so that a lost connection can be resumed. Default 500. With a `store`, the store says it. */
  readonly maxKeptEvents?: number;
  /** Bytes of events kept for all sessions together; those of the least used go first. Default 256 MiB. With a `store`, the store says it. */
  readonly maxKeptBytesInAll?: number;
  /** Sees every message that passes, both ways, with status and headers. */
  readonly tap?: WireTap;
  /** Where time is read. Default: the clock of the system. */
  readonly clock?: Clock;
  /** Called with faults and the reference the client gets. Default: printed to stderr. */
  readonly onFault?: (error: unknown, reference: string) => void;
}

export interface Endpoint {
  /** Answers one request. */
  handle(request: HttpRequest, body: RequestBody, responder: Responder): void;
  readonly sessions: number;
  /** Event streams that are open. */
  readonly streams: number;
  /** Requests being answered. */
  readonly inFlight: number;
  /** Ends all sessions; clients begin new ones. */
  forgetSessions(): void;
  /** From now on no new session is begun: clients get a 503 and come back, to another process perhaps. */
  drain(): void;
  /** Resolves when nothing is being answered. */
  whenIdle(): Promise<void>;
  /** Ends what is served here, and releases the server; the last one to do so closes it. */
  close(reason: string): Promise<void>;
}

/** The Streamable HTTP endpoint (Transports, "Streamable HTTP"), for any runtime that can reply and stream. */
// eslint-disable-next-line max-lines-per-function -- the members of an endpoint share its state
export function createEndpoint(server: Servable, options: EndpointOptions): Endpoint {
  const { clock = systemClock, onFault = printFault, auth } = options;
  requireQueue(options);
  const release = hold(server);
  const gate = createGate(options);
  const tap = options.tap === undefined ? undefined : safeTap(options.tap, onFault);
  const serving = createServing(server, options, clock, onFault);
  const { sessions, passing, keepAlive } = serving;
  const { narrowing = false } = options;
  let isClosed = false;
  /** Requests whose caller or session is still being looked up: no session counts them yet. */
  const entering = new Set<Promise<void>>();
  const enter = (work: Promise<void>) => {
    entering.add(work);
    void work.finally(() => entering.delete(work));
  };

  const route = (request: HttpRequest, body: RequestBody, cors: Record<string, string>, caller: Caller, responder: Responder) => {
    switch (request.method) {
      case 'POST':
        return answerPost(serving, request, body, cors, caller, responder);
      case 'GET':
        return answerGet(serving, request, cors, caller, responder);
      case 'DELETE':
        return answerDelete(serving, request, cors, caller, responder);
      default:
        return refuse(responder, 405, { ...cors, allow: 'GET, POST, DELETE' }, 'Method not allowed: use GET, POST or DELETE');
    }
  };
  const answer = (request: HttpRequest, body: RequestBody, given: Responder): MaybePromise<void> => {
    const origin = request.header('origin');
    const refusal = gate.refuses(request.header('host'), origin);
    const isDoubled = (request.hostCount ?? 1) > 1;
    // What records the traffic sees a body only once it is known to be of a size and depth that can be looked at.
    const isFit = () => refusal === undefined && !isDoubled && !isBodyTooDeep(body);
    const responder = tap === undefined ? given : tapExchange(tap, request, isFit() ? body : '', given);
    if (isDoubled) return refuse(responder, 400, {}, 'Bad request: there is more than one Host header');
    if (refusal !== undefined) return refuse(responder, 403, {}, `Forbidden: ${refusal}`);
    const cors = corsFor(origin);
    if (isClosed) return refuse(responder, 503, { ...cors, ...comeBack }, 'The server is stopping: try again', errorCodes.internalError);
    if (request.method === 'OPTIONS') return responder.reply(204, { ...cors, allow: 'GET, POST, DELETE' }, '');
    return after(identify(auth, request, cors, responder, narrowing), (caller) =>
      caller === undefined ? undefined : route(request, body, cors, caller, responder),
    );
  };
  /** A request that cannot be answered ends by itself; the others go on. */
  const failed = (error: unknown, responder: Responder) => {
    const reference = Math.floor(Math.random() * 0xffffff)
      .toString(16)
      .padStart(6, '0');
    onFault(error, reference);
    try {
      refuse(responder, 500, {}, `Internal error (reference ${reference})`, errorCodes.internalError);
    } catch {
      // It has been answered in part already.
    }
  };

  return {
    handle(request, body, responder) {
      try {
        const work = answer(request, body, responder);
        if (work instanceof Promise) enter(work.catch((error: unknown) => failed(error, responder)));
      } catch (error) {
        failed(error, responder);
      }
    },
    get sessions() {
      return sessions.size;
    },
    get streams() {
      return keepAlive.size;
    },
    drain() {
      serving.isDraining = true;
    },
    get inFlight() {
      let count = passing.inFlight + entering.size;
      for (const { peer } of sessions.all()) count += peer.inFlight.incoming;
      return count;
    },
    forgetSessions() {
      for (const { peer } of [...sessions.all()]) peer.close('the server has ended all sessions');
    },
    async whenIdle() {
      // While one is waited for, others may come in over connections that are still open.
      while (serving.sessions.size > 0 || entering.size > 0 || passing.inFlight > 0) {
        await Promise.all([...[...sessions.all()].map(({ peer }) => peer.whenIdle()), passing.whenIdle(), ...entering]);
        if (this.inFlight === 0) return;
      }
    },
    async close(reason) {
      isClosed = true;
      serving.stop();
      keepAlive.stop();
      sessions.leave(reason);
      passing.close(reason);
      await release();
    },
  };
}

/** @throws JexoError JEXO_DEFINITION when tasks are left to workers, and there is nowhere to leave them */
function requireQueue({ queueTasks = false, store }: EndpointOptions): void {
  if (queueTasks && store?.queue === undefined)
    throw new JexoError('JEXO_DEFINITION', 'Tasks can wait for workers in a store with a queue only.', {
      where: 'queueTasks',
      next: "Give it one: { store: redis('redis://…'), queueTasks: true }.",
    });
}

/** The parts that the answers of all requests share, with the timer that ends what is idle. */
function createServing(
  server: Servable,
  options: EndpointOptions,
  clock: Clock,
  onFault: (error: unknown, reference: string) => void,
): Serving & { readonly stop: () => void } {
  const { sessionIdleMs = 30 * 60_000, maxSessions = 10_000, keepAliveMs = 15_000, maxUnreadBytes = 1024 * 1024 } = options;
  const { maxSessionsPerAddress = Math.ceil(maxSessions / 2) } = options;
  const keepAlive = createKeepAlive(clock, keepAliveMs);
  const store = options.store ?? memoryStore({ ...options, clock });
  const sessions = createHttpSessions({
    server,
    store,
    isShared: options.store !== undefined,
    mark: options.sessionMark ?? '',
    queueTasks: options.queueTasks ?? false,
    limits: { ...options, sessionIdleMs, maxSessions, maxSessionsPerAddress },
    clock,
    onStream: keepAlive.add,
    onFault,
  });
  const passing = createPassing(clock);
  let sweeping: unknown;
  const sweep = () => {
    sweeping = undefined;
    const now = clock.now();
    sessions.sweep(now);
    passing.sweep(now - sessionIdleMs);
    if (sessions.size > 0 || passing.hasGone) scheduleSweep();
  };
  const scheduleSweep = () => void (sweeping ??= clock.after(Math.min(sessionIdleMs, 60_000), sweep));
  return {
    server,
    sharedStore: options.store,
    sessions,
    passing,
    keepAlive,
    clock,
    onFault,
    isStateful: options.sessions ?? true,
    auth: options.auth,
    isDraining: false,
    checkAgain: checkAgain(options.auth, clock, onFault),
    maxUnreadBytes,
    scheduleSweep,
    stop: () => sweeping !== undefined && clock.cancel(sweeping),
  };
}
