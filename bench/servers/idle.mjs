import { serveHttp } from 'jexo';
import server from './definition.mjs';
const service = await serveHttp(server, { maxSessions: 20_000, maxSessionsPerAddress: 20_000 });
process.on('message', () => {
  globalThis.gc();
  const { heapUsed, external, rss } = process.memoryUsage();
  process.send({ bytes: heapUsed + external, rss, sessions: service.sessions });
});
process.send({ port: service.port });
