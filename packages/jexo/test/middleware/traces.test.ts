import { context, propagation, trace } from '@opentelemetry/api';
import { AsyncLocalStorageContextManager } from '@opentelemetry/context-async-hooks';
import { BasicTracerProvider, InMemorySpanExporter, SimpleSpanProcessor } from '@opentelemetry/sdk-trace-base';
import {
  connect,
  connectAll,
  converse,
  enableTraces,
  type Move,
  defineServer,
  prompt,
  serveHttp,
  tool,
  traces,
  wrapEndpoints,
  wrapDatabase,
  wrapServer,
  type Server,
} from '../../src/index.js';
import { makeDatabase } from '../support/databases.js';
import { listen } from '../support/listen.js';

const exporter = new InMemorySpanExporter();
beforeAll(() => {
  context.setGlobalContextManager(new AsyncLocalStorageContextManager().enable());
  trace.setGlobalTracerProvider(new BasicTracerProvider({ spanProcessors: [new SimpleSpanProcessor(exporter)] }));
  // W3C Trace Context, as its specification writes the header.
  propagation.setGlobalPropagator({
    fields: () => ['traceparent'],
    inject(active, carrier, setter) {
      const span = trace.getSpanContext(active);
      if (span !== undefined) setter.set(carrier, 'traceparent', `00-${span.traceId}-${span.spanId}-0${span.traceFlags}`);
    },
    extract(active, carrier, getter) {
      const [, traceId, spanId] = /^00-([\da-f]{32})-([\da-f]{16})-01$/.exec(String(getter.get(carrier, 'traceparent'))) ?? [];
      return traceId === undefined ? active : trace.setSpanContext(active, { traceId, spanId: spanId!, traceFlags: 1, isRemote: true });
    },
  });
});
const open: (() => unknown)[] = [];
afterEach(async () => {
  exporter.reset();
  for (const close of open.splice(0).reverse()) await close();
});

const traceId = '0af7651916cd43dd8448eb211c80319c';
const parent = `00-${traceId}-b7ad6b7169203331-01`;
const named = (name: string) => exporter.getFinishedSpans().find((span) => span.name === name)!;
const serve = (offers: Parameters<typeof defineServer>[0]['offers']): Server =>
  defineServer({ name: 'apiary', version: '1.0.0', offers, middleware: [traces()] });

test('a request is a span below that of its caller, by _meta or by headers, and says how it ended', async () => {
  const server = serve([
    tool('weigh', { description: 'W.' }, () => '31 kg'),
    tool('break', { description: 'B.' }, () => {
      throw Object.assign(new Error('The scale is off'), { code: 'SCALE_OFF' });
    }),
    prompt('report', {}, () => 'Report.'),
  ]);
  const client = await connect(server);
  open.push(() => client.close());
  await client.call('weigh', {}, { meta: { traceparent: parent } });
  expect(named('tools/call weigh')).toMatchObject({
    parentSpanContext: { traceId, spanId: 'b7ad6b7169203331' },
    attributes: { 'rpc.method': 'tools/call', 'jexo.offer': 'weigh', 'jexo.outcome': 'ok' },
    status: { code: 0 },
  });
  await client.call('break');
  expect(named('tools/call break')).toMatchObject({
    attributes: { 'jexo.outcome': 'failed', 'error.type': 'SCALE_OFF' },
    status: { code: 2 },
  });
  expect(named('tools/call break').parentSpanContext).toBeUndefined();
  await client.prompt('report', {});
  expect(named('prompts/get report')).toBeDefined();
  const service = await serveHttp(server);
  open.push(() => service.close());
  const remote = await connect(service.url, { headers: { traceparent: parent } });
  open.push(() => remote.close());
  exporter.reset();
  await remote.call('weigh');
  expect(named('tools/call weigh').parentSpanContext).toMatchObject({ traceId });
});

test('the trace is handed on to REST and to other servers, and statements of a database are spans in it', async () => {
  const seen: (string | undefined)[] = [];
  const api = await listen((request) => {
    seen.push(request.headers.get('traceparent') ?? undefined);
    return Response.json({ weight: 31 });
  });
  open.push(() => api.close());
  const behind = defineServer({
    name: 'lab',
    version: '1.0.0',
    offers: [tool('result', { description: 'R.' }, (_input, call) => call.carried('traceparent') ?? 'none')],
  });
  const lab = await serveHttp(behind);
  open.push(() => lab.close());
  const scales = await makeDatabase('sqlite', ['create table readings (hive text, kg real)', "insert into readings values ('MR-03', 31)"]);
  const server = serve([
    wrapEndpoints([{ at: 'GET /weight', name: 'weight' }], { baseUrl: api.url }),
    wrapServer(lab.url),
    wrapDatabase(scales.owner, { query: { samples: false } }),
  ]);
  const client = await connect(server);
  open.push(() => client.close());
  const under = { meta: { traceparent: parent } };
  await client.call('weight', {}, under);
  const span = named('tools/call weight').spanContext();
  expect(seen).toEqual([`00-${traceId}-${span.spanId}-01`]);
  const { content } = await client.call('result', {}, under);
  expect((content[0] as { text: string }).text).toBe(`00-${traceId}-${named('tools/call result').spanContext().spanId}-01`);
  const query = (await client.tools()).find(({ name }) => name.startsWith('query'))!;
  await client.call(query.name, { sql: "select kg from readings where hive = 'MR-03'" }, under);
  const statement = exporter.getFinishedSpans().find(({ name }) => name === 'sqlite query')!;
  expect(statement.parentSpanContext).toMatchObject({ traceId, spanId: named(`tools/call ${query.name}`).spanContext().spanId });
  // What a model wrote may hold what nobody should read.
  expect(JSON.stringify(statement.attributes)).not.toContain('MR-03');
});

test('a conversation is a trace: its requests to the model and its calls are spans below it, and servers are handed it', async () => {
  await enableTraces();
  const clients = await connectAll([serve([tool('weigh', { description: 'W.' }, () => '31 kg')])]);
  open.push(() => clients.close());
  const moves: Move[] = [{ calls: [{ id: 'a', name: 'weigh', input: {} }] }, { calls: [], text: '31 kg' }];
  await converse({
    clients,
    request: 'Weigh it.',
    approve: () => true,
    model: { name: 'small', isStandIn: false, next: () => Promise.resolve(moves.shift()!) },
  });
  const spans = exporter.getFinishedSpans();
  const root = named('conversation');
  expect(new Set(spans.map((span) => span.spanContext().traceId))).toEqual(new Set([root.spanContext().traceId]));
  expect(spans.map(({ name }) => name)).toEqual(['chat', 'tools/call weigh', 'tools/call weigh', 'chat', 'conversation']);
  const [server, client] = spans.filter(({ name }) => name === 'tools/call weigh');
  expect([server!.parentSpanContext?.spanId, client!.parentSpanContext?.spanId]).toEqual([
    client!.spanContext().spanId,
    root.spanContext().spanId,
  ]);
  expect(root.attributes).toMatchObject({ 'gen_ai.request.model': 'small' });
});
