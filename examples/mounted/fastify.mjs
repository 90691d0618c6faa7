// An app of Fastify with /mcp beside its own routes. Run: node fastify.mjs
import Fastify from 'fastify';
import { nodeHandler } from 'jexo';
import { apiary, port, say } from './apiary.mjs';

const app = Fastify();
const mcp = nodeHandler(apiary);

app.get('/', () => 'The cooperative’s own page');
app.all('/mcp', (request, reply) => {
  // From here on Jexo answers: it may stream.
  reply.hijack();
  mcp(request.raw, reply.raw, request.body);
});

await app.listen({ port, host: '127.0.0.1' });
say(app.server.address().port);
