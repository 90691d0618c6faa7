import { deadline } from '../../engine/deadline.js';
import { JexoError, messageOf } from '../../errors.js';
import type { Prover } from './auth.js';
import type { BuiltRequest } from './build-request.js';
import type { Operation } from './operation.js';

export interface SendOptions {
  /** Milliseconds one attempt may take. Default 30,000. */
  readonly timeoutMs?: number;
  /** Times a request that may be repeated is sent again when the API is busy or away. Default 2. */
  readonly retries?: number;
  /** Requests at once; others wait. Default 8. */
  readonly concurrency?: number;
  /** Bytes an answer may have, unpacked. Default 10,000,000. */
  readonly maxBytes?: number;
  /** Other hosts that redirects and next pages may lead to, as `files.example` or `files.example:8443`. Default: only the API's own. */
  readonly hosts?: readonly string[];
}

export interface Received {
  readonly status: number;
  readonly statusText: string;
  readonly headers: Headers;
  readonly bytes: Uint8Array;
}

export interface Sender {
  /**
   * @param home the API's own host: what proves who we are goes there and nowhere else
   * @throws JexoError JEXO_REST, in words for whoever called
   */
  send(operation: Operation, url: URL, request: BuiltRequest, signal: AbortSignal, home: string): Promise<Received>;
}

/** Methods that may be sent twice without doing more (RFC 9110, 9.2.2). */
const repeatable = new Set(['GET', 'HEAD', 'PUT', 'DELETE', 'OPTIONS']);
const busy = new Set([429, 502, 503, 504]);
const mostRedirects = 5;
/** The longest an API may have a call wait, in milliseconds; beyond that the caller is told to come back. */
const longestPause = 20_000;

/** Sends requests to one API and to nowhere else. */
export function createSender(prover: Prover, title: string, fetchOne: typeof fetch, options: SendOptions): Sender {
  const { timeoutMs = 30_000, retries = 2, concurrency = 8, maxBytes = 10_000_000, hosts = [] } = options;
  const enter = semaphore(concurrency);
  const fault = (url: URL, what: string, next?: string, cause?: unknown) =>
    new JexoError('JEXO_REST', `${title} ${what}`, { where: `${url.origin}${url.pathname}`, ...(next !== undefined && { next }), cause });

  const attempt = async (operation: Operation, start: URL, request: BuiltRequest, signal: AbortSignal, home: string): Promise<Received> => {
    const limit = deadline(timeoutMs, signal);
    const both = limit.signal;
    let url = start;
    let { method, body } = request;
    try {
      for (let redirects = 0; ; redirects++) {
        const isOwn = url.host === home;
        const proof = isOwn ? await prover.prove(operation, both) : { headers: {}, query: [], cookies: [] };
        const cookies = isOwn ? [...request.cookies, ...proof.cookies] : [];
        const full = new URL(url);
        if (proof.query.length > 0) full.search = [full.search.slice(1), ...proof.query].filter(Boolean).join('&');
        const response = await fetchOne(full, {
          method,
          redirect: 'manual',
          signal: both,
          headers: {
            ...(isOwn ? request.headers : plainHeaders(request.headers)),
            ...(cookies.length > 0 && { Cookie: cookies.join('; ') }),
            ...proof.headers,
          },
          ...(body !== undefined && { body }),
        });
        const to = response.status >= 300 && response.status < 400 ? response.headers.get('location') : null;
        if (to === null)
          return {
            status: response.status,
            statusText: response.statusText,
            headers: response.headers,
            bytes: await readAll(response, maxBytes, () =>
              fault(url, `answered with more than ${megabytes(maxBytes)}.`, 'Ask for less: with a filter, a limit, or fewer fields.'),
            ),
          };
        await response.body?.cancel();
        if (!URL.canParse(to, url)) throw fault(url, `redirects to ${JSON.stringify(to)}, which is no address.`);
        const next = new URL(to, url);
        if (next.host !== home && !hosts.includes(next.host))
          throw fault(
            url,
            `redirects to ${next.host}, a host that was not declared.`,
            `If it is right, allow it: hosts: ['${next.host}'].`,
          );
        if (url.protocol === 'https:' && next.protocol !== 'https:')
          throw fault(url, `redirects from https to ${next.protocol}//${next.host}, which is refused.`);
        if (body !== undefined && response.status >= 307 && next.origin !== start.origin)
          throw fault(
            url,
            `redirects what is sent to ${next.host}, another host, which is refused.`,
            'Give the address it leads to as the base.',
          );
        if (redirects >= mostRedirects) throw fault(url, `redirects more than ${mostRedirects} times.`);
        if (response.status === 303 || (method === 'POST' && response.status < 303)) {
          method = 'GET';
          body = undefined;
        }
        url = next;
      }
    } catch (error) {
      if (error instanceof JexoError) throw error;
      signal.throwIfAborted();
      if (limit.isOver)
        throw fault(start, `did not answer within ${timeoutMs / 1000} seconds.`, 'Try again later, or ask for less.', error);
      throw new Unreached(
        fault(start, `cannot be reached: ${causeOf(error)}.`, 'Try again later. If it stays so, tell whoever runs this server.', error),
      );
    } finally {
      limit.clear();
    }
  };

  return {
    async send(operation, url, request, signal, home) {
      const leave = await enter(signal);
      try {
        let renewed = false;
        for (let count = 0; ; count++) {
          const mayRepeat = repeatable.has(request.method) && count < retries;
          let received: Received;
          try {
            received = await attempt(operation, url, request, signal, home);
          } catch (error) {
            if (!(error instanceof Unreached)) throw error;
            if (!mayRepeat) throw error.account;
            await pause(250 * 2 ** count, signal);
            continue;
          }
          // A token may have been taken back before its time.
          if (received.status === 401 && !renewed && prover.forget()) {
            renewed = true;
            continue;
          }
          if (!busy.has(received.status) || !mayRepeat) return received;
          const wanted = retryAfter(received.headers) ?? 250 * 2 ** count;
          if (wanted > longestPause) return received;
          await pause(wanted, signal);
        }
      } finally {
        leave();
      }
    },
  };
}

/** What another host is told: what is wanted, and what is sent. Any other header may hold a secret of this API's. */
function plainHeaders(headers: Readonly<Record<string, string>>): Record<string, string> {
  return Object.fromEntries(Object.entries(headers).filter(([name]) => /^(?:accept|content-type)$/i.test(name)));
}

/** Nothing came back; the request may be sent again when it may be repeated at all. */
class Unreached extends Error {
  constructor(readonly account: JexoError) {
    super(account.message);
  }
}

function causeOf(error: unknown): string {
  const inner = (error as { cause?: { code?: string; message?: string; errors?: { message: string }[] } }).cause;
  const code = inner?.code ?? (error as { code?: string }).code;
  const words: Record<string, string> = {
    ECONNREFUSED: 'nothing listens at its address',
    ENOTFOUND: 'there is no machine of that name',
    ECONNRESET: 'it cut the connection',
    UND_ERR_SOCKET: 'it cut the connection',
    ETIMEDOUT: 'the connection timed out',
    UND_ERR_HEADERS_OVERFLOW: 'its headers are too large',
  };
  return (code !== undefined && words[code]) || inner?.message || messageOf(error);
}

/** Reads a body whole, and stops when there is too much of it. */
export async function readAll(response: Response, most: number, tooLarge: () => JexoError): Promise<Uint8Array> {
  const reader = response.body?.getReader();
  if (reader === undefined) return new Uint8Array(0);
  const parts: Uint8Array[] = [];
  let length = 0;
  for (;;) {
    const { done, value } = await reader.read();
    if (done) break;
    length += value.length;
    if (length > most) {
      await reader.cancel().catch(() => undefined); // it is given up anyway
      throw tooLarge();
    }
    parts.push(value);
  }
  if (parts.length === 1) return parts[0]!;
  const whole = new Uint8Array(length);
  let at = 0;
  for (const part of parts) {
    whole.set(part, at);
    at += part.length;
  }
  return whole;
}

const megabytes = (bytes: number) => `${Math.round(bytes / 100_000) / 10} MB`;

/** Milliseconds, from seconds or a date. */
export function retryAfter(headers: Headers): number | undefined {
  const text = headers.get('retry-after');
  if (text === null) return undefined;
  const ms = /^\d+$/.test(text) ? Number(text) * 1000 : Date.parse(text) - Date.now();
  return Number.isNaN(ms) ? undefined : Math.max(0, ms);
}

function pause(ms: number, signal: AbortSignal): Promise<void> {
  return new Promise((resolve, reject) => {
    signal.throwIfAborted();
    const stop = () => {
      clearTimeout(timer);
      reject(signal.reason as Error);
    };
    const timer = setTimeout(() => {
      signal.removeEventListener('abort', stop);
      resolve();
    }, ms);
    signal.addEventListener('abort', stop, { once: true });
  });
}

/** Lets so many in at once; the others wait in line. */
function semaphore(most: number): (signal: AbortSignal) => Promise<() => void> {
  let inside = 0;
  const waiting: (() => void)[] = [];
  const leave = () => {
    inside--;
    waiting.shift()?.();
  };
  return async (signal) => {
    while (inside >= most) {
      signal.throwIfAborted();
      await new Promise<void>((resolve, reject) => {
        const enter = () => {
          signal.removeEventListener('abort', give);
          resolve();
        };
        const give = () => {
          waiting.splice(waiting.indexOf(enter), 1);
          reject(signal.reason as Error);
        };
        waiting.push(enter);
        signal.addEventListener('abort', give, { once: true });
      });
    }
    inside++;
    return leave;
  };
}
