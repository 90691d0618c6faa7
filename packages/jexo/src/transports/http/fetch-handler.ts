import { failure } from '../../engine/peer.js';
import type { Servable } from '../../engine/servable.js';
import { encode, errorCodes } from '../../protocol/json-rpc.js';
import { createEndpoint, type Endpoint, type EndpointOptions } from './endpoint.js';
import type { EventStream, HttpRequest } from './http-types.js';

/** How `fetchHandler` serves. */
export interface FetchHandlerOptions extends Partial<EndpointOptions> {
  /** Bytes a request body may have. Default 4 MiB; a larger one is answered with 413. */
  readonly maxBodyBytes?: number;
}

/** Handles web-standard requests. */
export interface FetchHandler {
  (request: Request): Promise<Response>;
  /** What is behind it: open sessions, requests in flight, how to close. */
  readonly endpoint: Endpoint;
}

/**
 * Serves in any runtime of web-standard requests and responses: edge functions, service workers, routers that pass them
 * on. Where nothing is kept between requests, say `sessions: false`. The host's own routing decides which host names reach
 * it, so by default any may; pages of another origin may not.
 *
 * @example
 * const mcp = fetchHandler(apiary);
 * export default { fetch: (request) => (new URL(request.url).pathname === '/mcp' ? mcp(request) : app(request)) };
 */
export function fetchHandler(server: Servable, options: FetchHandlerOptions = {}): FetchHandler {
  const { maxBodyBytes = 4 * 1024 * 1024 } = options;
  const endpoint = createEndpoint(server, { allowedHosts: ['*'], ...options });
  const handle = async (request: Request): Promise<Response> => {
    const body = request.method === 'POST' ? await readBody(request, maxBodyBytes) : '';
    if (body === undefined) return tooLarge(maxBodyBytes);
    const { host, searchParams } = new URL(request.url);
    return new Promise((resolve) => {
      const head: HttpRequest = {
        method: request.method,
        header: (name) => request.headers.get(name) ?? (name === 'host' ? host : undefined),
        query: (name) => searchParams.get(name) ?? undefined,
        headers: () => Object.fromEntries(request.headers),
      };
      endpoint.handle(head, body, {
        reply: (status, headers, text) => resolve(new Response(text === '' ? null : text, { status, headers })),
        stream(headers) {
          const { stream, body: readable } = openStream();
          resolve(new Response(readable, { status: 200, headers }));
          return stream;
        },
        onGone: (task) => {
          request.signal.addEventListener('abort', task, { once: true });
        },
      });
    });
  };
  return Object.assign(handle, { endpoint });
}

async function readBody(request: Request, most: number): Promise<string | undefined> {
  if (request.body === null) return '';
  const decoder = new TextDecoder();
  const reader = request.body.getReader();
  let text = '';
  let size = 0;
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return text + decoder.decode();
    size += value.byteLength;
    if (size > most) {
      await reader.cancel();
      return undefined;
    }
    text += decoder.decode(value, { stream: true });
  }
}

function tooLarge(most: number): Response {
  const body = encode(
    failure(undefined, { code: errorCodes.invalidRequest, message: `Payload too large: a request may have at most ${most} bytes` }),
  );
  return new Response(body, { status: 413, headers: { 'content-type': 'application/json' } });
}

function openStream(): { readonly stream: EventStream; readonly body: ReadableStream<Uint8Array> } {
  const encoder = new TextEncoder();
  const tasks: (() => void)[] = [];
  let controller!: ReadableStreamDefaultController<Uint8Array>;
  let open = true;
  const close = () => {
    if (!open) return;
    open = false;
    for (const task of tasks) task();
  };
  const body = new ReadableStream<Uint8Array>(
    { start: (given) => void (controller = given), cancel: close },
    new ByteLengthQueuingStrategy({ highWaterMark: 0 }),
  );
  const stream: EventStream = {
    write: (text) => void (open && controller.enqueue(encoder.encode(text))),
    end() {
      if (open) controller.close();
      close();
    },
    abort() {
      if (open) controller.error(new Error('The connection was cut: too much was left unread'));
      close();
    },
    unread: () => Math.max(0, -(controller.desiredSize ?? 0)),
    onClose: (task) => void tasks.push(task),
  };
  return { stream, body };
}
