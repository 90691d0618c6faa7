import { createParser } from 'eventsource-parser';
import type { Channel } from '../../engine/exchange.js';
import { JexoError, messageOf } from '../../errors.js';
import { encode, type JsonRpcMessage } from '../../protocol/json-rpc.js';
import { since, type Revision } from '../../protocol/revisions.js';
import { wireTime, type Link, type LinkEvents, type WireTap } from '../link.js';

export interface HttpLinkOptions {
  /** Sent with every request. */
  readonly headers?: Readonly<Record<string, string>>;
  readonly tap?: WireTap;
  /** Default: the runtime's own fetch. */
  readonly fetch?: typeof fetch;
}

/** A link to a server over Streamable HTTP. Runs wherever there is fetch, browsers included. */
export function httpLink(url: string, options: HttpLinkOptions = {}): Link {
  const { tap, headers: extra = {} } = options;
  const send = options.fetch ?? globalThis.fetch;
  const ending = new AbortController();
  let sessionId: string | undefined;
  let revision: Revision | undefined;
  let events!: LinkEvents;

  const headers = (more: Record<string, string>): Record<string, string> => ({
    ...extra,
    ...more,
    ...(sessionId !== undefined && { 'mcp-session-id': sessionId }),
    ...(revision !== undefined && since(revision, '2025-06-18') && { 'mcp-protocol-version': revision }),
  });

  const take = (text: string, note: string) => {
    let message: unknown;
    try {
      message = JSON.parse(text);
    } catch {
      tap?.({ at: wireTime(), way: 'received', bytes: text.length, message: text, note: `${note}, not JSON` });
      throw new JexoError('JEXO_NOT_PROTOCOL', `${url} answered with something that is not a protocol message: ${text.slice(0, 200)}`, {
        where: url,
      });
    }
    tap?.({ at: wireTime(), way: 'received', bytes: new TextEncoder().encode(text).length, message, note });
    events.receive(message);
  };

  const readStream = async (body: ReadableStream<Uint8Array>, note: string) => {
    const parser = createParser({
      onEvent: ({ data }) => {
        if (data !== '') take(data, note); // an event without data only carries an id
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

  const post = async (message: JsonRpcMessage | readonly JsonRpcMessage[]): Promise<void> => {
    const text = encode(message);
    tap?.({ at: wireTime(), way: 'sent', bytes: new TextEncoder().encode(text).length, message, note: 'POST' });
    let response: Response;
    try {
      response = await send(url, {
        method: 'POST',
        headers: headers({ 'content-type': 'application/json', accept: 'application/json, text/event-stream' }),
        body: text,
        signal: ending.signal,
      });
    } catch (error) {
      throw unreachable(url, error);
    }
    const note = `HTTP ${response.status}`;
    const kind = response.headers.get('content-type') ?? '';
    if (!response.ok) throw await refused(url, response, sessionId !== undefined);
    sessionId ??= response.headers.get('mcp-session-id') ?? undefined;
    if (kind.startsWith('text/event-stream') && response.body !== null) return readStream(response.body, `${note} stream`);
    const body = await response.text();
    if (body !== '' && response.status !== 202) take(body, note);
  };

  /** The stream for what the server says of its own accord; a server may have none (405). */
  const listen = async () => {
    const response = await send(url, { method: 'GET', headers: headers({ accept: 'text/event-stream' }), signal: ending.signal });
    const isStream = response.headers.get('content-type')?.startsWith('text/event-stream') ?? false;
    if (response.ok && isStream && response.body !== null) return readStream(response.body, 'GET stream');
    await response.body?.cancel();
  };

  return {
    address: url,
    async start(linkEvents) {
      events = linkEvents;
      const channel: Channel = {
        send(message) {
          post(message).catch((error: unknown) => {
            if (!ending.signal.aborted) failRequest(error, message, events);
          });
        },
      };
      return channel;
    },
    agreed(agreedOn) {
      revision = agreedOn;
      if (sessionId === undefined) return;
      // Losing this stream loses only unasked-for messages: calls go on, so it is no end of the link.
      listen().catch(() => undefined);
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

/** A POST that failed fails the requests it carried; only a lost session ends the link. */
function failRequest(error: unknown, message: JsonRpcMessage | readonly JsonRpcMessage[], events: LinkEvents): void {
  if (isLost(error)) return events.closed(error as Error);
  for (const each of (Array.isArray(message) ? message : [message]) as readonly JsonRpcMessage[]) {
    if ('method' in each && 'id' in each) events.failed(each.id, error as Error);
  }
}

function isLost(error: unknown): boolean {
  return error instanceof JexoError && error.code === 'JEXO_SESSION_LOST';
}

function unreachable(url: string, error: unknown): JexoError {
  const cause = (error as { cause?: { code?: string; message?: string } }).cause;
  const why =
    cause?.code === 'ECONNREFUSED'
      ? 'nothing is listening there'
      : cause?.code === 'ENOTFOUND'
        ? 'the host name is not known'
        : cause?.code?.startsWith('CERT') || cause?.code?.includes('SELF_SIGNED')
          ? `its certificate is not trusted (${cause.code})`
          : (cause?.message ?? messageOf(error));
  return new JexoError('JEXO_CONNECT', `No connection to ${url}: ${why}.`, { where: url, cause: error });
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
