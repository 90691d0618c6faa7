import { createServer, request as httpRequest, type IncomingMessage, type RequestListener, type ServerResponse } from 'node:http';
import type { Socket } from 'node:net';
import { Duplex, Readable } from 'node:stream';
import { JexoError } from '../../errors.js';
import { isRecord } from '../../protocol/is-record.js';
import type { JsonSchema } from '../../protocol/types.js';
import type { Endpoint } from './wrap-endpoints.js';

/** A listener as `node:http` takes it. */
export type NodeListener = (request: IncomingMessage, response: ServerResponse) => unknown;

/**
 * An app in this process: a function or server of node:http, an app that is such a function (Express-style), one with
 * `inject` (Fastify), or one with `fetch` (Hono-style, or any web-standard handler).
 */
export type App =
  | NodeListener
  | { fetch(request: Request): Response | Promise<Response> }
  | { inject: unknown }
  | { listeners(event: 'request'): unknown[] };

/**
 * Calls an app in this process without a network between: give it as `send` to `wrapRest` or `wrapEndpoints`.
 *
 * @throws JexoError JEXO_DEFINITION for something that is no app
 * @example
 * wrapRest(document, { send: inProcess(app) })
 */
export function inProcess(app: App): typeof fetch {
  const own = app as {
    fetch?: (request: Request) => Response | Promise<Response>;
    inject?: unknown;
    listeners?: (event: string) => unknown[];
    ready?: () => PromiseLike<unknown>;
    routing?: NodeListener;
  };
  if (typeof own.fetch === 'function' && typeof own.inject !== 'function')
    return async (input, init) => own.fetch!(new Request(input as URL, init));
  const listener: NodeListener | undefined =
    typeof own.routing === 'function'
      ? (request, response) => own.routing!(request, response)
      : typeof app === 'function'
        ? (app as NodeListener)
        : (own.listeners?.('request').find((each) => typeof each === 'function') as NodeListener | undefined);
  if (listener === undefined)
    throw new JexoError('JEXO_DEFINITION', 'inProcess was given something that is no app.', {
      next: 'Give a node:http listener or server, or an app with inject or fetch.',
    });
  const server = createServer(listener as RequestListener);
  return async (input, init) => {
    await own.ready?.();
    const request = new Request(input as URL, init);
    const { host, pathname, search } = new URL(request.url);
    const body = request.body === null ? undefined : Buffer.from(await request.arrayBuffer());
    const [near, far] = socketPair();
    server.emit('connection', far);
    return new Promise<Response>((resolve, reject) => {
      const asked = httpRequest({
        createConnection: () => near as Socket,
        method: request.method,
        path: pathname + search,
        headers: {
          ...Object.fromEntries(request.headers),
          host,
          connection: 'close',
          ...(body && { 'content-length': String(body.length) }),
        },
        ...(init?.signal && { signal: init.signal }),
      });
      asked.once('error', reject);
      asked.once('response', (response) => resolve(toResponse(response)));
      asked.end(body);
    });
  };
}

function toResponse(response: IncomingMessage): Response {
  const { statusCode: status = 200, statusMessage = '', headers } = response;
  const list = Object.entries(headers).flatMap(([name, value]) => [value ?? []].flat().map((each): [string, string] => [name, each]));
  const isEmpty = status === 204 || status === 205 || status === 304;
  if (isEmpty) response.resume();
  const body = isEmpty ? null : (Readable.toWeb(response) as unknown as ReadableStream<Uint8Array>);
  return new Response(body, { status, statusText: statusMessage, headers: list });
}

/** Two ends of a connection within this process: what one writes, the other reads. */
function socketPair(): [Duplex, Duplex] {
  const waiting = new Map<Duplex, () => void>();
  const make = (other: () => Duplex): Duplex =>
    new Duplex({
      read() {
        const go = waiting.get(this);
        waiting.delete(this);
        go?.();
      },
      write(chunk, _encoding, done) {
        if (other().push(chunk)) done();
        else waiting.set(other(), done);
      },
      final(done) {
        other().push(null);
        done();
      },
      destroy(error, done) {
        setImmediate(() => other().destroy());
        done(error);
      },
    });
  const near: Duplex = make(() => far);
  const far: Duplex = make(() => near);
  return [near, far];
}

const methods = new Set(['GET', 'POST', 'PUT', 'PATCH', 'DELETE']);

/**
 * The routes of an app as endpoints, with their schemas where the framework knows them. Of a Fastify app they are noted as they are
 * registered, so ask before you register them; Express-style and Hono-style apps can be asked at any time before serving. An
 * Express-style router that is mounted under a path keeps that path to itself: ask the router, and say the path.
 *
 * The protocol's own endpoint is excluded, and a route whose body is not known is marked, see `Endpoint.unknownBody`.
 *
 * @param under the path the routes lie under, for a router that is mounted somewhere. Default: none
 * @param endpointPath where the app serves the protocol itself: no tool is made of that. Default `/mcp`
 * @throws JexoError JEXO_DEFINITION for an app that does not know its routes
 * @example
 * const routes = routesOf(app);
 * app.get('/hives', …);
 * defineServer({ name: 'registry', version: '1.0.0', offers: [wrapEndpoints(routes, { send: inProcess(app) })] });
 * @example
 * wrapEndpoints([...routesOf(app), ...routesOf(hives, '/api/hives')], { send: inProcess(app) })
 */
export function routesOf(app: unknown, under = '', endpointPath = '/mcp'): readonly Endpoint[] {
  const isOwn = ({ at }: Endpoint) => at.slice(at.indexOf(' ') + 1).replace(/\/+$/, '') === endpointPath;
  const prefix = under.replace(/\/+$/, '').replace(/^(?=[^/])/, '/');
  const own = app as {
    addHook?: (name: string, task: (route: FastifyRoute) => void) => void;
    routes?: unknown;
    router?: unknown;
    _router?: unknown;
  };
  if (typeof own.addHook === 'function') {
    const found: Endpoint[] = [];
    own.addHook('onRoute', (route) =>
      found.push(...fastifyEndpoints({ ...route, url: prefix + route.url }).filter((each) => !isOwn(each))),
    );
    return found;
  }
  if (Array.isArray(own.routes))
    return once(
      (own.routes as { method: string; path: string }[])
        .filter(({ method, path }) => methods.has(method.toUpperCase()) && !path.includes('*'))

        .map(({ method, path }) => bare(method.toUpperCase(), joined(prefix, path)))
        .filter((each) => !isOwn(each)),
    );
  const stack = [own.router, own._router, app].map(stackOf).find((each) => each !== undefined);
  if (stack !== undefined) return once(layerEndpoints(stack, prefix).filter((each) => !isOwn(each)));
  throw new JexoError('JEXO_DEFINITION', 'This app does not list its routes.', {
    next: "Declare them: wrapEndpoints([{ at: 'GET /hives', … }], { send: inProcess(app) })",
  });
}

/** Methods whose requests mostly carry a body (RFC 9110, 9.3). */
const takesBody = new Set(['POST', 'PUT', 'PATCH']);

/** A route of which the app knows nothing but method and path. */
function bare(method: string, path: string): Endpoint {
  return { at: `${method} ${path}`, ...(takesBody.has(method) && { unknownBody: true }) };
}

interface FastifyRoute {
  readonly method: string | string[];
  readonly url: string;
  readonly schema?: {
    readonly summary?: string;
    readonly description?: string;
    readonly operationId?: string;
    readonly tags?: string[];
    readonly hide?: boolean;
    readonly params?: JsonSchema;
    readonly querystring?: JsonSchema;
    readonly headers?: JsonSchema;
    readonly body?: JsonSchema;
    readonly response?: Record<string, JsonSchema>;
  };
}

function fastifyEndpoints(route: FastifyRoute): Endpoint[] {
  const { method, url, schema = {} } = route;
  if (url.includes('*') || schema.hide) return [];
  const { params, querystring, headers, body, response = {}, operationId, summary, description, tags } = schema;
  const answer = Object.entries(response).find(([status]) => /^2/.test(status))?.[1];
  return [method]
    .flat()
    .filter((each) => methods.has(each))
    .map((each) => ({
      at: `${each} ${url === '' ? '/' : url}`,
      ...(operationId !== undefined && { name: operationId }),
      ...(summary !== undefined && { summary }),
      ...(description !== undefined && { description }),
      ...(tags && { tags }),
      ...(params && { path: objectOf(params) }),
      ...(querystring && { query: objectOf(querystring) }),
      ...(headers && { headers: objectOf(headers) }),
      ...(body ? { body: objectOf(body) } : takesBody.has(each) && route.schema === undefined && { unknownBody: true as const }),
      ...(answer && { answer }),
    }));
}

/** Properties alone are an object's. */
function objectOf(schema: JsonSchema): JsonSchema {
  return schema.type === undefined && isRecord(schema.properties)
    ? { ...schema, type: 'object' }
    : schema.type === undefined && schema.$ref === undefined && schema.anyOf === undefined && schema.oneOf === undefined
      ? { type: 'object', properties: schema as Readonly<Record<string, JsonSchema>> }
      : schema;
}

interface Layer {
  readonly route?: { readonly path: string | string[]; readonly methods: Record<string, boolean> };
  readonly handle?: unknown;
  /** Set where a router is mounted at the root, and so under no path. */
  readonly slash?: boolean;
  readonly regexp?: { readonly fast_slash?: boolean };
}

function stackOf(router: unknown): readonly Layer[] | undefined {
  const { stack } = (isRecord(router) || typeof router === 'function' ? router : {}) as { stack?: unknown };
  return Array.isArray(stack) ? (stack as Layer[]) : undefined;
}
const joined = (prefix: string, path: string) => (prefix !== '' && path === '/' ? prefix : prefix + path);

function layerEndpoints(stack: readonly Layer[], prefix: string): Endpoint[] {
  return stack.flatMap(({ route, handle, slash, regexp }) =>
    route === undefined
      ? slash === true || regexp?.fast_slash === true
        ? layerEndpoints(stackOf(handle) ?? [], prefix)
        : []
      : [route.path].flat().flatMap((path) =>
          typeof path !== 'string' || path.includes('*')
            ? []
            : Object.keys(route.methods)
                .map((method) => method.toUpperCase())
                .filter((method) => methods.has(method))
                .map((method) => bare(method, joined(prefix, path))),
        ),
  );
}

function once(endpoints: readonly Endpoint[]): Endpoint[] {
  return [...new Map(endpoints.map((each) => [each.at, each])).values()];
}
