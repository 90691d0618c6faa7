import { defineServer, tool } from 'jexo';

export default defineServer({
  name: 'counter',
  version: '1.0.0',
  offers: [
    tool('count', { description: 'Counts the calls of a session, in whichever process they arrive.' }, async (_input, call) => {
      const { n } = await call.session.state.update((before) => ({ n: (before?.n ?? 0) + 1 }));
      return `call ${n}, answered by process ${process.env.PROCESS_NAME}`;
    }),
  ],
});
