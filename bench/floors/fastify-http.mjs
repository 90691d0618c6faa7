// What a user would pick for a plain JSON endpoint: a Fastify route with a body schema.
import Fastify from 'fastify';
const port = Number(process.argv[2] ?? 4702);
const app = Fastify();
app.post(
  '/mcp',
  {
    schema: {
      body: {
        type: 'object',
        required: ['method', 'params'],
        properties: {
          params: {
            type: 'object',
            properties: {
              arguments: { type: 'object', properties: { a: { type: 'number' }, b: { type: 'number' } }, required: ['a', 'b'] },
            },
            required: ['arguments'],
          },
        },
      },
    },
  },
  async (req) => {
    const { a, b } = req.body.params.arguments;
    return {
      jsonrpc: '2.0',
      id: req.body.id,
      result: { content: [{ type: 'text', text: String(a + b) }], structuredContent: { sum: a + b } },
    };
  },
);
await app.listen({ port, host: '127.0.0.1' });
