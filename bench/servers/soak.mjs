// The server of the soak: told to measure, it collects its garbage and says what it holds.
import { defineServer, serveHttp, tool } from 'jexo';

const server = defineServer({
  name: 'soak',
  version: '1.0.0',
  offers: [
    tool(
      'add',
      { input: { type: 'object', properties: { a: { type: 'number' }, b: { type: 'number' } }, required: ['a', 'b'] } },
      ({ a, b }) => a + b,
    ),
    tool('steps', {}, async (_input, call) => {
      for (let step = 1; step <= 3; step++) {
        call.progress(step, 3);
        await new Promise((resolve) => setTimeout(resolve, 5));
      }
      return 'walked';
    }),
    tool('wait', {}, (_input, call) => new Promise((resolve) => call.signal.addEventListener('abort', resolve))),
  ],
});
const service = await serveHttp(server, { sessionIdleMs: 2000 });
process.on('message', () => {
  globalThis.gc();
  const { heapUsed, rss } = process.memoryUsage();
  process.send({ heapMb: heapUsed / 1e6, rssMb: rss / 1e6, handles: process.getActiveResourcesInfo().length, sessions: service.sessions });
});
process.send({ url: service.url });
