import { pause } from '../../engine/pause.js';
import { printFault } from '../../engine/faults.js';
import { isJexoError, JexoError, messageOf } from '../../errors.js';
import { byteLength } from '../../protocol/byte-length.js';
import { isTooDeep, maxDepth } from '../../protocol/depth.js';
import type { RequestId } from '../../protocol/json-rpc.js';
import { since, type Revision } from '../../protocol/revisions.js';
import type { ClientAuth, SignInStep } from './client-auth.js';
import { safeTap, wireTime, type Deviation, type LinkEvents, type WireEvent, type WireTap } from '../link.js';
import { unreachable } from './link-errors.js';
import { readEvents } from './read-body.js';
import { fetchWithin } from './same-origin.js';

/** How a client reaches a server over HTTP. */
export interface HttpLinkOptions {
  /** Sent with every request, to this origin only. They are taken for secrets: no trace and no log shows their values. */
  readonly headers?: Readonly<Record<string, string>>;
  /** Proves who calls, and signs in when the server wants it: `signIn()`. */
  readonly auth?: ClientAuth;
  /** Called with each message. */
  readonly tap?: WireTap;
  /** Default: the runtime's own fetch. */
  readonly fetch?: typeof fetch;
  /** Times in a row that no connection comes about before what a lost stream carried fails. Default 5. */
  readonly maxRetries?: number;
  /** Milliseconds before the first attempt; each further one waits twice as long, give or take. Default 250. */
  readonly backOffMs?: number;
  /** Bytes one answer or event may have, unpacked. Default 64 MiB. */
  readonly maxMessageBytes?: number;
  /** Told when a stream was lost and is taken up again, and when it is given up. */
  readonly onReconnect?: (what: string) => void;
  /** Called for headers, statuses and events that break the protocol, and that this link accepts or skips. */
  readonly onDeviation?: (deviation: Deviation) => void;
}

/** The longest pause between attempts, and the shortest, whatever a server asks for. */
const longestWaitMs = 10_000;
const shortestWaitMs = 50;
/** Times one request is sent when its sender is not known or may not. */
const mostAttempts = 3;
/** Pauses between new sessions that a server forgets at once. */
const longestRenewalWaitMs = 30_000;

export const strangerNext =
  'Something else than a server of this protocol answers there. Check the port and the path; most servers answer at /mcp.';

/** Where a stream stands: enough to resume it. */
export interface Progress {
  lastEventId: string | undefined;
  retryMs: number | undefined;
  events: number;
}
export const noProgress = (): Progress => ({ lastEventId: undefined, retryMs: undefined, events: 0 });

/** A client's side of Streamable HTTP: the session, what every request carries, and how what comes back is taken. */
export class HttpConnection {
  sessionId: string | undefined;
  revision: Revision | undefined;
  isEnding = false;
  /** Set while a new session is being made in place of a forgotten one. */
  renewing: Promise<void> | undefined;
  events!: LinkEvents;
  readonly maxRetries: number;
  readonly maxMessageBytes: number;
  readonly onReconnect: ((what: string) => void) | undefined;
  readonly onDeviation: ((deviation: Deviation) => void) | undefined;
  readonly tap: WireTap | undefined;
  readonly auth: ClientAuth | undefined;
  private readonly extra: Readonly<Record<string, string>>;
  private readonly backOffMs: number;
  private readonly send: typeof fetch;
  /** One for each request: many that listened to one signal would be warned of. */
  private readonly open = new Set<AbortController>();
  private renewalWaitMs = 0;

  constructor(
    readonly url: string,
    options: HttpLinkOptions,
  ) {
    this.extra = options.headers ?? {};
    // What the user sends by hand is what proves them.
    this.auth = Object.keys(this.extra).some((name) => name.toLowerCase() === 'authorization') ? undefined : options.auth;
    this.maxRetries = options.maxRetries ?? 5;
    this.backOffMs = options.backOffMs ?? 250;
    this.maxMessageBytes = options.maxMessageBytes ?? 64 * 1024 * 1024;
    this.onReconnect = options.onReconnect;
    this.onDeviation = options.onDeviation;
    this.tap = options.tap && safeTap(options.tap, printFault);
    this.send = options.fetch ?? globalThis.fetch;
  }

  headers(more: Record<string, string> = {}): Record<string, string> {
    return {
      ...this.extra,
      ...more,
      ...(this.sessionId !== undefined && { 'mcp-session-id': this.sessionId }),
      ...(this.revision !== undefined && since(this.revision, '2025-06-18') && { 'mcp-protocol-version': this.revision }),
    };
  }

  /** As a trace may show them: what the user gave, and the session, stay out of it. */
  shownHeaders(): Record<string, string> {
    const isMasked = (name: string) => name in this.extra || name === 'mcp-session-id';
    return Object.fromEntries(Object.entries(this.headers()).map(([name, value]) => [name, isMasked(name) ? '(masked)' : value]));
  }

  /**
   * Sends one request, with what proves who calls; when it is refused and a sign-in helps, again.
   * @param ids of the requests in it: the time a person takes to sign in is not counted
   * @throws JexoError JEXO_CONNECT and similar; what the sign-in failed with
   */
  async request(init: RequestInit, { signal }: AbortController, ids: readonly RequestId[] = []): Promise<Response> {
    const { auth, url } = this;
    const method = init.method ?? 'GET';
    for (let attempt = 1; ; attempt++) {
      const proof = (await auth?.headers({ url, method, signal })) ?? {};
      const response = await this.sendOnce({ ...init, headers: { ...(init.headers as Record<string, string>), ...proof }, signal });
      const { status } = response;
      if (auth === undefined || (status !== 401 && status !== 403) || attempt >= mostAttempts) return response;
      const challenge = response.headers.get('www-authenticate') ?? undefined;
      const helped = Promise.resolve(auth.refused({ url, status, challenge, sent: proof, signal, tell: (step) => this.tell(step) }));
      for (const id of ids) this.events.pauses?.(id, helped);
      const again = await helped.catch(async (error: unknown) => {
        await response.body?.cancel();
        throw error;
      });
      if (!again) return response;
      await response.body?.cancel();
    }
  }

  private async sendOnce(init: RequestInit): Promise<Response> {
    try {
      return await fetchWithin(this.send, this.url, init);
    } catch (error) {
      throw isJexoError(error) ? error : unreachable(this.url, error);
    }
  }

  private tell({ step, url, method, status, sent, received, note }: SignInStep): void {
    const where = url === undefined ? '' : `, ${url}`;
    const more = [sent, received].filter((part) => part !== undefined).map((part) => JSON.stringify(part));
    this.tap?.({
      at: wireTime(),
      way: received === undefined && status === undefined ? 'sent' : 'received',
      bytes: 0,
      message: undefined,
      note: [`sign-in: ${step}${where}`, note, ...more].filter((part) => part !== undefined).join('\n'),
      http: { headers: {}, ...(method !== undefined && { method }), ...(status !== undefined && { status }) },
    });
  }

  /** What ends one request; all of them end with the connection. */
  begin(): AbortController {
    const controller = new AbortController();
    if (this.isEnding) controller.abort();
    this.open.add(controller);
    return controller;
  }

  end(controller: AbortController): void {
    this.open.delete(controller);
  }

  endAll(): void {
    for (const controller of this.open) controller.abort();
  }

  /** Hands on one message; what is no JSON is told, and is nobody's answer. @throws JexoError JEXO_NOT_PROTOCOL */
  take(text: string, note: string, http?: WireEvent['http']): unknown {
    let message: unknown;
    let why: string | undefined;
    if (isTooDeep(text)) why = `nested deeper than ${maxDepth} levels`;
    else {
      try {
        message = JSON.parse(text);
      } catch {
        why = 'not JSON';
      }
    }
    this.tap?.({
      at: wireTime(),
      way: 'received',
      bytes: byteLength(text),
      message: why === undefined ? message : text.slice(0, 10_000),
      note: why === undefined ? note : `${note}, ${why}`,
      ...(http && { http }),
    });
    if (why !== undefined)
      throw new JexoError(
        'JEXO_NOT_PROTOCOL',
        `${this.url} answered with something that is not a protocol message (${why}): ${text.slice(0, 200)}`,
        { where: this.url, next: strangerNext },
      );
    this.events.receive(message);
    return message;
  }

  /** Reads a stream to its end, and notes how far it came. */
  read(body: ReadableStream<Uint8Array>, note: string, progress: Progress): Promise<void> {
    return readEvents(body, this.url, {
      mostBytes: this.maxMessageBytes,
      onRetry: (ms) => (progress.retryMs = ms),
      onEvent: ({ id, event, data }) => {
        if (id !== undefined) progress.lastEventId = id;
        progress.events++;
        // An event without data only carries an id; of other types than messages nothing is known (HTML, "Server-sent events").
        if (data === '' || (event !== undefined && event !== 'message')) return;
        try {
          this.take(data, note);
        } catch (error) {
          this.onDeviation?.({ kind: 'headers', account: `An event is passed over: ${messageOf(error)}` });
        }
      },
    });
  }

  /** Asks for the rest of a stream, or for the standing one (Transports, "Resumability and Redelivery"). */
  resume({ lastEventId }: Progress, controller: AbortController): Promise<Response> {
    const from = lastEventId === undefined ? {} : { 'last-event-id': lastEventId };
    return this.request({ method: 'GET', headers: this.headers({ accept: 'text/event-stream', ...from }) }, controller);
  }

  /** Twice as long each time, give or take a quarter, so that many clients do not come back at once. */
  backOff(attempt: number, wanted: number | undefined): Promise<void> {
    const ms = wanted ?? this.backOffMs * 2 ** Math.min(attempt, 10);
    return pause(spread(Math.max(shortestWaitMs, Math.min(ms, longestWaitMs))));
  }

  /** True while one of these requests waits for its answer, and may still get it. */
  isOwed(ids: readonly RequestId[], { signal }: AbortController): boolean {
    return !this.isEnding && !signal.aborted && ids.some((id) => this.events.isWaiting(id));
  }

  /** Makes a new session in place of one that the server has forgotten: once, however many requests find out. */
  renew(forgotten: string | undefined): Promise<void> {
    const { events } = this;
    if (this.renewing !== undefined) return this.renewing;
    if (this.sessionId !== forgotten || events.renew === undefined) return Promise.resolve();
    const wait = this.renewalWaitMs;
    this.renewalWaitMs = Math.min(Math.max(1000, wait * 2), longestRenewalWaitMs);
    this.renewing = (async () => {
      if (wait > 0) await pause(spread(wait));
      this.sessionId = undefined;
      this.revision = undefined;
      await events.renew!();
    })().finally(() => (this.renewing = undefined));
    return this.renewing;
  }

  /** The session has been used: the next one that is forgotten is renewed at once. */
  sessionHolds(): void {
    this.renewalWaitMs = 0;
  }

  /** Tells the server that the session ends; it ends there by itself if it cannot be told. */
  async sayGoodbye(withinMs: number): Promise<void> {
    const controller = new AbortController();
    const timer = setTimeout(() => controller.abort(), withinMs);
    // A sign-in is not begun for a goodbye.
    await Promise.resolve(this.auth?.headers({ url: this.url, method: 'DELETE', signal: controller.signal }))
      .then((proof) =>
        fetchWithin(this.send, this.url, { method: 'DELETE', headers: { ...this.headers(), ...proof }, signal: controller.signal }),
      )
      .then((response) => response.body?.cancel())
      .catch(() => undefined);
    clearTimeout(timer);
  }
}

/** Give or take a quarter. */
const spread = (ms: number) => ms * (0.75 + Math.random() / 2);
