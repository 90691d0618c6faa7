import { pause } from '../../engine/pause.js';
import { printFault } from '../../engine/faults.js';
import type { Channel } from '../../engine/exchange.js';
import { isJexoError, JexoError, messageOf } from '../../errors.js';
import { isTooDeep, maxDepth } from '../../protocol/depth.js';
import { encode, isRequestId, RpcError, type JsonRpcMessage, type RequestId } from '../../protocol/json-rpc.js';
import { since, type Revision } from '../../protocol/revisions.js';
import { posted, safeTap, wireTime, type Departure, type Link, type LinkEvents, type WireEvent, type WireTap } from '../link.js';
import { refused, unreachable } from './link-errors.js';
import { isStream, readEvents, readText, retryAfterOf } from './read-body.js';
import { fetchWithin } from './same-origin.js';

export interface HttpLinkOptions {
  /** Sent with every request, to this origin only. They are taken for secrets: no trace and no log shows their values. */
  readonly headers?: Readonly<Record<string, string>>;
  readonly tap?: WireTap;
  /** Default: the runtime's own fetch. */
  readonly fetch?: typeof fetch;
  /** Times in a row that no connection comes about before what a lost stream carried fails. Default 5. */
  readonly maxAttempts?: number;
  /** Milliseconds before the first attempt; each further one waits twice as long, give or take. Default 250. */
  readonly backOffMs?: number;
  /** Bytes one answer or event may have, unpacked. Default 64 MiB. */
  readonly maxMessageBytes?: number;
  /** Told when a stream was lost and is taken up again, and when it is given up. */
  readonly onReconnect?: (what: string) => void;
  /** Told of headers, statuses and events that the protocol wants otherwise, which this link takes or passes over all the same. */
  readonly onDeparture?: (departure: Departure) => void;
}

type Message = JsonRpcMessage | readonly JsonRpcMessage[];
/** The longest pause between attempts, and the shortest, whatever a server asks for. */
const longestWaitMs = 10_000;
const shortestWaitMs = 50;
/** Pauses between new sessions that a server forgets at once. */
const longestRenewalWaitMs = 30_000;
/** A server is told that we leave, and not waited for longer. */
const goodbyeMs = 2000;

const strangerNext =
  'Something else than a server of this protocol answers there. Check the port and the path; most servers answer at /mcp.';

/** Where a stream stands: enough to take it up again. */
interface Progress {
  lastEventId: string | undefined;
  retryMs: number | undefined;
  events: number;
}

/** A link to a server over Streamable HTTP. Runs wherever there is fetch, browsers included. */
export function httpLink(url: string, options: HttpLinkOptions = {}): Link {
  const { headers: extra = {}, maxAttempts = 5, backOffMs = 250, maxMessageBytes = 64 * 1024 * 1024, onReconnect, onDeparture } = options;
  const tap = options.tap && safeTap(options.tap, printFault);
  const send = options.fetch ?? globalThis.fetch;
  /** One for each request: many that listened to one signal would be warned of. */
  const open = new Set<AbortController>();
  /** Of requests that wait for their answer, so that one that is cancelled reads on no longer. */
  const reading = new Map<RequestId, AbortController>();
  let isEnding = false;
  let sessionId: string | undefined;
  let revision: Revision | undefined;
  let renewing: Promise<void> | undefined;
  let renewalWaitMs = 0;
  let events!: LinkEvents;

  const headers = (more: Record<string, string>): Record<string, string> => ({
    ...extra,
    ...more,
    ...(sessionId !== undefined && { 'mcp-session-id': sessionId }),
    ...(revision !== undefined && since(revision, '2025-06-18') && { 'mcp-protocol-version': revision }),
  });
  /** As a trace may show them: what the user gave, and the session, stay out of it. */
  const shownHeaders = () =>
    Object.fromEntries(
      Object.entries(headers({})).map(([name, value]) => [name, name in extra || name === 'mcp-session-id' ? '(masked)' : value]),
    );

  const request = async (init: RequestInit, controller: AbortController): Promise<Response> => {
    try {
      return await fetchWithin(send, url, { ...init, signal: controller.signal });
    } catch (error) {
      throw isJexoError(error) ? error : unreachable(url, error);
    }
  };
  const begin = (): AbortController => {
    const controller = new AbortController();
    if (isEnding) controller.abort();
    open.add(controller);
    return controller;
  };

  /** Hands on one message; what is no JSON is told, and is nobody's answer. */
  const take = (text: string, note: string, http?: WireEvent['http']): unknown => {
    const bytes = new TextEncoder().encode(text).length;
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
    tap?.({
      at: wireTime(),
      way: 'received',
      bytes,
      message: why === undefined ? message : text.slice(0, 10_000),
      note: why === undefined ? note : `${note}, ${why}`,
      ...(http && { http }),
    });
    if (why !== undefined)
      throw new JexoError(
        'JEXO_NOT_PROTOCOL',
        `${url} answered with something that is not a protocol message (${why}): ${text.slice(0, 200)}`,
        {
          where: url,
          next: strangerNext,
        },
      );
    events.receive(message);
    return message;
  };

  const read = (body: ReadableStream<Uint8Array>, note: string, progress: Progress): Promise<void> =>
    readEvents(body, url, {
      mostCharacters: maxMessageBytes,
      onRetry: (ms) => (progress.retryMs = ms),
      onEvent({ id, event, data }) {
        if (id !== undefined) progress.lastEventId = id;
        progress.events++;
        // An event without data only carries an id; of other types than messages nothing is known (HTML, "Server-sent events").
        if (data === '' || (event !== undefined && event !== 'message')) return;
        try {
          take(data, note);
        } catch (error) {
          onDeparture?.({ kind: 'headers', account: `An event is passed over: ${messageOf(error)}` });
        }
      },
    });

  /** Twice as long each time, give or take a quarter, so that many clients do not come back at once. */
  const backOff = (attempt: number, wanted: number | undefined) =>
    pause(Math.max(shortestWaitMs, Math.min(wanted ?? backOffMs * 2 ** Math.min(attempt, 10), longestWaitMs)) * (0.75 + Math.random() / 2));

  const resume = (progress: Progress, controller: AbortController) =>
    request(
      {
        method: 'GET',
        headers: headers({
          accept: 'text/event-stream',
          ...(progress.lastEventId !== undefined && { 'last-event-id': progress.lastEventId }),
        }),
      },
      controller,
    );

  /** Reads the stream of a POST until it owes no answer, taking it up again as often as it is lost ("Resumability and Redelivery"). */
  const follow = async (first: Response, note: string, ids: readonly RequestId[], controller: AbortController): Promise<void> => {
    const progress: Progress = { lastEventId: undefined, retryMs: undefined, events: 0 };
    const usedSession = sessionId;
    let response: Response | undefined = first;
    let failures = 0;
    for (let attempt = 0; ; attempt++) {
      let lost: unknown;
      const before = progress.events;
      try {
        if (response?.body) await read(response.body, note, progress);
      } catch (error) {
        if (isJexoError(error)) throw error;
        lost = error;
      }
      if (isEnding || controller.signal.aborted || !ids.some((id) => events.isWaiting(id))) return;
      if (progress.events !== before) attempt = 0;
      if (progress.lastEventId === undefined || failures >= maxAttempts)
        throw new JexoError(
          'JEXO_CONNECT',
          `The connection to ${url} was lost before the answer came${lost === undefined ? '' : `: ${messageOf(lost)}`}.`,
          { where: url, cause: lost },
        );
      await backOff(attempt, progress.retryMs);
      if (isEnding || controller.signal.aborted || !ids.some((id) => events.isWaiting(id))) return;
      onReconnect?.(note);
      note = 'GET stream, resumed';
      try {
        response = await resume(progress, controller);
      } catch (error) {
        if (isJexoError(error) && error.code === 'JEXO_HTTP_STATUS') throw error;
        response = undefined; // still away: the next attempt comes later
        failures++;
        continue;
      }
      if (response.ok && isStream(response)) {
        failures = 0;
        continue;
      }
      if (response.status === 404 && usedSession !== undefined) {
        await response.body?.cancel();
        // The server has forgotten the session, and the answer with it; the next request finds a new one.
        void renew(usedSession).catch(() => undefined);
        throw new JexoError('JEXO_SESSION_LOST', `${url} has forgotten this session, and what was called in it is lost.`, {
          where: url,
          next: 'Call again: a new session is made.',
        });
      }
      if (response.status < 500 && response.status !== 429) throw await refused(url, response, false);
      await response.body?.cancel();
      response = undefined;
      failures++;
    }
  };

  const post = async (message: Message, controller: AbortController, isAgain = false): Promise<void> => {
    // While a new session is being made, only its own handshake may pass.
    if (renewing !== undefined && !isHandshake(message)) await renewing;
    const text = encode(message);
    tap?.(posted(message, text, shownHeaders()));
    const usedSession = sessionId;
    const ids = requestsOf(message);
    const response = await request(
      {
        method: 'POST',
        headers: headers({ 'content-type': 'application/json', accept: 'application/json, text/event-stream' }),
        body: text,
      },
      controller,
    );
    if (response.status === 404 && usedSession !== undefined && events.renew !== undefined && !isHandshake(message)) {
      const error = await refused(url, response, true);
      // The session is gone, so the message was never taken: a new session gets it, once (Transports, "Session Management").
      if (isAgain) throw error;
      await renew(usedSession);
      return post(message, controller, true);
    }
    if (!response.ok) throw await refusedOrAnswered(response, usedSession, ids);
    if (!isHandshake(message)) renewalWaitMs = 0;
    else sessionId ??= response.headers.get('mcp-session-id') ?? undefined;
    if (onDeparture !== undefined) judgeAnswer(response, message, onDeparture);
    const note = `HTTP ${response.status}`;
    if (isStream(response)) return follow(response, `${note} stream`, ids, controller);
    const { text: body, isWhole } = await readText(response, maxMessageBytes);
    if (!isWhole) throw new JexoError('JEXO_TOO_LARGE', `${url} answered with more than ${maxMessageBytes} bytes.`, { where: url });
    if (body !== '' && response.status !== 202) {
      const answer = take(body, note, { status: response.status, headers: masked(response.headers) });
      refuseWithoutId(answer, ids);
    }
    // Whatever was not answered by now will not be.
    const what = body === '' ? `nothing (HTTP ${response.status})` : 'a message that is no answer to it';
    for (const id of ids)
      events.failed(
        id,
        new JexoError('JEXO_NOT_PROTOCOL', `${url} answered the request with ${what}.`, { where: url, next: strangerNext }),
      );
  };

  /** An error that names no request refuses the only one there was. */
  const refuseWithoutId = (answer: unknown, ids: readonly RequestId[]) => {
    const { id, error } = (answer ?? {}) as { id?: unknown; error?: { code?: unknown; message?: unknown; data?: unknown } };
    if (ids.length !== 1 || (id !== undefined && id !== null) || typeof error !== 'object' || error === null) return;
    if (typeof error.code === 'number' && typeof error.message === 'string')
      events.failed(ids[0]!, new RpcError(error.code, error.message, error.data));
  };

  /** A status that says no may come with the protocol's own answer, which says more. */
  const refusedOrAnswered = async (response: Response, usedSession: string | undefined, ids: readonly RequestId[]): Promise<JexoError> => {
    const [copy, original] = [response.clone(), response];
    const { text } = await readText(copy, 64 * 1024).catch(() => ({ text: '' }));
    const error = await refused(url, original, usedSession !== undefined);
    try {
      const value = JSON.parse(text) as { jsonrpc?: unknown; id?: unknown; error?: unknown };
      if (
        value?.jsonrpc === '2.0' &&
        isRequestId(value.id) &&
        ids.includes(value.id) &&
        value.error !== undefined &&
        response.status !== 401
      )
        take(text, `HTTP ${response.status}`, { status: response.status, headers: masked(response.headers) });
    } catch {
      // no answer of the protocol: the status has to do
    }
    return error;
  };

  /** Makes a new session in place of one that the server has forgotten: once, however many requests find out. */
  const renew = (forgotten: string | undefined): Promise<void> => {
    if (renewing !== undefined) return renewing;
    if (sessionId !== forgotten || events.renew === undefined) return Promise.resolve();
    const wait = renewalWaitMs;
    renewalWaitMs = Math.min(Math.max(1000, renewalWaitMs * 2), longestRenewalWaitMs);
    renewing = (async () => {
      if (wait > 0) await pause(wait * (0.75 + Math.random() / 2));
      sessionId = undefined;
      revision = undefined;
      await events.renew!();
    })().finally(() => (renewing = undefined));
    return renewing;
  };

  /**
   * The stream for what the server says of its own accord, as long as the session lives; a server may have none (405). Losing it loses
   * only unasked-for messages, so it ends nothing.
   */
  const listen = async (session: string | undefined): Promise<void> => {
    const progress: Progress = { lastEventId: undefined, retryMs: undefined, events: 0 };
    const controller = begin();
    const isOver = () => isEnding || sessionId !== session;
    // Before there was a stream, 404 says that there is none; later, that the session is gone.
    let hadStream = false;
    try {
      for (let attempt = 0; !isOver(); attempt++) {
        let wanted: number | undefined;
        const response = await resume(progress, controller).catch(() => undefined);
        if (isOver()) return void (await response?.body?.cancel());
        if (response?.ok && isStream(response)) {
          const before = progress.events;
          hadStream = true;
          await read(response.body!, 'GET stream', progress).catch(() => undefined);
          if (progress.events !== before) attempt = 0;
          wanted = progress.retryMs;
        } else if (response !== undefined) {
          await response.body?.cancel();
          if (response.status === 404 && session !== undefined && hadStream)
            return await renew(session).catch(() => onReconnect?.('GET stream, given up'));
          if (response.status === 400 && progress.lastEventId !== undefined) {
            progress.lastEventId = undefined; // what was missed is not kept any more
          } else if (response.status < 500 && response.status !== 429 && response.status !== 408) {
            if (response.status !== 405 && session !== undefined)
              onDeparture?.({
                kind: 'headers',
                account: `A GET is answered with ${shown(response)}: a server without a stream of its own answers 405.`,
              });
            return;
          }
          wanted = retryAfterOf(response.headers);
        }
        await backOff(attempt, wanted);
        if (!isOver()) onReconnect?.('GET stream');
      }
    } finally {
      open.delete(controller);
    }
  };

  return {
    address: url,
    async start(linkEvents) {
      events = linkEvents;
      const channel: Channel = {
        send(message) {
          const controller = begin();
          const ids = requestsOf(message);
          for (const id of ids) reading.set(id, controller);
          // What a request that is cancelled would still bring is not read.
          const { method, params } = message as { method?: string; params?: { requestId?: RequestId } };
          const ended = method === 'notifications/cancelled' ? reading.get(params!.requestId!) : undefined;
          post(message, controller)
            .catch((error: unknown) => {
              if (isEnding) return;
              for (const id of ids) events.failed(id, error as Error);
            })
            .finally(() => {
              open.delete(controller);
              for (const id of ids) reading.delete(id);
              ended?.abort();
            });
        },
      };
      return channel;
    },
    agreed(agreedOn) {
      revision = agreedOn;
      listen(sessionId).catch(() => onReconnect?.('GET stream, given up'));
    },
    async close() {
      if (isEnding) return;
      isEnding = true;
      if (sessionId !== undefined) {
        // The session ends on the server by itself if it cannot be told.
        const controller = new AbortController();
        const timer = setTimeout(() => controller.abort(), goodbyeMs);
        await fetchWithin(send, url, { method: 'DELETE', headers: headers({}), signal: controller.signal })
          .then((response) => response.body?.cancel())
          .catch(() => undefined);
        clearTimeout(timer);
      }
      for (const controller of open) controller.abort();
      events?.closed();
    },
  };
}

function isHandshake(message: Message): boolean {
  return (message as { method?: string }).method === 'initialize';
}

function masked(headers: Headers): Record<string, string> {
  return Object.fromEntries(
    [...headers].map(([name, value]) => [name, /^(?:mcp-session-id|set-cookie)$/i.test(name) ? '(masked)' : value]),
  );
}

/** What the protocol wants of the answer to a POST (Transports, "Sending Messages to the Server" and "Session Management"). */
function judgeAnswer(response: Response, message: Message, tell: (departure: Departure) => void): void {
  const what = ([message].flat() as { method?: string }[]).map(({ method }) => method ?? 'an answer').join(', ');
  if (requestsOf(message).length === 0) {
    if (response.status !== 202)
      tell({ kind: 'headers', account: `${what} is answered with ${shown(response)}: what is no request is answered 202, with no body.` });
  } else if (!isStream(response) && !/^application\/json\s*(?:;|$)/i.test(response.headers.get('content-type') ?? ''))
    tell({ kind: 'headers', account: `${what} is answered with ${shown(response)}: it must be application/json or text/event-stream.` });
  const session = response.headers.get('mcp-session-id');
  if (session !== null && !/^[\x21-\x7e]+$/.test(session))
    tell({ kind: 'headers', account: `The session id ${JSON.stringify(session)} holds characters that are not visible ASCII.` });
}

function shown({ status, headers }: Response): string {
  const type = headers.get('content-type');
  return `HTTP ${status} and ${type === null ? 'no content type' : `the content type ${type}`}`;
}

function requestsOf(message: Message): RequestId[] {
  return ([message].flat() as JsonRpcMessage[]).flatMap((each) => ('method' in each && 'id' in each ? [each.id] : []));
}
