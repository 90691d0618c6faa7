import type { IncomingMessage, ServerResponse } from 'node:http';
import { gzip } from 'node:zlib';
import { failure } from '../../engine/peer.js';
import { encode, errorCodes } from '../../protocol/json-rpc.js';
import { ParsedBody, type EventStream, type HttpRequest, type RequestBody, type Responder } from './http-types.js';
import type { See, Seen } from './forwarded.js';
import { json } from './replies.js';

type Use = (request: HttpRequest, body: RequestBody, responder: Responder) => void;

/** How requests of node:http are taken. */
export interface NodeExchangeOptions {
  /** Bytes a request body may have. */
  readonly maxBodyBytes: number;
  /** Finds out who sent a request. */
  readonly see: See;
  /** True sends long answers compressed to those who take them so. */
  readonly compress: boolean;
}

/** Shorter answers gain nothing by being compressed. */
const worthCompressing = 4096;

/** One request and the way to answer it: one object, since one is made for every call. */
class NodeExchange implements HttpRequest, Responder {
  constructor(
    private readonly request: IncomingMessage,
    private readonly response: ServerResponse,
    private readonly options: NodeExchangeOptions,
  ) {}
  private seen: Seen | undefined;

  get method(): string {
    return this.request.method ?? 'GET';
  }
  get hostCount(): number {
    const { rawHeaders } = this.request;
    let count = 0;
    for (let at = 0; at < rawHeaders.length; at += 2) if (rawHeaders[at]!.length === 4 && rawHeaders[at]!.toLowerCase() === 'host') count++;
    return count;
  }
  get address(): string | undefined {
    return this.who.address;
  }
  private get who(): Seen {
    return (this.seen ??= this.options.see(this.request));
  }
  query(name: string): string | undefined {
    const { url = '' } = this.request;
    const start = url.indexOf('?');
    return start < 0 ? undefined : (new URLSearchParams(url.slice(start + 1)).get(name) ?? undefined);
  }
  header(name: string): string | undefined {
    if (name === 'host') return this.who.host;
    return this.request.headers[name] as string | undefined;
  }
  headers(): Readonly<Record<string, string>> {
    return this.request.headers as Record<string, string>;
  }
  reply(status: number, headers: Record<string, string>, body: string): void {
    const { response } = this;
    if (body.length >= worthCompressing && this.options.compress && takesGzip(this.request))
      return replyCompressed(response, status, headers, body);
    if (body === '') response.writeHead(status, headers);
    // The headers of nearly every answer, written as one literal: node:http is slower with an object made by spreading.
    else if (headers === json)
      response.writeHead(status, { 'content-type': 'application/json', 'content-length': Buffer.byteLength(body) });
    else response.writeHead(status, { ...headers, 'content-length': Buffer.byteLength(body) });
    response.end(body);
  }
  stream(headers: Record<string, string>): EventStream {
    return openStream(this.response, headers);
  }
  onGone(task: () => void): void {
    const { response } = this;
    response.on('close', () => response.writableFinished || task());
  }
}

/** A request cut off half-way was never taken; there is nobody to answer. */
const ignore = () => undefined;

/**
 * Reads a request of node:http and hands it on with a way to answer.
 *
 * @param parsed the body, where the app in front has read and parsed it already
 */
export function withNodeRequest(
  request: IncomingMessage,
  response: ServerResponse,
  options: NodeExchangeOptions,
  parsed: unknown,
  use: Use,
): void {
  const { maxBodyBytes } = options;
  const exchange = new NodeExchange(request, response, options);
  // An answer that nobody is there to take any more ends by itself.
  response.on('error', ignore);
  request.on('error', ignore);
  if (request.method !== 'POST') {
    request.resume();
    return use(exchange, '', exchange);
  }
  if (parsed !== undefined) return use(exchange, typeof parsed === 'string' ? parsed : new ParsedBody(parsed), exchange);
  let first: Buffer | undefined;
  let more: Buffer[] | undefined;
  let size = 0;
  request.on('data', (chunk: Buffer) => {
    size += chunk.length;
    if (size > maxBodyBytes) return refuseLarge(request, response, maxBodyBytes);
    if (first === undefined) first = chunk;
    else (more ??= [first]).push(chunk);
  });
  request.on('end', () => {
    if (size <= maxBodyBytes) use(exchange, (more === undefined ? first : Buffer.concat(more))?.toString() ?? '', exchange);
  });
}

/** Quality values aside from `q=0` do not matter: either both sides know it or not. */
function takesGzip({ headers }: IncomingMessage): boolean {
  const accepted = headers['accept-encoding'];
  return (
    accepted !== undefined &&
    accepted.split(',').some((each) => /^\s*gzip\s*(?:;\s*q=(?!0(?:\.0*)?\s*$))?/i.test(each) && !/q=0(?:\.0*)?\s*$/i.test(each))
  );
}

function replyCompressed(response: ServerResponse, status: number, headers: Record<string, string>, body: string): void {
  gzip(body, { level: 4 }, (error, packed) => {
    if (response.destroyed) return;
    const vary = headers.vary === undefined ? 'Accept-Encoding' : `${headers.vary}, Accept-Encoding`;
    const coded =
      error === null
        ? { vary, 'content-encoding': 'gzip', 'content-length': packed.byteLength }
        : { 'content-length': Buffer.byteLength(body) };
    response.writeHead(status, { ...headers, ...coded });
    response.end(error === null ? packed : body);
  });
}

function refuseLarge(request: IncomingMessage, response: ServerResponse, maxBodyBytes: number): void {
  if (response.headersSent) return;
  const body = encode(
    failure(undefined, { code: errorCodes.invalidRequest, message: `Payload too large: a request may have at most ${maxBodyBytes} bytes` }),
  );
  response.writeHead(413, { 'content-type': 'application/json', 'content-length': String(Buffer.byteLength(body)), connection: 'close' });
  response.end(body, () => request.destroy());
}

function openStream(response: ServerResponse, headers: Record<string, string>): EventStream {
  response.writeHead(200, headers);
  response.flushHeaders();
  return {
    write: (text) => void response.write(text),
    end: () => void response.end(),
    abort: () => void response.destroy(),
    unread: () => response.writableLength,
    onClose: (task) => void response.on('close', task),
  };
}
