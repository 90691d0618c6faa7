// The server of all four examples: a value, which runs nothing by itself.
import { defineServer, tool } from 'jexo';

export const apiary = defineServer({
  name: 'alderwick-apiary',
  version: '1.0.0',
  offers: [
    tool(
      'mix_syrup',
      {
        description: 'How much sugar and water a feed for so many colonies takes.',
        input: { type: 'object', properties: { colonies: { type: 'integer', minimum: 1 } }, required: ['colonies'] },
        annotations: { readOnlyHint: true },
      },
      ({ colonies }) => ({ sugarKg: colonies * 2, waterL: colonies }),
    ),
  ],
});

/** The port of the examples; any free one when there is none. */
export const port = Number(process.env.PORT ?? 0);
export const say = (at) => console.log(JSON.stringify({ app: `http://127.0.0.1:${at}/`, mcp: `http://127.0.0.1:${at}/mcp` }));
