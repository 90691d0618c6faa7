import fc from 'fast-check';
import { connectAll, converse, defineServer, memory, tool, type Clients, type Model, type Move, type Step } from '../../src/index.js';

const made: string[] = [];
const server = defineServer({
  name: 'apiary',
  version: '1.0.0',
  offers: [
    tool(
      'weigh',
      { input: { type: 'object', properties: { hive: { type: 'string' } } } },
      ({ hive }) => (made.push('weigh'), `31 kg ${String(hive)}`),
    ),
    tool('feed', {}, () => (made.push('feed'), 'fed')),
    tool('burn', {}, () => (made.push('burn'), 'burnt')),
    tool('fails', {}, () => {
      made.push('fails');
      throw new Error('the scales are broken');
    }),
    tool('huge', {}, () => (made.push('huge'), 'x'.repeat(200_000))),
  ],
});
let clients: Clients;
beforeAll(async () => void (clients = await connectAll([server])));
afterAll(() => clients.close());

const anyCall = fc.record(
  {
    id: fc.oneof(fc.constantFrom('a', 'b', ''), fc.string({ maxLength: 5 })),
    name: fc.oneof(
      fc.constantFrom('weigh', 'feed', 'burn', 'fails', 'huge', 'read_more', 'find_tools', '__proto__', 'toString'),
      fc.string({ maxLength: 12 }),
    ),
    input: fc.dictionary(fc.string({ maxLength: 6 }), fc.jsonValue({ maxDepth: 1 }) as fc.Arbitrary<unknown>, { maxKeys: 2 }),
    broken: fc.string({ maxLength: 20 }),
  },
  { requiredKeys: ['id', 'name', 'input'] },
);
const text = fc.oneof(fc.string({ maxLength: 40 }), fc.constant('long '.repeat(5000)));
const anyMove = fc.oneof(
  { weight: 6, arbitrary: fc.record({ text, calls: fc.array(anyCall, { maxLength: 6 }) }, { requiredKeys: ['calls'] }) },
  { weight: 1, arbitrary: fc.constant({ calls: [{ id: 'same', name: 'feed', input: {} }] }) },
  {
    weight: 1,
    arbitrary: fc.record({
      calls: fc.constant([]),
      refused: fc.boolean(),
      usage: fc.record({ inputTokens: fc.double(), outputTokens: fc.double() }),
    }),
  },
  { weight: 1, arbitrary: fc.constant('throw' as const) },
);

test('whatever the model does, a conversation ends within its limits, calls nothing that was not approved, and its steps tell all of it', async () => {
  const reasons = new Map<string, number>();
  await fc.assert(
    fc.asyncProperty(
      fc.array(anyMove, { minLength: 1, maxLength: 8 }),
      fc.record({
        steps: fc.nat(8),
        calls: fc.nat(12),
        tokens: fc.constantFrom(0, 3000, 200_000),
        parallel: fc.integer({ min: 0, max: 3 }),
        resultTokens: fc.constantFrom(0, 100, 4000),
      }),
      async (moves, limits) => {
        made.splice(0);
        let asked = 0;
        const model: Model = {
          name: 'anything',
          isStandIn: false,
          next: () => {
            const move = moves[asked++ % moves.length]!;
            return move === 'throw' ? Promise.reject(new Error('no')) : Promise.resolve(move as Move);
          },
        };
        const told: Step[] = [];
        const kept = memory();
        const outcome = await converse({
          clients,
          request: 'Do something.',
          model,
          limits,
          memory: kept,
          approve: ({ tool: { name } }) => name !== 'burn',
          onStep: (step) => told.push(step),
        });
        reasons.set(outcome.ended, (reasons.get(outcome.ended) ?? 0) + 1);
        const of = (kind: Step['kind']) => outcome.steps.filter((each) => each.kind === kind);
        // Within its limits.
        expect(of('asked').length).toBeLessThanOrEqual(limits.steps);
        expect(made.length).toBeLessThanOrEqual(limits.calls);
        // Nothing that was not approved.
        expect(made).not.toContain('burn');
        const approved = new Set(outcome.steps.flatMap((each) => (each.kind === 'approval' && each.approved ? [each.id] : [])));
        for (const each of outcome.steps) if (each.kind === 'call') expect(approved.has(each.id)).toBe(true);
        // All of it is told: a step for each call that reached the server, a result for each call of the model that was worked on.
        // (A server may refuse the input, so that its handler never runs.)
        expect(of('call')).toHaveLength(outcome.calls);
        expect(made.length).toBeLessThanOrEqual(outcome.calls);
        expect(outcome.calls).toBeLessThanOrEqual(limits.calls);
        const { ended } = outcome;
        if (ended !== 'calls')
          expect(of('result')).toHaveLength(outcome.steps.reduce((sum, each) => sum + (each.kind === 'moved' ? each.calls.length : 0), 0));
        expect(outcome.steps.at(-1)).toMatchObject({ kind: 'ended', reason: ended });
        expect(told.filter(({ kind }) => kind !== 'text')).toEqual(outcome.steps);
        expect(Number.isFinite(outcome.usage.inputTokens + outcome.usage.outputTokens)).toBe(true);
        // What is kept can be said to any model: each call has its result right behind it, and ids are told apart.
        const entries = await kept.entries();
        const ids = entries.flatMap((each) => (each.role === 'assistant' ? each.calls.map(({ id }) => id) : []));
        expect(new Set(ids).size).toBe(ids.length);
        expect(entries.flatMap((each) => (each.role === 'tool' ? [each.id] : []))).toEqual(ids);
        // Nothing is longer than the model is given.
        for (const each of entries)
          if (each.role === 'tool') expect(each.text.length).toBeLessThan(Math.max(200, limits.resultTokens * 4) + 400);
      },
    ),
    { numRuns: 300 },
  );
  expect([...reasons.keys()].sort()).toEqual(expect.arrayContaining(['answered', 'calls', 'failed', 'refused', 'steps', 'tokens']));
}, 120_000);
