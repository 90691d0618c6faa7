import { createReadStream, existsSync, statSync } from 'node:fs';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { extname, join, normalize, sep } from 'node:path';
import { Readable } from 'node:stream';
import { messageOf } from '../../errors.js';
import { createGate, loopbackNames } from './gate.js';
import { listen } from './listen.js';

export interface PageOptions {
  /** Folder of the built page. */
  readonly folder: string;
  /** Answers what lies under `/api/`. */
  readonly api: (request: Request) => Promise<Response>;
  readonly port?: number;
  /** Another origin that it may show in frames. */
  readonly frames?: string;
}
export interface PageService {
  readonly url: string;
  close(): Promise<void>;
}

const kinds: Record<string, string> = {
  '.html': 'text/html; charset=utf-8',
  '.js': 'text/javascript',
  '.css': 'text/css',
  '.svg': 'image/svg+xml',
  '.woff2': 'font/woff2',
  '.map': 'application/json',
};
/** Nothing of a server's content may run in the page: only its own files are script. */
const security = {
  'content-security-policy':
    "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; media-src data: blob:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'",
  'x-content-type-options': 'nosniff',
  'referrer-policy': 'no-referrer',
  'cross-origin-opener-policy': 'same-origin',
  'cross-origin-resource-policy': 'same-origin',
};
const maxBody = 16 * 1024 * 1024;

/** Serves a page and its interface to this machine only. */
export async function servePage({ folder, api, port = 0, frames }: PageOptions): Promise<PageService> {
  const gate = createGate({ allowedHosts: loopbackNames });
  const http = createServer((request, response) => {
    response.on('error', () => response.destroy());
    request.on('error', () => undefined); // cut off half-way: there is nobody to answer
    answer(request, response).catch((error: unknown) => {
      if (response.destroyed) return;
      if (response.headersSent) return void response.destroy();
      plain(response, 500, `This request could not be answered: ${messageOf(error)}\n`);
    });
  });
  /** Whatever a request holds, any page can have a browser send it: none may end the process. */
  const answer = async (request: IncomingMessage, response: ServerResponse): Promise<void> => {
    const refusal = gate.refuses(request.headers.host, request.headers.origin);
    if (refusal !== undefined) return plain(response, 403, `Forbidden: ${refusal}.\n`);
    const path = pathOf(request.url ?? '/');
    if (path === undefined) return plain(response, 400, 'The address cannot be read.\n');
    if (path.startsWith('/api/')) return answerApi(request, response, api);
    if (request.method !== 'GET' && request.method !== 'HEAD') return plain(response, 405, 'Pages are read with GET.\n');
    request.resume();
    return file(response, folder, path, frames);
  };
  await listen(http, port, '127.0.0.1');
  return serviceOf(http);
}

function serviceOf(http: Server): PageService {
  return {
    url: `http://127.0.0.1:${(http.address() as AddressInfo).port}/`,
    close: () =>
      new Promise((resolve) => {
        http.close(() => resolve());
        http.closeAllConnections();
      }),
  };
}

/** The path of an address, decoded; undefined when it cannot be read. */
function pathOf(url: string): string | undefined {
  try {
    const path = decodeURIComponent(new URL(`http://localhost${url.startsWith('/') ? url : '/'}`).pathname);
    return path.includes('\0') ? undefined : path;
  } catch {
    return undefined;
  }
}

function plain(response: ServerResponse, status: number, text: string): void {
  response.writeHead(status, { 'content-type': 'text/plain; charset=utf-8', ...security });
  response.end(text);
}

function file(response: ServerResponse, folder: string, path: string, frames: string | undefined): void {
  const name = normalize(path === '/' ? '/index.html' : path);
  const whole = join(folder, name);
  // Large files come compressed with the package; every browser takes them so.
  const isPacked = !existsSync(whole);
  const found = isPacked ? `${whole}.gz` : whole;
  if (!whole.startsWith(folder + sep) || !existsSync(found) || !statSync(found).isFile())
    return plain(response, 404, 'There is no such page.\n');
  const lasting = name.startsWith('/assets/');
  response.writeHead(200, {
    ...(isPacked && { 'content-encoding': 'gzip' }),
    'content-type': kinds[extname(whole)] ?? 'application/octet-stream',
    'cache-control': lasting ? 'max-age=31536000, immutable' : 'no-cache',
    ...security,
    ...(frames !== undefined && { 'content-security-policy': `${security['content-security-policy']}; frame-src ${frames}` }),
  });
  createReadStream(found)
    .on('error', () => response.destroy())
    .pipe(response);
}

/**
 * Serves the outer page of views to this machine only, on an origin of its own: the port makes it one.
 * @param html the page @param framedBy says which origins may show it
 */
export async function serveSandbox(html: string, framedBy: () => string): Promise<PageService> {
  const gate = createGate({ allowedHosts: loopbackNames });
  const http = createServer((request, response) => {
    response.on('error', () => response.destroy());
    request.on('error', () => undefined); // cut off half-way: there is nobody to answer
    request.resume();
    const headers = {
      'x-content-type-options': 'nosniff',
      'referrer-policy': 'no-referrer',
      'cache-control': 'no-store',
      'x-dns-prefetch-control': 'off',
    };
    const refusal = gate.refuses(request.headers.host, request.headers.origin);
    if (refusal !== undefined || request.method !== 'GET' || pathOf(request.url ?? '') !== '/')
      return void response.writeHead(refusal === undefined ? 404 : 403, headers).end();
    // Only as a frame: opened by itself, or by a worker, it is nothing.
    const policy = { 'content-security-policy': `frame-ancestors ${framedBy()}`, 'cross-origin-resource-policy': 'cross-origin' };
    response.writeHead(200, { ...headers, ...policy, 'content-type': 'text/html; charset=utf-8' }).end(html);
  });
  await listen(http, 0, '127.0.0.1');
  return serviceOf(http);
}

const apiMethods = new Set(['GET', 'HEAD', 'POST', 'PUT', 'DELETE']);

/** Bridges node:http and the web-standard request and response. */
async function answerApi(request: IncomingMessage, response: ServerResponse, api: PageOptions['api']): Promise<void> {
  const parts: Buffer[] = [];
  let size = 0;
  try {
    for await (const part of request as AsyncIterable<Buffer>) {
      size += part.length;
      if (size > maxBody) return plain(response, 413, `A request may have at most ${maxBody} bytes.\n`);
      parts.push(part);
    }
  } catch {
    return; // cut off half-way
  }
  const left = new AbortController();
  response.on('close', () => left.abort());
  const { method = 'GET', url = '/' } = request;
  if (!apiMethods.has(method)) return plain(response, 405, 'The method is not one of this interface.\n');
  const hasBody = size > 0 && method !== 'GET' && method !== 'HEAD';
  const headers = Object.entries(request.headers).filter((entry): entry is [string, string] => typeof entry[1] === 'string');
  const answer = await api(
    new Request(`http://localhost${url}`, { method, headers, signal: left.signal, ...(hasBody && { body: Buffer.concat(parts) }) }),
  );
  response.writeHead(answer.status, { ...Object.fromEntries(answer.headers), ...security });
  if (answer.body === null) return void response.end();
  const body = Readable.fromWeb(answer.body as Parameters<typeof Readable.fromWeb>[0]);
  // The page going away is the usual end of its event stream.
  body.on('error', () => response.destroy());
  response.on('close', () => body.destroy());
  body.pipe(response);
}
