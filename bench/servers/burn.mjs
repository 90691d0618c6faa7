import { defineServer, tool } from 'jexo';

export default defineServer({
  name: 'burn',
  version: '1.0.0',
  offers: [
    tool('burn', { description: 'Takes two milliseconds of processor time.' }, () => {
      const until = performance.now() + 2;
      let sum = 0;
      while (performance.now() < until) for (let each = 0; each < 1000; each++) sum += each;
      return String(sum > 0);
    }),
  ],
});
