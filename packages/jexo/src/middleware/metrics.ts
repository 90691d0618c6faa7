import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Middleware } from '../offers/middleware.js';
import { observed } from './outcome.js';

/** Counts calls, and shows the counts in the text format of Prometheus. */
export type Metrics = Middleware & {
  /** The counts as text. */
  text(): Promise<string>;
  /** Answers a request with them: `serveHttp(server, { routes: { '/metrics': counted.route } })`. */
  route(request: IncomingMessage, response: ServerResponse): void;
};

/**
 * Counts calls and failures, measures durations by offer, and the process itself: memory, event loop, processor time.
 *
 * @example
 * const counted = metrics();
 * const server = defineServer({ …, middleware: [counted] });
 * await serveHttp(server, { routes: { '/metrics': counted.route } });
 */
export function metrics(): Metrics {
  // The library is loaded when there is something to count.
  let opened: ReturnType<typeof openCounts> | undefined;
  const counts = () => (opened ??= openCounts());
  const run: Middleware = async (request, next) => {
    const { kind, name } = request.offer;
    const { calls, durations, running } = await counts();
    running.inc();
    return observed(request, next, ({ outcome, ms }) => {
      running.dec();
      calls.inc({ kind, offer: name, outcome });
      durations.observe({ offer: name }, ms / 1000);
    });
  };
  const text = async () => (await counts()).register.metrics();
  return Object.assign(run, {
    text,
    route(_request: IncomingMessage, response: ServerResponse) {
      counts()
        .then(async ({ register }) => response.writeHead(200, { 'content-type': register.contentType }).end(await register.metrics()))
        .catch(() => response.writeHead(500).end());
    },
  });
}

async function openCounts() {
  const { default: library } = await import('prom-client');
  const { collectDefaultMetrics, Counter, Gauge, Histogram, Registry } = library;
  const register = new Registry();
  collectDefaultMetrics({ register });
  const registers = [register];
  return {
    register,
    calls: new Counter({
      name: 'jexo_calls_total',
      help: 'Calls by offer and outcome.',
      labelNames: ['kind', 'offer', 'outcome'],
      registers,
    }),
    durations: new Histogram({
      name: 'jexo_call_seconds',
      help: 'How long calls take, by offer.',
      labelNames: ['offer'],
      buckets: [0.001, 0.005, 0.02, 0.1, 0.5, 2, 10, 60],
      registers,
    }),
    running: new Gauge({ name: 'jexo_calls_running', help: 'Calls that are running now.', registers }),
  };
}
