// A thousand tools, and a resource of 20 MB.
import { defineServer, resource, serveHttp, tool } from 'jexo';

const input = {
  type: 'object',
  properties: { hive: { type: 'string', description: 'a hive, as MR-03' }, kg: { type: 'number', minimum: 0 } },
  required: ['hive'],
};
const tools = Array.from({ length: 1000 }, (_, index) =>
  tool(
    `tool_${index}`,
    { description: `Does the work number ${index} of the cooperative, for one hive and a weight.`, input },
    () => 'done',
  ),
);
const bytes = new Uint8Array(20 * 1024 * 1024).fill(7);
const { port } = await serveHttp(
  defineServer({
    name: 'large',
    version: '1',
    pageSize: 1000,
    offers: [...tools, resource('alderwick://large', { mimeType: 'application/octet-stream' }, () => bytes)],
  }),
);
process.send({ port });
