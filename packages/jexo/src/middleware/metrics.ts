import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Gauge, Metric, MetricObjectWithValues, MetricValue, Registry } from 'prom-client';
import { gaugesOf } from '../offers/source.js';
import type { Server } from '../offers/define-server.js';
import type { Middleware, Request } from '../offers/middleware.js';
import { observedWhole, type Answered, type Outcome } from './outcome.js';

/** Counts of one process, as they pass between processes. */
export type Counted = readonly object[];

/** What is measured beside calls. */
export interface Followed {
  /** What serves: its sessions, streams and requests in flight. */
  readonly service?: { readonly sessions: number; readonly streams: number; readonly inFlight: number };
  /** What is served: the pools of its sources. */
  readonly server?: Server;
}

/** Counts calls, and shows the counts in the text format of Prometheus. */
export type Metrics = Middleware & {
  /** The counts as text. */
  text(): Promise<string>;
  /** The counts as values, to be put together with those of other processes by `sumOfCounts`. */
  values(): Promise<Counted>;
  /** Measures sessions, streams and pools too, from now on. */
  follow(followed: Followed): void;
  /** Answers a request with them: `serveHttp(server, { routes: { '/metrics': counted.route } })`. */
  route(request: IncomingMessage, response: ServerResponse): void;
};

/**
 * Counts calls, failures and bytes, measures durations by offer, and the process itself: memory, event loop, processor time.
 *
 * @example
 * const counted = metrics();
 * const server = defineServer({ …, middleware: [counted] });
 * const service = await serveHttp(server, { routes: { '/metrics': counted.route } });
 * counted.follow({ service, server });
 */
export function metrics(): Metrics {
  // The library is loaded when there is something to count.
  let opening: ReturnType<typeof openCounts> | undefined;
  let opened: Awaited<ReturnType<typeof openCounts>> | undefined;
  const followed: Followed[] = [];
  const counts = () => (opening ??= openCounts(followed).then((library) => (opened = library)));
  const count = (request: Request, next: (request: Request) => unknown, { tell, running }: Awaited<ReturnType<typeof openCounts>>) => {
    running.count++;
    request.call.onAnswered(() => running.count--);
    return observedWhole(request, next, (ended) => tell(request, ended));
  };
  const run: Middleware = (request, next) =>
    opened === undefined ? counts().then((library) => count(request, next, library)) : count(request, next, opened);
  const text = async () => (await counts()).register.metrics();
  return Object.assign(run, {
    text,
    values: async () => (await counts()).register.getMetricsAsJSON(),
    follow: (more: Followed) => void followed.push(more),
    route(_request: IncomingMessage, response: ServerResponse) {
      text().then(
        (shown) => response.writeHead(200, { 'content-type': contentType }).end(shown),
        () => response.writeHead(500).end(),
      );
    },
  });
}

/** The text format of Prometheus. */
export const contentType = 'text/plain; version=0.0.4; charset=utf-8';

/** Counts of several processes as one text: sums, or what each measure says is right for it. */
export async function sumOfCounts(counts: readonly Counted[]): Promise<string> {
  const { default: library } = await import('prom-client');
  return library.AggregatorRegistry.aggregate(counts as MetricObjectWithValues<MetricValue<string>>[][]).metrics();
}

async function openCounts(followed: readonly Followed[]) {
  const { default: library } = await import('prom-client');
  const { collectDefaultMetrics, Gauge, Registry } = library;
  const register = new Registry();
  collectDefaultMetrics({ register });
  const running = { count: 0 };
  measure(register, followed, running, Gauge);
  const calls = new Calls();
  // The library looks measures up by their labels, which costs more than counting: it is given the values when somebody asks.
  for (const measure of calls.measures()) register.registerMetric(measure as unknown as Metric);
  return { register, running, tell: (request: Request, ended: Answered) => calls.count(request, ended) };
}

/** Upper ends of the classes of durations, in seconds. */
const buckets = [0.001, 0.005, 0.02, 0.1, 0.5, 2, 10, 60];

interface OfferCounts {
  readonly labels: { readonly method: string; readonly kind: string; readonly offer: string };
  readonly outcomes: Record<Outcome, number>;
  /** Calls by the class of their duration, the last for those that are longer. */
  readonly classes: number[];
  seconds: number;
  bytes: number;
}

/** Calls by method and offer. */
class Calls {
  private readonly byOffer = new Map<string, OfferCounts>();

  count({ method, offer: { kind, name } }: Request, { outcome, ms, bytes }: Answered): void {
    const key = method === 'tools/call' ? name : `${method}\n${name}`;
    let own = this.byOffer.get(key);
    if (own === undefined) {
      // Names come from what is offered, so there are only so many; a server whose names never end gets no more of them.
      if (this.byOffer.size >= mostOffers) return;
      own = {
        labels: { method, kind, offer: name },
        outcomes: { ok: 0, failed: 0, cancelled: 0 },
        classes: [...buckets, Infinity].map(() => 0),
        seconds: 0,
        bytes: 0,
      };
      this.byOffer.set(key, own);
    }
    own.outcomes[outcome]++;
    own.seconds += ms / 1000;
    own.bytes += bytes;
    let at = 0;
    while (at < buckets.length && ms / 1000 > buckets[at]!) at++;
    own.classes[at]!++;
  }

  /** As the library wants them. */
  measures(): readonly object[] {
    const measure = (name: string, help: string, type: string, values: (own: OfferCounts) => readonly object[]) => ({
      name,
      help,
      type,
      aggregator: 'sum',
      get: () => Promise.resolve({ name, help, type, aggregator: 'sum', values: [...this.byOffer.values()].flatMap(values) }),
      reset: () => this.byOffer.clear(),
    });
    return [
      measure('jexo_calls_total', 'Requests by method, offer and outcome.', 'counter', ({ labels, outcomes }) =>
        Object.entries(outcomes).flatMap(([outcome, value]) => (value === 0 ? [] : [{ labels: { ...labels, outcome }, value }])),
      ),
      measure('jexo_call_seconds', 'How long calls take, by method and offer.', 'histogram', histogramOf),
      measure('jexo_answer_bytes_total', 'Bytes of results, by method and offer.', 'counter', ({ labels, bytes }) => [
        { labels: { method: labels.method, offer: labels.offer }, value: bytes },
      ]),
    ];
  }
}

const mostOffers = 10_000;

function histogramOf({ labels: { method, offer }, classes, seconds }: OfferCounts): readonly object[] {
  const labels = { method, offer };
  let count = 0;
  const ends = classes.map((each, index) => {
    count += each;
    const le = buckets[index] ?? '+Inf';
    return { labels: { le, ...labels }, value: count, metricName: 'jexo_call_seconds_bucket' };
  });
  return [
    ...ends,
    { labels, value: seconds, metricName: 'jexo_call_seconds_sum' },
    { labels, value: count, metricName: 'jexo_call_seconds_count' },
  ];
}

/** What is looked at when somebody asks. */
function measure(register: Registry, followed: readonly Followed[], running: { readonly count: number }, library: typeof Gauge): void {
  const registers = [register];
  const sum = (pick: (service: NonNullable<Followed['service']>) => number) =>
    followed.reduce((total, { service }) => total + (service === undefined ? 0 : pick(service)), 0);
  const gauge = (name: string, help: string, value: () => number) =>
    new library({
      name,
      help,
      registers,
      collect() {
        this.set(value());
      },
    });
  gauge('jexo_sessions', 'Sessions that are open.', () => sum(({ sessions }) => sessions));
  gauge('jexo_streams', 'Event streams that are open.', () => sum(({ streams }) => streams));
  gauge('jexo_calls_running', 'Calls that are running now.', () => running.count);
  gauge('jexo_requests_in_flight', 'Requests being answered.', () => sum(({ inFlight }) => inFlight));
  new library({
    name: 'jexo_source',
    help: 'What a source holds: connections of a pool, callers that wait for one.',
    labelNames: ['source', 'what'],
    registers,
    collect() {
      for (const { server } of followed)
        for (const [source, held] of server === undefined ? [] : gaugesOf(server.definition.offers))
          for (const [what, value] of Object.entries(held)) this.set({ source, what }, value);
    },
  });
}
