import { isJexoError, JexoError } from '../errors.js';
import {
  encode,
  errorCodes,
  isRawJson,
  RawJson,
  readEnvelope,
  RpcError,
  type Envelope,
  type ErrorObject,
  type JsonRpcMessage,
  type JsonRpcRequest,
  type JsonRpcResponse,
  type Params,
  type RequestId,
} from '../protocol/json-rpc.js';
import type { ParamsOf, RequestMethod, ResultOf } from '../protocol/methods.js';
import { newestRevision, type Revision } from '../protocol/revisions.js';
import type { ClientCapabilities, Implementation, ProgressUpdate, ServerCapabilities } from '../protocol/types.js';
import type { Clock } from './clock.js';
import { Exchange, type Channel } from './exchange.js';

export type RequestHandler = (params: Params, exchange: Exchange) => unknown;
export type NotificationHandler = (params: Params, peer: Peer) => void;

/** How one request is sent, and how long its answer may take. */
export interface RequestOptions {
  /** Milliseconds without an answer (or a progress notice) before giving up. Default 60,000; 0 waits for ever. */
  readonly timeoutMs?: number;
  /** Milliseconds after which even progress does not extend the wait. Default 10 times `timeoutMs`. */
  readonly maxTimeoutMs?: number;
  /** Cancels the request; the other side is notified. */
  readonly signal?: AbortSignal;
  /** Called for every progress notification of the request. */
  readonly onProgress?: (update: ProgressUpdate) => void;
  /** Members of `_meta` beside the progress token (Base protocol, "_meta"). */
  readonly meta?: Readonly<Record<string, unknown>>;
  /** Where the request leaves; the peer's standing outlet when absent. */
  readonly channel?: Channel;
}

export interface PeerOptions {
  readonly role: 'client' | 'server';
  readonly outlet: Channel;
  readonly clock: Clock;
  readonly requests: ReadonlyMap<string, RequestHandler>;
  readonly notifications?: ReadonlyMap<string, NotificationHandler>;
  /** Put before the ids of our own requests, where several processes carry one conversation. Default: they are plain numbers. */
  readonly idPrefix?: string;
  /** Requests of all peers of one server together, so that one client cannot hold them all. */
  readonly load?: Load;
  /** Called with a fault inside a handler; the other side only gets the reference. */
  readonly onFault?: (error: unknown, reference: string) => void;
  /** Called for messages that belong to nothing: late answers, unknown ids, malformed lines. */
  readonly onStray?: (why: string, message: unknown) => void;
}

/** A count that several peers share. */
export interface Load {
  count: number;
  readonly most: number;
}

/** Requests of the other side that may be in flight at once. */
const mostIncoming = 1000;
/** Messages a batch may have, and characters its answers may have together. */
const mostInBatch = 100;
const mostBatchCharacters = 16 * 1024 * 1024;
/** Of what the other side sent, so much is said back to it. */
const mostEchoed = 100;

interface Outgoing {
  readonly method: string;
  readonly resolve: (result: Params) => void;
  readonly reject: (error: Error) => void;
  readonly onProgress: ((update: ProgressUpdate) => void) | undefined;
  readonly channel: Channel;
  startedAt: number;
  readonly timeoutMs: number;
  readonly maxTimeoutMs: number;
  readonly isTask: boolean;
  timer: unknown;
  unlisten: (() => void) | undefined;
}

/** Where a conversation is: before the handshake, after it, or over. */
export type PeerState = 'new' | 'ready' | 'closed';

/** What the other side says of itself. */
export interface Remote {
  /** Its name and version. */
  readonly info: Implementation;
  /** What it can do, as it declared in the handshake. */
  readonly capabilities: ClientCapabilities & ServerCapabilities;
}

/** On what both sides talk. */
export interface Agreement {
  /** The revision of the protocol, as `2025-11-25`. */
  readonly revision: Revision;
  /** The other side; absent when it says nothing of itself. */
  readonly remote?: Remote;
}

const noParams: Params = Object.freeze({});

/**
 * One side of one conversation. It knows requests in flight both ways, cancellation, progress and timeouts; it does no
 * I/O and holds no timer that was not handed to it.
 */
export class Peer {
  /** Which side this is. */
  readonly role: 'client' | 'server';
  /** Where time is read. */
  readonly clock: Clock;
  private standing: PeerState = 'new';
  private agreed: Agreement = { revision: newestRevision };
  private way: Channel;
  private readonly options: PeerOptions;
  private readonly incoming = new Map<RequestId, Exchange>();
  private readonly outgoing = new Map<RequestId, Outgoing>();
  private readonly listeners = new Map<RequestId, (update: ProgressUpdate) => void>();
  private closing: ((reason: string) => void)[] = [];
  private idling: (() => void)[] = [];
  private lastId = 0;

  constructor(options: PeerOptions) {
    this.options = options;
    this.role = options.role;
    this.clock = options.clock;
    this.way = options.outlet;
  }

  /** `new` until both sides have agreed on how they talk. */
  get state(): PeerState {
    return this.standing;
  }

  /** The revision both sides agreed on. */
  get revision(): Revision {
    return this.agreed.revision;
  }

  /** What the other side said of itself in the handshake; undefined before it, and where there is none. */
  get remote(): Remote | undefined {
    return this.agreed.remote;
  }

  /** The standing way out, for messages that belong to no request. */
  get outlet(): Channel {
    return this.way;
  }

  /** A link that has been started brings the way out. */
  useOutlet(outlet: Channel): void {
    this.way = outlet;
  }

  /** Begins the conversation on these terms; from now on every request is answered. */
  begin(agreement: Agreement): void {
    this.agreed = agreement;
    this.standing = 'ready';
  }

  /** Requests being answered and requests waiting for an answer. */
  get inFlight(): { readonly incoming: number; readonly outgoing: number } {
    return { incoming: this.incoming.size, outgoing: this.outgoing.size };
  }

  /** Runs `task` when the conversation ends. */
  onClose(task: (reason: string) => void): void {
    if (this.state === 'closed') task('the connection is closed');
    else this.closing.push(task);
  }

  /**
   * Takes one parsed message, or a batch where the revision has them.
   * @param channel where its answer belongs
   * @param known the kind of message it is, where somebody has read that already
   */
  receive(value: unknown, channel: Channel = this.outlet, known?: Envelope): void {
    if (Array.isArray(value)) return this.receiveBatch(value, channel);
    const envelope = known ?? readEnvelope(value);
    switch (envelope.kind) {
      case 'request':
        return this.answer(envelope.message, channel);
      case 'notification':
        return this.hear(envelope.message.method, envelope.message.params ?? noParams);
      case 'result':
        return this.settle(envelope.message.id, (waiting) => waiting.resolve(envelope.message.result as Params), value);
      case 'error': {
        const { id, error } = envelope.message;
        if (id === undefined || id === null)
          return this.options.onStray?.(`the other side could not read a message: ${error.message}`, value);
        return this.settle(id, (waiting) => waiting.reject(new RpcError(error.code, error.message, error.data)), value);
      }
      case 'invalid':
        this.options.onStray?.(envelope.why, value);
        if (deservesAnAnswer(value)) {
          this.deliver(channel, failure(envelope.id, { code: errorCodes.invalidRequest, message: `Invalid request: ${envelope.why}` }));
        } else this.disappoint(value, envelope.why);
    }
  }

  /** An answer that is none ends the wait of whoever asked: nothing better will come under this id. */
  private disappoint(value: unknown, why: string): void {
    const { id } = value as { id?: unknown };
    // Some peers send numbers back as texts, which are other ids.
    const asked = [id, typeof id === 'string' && /^\d{1,15}$/.test(id) ? Number(id) : undefined].find((each) =>
      this.outgoing.has(each as RequestId),
    ) as RequestId | undefined;
    if (asked === undefined) return;
    this.fail(asked, new JexoError('JEXO_NOT_PROTOCOL', `The answer to ${this.outgoing.get(asked)!.method} is no legal message: ${why}.`));
  }

  /** Sends, whatever happens: what cannot be written down, or not be sent, is a fault of ours and harms nobody else. */
  private deliver(channel: Channel, message: JsonRpcMessage | readonly JsonRpcMessage[]): void {
    try {
      channel.send(message);
    } catch (error) {
      const reference = this.fault(error);
      const answers = ([message].flat() as JsonRpcMessage[]).filter((each): each is JsonRpcResponse => !('method' in each));
      const instead = answers.map(({ id }) =>
        failure(id ?? undefined, { code: errorCodes.internalError, message: `Internal error (reference ${reference})` }),
      );
      if (instead.length === 0) return;
      try {
        channel.send(Array.isArray(message) ? instead : instead[0]!);
      } catch (second) {
        this.fault(second);
      }
    }
  }

  /** Batches exist in 2025-03-26 only (Base protocol of that revision, "Batching"). */
  private receiveBatch(values: readonly unknown[], channel: Channel): void {
    const refuse = (why: string) =>
      this.deliver(channel, failure(undefined, { code: errorCodes.invalidRequest, message: `Invalid request: ${why}` }));
    if (this.revision !== '2025-03-26') {
      // Answers that came as a list are no answers; whoever waits for them is told.
      const why = `revision ${this.revision} has no batches`;
      for (const value of values) if (!deservesAnAnswer(value)) this.disappoint(value, why);
      return refuse(why);
    }
    if (values.length === 0) return refuse('a batch must not be empty');
    if (values.length > mostInBatch) return refuse(`a batch may hold at most ${mostInBatch} messages`);
    let expected = 0;
    for (const value of values) {
      const envelope = readEnvelope(value);
      if (envelope.kind === 'request' && envelope.message.method === 'initialize') return refuse('initialize must not be part of a batch');
      if (envelope.kind === 'request' || (envelope.kind === 'invalid' && deservesAnAnswer(value))) expected++;
    }
    const answers: JsonRpcMessage[] = [];
    let characters = 0;
    const settled = () => {
      if (--expected === 0 && answers.length > 0) this.deliver(channel, answers);
    };
    const gather: Channel = {
      ...(channel.caller && { caller: channel.caller }),
      send(message) {
        if (Array.isArray(message) || 'method' in message) return channel.send(message);
        const answer = message as JsonRpcResponse;
        // Written once, here: what cannot be written is refused by itself, and what is too much for one body as well.
        const text = encode(answer);
        characters += text.length;
        if (characters > mostBatchCharacters)
          answers.push(failure(answer.id ?? undefined, { code: errorCodes.internalError, message: tooMuchInBatch }));
        else
          answers.push(
            'result' in answer
              ? { ...answer, result: new RawJson(isRawJson(answer.result) ? answer.result.json : JSON.stringify(answer.result)) }
              : answer,
          );
        settled();
      },
      dropped(id) {
        settled();
        if (expected === 0 && answers.length === 0) channel.dropped?.(id);
      },
    };
    for (const value of values) this.receive(Array.isArray(value) ? null : value, gather);
  }

  private answer(message: JsonRpcRequest, channel: Channel): void {
    const { id, method } = message;
    if (this.state === 'new' && this.role === 'server' && method !== 'initialize' && method !== 'ping') {
      return this.deliver(
        channel,
        failure(id, { code: errorCodes.invalidRequest, message: 'Invalid request: the session is not initialised; send initialize first' }),
      );
    }
    const handler = this.options.requests.get(method);
    if (handler === undefined)
      return this.deliver(channel, failure(id, { code: errorCodes.methodNotFound, message: `Method not found: ${echoed(method)}` }));
    if (this.incoming.has(id)) {
      return this.deliver(
        channel,
        failure(id, { code: errorCodes.invalidRequest, message: `Invalid request: id ${JSON.stringify(id)} is still in use` }),
      );
    }
    const { load } = this.options;
    if (this.incoming.size >= mostIncoming || (load !== undefined && load.count >= load.most))
      return this.deliver(
        channel,
        failure(id, { code: errorCodes.internalError, message: 'Too many requests are being answered; try again when some are done' }),
      );
    if (load !== undefined) load.count++;
    const exchange = new Exchange(this, id, method, message.params ?? noParams, channel);
    this.incoming.set(id, exchange);
    let result: unknown;
    try {
      result = handler(exchange.params, exchange);
    } catch (error) {
      return this.finishWithError(exchange, error);
    }
    if (result instanceof Promise) {
      result.then(
        (value) => this.finishWithResult(exchange, value),
        (error) => this.finishWithError(exchange, error),
      );
    } else {
      this.finishWithResult(exchange, result);
    }
  }

  private finishWithResult(exchange: Exchange, result: unknown): void {
    if (!this.finish(exchange)) return;
    this.deliver(exchange.channel, { jsonrpc: '2.0', id: exchange.id, result: (result ?? {}) as object });
  }

  private finishWithError(exchange: Exchange, error: unknown): void {
    if (!this.finish(exchange)) return;
    this.deliver(exchange.channel, failure(exchange.id, this.describe(error)));
  }

  /** False when the request was cancelled meanwhile: then no response is sent (Base protocol, "Cancellation"). */
  private finish(exchange: Exchange): boolean {
    if (exchange.cancelled) return false;
    exchange.finish();
    this.forget(exchange);
    return true;
  }

  private forget(exchange: Exchange): void {
    if (!this.incoming.delete(exchange.id)) return;
    if (this.options.load !== undefined) this.options.load.count--;
    if (this.incoming.size > 0 || this.idling.length === 0) return;
    const tasks = this.idling;
    this.idling = [];
    // After this turn, so that the answer that made us idle has been handed to its channel.
    queueMicrotask(() => tasks.forEach((task) => task()));
  }

  /** Resolves when no request of the other side is being answered. */
  whenIdle(): Promise<void> {
    return this.incoming.size === 0 ? Promise.resolve() : new Promise((resolve) => this.idling.push(resolve));
  }

  private describe(error: unknown): ErrorObject {
    if (error instanceof RpcError)
      return error.data === undefined
        ? { code: error.code, message: error.message }
        : { code: error.code, message: error.message, data: error.data };
    const reference = this.fault(error);
    // The store between processes is away: that passes, and a client may know it.
    const isPassing = isJexoError(error) && error.code === 'JEXO_STORE';
    const message = isPassing
      ? `The server cannot reach its store now: try again (reference ${reference})`
      : `Internal error (reference ${reference})`;
    return { code: errorCodes.internalError, message, ...(isPassing && { data: { retryable: true } }) };
  }

  /** Reports a fault to the operator and gives the reference by which it can be found again. */
  fault(error: unknown): string {
    const reference = this.reference();
    try {
      this.options.onFault?.(error, reference);
    } catch {
      // `onFault` failed itself: there is nobody left to report to.
    }
    return reference;
  }

  private reference(): string {
    return Math.floor(Math.random() * 0xffffff)
      .toString(16)
      .padStart(6, '0');
  }

  private hear(method: string, params: Params): void {
    if (method === 'notifications/cancelled') return this.cancelIncoming(params);
    if (method === 'notifications/progress') return this.progressed(params);
    const handler = this.options.notifications?.get(method);
    if (handler === undefined) return;
    try {
      handler(params, this);
    } catch (error) {
      // A notification is never answered, not even with an error; the operator is told.
      this.fault(error);
    }
  }

  private cancelIncoming(params: Params): void {
    const exchange = this.incoming.get(params.requestId);
    if (exchange === undefined || exchange.method === 'initialize') return;
    this.forget(exchange);
    exchange.cancel(typeof params.reason === 'string' ? params.reason : 'cancelled by the other side');
  }

  /** Hears progress under a token of the caller's own, for work that outlives its request. Returns how to stop. */
  listenProgress(token: RequestId, listener: (update: ProgressUpdate) => void): () => void {
    this.listeners.set(token, listener);
    return () => void this.listeners.delete(token);
  }

  private progressed(params: Params): void {
    const waiting = this.outgoing.get(params.progressToken);
    const listener = waiting?.onProgress ?? this.listeners.get(params.progressToken);
    if ((waiting ?? listener) === undefined || typeof params.progress !== 'number') return;
    if (waiting !== undefined) this.arm(params.progressToken, waiting);
    try {
      listener?.({
        progress: params.progress,
        ...(typeof params.total === 'number' && { total: params.total }),
        ...(typeof params.message === 'string' && { message: params.message }),
      });
    } catch (error) {
      this.fault(error); // the listener's own; the request goes on
    }
  }

  private settle(id: RequestId, how: (waiting: Outgoing) => void, message: unknown): void {
    const waiting = this.outgoing.get(id);
    if (waiting === undefined) {
      this.disappoint(message, 'its id is not the one of a request');
      return this.options.onStray?.(`no request waits for the answer with id ${JSON.stringify(id)}`, message);
    }
    this.release(id, waiting);
    how(waiting);
  }

  /** The transport could not deliver this request: its waiter gets the reason. */
  fail(id: RequestId, error: Error): void {
    const waiting = this.outgoing.get(id);
    if (waiting === undefined) return;
    this.release(id, waiting);
    waiting.reject(error);
  }

  /** True while the request of this id waits for its answer. */
  isWaiting(id: RequestId): boolean {
    return this.outgoing.has(id);
  }

  /** Does not count the time until something has ended: the request waits for a person, and not for the other side. */
  pause(id: RequestId, until: Promise<unknown>): void {
    const waiting = this.outgoing.get(id);
    if (waiting === undefined || waiting.timeoutMs === 0) return;
    if (waiting.timer !== undefined) this.clock.cancel(waiting.timer);
    waiting.timer = undefined;
    const since = this.clock.now();
    const goOn = () => {
      if (this.outgoing.get(id) !== waiting) return;
      waiting.startedAt += this.clock.now() - since;
      this.arm(id, waiting);
    };
    until.then(goOn, goOn);
  }

  /** None of the requests in flight will be answered: their waiters get the reason. */
  failAll(error: Error): void {
    for (const id of [...this.outgoing.keys()]) this.fail(id, error);
  }

  private release(id: RequestId, waiting: Outgoing): void {
    this.outgoing.delete(id);
    if (waiting.timer !== undefined) this.clock.cancel(waiting.timer);
    waiting.unlisten?.();
  }

  /**
   * Sends a request and waits for its answer.
   * @throws RpcError the other side answered with an error
   * @throws JexoError JEXO_TIMEOUT, JEXO_CANCELLED, JEXO_CLOSED
   */
  request<M extends RequestMethod>(method: M, params?: ParamsOf<M>, options?: RequestOptions): Promise<ResultOf<M>>;
  request(method: string, params?: Params, options?: RequestOptions): Promise<Params>;
  request(method: string, params?: Params, options: RequestOptions = {}): Promise<Params> {
    if (this.state === 'closed') return Promise.reject(new JexoError('JEXO_CLOSED', `The connection is closed; ${method} was not sent.`));
    if (options.signal?.aborted) return Promise.reject(cancelled(method, options.signal));
    const { idPrefix } = this.options;
    const id: RequestId = idPrefix === undefined ? ++this.lastId : `${idPrefix}${++this.lastId}`;
    const channel = options.channel ?? this.outlet;
    const { onProgress, meta } = options;
    const hasMeta = meta !== undefined && Object.keys(meta).length > 0;
    const token = onProgress === undefined ? {} : { progressToken: id };
    const sent = onProgress === undefined && !hasMeta ? params : { ...params, _meta: { ...params?._meta, ...meta, ...token } };
    return new Promise<Params>((resolve, reject) => {
      const timeoutMs = options.timeoutMs ?? 60_000;
      const waiting: Outgoing = {
        method,
        resolve,
        reject,
        onProgress: options.onProgress,
        channel,
        startedAt: this.clock.now(),
        timeoutMs,
        maxTimeoutMs: options.maxTimeoutMs ?? timeoutMs * 10,
        isTask: params?.task !== undefined,
        timer: undefined,
        unlisten: undefined,
      };
      this.outgoing.set(id, waiting);
      if (options.signal !== undefined) {
        const { signal } = options;
        const onAbort = () => this.giveUp(id, waiting, cancelled(method, signal));
        signal.addEventListener('abort', onAbort, { once: true });
        waiting.unlisten = () => signal.removeEventListener('abort', onAbort);
      }
      this.arm(id, waiting);
      try {
        channel.send(sent === undefined ? { jsonrpc: '2.0', id, method } : { jsonrpc: '2.0', id, method, params: sent });
      } catch (error) {
        this.release(id, waiting);
        reject(error as Error);
      }
    });
  }

  /** Starts the wait again; a hard maximum holds all the same (Base protocol, "Timeouts"). */
  private arm(id: RequestId, waiting: Outgoing): void {
    if (waiting.timeoutMs === 0) return;
    if (waiting.timer !== undefined) this.clock.cancel(waiting.timer);
    const left = waiting.maxTimeoutMs - (this.clock.now() - waiting.startedAt);
    const ms = Math.max(0, Math.min(waiting.timeoutMs, left));
    // Somebody waits for this answer: it keeps the process until it comes or its time is up.
    waiting.timer = this.clock.after(
      ms,
      () => {
        const waited = Math.round(this.clock.now() - waiting.startedAt);
        this.giveUp(id, waiting, new JexoError('JEXO_TIMEOUT', `${waiting.method} had no answer within ${waited} ms.`));
      },
      true,
    );
  }

  private giveUp(id: RequestId, waiting: Outgoing, error: JexoError): void {
    if (this.outgoing.get(id) !== waiting) return;
    this.release(id, waiting);
    // A client never cancels initialize, and a task only by its own request (Base protocol, "Cancellation"; Tasks).
    if (waiting.method !== 'initialize' && !waiting.isTask) {
      this.deliver(waiting.channel, {
        jsonrpc: '2.0',
        method: 'notifications/cancelled',
        params: { requestId: id, reason: error.message },
      });
    }
    waiting.reject(error);
  }

  /** Sends a notification. */
  notify(method: string, params?: Params, channel: Channel = this.outlet): void {
    if (this.state === 'closed') return;
    this.deliver(channel, params === undefined ? { jsonrpc: '2.0', method } : { jsonrpc: '2.0', method, params });
  }

  /** Ends the conversation: handlers are told by their signal, waiting requests fail with `error`. */
  close(reason = 'the connection is closed', error?: Error): void {
    if (this.state === 'closed') return;
    this.standing = 'closed';
    for (const exchange of [...this.incoming.values()]) {
      this.forget(exchange);
      exchange.cancel(reason);
    }
    for (const [id, { method }] of [...this.outgoing])
      this.fail(id, error ?? new JexoError('JEXO_CLOSED', `${method} was not answered: ${reason}.`));
    const tasks = this.closing;
    this.closing = [];
    for (const task of tasks) {
      try {
        task(reason);
      } catch (error) {
        this.fault(error);
      }
    }
  }
}

function echoed(text: string): string {
  return text.length > mostEchoed ? `${text.slice(0, mostEchoed)}…` : text;
}

/** Never answer what looks like an answer: two peers would send errors to each other for ever. */
function deservesAnAnswer(value: unknown): boolean {
  return typeof value !== 'object' || value === null || !('result' in value || 'error' in value);
}

const tooMuchInBatch = `Internal error: the answers of a batch may have at most ${mostBatchCharacters} characters together; send fewer at once`;

function cancelled(method: string, signal: AbortSignal): JexoError {
  const reason: unknown = signal.reason;
  return new JexoError(
    'JEXO_CANCELLED',
    `${method} was cancelled${reason instanceof Error && reason.name !== 'AbortError' ? `: ${reason.message}` : ''}.`,
    { cause: reason },
  );
}

export function failure(id: RequestId | undefined, error: ErrorObject): JsonRpcMessage {
  return id === undefined ? { jsonrpc: '2.0', error } : { jsonrpc: '2.0', id, error };
}
