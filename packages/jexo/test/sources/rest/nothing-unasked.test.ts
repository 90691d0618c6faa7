import express from 'express';
import { connect, defineServer, inProcess, nodeHandler, routesOf, wrapEndpoints, type Endpoint } from '../../../src/index.js';
import { documentOf, fakeApi, ok, textOf, wrapped } from '../../support/fake-api.js';

const hive = {
  type: 'object',
  properties: {
    name: { type: 'string' },
    strength: { type: 'integer', default: 5 },
    marked: { type: 'boolean', default: false },
    queen: { type: 'object', properties: { line: { type: 'string', default: 'local' }, year: { type: 'integer' } } },
  },
};
const document = documentOf({
  '/hives/{id}': {
    patch: {
      operationId: 'changeHive',
      parameters: [
        { name: 'id', in: 'path', required: true, schema: { type: 'string' } },
        { name: 'notify', in: 'query', schema: { type: 'boolean', default: true } },
      ],
      requestBody: { content: { 'application/json': { schema: hive } } },
      ...ok(),
    },
  },
});

describe('defaults of a document', () => {
  // More calls than the quick check serves: both ways of checking must leave the input alone.
  test.each([1, 6])('are shown and never sent, in call %i', async (count) => {
    const { sent, send } = fakeApi();
    const { client, tool } = await wrapped(document, { send });
    expect((tool('change_hive').inputSchema.properties as Record<string, { default?: unknown }>).strength!.default).toBe(5);
    for (let call = 0; call < count; call++) await client.call('change_hive', { id: 'MR-03', name: 'Old oak', queen: { year: 2025 } });
    const last = sent.at(-1)!;
    expect(JSON.parse(last.body)).toEqual({ name: 'Old oak', queen: { year: 2025 } });
    expect(last.url.search).toBe('');
  });

  test('that the developer sets are sent, in the body and in the query', async () => {
    const { sent, send } = fakeApi();
    const { client } = await wrapped(document, {
      send,
      inputs: { 'change_hive.strength': { default: 7 }, '*.notify': { default: false } },
    });
    await client.call('change_hive', { id: 'MR-03' });
    expect(JSON.parse(sent[0]!.body)).toEqual({ strength: 7 });
    expect(sent[0]!.url.search).toBe('?notify=false');
    await client.call('change_hive', { id: 'MR-03', strength: 9, notify: true });
    expect(JSON.parse(sent[1]!.body)).toEqual({ strength: 9 });
  });

  test('are not sent for endpoints by hand either', async () => {
    const { sent, send } = fakeApi();
    const endpoints: Endpoint[] = [
      { at: 'PATCH /hives/{id}', name: 'change', query: { notify: { type: 'boolean', default: true } }, body: hive as never },
    ];
    const server = defineServer({ name: 'r', version: '1.0.0', offers: [wrapEndpoints(endpoints, { send, baseUrl: 'http://r.example' })] });
    const client = await connect(server);
    await client.call('change', { id: 'MR-03', name: 'Old oak' });
    expect(JSON.parse(sent[0]!.body)).toEqual({ name: 'Old oak' });
    expect(sent[0]!.url.search).toBe('');
  });

  test('still say where counting of pages starts', async () => {
    const pages = [[1, 2], [3, 4], [5]];
    const { sent, send } = fakeApi(({ url }) => Response.json(pages[Number(url.searchParams.get('page') ?? 0)] ?? []));
    const list = documentOf({
      '/lots': {
        get: {
          operationId: 'lots',
          parameters: [{ name: 'page', in: 'query', schema: { type: 'integer', default: 0 } }],
          ...ok({ type: 'array' }),
        },
      },
    });
    const { client } = await wrapped(list, { send });
    const { structuredContent } = await client.call('lots', { pages: 3 });
    expect(structuredContent).toEqual({ result: [1, 2, 3, 4, 5] });
    expect(sent.map(({ url }) => url.search)).toEqual(['', '?page=1', '?page=2']);
  });
});

test('a body of any type is sent as JSON, and a file of any type as bytes', async () => {
  const swagger = {
    swagger: '2.0',
    info: { title: 'Registry', version: '1' },
    host: 'registry.example',
    consumes: ['*/*'],
    paths: {
      '/hives': {
        post: {
          operationId: 'addHive',
          parameters: [{ name: 'hive', in: 'body', schema: hive }],
          responses: { 200: { description: 'OK' } },
        },
      },
    },
  };
  const { sent, send } = fakeApi();
  const old = await wrapped(swagger, { send });
  await old.client.call('add_hive', { name: 'Old oak' });
  expect(sent[0]!.headers.get('content-type')).toBe('application/json');
  expect(JSON.parse(sent[0]!.body)).toEqual({ name: 'Old oak' });

  const upload = documentOf({
    '/photos': {
      post: { operationId: 'addPhoto', requestBody: { content: { '*/*': { schema: { type: 'string', format: 'binary' } } } }, ...ok() },
    },
  });
  const { client } = await wrapped(upload, { send });
  await client.call('add_photo', { body: btoa('photo') });
  expect(sent[1]!.headers.get('content-type')).toBe('application/octet-stream');
  expect(sent[1]!.body).toBe('photo');
});

describe('HEAD and OPTIONS', () => {
  const paths = documentOf({
    '/hives': { get: ok({ type: 'array' }), head: { operationId: 'hasHives', ...ok({ type: 'array' }) }, options: ok() },
  });

  test('are excluded with a reason, `*` or not', async () => {
    for (const options of [{}, { only: ['*'] }]) {
      const { names, omitted } = await wrapped(paths, options);
      expect(names).toEqual(['list_hives']);
      if (!('only' in options))
        expect(omitted.map(({ next }) => next)).toContain('If you want it, ask for it: only: [\'*\', "HEAD /hives"].');
    }
  });

  test('can be had by asking, and answer with their headers', async () => {
    const { sent, send } = fakeApi(() => new Response(null, { headers: { 'x-total': '41' } }));
    const { client, names, tool } = await wrapped(paths, { send, only: ['hasHives', 'OPTIONS *'] });
    expect(names.sort()).toEqual(['has_hives', 'options_hive']);
    expect(tool('has_hives').annotations).toEqual({ readOnlyHint: true });
    expect(textOf(await client.call('has_hives'))).toBe('200\nx-total: 41');
    expect(sent[0]!.method).toBe('HEAD');
  });
});

describe('descriptions', () => {
  const described = async (description: string | undefined) => {
    const { tool } = await wrapped(
      documentOf({ '/lots/{lot}': { get: { operationId: 'lot', ...(description !== undefined && { description }), ...ok() } } }),
    );
    return tool('lot').description;
  };

  test('of an operation without words are its method and path', async () => {
    expect(await described(undefined)).toBe('GET /lots/{lot}');
    expect(await described('<br/>')).toBe('GET /lots/{lot}');
  });

  test.each([
    ['Gets a lot, see [the guide](https://guide.example/lots_(new) "Guide").', 'Gets a lot, see the guide.'],
    ['> [!NOTE]\n> Only **sealed** lots.', 'Note:\nOnly sealed lots.'],
    ['## Lots\n\nAll `__lots__` of <https://lots.example>.', 'Lots\n\nAll `__lots__` of https://lots.example.'],
    ['See [lots][1].\n\n[1]: https://lots.example', 'See lots.'],
    ['![a jar](jar.png) Labels a jar [x] now.', 'a jar Labels a jar [x] now.'],
  ])('lose their Markdown: %j', async (given, plain) => {
    expect(await described(given)).toBe(plain);
  });
});

describe('an app in this process', () => {
  const app = express();
  app.use(express.json());
  const mcp = nodeHandler(defineServer({ name: 'own', version: '1.0.0', offers: [] }));
  app.all('/mcp', (request, response) => mcp(request, response));
  app.get('/lots', (_request, response) => void response.json([{ lot: 'H-204' }]));
  app.post('/lots', (request, response) => void response.json({ made: request.body }));
  const offered = async (routes: readonly Endpoint[], only?: string[]) => {
    const source = wrapEndpoints(routes, { send: inProcess(app), ...(only && { only }) });
    const server = defineServer({ name: 'r', version: '1.0.0', offers: [source] });
    const { omitted, tools } = await server.catalogue();
    return { omitted, names: [...tools.keys()], client: await connect(server) };
  };

  test('does not offer its own endpoint, nor a body nobody has described', async () => {
    const { names, omitted } = await offered(routesOf(app));
    expect(names).toEqual(['list_lots']);
    expect(omitted).toEqual([expect.objectContaining({ name: 'POST /lots', why: 'the app does not say what its body holds' })]);
  });

  test('offers such a route when it is asked for, or when its body is declared', async () => {
    const asked = await offered(routesOf(app), ['POST /lots']);
    const answer = await asked.client.call('create_lot', { body: { lot: 'H-205' } });
    expect(JSON.parse(textOf(answer))).toEqual({ made: { lot: 'H-205' } });

    const declared = await offered(
      routesOf(app).map((route) =>
        route.unknownBody ? { ...route, body: { type: 'object', properties: { lot: { type: 'string' } } } as const } : route,
      ),
    );
    expect(declared.names).toEqual(['list_lots', 'create_lot']);
  });

  test('leaves the endpoint out wherever it lies', async () => {
    const other = express();
    other.all('/tools', (request, response) => mcp(request, response));
    expect(routesOf(other, '', '/tools')).toEqual([]);
    expect(routesOf(other).length).toBeGreaterThan(0);
  });
});
