import type { Context, Span, TextMapGetter } from '@opentelemetry/api';
import type { Call } from '../offers/call.js';
import type { Middleware } from '../offers/middleware.js';
import { useTracer } from '../offers/tracing.js';
import { loadPackage } from '../optional-package.js';
import { observed, sessionName } from './outcome.js';

type Api = typeof import('@opentelemetry/api');

/**
 * Makes a span of every request, by `@opentelemetry/api`. The context is taken from `_meta` of the request, or from its HTTP headers, and
 * handed on to REST, GraphQL and other servers; statements of a database are spans of their own. Without an SDK that is set up
 * where the process starts, nothing is recorded.
 *
 * @throws for the caller: JexoError JEXO_PACKAGE_MISSING when `@opentelemetry/api` is not installed
 * @example
 * defineServer({ …, middleware: [traces()] });   // and: node --import ./tracing.mjs server.mjs
 */
export function traces(): Middleware {
  let loading: Promise<Api> | undefined;
  const load = () =>
    (loading ??= loadPackage<Api>('@opentelemetry/api').then((api) => {
      handOn(api);
      return api;
    }));
  return async (request, next) => {
    const api = await load();
    const { method, offer, call } = request;
    const parent = api.propagation.extract(api.context.active(), call, carried);
    const { identity } = call.caller;
    const attributes = {
      'rpc.system': 'mcp',
      'rpc.method': method,
      'jexo.offer': offer.name,
      'jexo.session': sessionName(call.session.id),
      'jexo.request': call.requestId,
      'jexo.revision': call.session.revision,
      ...(identity !== undefined && { 'enduser.id': identity }),
    };
    const span = tracerOf(api).startSpan(`${method} ${offer.name}`, { kind: api.SpanKind.SERVER, attributes }, parent);
    return within(api, parent, span, () =>
      observed(request, next, ({ outcome, code }) => {
        span.setAttribute('jexo.outcome', outcome);
        if (code !== undefined) span.setAttribute('error.type', code);
        if (outcome === 'failed') span.setStatus({ code: api.SpanStatusCode.ERROR });
        span.end();
      }),
    );
  };
}

/**
 * Makes spans of what this process does for its own sake: conversations, requests to models, calls of tools on servers (which are handed the
 * trace), requests to upstreams, statements. For a host; a server has `traces`, which does the same for its calls.
 *
 * @throws JexoError JEXO_PACKAGE_MISSING when `@opentelemetry/api` is not installed
 * @example
 * await enableTraces();   // and: node --import ./tracing.mjs host.mjs
 */
export async function enableTraces(): Promise<void> {
  handOn(await loadPackage<Api>('@opentelemetry/api'));
}

const tracerOf = (api: Api) => api.trace.getTracer('jexo');

function within<T>(api: Api, parent: Context, span: Span, work: () => T): T {
  return api.context.with(api.trace.setSpan(parent, span), work);
}

/** What a client sends of its trace: `traceparent` in `_meta` (Base protocol, "_meta"), or the header of its request. */
const carried: TextMapGetter<Call> = { get: (call, key) => call.carried(key), keys: () => ['traceparent', 'tracestate', 'baggage'] };

function handOn(api: Api): void {
  useTracer({
    outgoing() {
      const headers: Record<string, string> = {};
      api.propagation.inject(api.context.active(), headers);
      return headers;
    },
    async span(name, attributes, work) {
      const parent = api.context.active();
      const span = tracerOf(api).startSpan(name, { kind: api.SpanKind.CLIENT, attributes }, parent);
      try {
        return await within(api, parent, span, work);
      } catch (error) {
        span.setStatus({ code: api.SpanStatusCode.ERROR });
        throw error;
      } finally {
        span.end();
      }
    },
  });
}
