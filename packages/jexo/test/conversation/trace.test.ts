import { connectAll, conversationTrace, converse, defineServer, tool, type Model, type Move } from '../../src/index.js';
import { createWireJudge } from '../../src/inspect/judge-wire.js';
import { readJsonLines } from '../../src/inspect/recorder.js';
import { callsFromWire } from '../../src/inspect/sheets/from-wire.js';

test('a conversation’s trace is a wire log: every message is valid, calls are paired with answers and questions, secrets are masked', async () => {
  const server = defineServer({
    name: 'apiary',
    version: '1.0.0',
    offers: [
      tool(
        'move',
        { input: { type: 'object', properties: { hive: { type: 'string' }, password: { type: 'string' } } } },
        async (_, call) => {
          call.progress(1, 2, 'closing the entrance');
          const { to } = (await call.ask('Where to?', { type: 'object', properties: { to: { type: 'string' } } })) as { to: string };
          const { content } = await call.generate('Write a note.');
          return `${to} ${JSON.stringify(content)}`;
        },
      ),
      tool('fails', {}, () => {
        throw new Error('the scales are broken');
      }),
    ],
  });
  const clients = await connectAll({ bees: server });
  const moves: Move[] = [
    { calls: [{ id: 'a', name: 'move', input: { hive: 'MR-03', password: 'honeypot' } }] },
    { calls: [], text: 'A note.' },
    { calls: [{ id: 'b', name: 'fails', input: {} }] },
    { calls: [], text: 'Done.' },
  ];
  const model: Model = { name: 'm', isStandIn: false, next: () => Promise.resolve(moves.shift()!) };
  const { steps } = await converse({
    clients,
    model,
    request: 'Move it.',
    approve: () => true,
    onQuestion: () => ({ action: 'accept', content: { to: 'SM' } }),
    consent: () => true,
  });
  await clients.close();
  const text = conversationTrace(steps);
  expect(text).not.toContain('honeypot');
  const events = readJsonLines(text);
  const judge = createWireJudge();
  for (const event of events) expect([event.message, judge(event)]).toEqual([event.message, undefined]);
  expect(await callsFromWire(events)).toMatchObject([
    { subject: 'move', input: { hive: 'MR-03' }, replies: [{ with: { to: 'SM' } }, { say: 'A note.' }] },
    { subject: 'fails', must: { fail: expect.stringContaining('scales are broken') } },
  ]);
});
