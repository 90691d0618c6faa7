// The same tool every floor serves: add(a, b), with its input and its answer validated.
import { defineServer, tool } from 'jexo';

const number = { type: 'number' };
export default defineServer({
  name: 'bench',
  version: '1.0.0',
  offers: [
    tool(
      'add',
      {
        description: 'Adds two numbers.',
        input: { type: 'object', properties: { a: number, b: number }, required: ['a', 'b'], additionalProperties: false },
        output: { type: 'object', properties: { sum: number }, required: ['sum'] },
      },
      ({ a, b }) => ({ sum: a + b }),
    ),
  ],
});
