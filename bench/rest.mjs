// What a call through a wrapped REST API costs over a bare HTTP client in the same run, and how long a large document takes.
import { createServer } from 'node:http';
import { connect, defineServer, wrapRest } from 'jexo';
import { inTurn, median } from './measure.mjs';

const hive = { id: 'MR-03', apiary: 'MR', queen: { year: 2026, line: 'Heath', colour: 'white' }, strength: 7 };
/** Each its own, so that nothing compiled for one serves another. */
const hiveSchema = (index) => ({
  type: 'object',
  properties: {
    id: { type: 'string' },
    [`note${index}`]: { type: 'string' },
    apiary: { type: 'string' },
    queen: { type: 'object', properties: { year: { type: 'integer' }, line: { type: 'string' }, colour: { type: 'string' } } },
    strength: { type: 'integer' },
  },
});
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
          responses: { 200: { description: 'OK', content: { 'application/json': { schema: hiveSchema(index) } } } },
        },
      },
    ]),
  ),
});

/** Milliseconds a call takes: bare, through a tool, and the first one of each. */
export async function rest({ rounds = 5, calls = 400, firsts = 100 } = {}) {
  const api = createServer((_, response) => {
    response.setHeader('content-type', 'application/json');
    response.end(JSON.stringify(hive));
  });
  await new Promise((resolve) => api.listen(0, '127.0.0.1', resolve));
  const url = `http://127.0.0.1:${api.address().port}`;
  const bare = async (path) => (await fetch(url + path, { headers: { accept: 'application/json' } })).json();
  await bare('/warm');
  const server = defineServer({ name: 'registry', version: '1', offers: [wrapRest(documentOf(firsts + 2, url))] });
  const client = await connect(server);
  const time = async (run) => {
    const start = performance.now();
    await run();
    return performance.now() - start;
  };
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
  // The first call of each further tool, in a process that is warm by now, and a bare request beside each.
  const [bares, first] = [[], []];
  for (let index = 2; index < firsts + 2; index++) {
    bares.push(await time(() => bare(`/things${index}/MR-03`)));
    first.push(await time(() => client.call(`get_thing_${index}`, { id: 'MR-03' })));
  }
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
  return { firstFloor: median(bares), first: median(first), floor: results.floor, jexo: results.jexo, ready: median(ready) };
}
