import { createParser } from 'eventsource-parser';
import type { Channel } from '../../engine/exchange.js';
import { isJexoError, JexoError, messageOf } from '../../errors.js';
import { encode, type JsonRpcMessage, type RequestId } from '../../protocol/json-rpc.js';
import { since, type Revision } from '../../protocol/revisions.js';
import { wireTime, type Departure, type Link, type LinkEvents, type WireEvent, type WireTap } from '../link.js';

export interface HttpLinkOptions {
  /** Sent with every request. */
  readonly headers?: Readonly<Record<string, string>>;
  readonly tap?: WireTap;
  /** Default: the runtime's own fetch. */
  readonly fetch?: typeof fetch;
  /** Times a lost stream is taken up again before what it carried fails. Default 5. */
  readonly maxAttempts?: number;
  /** Milliseconds before the first attempt; each further one waits twice as long, give or take. Default 250. */
  readonly backOffMs?: number;
  /** Told when a stream was lost and is taken up again. */
  readonly onReconnect?: (what: string) => void;
  /** Told of headers and statuses that the protocol wants otherwise, which this link takes all the same. */
  readonly onDeparture?: (departure: Departure) => void;
}

type Message = JsonRpcMessage | readonly JsonRpcMessage[];
const longestWaitMs = 10_000;

/** A link to a server over Streamable HTTP. Runs wherever there is fetch, browsers included. */
export function httpLink(url: string, options: HttpLinkOptions = {}): Link {
  const { tap, headers: extra = {}, maxAttempts = 5, backOffMs = 250, onReconnect, onDeparture } = options;
  const send = options.fetch ?? globalThis.fetch;
  const ending = new AbortController();
  let sessionId: string | undefined;
  let revision: Revision | undefined;
  let renewing: Promise<void> | undefined;
  let events!: LinkEvents;

  const headers = (more: Record<string, string>): Record<string, string> => ({
    ...extra,
    ...more,
    ...(sessionId !== undefined && { 'mcp-session-id': sessionId }),
    ...(revision !== undefined && since(revision, '2025-06-18') && { 'mcp-protocol-version': revision }),
  });
  const request = async (init: RequestInit): Promise<Response> => {
    try {
      return await send(url, { ...init, signal: ending.signal });
    } catch (error) {
      throw unreachable(url, error);
    }
  };

  const take = (text: string, note: string, http?: WireEvent['http']): unknown => {
    let message: unknown;
    try {
      message = JSON.parse(text);
    } catch {
      tap?.({ at: wireTime(), way: 'received', bytes: text.length, message: text, note: `${note}, not JSON` });
      throw new JexoError('JEXO_NOT_PROTOCOL', `${url} answered with something that is not a protocol message: ${text.slice(0, 200)}`, {
        where: url,
      });
    }
    tap?.({ at: wireTime(), way: 'received', bytes: new TextEncoder().encode(text).length, message, note, ...(http && { http }) });
    events.receive(message);
    return message;
  };

  /** Where a stream stands: enough to take it up again. */
  interface Progress {
    lastEventId: string | undefined;
    retryMs: number | undefined;
    /** Requests whose answers it still owes. */
    readonly owed: Set<RequestId>;
  }
  const read = async (body: ReadableStream<Uint8Array>, note: string, progress: Progress): Promise<void> => {
    const parser = createParser({
      onRetry: (ms) => (progress.retryMs = ms),
      onEvent: ({ id, data }) => {
        if (id !== undefined) progress.lastEventId = id;
        if (data === '') return; // it only carries an id
        for (const each of [take(data, note)].flat() as { id?: RequestId; method?: string }[])
          if (each?.method === undefined && each?.id !== undefined) progress.owed.delete(each.id);
      },
    });
    const decoder = new TextDecoder();
    const reader = body.getReader();
    for (;;) {
      const { done, value } = await reader.read();
      if (done) return;
      parser.feed(decoder.decode(value, { stream: true }));
    }
  };

  const pause = (ms: number) =>
    new Promise<void>((resolve) => {
      const timer = setTimeout(resolve, ms);
      (timer as { unref?: () => void }).unref?.();
    });
  /** Twice as long each time, give or take a quarter, so that many clients do not come back at once. */
  const wait = (attempt: number, retryMs: number | undefined) =>
    pause(retryMs ?? Math.min(backOffMs * 2 ** attempt, longestWaitMs) * (0.75 + Math.random() / 2));

  /** Reads a stream to its end, taking it up again as often as it is lost (Transports, "Resumability and Redelivery"). */
  const follow = async (first: Response, note: string, progress: Progress, lasting: boolean): Promise<void> => {
    let response: Response | undefined = first;
    for (let attempt = 0; ; attempt++) {
      let lost: unknown;
      const before = progress.lastEventId;
      try {
        if (response?.body) await read(response.body, note, progress);
      } catch (error) {
        if (ending.signal.aborted || (isJexoError(error) && error.code === 'JEXO_NOT_PROTOCOL')) throw error;
        lost = error;
      }
      if (ending.signal.aborted || (!lasting && progress.owed.size === 0)) return;
      if (progress.lastEventId !== before) attempt = 0;
      if (attempt >= maxAttempts || (!lasting && progress.lastEventId === undefined)) {
        throw new JexoError(
          'JEXO_CONNECT',
          `The connection to ${url} was lost before the answer came${lost === undefined ? '' : `: ${messageOf(lost)}`}.`,
          { where: url, cause: lost },
        );
      }
      await wait(attempt, progress.retryMs);
      if (ending.signal.aborted) return;
      onReconnect?.(note);
      try {
        response = await request({
          method: 'GET',
          headers: headers({
            accept: 'text/event-stream',
            ...(progress.lastEventId !== undefined && { 'last-event-id': progress.lastEventId }),
          }),
        });
      } catch {
        response = undefined; // still away: the next attempt comes later
        continue;
      }
      if (!response.ok) throw await refused(url, response, sessionId !== undefined);
      note = 'GET stream, resumed';
    }
  };

  const post = async (message: Message): Promise<void> => {
    // While a new session is being made, only its own handshake may pass.
    if (renewing !== undefined && (message as { method?: string }).method !== 'initialize') await renewing;
    const text = encode(message);
    tap?.({
      at: wireTime(),
      way: 'sent',
      bytes: new TextEncoder().encode(text).length,
      message,
      note: 'POST',
      http: { method: 'POST', headers: headers({}) },
    });
    const usedSession = sessionId;
    const response = await request({
      method: 'POST',
      headers: headers({ 'content-type': 'application/json', accept: 'application/json, text/event-stream' }),
      body: text,
    });
    if (response.status === 404 && usedSession !== undefined && events.renew !== undefined) {
      // The session is gone, so the message was never taken: a new session gets it (Transports, "Session Management").
      await response.body?.cancel();
      if (sessionId === usedSession) await renew();
      return post(message);
    }
    if (!response.ok) throw await refused(url, response, usedSession !== undefined);
    sessionId ??= response.headers.get('mcp-session-id') ?? undefined;
    if (onDeparture !== undefined) judgeAnswer(response, message, onDeparture);
    const note = `HTTP ${response.status}`;
    if (isStream(response))
      return follow(response, `${note} stream`, { lastEventId: undefined, retryMs: undefined, owed: new Set(requestsOf(message)) }, false);
    const body = await response.text();
    if (body !== '' && response.status !== 202)
      take(body, note, { status: response.status, headers: Object.fromEntries(response.headers) });
  };

  const renew = (): Promise<void> =>
    (renewing ??= (async () => {
      sessionId = undefined;
      revision = undefined;
      try {
        await events.renew!();
      } finally {
        renewing = undefined;
      }
    })());

  /** The stream for what the server says of its own accord; a server may have none (405). */
  const listen = async () => {
    const response = await request({ method: 'GET', headers: headers({ accept: 'text/event-stream' }) });
    if (!response.ok || !isStream(response)) {
      // A server without such a stream says so by 405 (Transports, "Listening for Messages from the Server").
      if (response.status !== 405)
        onDeparture?.({
          kind: 'headers',
          account: `A GET is answered with ${shown(response)}: a server without a stream of its own answers 405.`,
        });
      return void (await response.body?.cancel());
    }
    await follow(response, 'GET stream', { lastEventId: undefined, retryMs: undefined, owed: new Set() }, true);
  };

  return {
    address: url,
    async start(linkEvents) {
      events = linkEvents;
      const channel: Channel = {
        send(message) {
          post(message).catch((error: unknown) => {
            if (!ending.signal.aborted) failRequests(error, message, events);
          });
        },
      };
      return channel;
    },
    agreed(agreedOn) {
      revision = agreedOn;
      if (sessionId === undefined) return;
      // Losing this stream for good loses only unasked-for messages: calls go on, so it is no end of the link.
      listen().catch(() => onReconnect?.('GET stream, given up'));
    },
    async close() {
      if (ending.signal.aborted) return;
      const goodbye = sessionId === undefined ? undefined : send(url, { method: 'DELETE', headers: headers({}) });
      // The session ends on the server by itself if it cannot be told.
      await goodbye?.then((response) => response.body?.cancel()).catch(() => undefined);
      ending.abort();
      events?.closed();
    },
  };
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

function isStream(response: Response): boolean {
  return response.headers.get('content-type')?.startsWith('text/event-stream') ?? false;
}

function requestsOf(message: Message): RequestId[] {
  return ([message].flat() as JsonRpcMessage[]).flatMap((each) => ('method' in each && 'id' in each ? [each.id] : []));
}

/** A POST that failed fails the requests it carried; only a lost session ends the link. */
function failRequests(error: unknown, message: Message, events: LinkEvents): void {
  if (isJexoError(error) && error.code === 'JEXO_SESSION_LOST') return events.closed(error);
  for (const id of requestsOf(message)) events.failed(id, error as Error);
}

function unreachable(url: string, error: unknown): JexoError {
  const cause = (error as { cause?: { code?: string; message?: string } }).cause;
  const code = cause?.code ?? '';
  const known: Partial<Record<string, string>> = {
    ECONNREFUSED: 'nothing is listening there',
    ENOTFOUND: 'the host name is not known',
    ECONNRESET: 'the connection was cut',
  };
  const untrusted = code.startsWith('CERT') || code.includes('SELF_SIGNED') ? `its certificate is not trusted (${code})` : undefined;
  return new JexoError('JEXO_CONNECT', `No connection to ${url}: ${known[code] ?? untrusted ?? cause?.message ?? messageOf(error)}.`, {
    where: url,
    cause: error,
  });
}

async function refused(url: string, response: Response, hadSession: boolean): Promise<JexoError> {
  const body = (await response.text()).slice(0, 2000);
  let said = body.trim();
  try {
    said = (JSON.parse(body) as { error?: { message?: string } }).error?.message ?? said;
  } catch {
    said = said.split('\n')[0]!.slice(0, 200); // not JSON: the first line is what a person can use
  }
  const detail = said === '' ? '' : `: ${said}`;
  if (response.status === 404 && hadSession)
    return new JexoError('JEXO_SESSION_LOST', `${url} no longer knows this session${detail}`, { where: url });
  const next: Partial<Record<number, string>> = {
    401: 'This server wants a sign-in. Give a token with --header "Authorization: Bearer ...".',
    404: 'Check the path of the address; most servers answer at /mcp.',
    405: 'The address does not take POST. Check its path; most servers answer at /mcp.',
  };
  const advice = next[response.status];
  return new JexoError('JEXO_HTTP_STATUS', `${url} answered with HTTP ${response.status}${detail}`, {
    where: url,
    data: { status: response.status },
    ...(advice !== undefined && { next: advice }),
  });
}
