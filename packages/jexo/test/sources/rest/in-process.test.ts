import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import express from 'express';
import fastify from 'fastify';
import { Hono } from 'hono';
import { z } from 'zod';
import {
  connect,
  defineServer,
  fetchHandler,
  inProcess,
  nodeHandler,
  routesOf,
  wrapEndpoints,
  wrapRest,
  type Endpoint,
} from '../../../src/index.js';

const hive = { id: 'MR-03', strength: 7 };
async function offered(endpoints: readonly Endpoint[], send: typeof fetch) {
  const server = defineServer({ name: 'registry', version: '1', offers: [wrapEndpoints(endpoints, { send })] });
  await server.ready();
  const client = await connect(server);
  return { server, client, tools: await client.tools() };
}

test('endpoints declared by hand', async () => {
  const seen: string[] = [];
  const send = (async (url: URL, init: RequestInit) => {
    seen.push(`${init.method} ${url.href} ${String(init.body ?? '')}`);
    return Response.json({ result: 1 });
  }) as unknown as typeof fetch;
  const { client, tools } = await offered(
    [
      {
        at: 'GET /hives',
        description: 'Hives of an apiary.',
        query: { apiary: { type: 'string', required: true }, limit: { type: 'integer' } } as never,
        answer: { type: 'array', items: { type: 'string' } },
      },
      { at: 'get /hives/:hive', name: 'lookAtHive', path: z.object({ hive: z.string().regex(/^[A-Z]{2}-\d\d$/) }) },
      { at: 'POST /inspections', body: z.object({ hive: z.string(), note: z.string().optional() }) },
      {
        at: 'POST /forms',
        body: { type: 'application/x-www-form-urlencoded', schema: z.object({ a: z.string() }) },
        headers: { 'X-Trace': { type: 'string' } },
      },
    ],
    send,
  );
  expect(tools.map(({ name, inputSchema }) => [name, inputSchema.required ?? []])).toEqual([
    ['list_hives', ['apiary']],
    ['look_at_hive', ['hive']],
    ['create_inspection', ['hive']],
    ['create_form', ['a']],
  ]);
  expect(tools[0]).toMatchObject({ description: 'Hives of an apiary.', outputSchema: { properties: { result: {} } } });
  expect(await client.call('look_at_hive', { hive: 'nonsense' })).toMatchObject({ isError: true });
  await client.call('look_at_hive', { hive: 'MR-03' });
  await client.call('create_inspection', { hive: 'MR-03' });
  await client.call('create_form', { a: 'b c' });
  expect(seen).toEqual([
    'GET http://in-process/hives/MR-03 ',
    'POST http://in-process/inspections {"hive":"MR-03"}',
    'POST http://in-process/forms a=b%20c',
  ]);
  for (const at of ['FETCH /x', 'GET hives', ''])
    await expect(offered([{ at }], send)).rejects.toMatchObject({
      code: 'JEXO_DEFINITION',
      message: expect.stringContaining('is no endpoint'),
    });
  await expect(offered([{ at: 'GET /x' }, { at: 'GET /x' }], send)).rejects.toMatchObject({
    message: expect.stringContaining('declared twice'),
  });
});

test('a Fastify app, its routes and schemas read as they are registered', async () => {
  const app = fastify();
  const routes = routesOf(app);
  app.get<{ Params: { id: string } }>(
    '/hives/:id',
    {
      schema: {
        ...{ summary: 'Look up a hive' },
        params: { type: 'object', properties: { id: { type: 'string', description: 'as MR-03' } } },
        response: { 200: { type: 'object', properties: { id: { type: 'string' }, strength: { type: 'integer' } } } },
      },
    },
    ({ params }) => ({ ...hive, id: params.id }),
  );
  app.post(
    '/inspections',
    { schema: { body: { type: 'object', required: ['note'], properties: { note: { type: 'string' } } } } },
    (request, reply) => reply.code(201).send(request.body),
  );
  app.get('/hidden', { schema: { hide: true } as object }, () => 'x');
  const { client, tools } = await offered(routes, inProcess(app));
  expect(tools.map(({ name }) => name)).toEqual(['get_hive', 'create_inspection']);
  expect(tools[0]).toMatchObject({
    title: 'Look up a hive',
    inputSchema: { properties: { id: { type: 'string', description: 'as MR-03' } } },
    outputSchema: { properties: { strength: {} } },
  });
  expect((await client.call('get_hive', { id: 'QB-01' })).structuredContent).toEqual({ id: 'QB-01', strength: 7 });
  expect(await client.call('create_inspection', { note: 'calm' })).toMatchObject({ content: [{ text: '{"note":"calm"}' }] });
  expect(app.server.listening).toBe(false);
  await app.close();
});

test('an Express-style app, and its tools at /mcp beside its own routes', async () => {
  const app = express();
  app.use(express.json());
  app.get('/hives/:id', (request, response) => void response.json({ ...hive, id: request.params.id, host: request.headers.host }));
  app.post('/inspections', (request, response) => void response.status(201).json(request.body));
  const { server, client, tools } = await offered(routesOf(app), inProcess(app));
  expect(tools.map(({ name }) => name)).toEqual(['get_hive']);
  expect(await client.call('get_hive', { id: 'MR-07' })).toMatchObject({ content: [{ text: expect.stringContaining('"id":"MR-07"') }] });
  const handler = nodeHandler(server);
  app.use((request, response, next) => (request.path === '/mcp' ? void handler(request, response) : next()));
  const listening = createServer(app);
  await new Promise<void>((resolve) => listening.listen(0, '127.0.0.1', resolve));
  const { port } = listening.address() as { port: number };
  const over = await connect(`http://127.0.0.1:${port}/mcp`);
  expect(await over.call('get_hive', { id: 'MR-08' })).toMatchObject({ content: [{ text: expect.stringContaining('MR-08') }] });
  expect(await (await fetch(`http://127.0.0.1:${port}/hives/LM-01`)).json()).toMatchObject({ id: 'LM-01' });
  await over.close();
  await new Promise((resolve) => listening.close(resolve).closeAllConnections());
});

test('Express-style routers: those at the root are read with the app, others by themselves with their path', async () => {
  const app = express();
  const plain = express.Router();
  plain.get('/lots', (_request, response) => void response.json({ lots: [] }));
  app.use(plain);
  const hives = express.Router();
  hives.get('/', (_request, response) => void response.json({ hives: [hive] }));
  hives.delete('/:id', (request, response) => void response.json({ gone: request.params.id }));
  app.use('/api/hives', hives);
  expect(routesOf(app).map(({ at }) => at)).toEqual(['GET /lots']);
  const routes = [...routesOf(app), ...routesOf(hives, 'api/hives/')];
  expect(routes.map(({ at }) => at)).toEqual(['GET /lots', 'GET /api/hives', 'DELETE /api/hives/:id']);
  const { client } = await offered(routes, inProcess(app));
  expect(await client.call('list_hives')).toMatchObject({ content: [{ text: expect.stringContaining('"id":"MR-03"') }] });
  expect(await client.call('delete_hive', { id: 'MR-09' })).toMatchObject({ content: [{ text: '{"gone":"MR-09"}' }] });
});

test('a Hono-style app, and its tools at /mcp beside its own routes', async () => {
  const app = new Hono();
  const beside: { handler?: (request: Request) => Promise<Response> } = {};
  app.all('/mcp', (context) => beside.handler!(context.req.raw));
  app.get('/hives/:id', (context) => context.json({ ...hive, id: context.req.param('id') }));
  app.post('/photos', async (context) => context.json({ name: ((await context.req.parseBody()).photo as File).name }));
  const { server, client, tools } = await offered(
    [
      ...routesOf(app).filter(({ at }) => at.startsWith('GET')),
      {
        at: 'POST /photos',
        body: { type: 'multipart/form-data', schema: { type: 'object', properties: { photo: { type: 'string', format: 'binary' } } } },
      },
    ],
    inProcess(app),
  );
  expect(tools.map(({ name }) => name)).toEqual(['get_hive', 'create_photo']);
  expect(await client.call('get_hive', { id: 'a/b' })).toMatchObject({ content: [{ text: expect.stringContaining('"id":"a/b"') }] });
  expect(await client.call('create_photo', { photo: 'aGVsbG8=' })).toMatchObject({ content: [{ text: '{"name":"photo.bin"}' }] });
  beside.handler = fetchHandler(server);
  const response = await app.request('http://app.example/mcp', {
    method: 'POST',
    headers: { 'content-type': 'application/json', accept: 'application/json, text/event-stream' },
    body: JSON.stringify({ jsonrpc: '2.0', id: 1, method: 'ping' }),
  });
  expect(response.status).toBeLessThan(500);
});

test('a listener and a server of node:http, with a document', async () => {
  const listener = (request: IncomingMessage, response: ServerResponse) => {
    response.setHeader('content-type', 'application/json');
    response.end(JSON.stringify({ at: request.url }));
  };
  const document = {
    openapi: '3.1.0',
    info: { title: 'R', version: '1' },
    servers: [{ url: '/base' }],
    paths: { '/hives': { get: { operationId: 'listHives', responses: { 200: { description: 'x' } } } } },
  };
  for (const app of [listener, createServer(listener)]) {
    const client = await connect(defineServer({ name: 'r', version: '1', offers: [wrapRest(document, { send: inProcess(app) })] }));
    expect(await client.call('list_hives')).toMatchObject({ content: [{ text: '{"at":"/base/hives"}' }] });
    await client.close();
  }
  expect(() => inProcess({} as never)).toThrow('no app');
  expect(() => routesOf({})).toThrow('does not list its routes');
});
