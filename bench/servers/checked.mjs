import { defineServer, tool } from 'jexo';
import { z } from 'zod';

const pause = (ms) => new Promise((resolve) => setTimeout(resolve, ms));

export default defineServer({
  name: 'checked',
  version: '1.0.0',
  offers: [
    tool('echo', { description: 'Gives the id back.', input: z.object({ id: z.string() }) }, ({ id }) => id),
    tool('steps', { description: 'Takes steps.', input: z.object({ id: z.string(), count: z.number() }) }, async ({ id, count }, call) => {
      for (let step = 1; step <= count; step++) {
        call.progress(step, count);
        await pause(130);
      }
      return id;
    }),
    tool('slow', { description: 'Takes a while.', input: z.object({ id: z.string() }), taskSupport: 'optional' }, async ({ id }) => {
      await pause(900);
      return id;
    }),
  ],
});
