// What a call through a wrapped REST API costs over a bare HTTP client in the same run, and how long a large document takes.
import { createServer } from 'node:http';
import { connect, defineServer, wrapRest } from 'jexo';
import { inTurn, median } from './measure.mjs';

const hive = { id: 'MR-03', apiary: 'MR', queen: { year: 2026, line: 'Heath', colour: 'white' }, strength: 7 };
const hiveSchema = {
  type: 'object',
  properties: {
    id: { type: 'string' },
    apiary: { type: 'string' },
    queen: { type: 'object', properties: { year: { type: 'integer' }, line: { type: 'string' }, colour: { type: 'string' } } },
    strength: { type: 'integer' },
  },
};
const documentOf = (count, url) => ({
  openapi: '3.1.0',
  info: { title: 'registry', version: '1.0.0' },
  servers: [{ url }],
  paths: Object.fromEntries(
    Array.from({ length: count }, (_, index) => [
      `/things${index}/{id}`,
      {
        get: {
          operationId: `getThing${index}`,
          summary: `Look up a thing of kind ${index}`,
          description: 'Use when someone asks for one thing whose name is known.',
          parameters: [
            { name: 'id', in: 'path', required: true, description: 'its name', schema: { type: 'string' } },
            { name: 'fields', in: 'query', description: 'which parts', schema: { type: 'array', items: { type: 'string' } } },
          ],
          responses: { 200: { description: 'OK', content: { 'application/json': { schema: { $ref: '#/components/schemas/Hive' } } } } },
        },
      },
    ]),
  ),
  components: { schemas: { Hive: hiveSchema } },
});

/** Milliseconds a call takes: bare, through a tool, and the first one of each. */
export async function rest({ rounds = 5, calls = 400 } = {}) {
  const api = createServer((_, response) => {
    response.setHeader('content-type', 'application/json');
    response.end(JSON.stringify(hive));
  });
  await new Promise((resolve) => api.listen(0, '127.0.0.1', resolve));
  const url = `http://127.0.0.1:${api.address().port}`;
  const bare = async (path) => (await fetch(url + path, { headers: { accept: 'application/json' } })).json();
  await bare('/warm');
  const server = defineServer({ name: 'registry', version: '1', offers: [wrapRest(documentOf(10, url))] });
  const client = await connect(server);
  await client.call('get_thing_9', { id: 'warm' }); // what is loaded once per process, the validator for one
  const time = async (run) => {
    const start = performance.now();
    await run();
    return performance.now() - start;
  };
  const firstBare = await time(() => bare('/things0/MR-03'));
  const first = await time(() => client.call('get_thing_0', { id: 'MR-03' }));
  const results = await inTurn(
    {
      floor: async () => {
        const found = [];
        for (let index = 0; index < calls; index++) found.push(await time(() => bare('/things1/MR-03')));
        return median(found);
      },
      jexo: async () => {
        const found = [];
        for (let index = 0; index < calls; index++) found.push(await time(() => client.call('get_thing_1', { id: 'MR-03' })));
        return median(found);
      },
    },
    rounds,
    (candidate) => candidate(),
  );
  await client.close();
  const document = documentOf(1000, url);
  const ready = [];
  for (let round = 0; round < 3; round++)
    ready.push(
      await time(async () => {
        const large = defineServer({ name: 'large', version: '1', offers: [wrapRest(document)] });
        await large.ready();
      }),
    );
  await new Promise((resolve) => api.close(resolve).closeAllConnections());
  return { firstBare, first, floor: results.floor, jexo: results.jexo, ready: median(ready) };
}
