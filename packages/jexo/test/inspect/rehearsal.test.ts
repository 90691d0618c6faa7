import fc from 'fast-check';
import { readInput } from '../../src/models/read-input.js';
import { readRequestSheet } from '../../src/inspect/rehearsal/request-sheet.js';
import { rehearse } from '../../src/inspect/rehearsal/rehearse.js';
import { helpfulWords, weigh } from '../../src/models/stand-in-chooser.js';
import type { JsonSchema, Tool } from '../../src/protocol/types.js';
import { chatCompletions, standInChooser, standInService } from '../../src/testing.js';
import { listen } from '../support/listen.js';

const object = (properties: Record<string, JsonSchema>, required: string[] = []) => ({ type: 'object', properties, required }) as const;
const tools: Tool[] = [
  {
    name: 'mix_syrup',
    description: 'How much sugar and water to mix for one feeding.',
    inputSchema: object(
      { colonies: { type: 'number', description: 'how many are fed' }, season: { type: 'string', enum: ['spring', 'autumn'] } },
      ['colonies'],
    ),
  },
  {
    name: 'moveHive',
    description: 'Carries a hive to another apiary.',
    inputSchema: object(
      {
        hive: { type: 'string', pattern: '^[A-Z]{2}-\\d{2}$' },
        to: {
          oneOf: [
            { const: 'SM', title: 'Saltmarsh' },
            { const: 'MR', title: 'Millrace' },
          ],
        },
      },
      ['hive', 'to'],
    ),
  },
  { name: 'count_lots', description: 'Counts honey lots and their sugar.', inputSchema: object({}) },
];

test('names count most, stems are compared, and the reasons are given', () => {
  const [best, next] = weigh('How do I mix the syrup? There is enough sugar.', tools);
  expect(best).toMatchObject({ tool: 'mix_syrup', share: 1, missing: ['colonies'] });
  expect(best!.words).toEqual([
    { word: 'mix', where: ['name', 'description'] },
    { word: 'syrup', where: ['name'] },
    { word: 'sugar', where: ['description'] },
  ]);
  expect(next).toMatchObject({ tool: 'count_lots', words: [{ word: 'sugar', where: ['description'] }] });
  expect(next!.share).toBeLessThan(0.5);
  expect(weigh('Move the hives to Saltmarsh', tools)[0]).toMatchObject({ tool: 'moveHive', input: { to: 'SM' }, missing: ['hive'] });
  expect(weigh('When does the village library open tonight?', tools)).toEqual([]);
  expect(weigh('', tools)).toEqual([]);
});

test('inputs are read from numbers, choices, patterns, formats and names', () => {
  const read = (request: string, properties: Record<string, JsonSchema>, required?: string[]) =>
    readInput(request, object(properties, required ?? Object.keys(properties)));
  expect(read('MR-03 to Saltmarsh please', tools[1]!.inputSchema.properties!)).toEqual({
    input: { hive: 'MR-03', to: 'SM' },
    missing: [],
  });
  expect(read('4 mites on 250 bees', { bees: { type: 'number' }, mites: { type: 'integer' } }).input).toEqual({ mites: 4, bees: 250 });
  expect(read('65 percent capped, 0.8 a day', { cappedPercent: { type: 'number' }, perDay: { type: 'number' } }).input).toEqual({
    cappedPercent: 65,
    perDay: 0.8,
  });
  expect(read('for twelve colonies', { colonies: { type: 'number' } }).input).toEqual({ colonies: 12 });
  expect(read('from 2026-06-01 on', { from: { type: 'string', format: 'date' }, n: { type: 'number' } })).toEqual({
    input: { from: '2026-06-01' },
    missing: ['n'],
  });
  expect(read('MR-01 and MR-02', { hives: { type: 'array', items: { type: 'string', pattern: '^[A-Z]{2}-\\d{2}$' } } }).input).toEqual({
    hives: ['MR-01', 'MR-02'],
  });
  expect(read('lot H-204 without label', { lot: { type: 'string' }, label: { type: 'boolean' } }).input).toEqual({
    lot: 'H-204',
    label: false,
  });
  expect(read('write "all is well"', { note: { type: 'string' } }).input).toEqual({ note: 'all is well' });
  expect(read('a text', { note: { type: 'string', pattern: '[' } })).toEqual({ input: {}, missing: ['note'] });
});

test('the same request leads to the same tool, whatever it is, and in whatever order the tools are listed', () => {
  fc.assert(
    fc.property(fc.string({ unit: 'grapheme' }), fc.shuffledSubarray(tools, { minLength: tools.length }), (request, shuffled) => {
      expect(weigh(request, shuffled)).toEqual(weigh(request, tools));
    }),
  );
});

describe('a sheet', () => {
  const sheet = (text: string) => readRequestSheet(text, 'asked.requests.yaml');
  const text = `requests:
  - { say: Mix syrup for 12 colonies., tool: mix_syrup, with: { colonies: 12 } }
  - { say: Mix syrup for 12 colonies in autumn., tool: mix_syrup, with: { colonies: 11, season: spring } }
  - { say: How much food is needed?, tool: mix_syrup }
  - { say: Count the sugar., tool: [count_lots, mix_syrup] }
  - { say: How much sugar and water for the apiary?, tool: moveHive }
  - { say: When does the library open?, tool: none }`;

  test('reports hits, wrong arguments, confusions, and words that would have helped', async () => {
    const done = await rehearse(await sheet(text), { tools, model: standInChooser });
    expect(done.requests.map(({ hit, chosen }) => [hit, chosen])).toEqual([
      [true, 'mix_syrup'],
      [true, 'mix_syrup'],
      [false, undefined],
      [true, 'count_lots'],
      [false, 'mix_syrup'],
      [true, undefined],
    ]);
    expect(done.requests[1]!.wrongInput.map(({ path, before, after }) => [path, before, after])).toEqual([
      ['colonies', 11, 12],
      ['season', 'spring', 'autumn'],
    ]);
    expect(done.requests[2]!.helpful).toEqual({ tool: 'mix_syrup', words: ['food'] });
    expect(done).toMatchObject({ hits: 4, isStandIn: true });
    const { tools: names, rows } = done.confusion;
    expect(names).toEqual(['mix_syrup', 'moveHive', 'count_lots', 'none']);
    expect(rows).toEqual([
      [2, 0, 0, 1],
      [1, 0, 0, 0],
      [0, 0, 1, 0],
      [0, 0, 0, 1],
    ]);
  });

  test('the words that would have helped do help, once they are in the description', () => {
    const request = 'How much food for the bees in autumn?';
    const words = helpfulWords(request, 'count_lots', tools)!;
    const edited = tools.map((each) =>
      each.name === 'count_lots' ? { ...each, description: `${each.description} ${words.join(' ')}` } : each,
    );
    expect(weigh(request, edited)[0]!.tool).toBe('count_lots');
    expect(helpfulWords('Mix the syrup', 'moveHive', tools.slice(0, 1))).toBeUndefined();
  });

  test('a tool that is not there, and a request that stands twice, are told by line', async () => {
    const unknown = rehearse(await sheet('requests:\n  - { say: a, tool: mix_syrups }'), { tools, model: standInChooser });
    await expect(unknown).rejects.toMatchObject({
      code: 'JEXO_SHEET',
      message: 'asked.requests.yaml:2: the server has no tool mix_syrups; did you mean mix_syrup?',
    });
    await expect(sheet('requests:\n  - { say: a, tool: b }\n  - { say: a, tool: c }')).rejects.toMatchObject({
      message: expect.stringContaining(':3: this request stands on line 2'),
    });
    await expect(sheet('requests: [{ say: 1 }]')).rejects.toMatchObject({ code: 'JEXO_SHEET' });
  });
});

describe('the chat-completions driver', () => {
  const serve = async (handle: (request: Request) => Promise<Response> | Response) => {
    const { url, close } = await listen(handle);
    return { base: `${url}/v1`, close };
  };
  const ask = (base: string, more: object = {}) =>
    chatCompletions({ baseUrl: base, model: 'small', key: 'k-1', maxRetries: 1, ...more }).next({
      tools,
      instructions: 'Be kind.',
      talk: [{ role: 'user', text: 'Mix syrup for 12 colonies' }],
    });

  test('asks the stand-in service as it would any other, and talks on after a call', async () => {
    const seen: Record<string, unknown>[] = [];
    const service = standInService({ key: 'k-1' });
    const { base, close } = await serve(async (request) => {
      seen.push((await request.clone().json()) as Record<string, unknown>);
      return service(request);
    });
    const { calls } = await ask(base);
    expect(calls).toEqual([{ id: 'call-1', name: 'mix_syrup', input: { colonies: 12 } }]);
    expect(seen[0]).toMatchObject({
      model: 'small',
      messages: [{ role: 'system', content: 'Be kind.' }, { role: 'user' }],
      tools: [{ type: 'function', function: { name: 'mix_syrup', parameters: { type: 'object' } } }, {}, {}],
    });
    const then = await chatCompletions({ baseUrl: base, model: 'small', key: 'k-1' }).next({
      tools,
      talk: [
        { role: 'user', text: 'Mix' },
        { role: 'assistant', calls },
        { role: 'tool', id: 'call-1', name: 'mix_syrup', text: '12 kg' },
      ],
    });
    expect(then).toMatchObject({ calls: [], text: expect.stringContaining('stand-in') });
    expect(seen[1]!.messages).toMatchObject([
      {},
      { tool_calls: [{ id: 'call-1', function: { arguments: '{"colonies":12}' } }] },
      { role: 'tool', tool_call_id: 'call-1', content: '12 kg' },
    ]);
    await expect(ask(base, { key: 'wrong' })).rejects.toMatchObject({
      code: 'JEXO_MODEL',
      message: expect.stringContaining('HTTP 401: The key is wrong'),
      next: expect.stringContaining('JEXO_MODEL_KEY'),
    });
    await close();
    await expect(ask(base)).rejects.toMatchObject({ code: 'JEXO_MODEL', message: expect.stringContaining('cannot be used') });
  });

  test('asks a busy service again, and gives up on one that stays so', async () => {
    let busy = 1;
    const service = standInService();
    const { base, close } = await serve((request) =>
      busy-- > 0 ? new Response('busy', { status: 429, headers: { 'retry-after': '0' } }) : service(request),
    );
    expect((await ask(base)).calls).toHaveLength(1);
    busy = 9;
    await expect(ask(base)).rejects.toMatchObject({ data: { status: 429 } });
    await close();
  });

  test('says what is strange about an answer', async () => {
    let body = '';
    const { base, close } = await serve(() => new Response(body));
    const message = (value: object) => JSON.stringify({ choices: [{ message: value }] });
    for (const [given, what] of [
      ['<html>', 'it is not JSON'],
      ['{}', 'no choices[0].message'],
      [message({ tool_calls: [{}] }), 'tool_calls[0] names no function'],
      [JSON.stringify({ error: { message: 'out of memory' } }), 'an error: out of memory'],
      [
        JSON.stringify({
          choices: [{ finish_reason: 'length', message: { tool_calls: [{ function: { name: 'a', arguments: '{"b' } }] } }],
        }),
        'cut short',
      ],
    ] as const) {
      body = given;
      await expect(ask(base)).rejects.toMatchObject({ code: 'JEXO_MODEL', message: expect.stringContaining(what) });
    }
    // Arguments that are none are told to the model, which can write them again.
    body = message({ tool_calls: [{ function: { name: 'a', arguments: '[1' } }] });
    expect((await ask(base)).calls).toEqual([
      { id: 'call-1', name: 'a', input: {}, broken: expect.stringContaining('not a JSON object: [1') },
    ]);
    body = message({
      content: [
        { type: 'text', text: 'In ' },
        { type: 'text', text: 'parts.' },
      ],
    });
    expect(await ask(base)).toEqual({ text: 'In parts.', calls: [] });
    body = message({ content: 'Hello.', tool_calls: [{ function: { name: 'a' } }] });
    expect(await ask(base)).toEqual({ text: 'Hello.', calls: [{ id: 'call-1', name: 'a', input: {} }] });
    await close();
    expect(() => chatCompletions({ baseUrl: 'nowhere', model: 'x' })).toThrow('is not the address');
  });

  test('waits no longer than it is told, and stops when it is asked to', async () => {
    const { base, close } = await serve(() => new Promise<Response>((resolve) => setTimeout(() => resolve(new Response('')), 300).unref()));
    await expect(ask(base, { timeoutMs: 30 })).rejects.toMatchObject({ message: expect.stringContaining('did not answer in time') });
    const stop = new AbortController();
    const asked = chatCompletions({ baseUrl: base, model: 'x' }).next({ tools, talk: [{ role: 'user', text: 'x' }] }, stop.signal);
    stop.abort(new Error('enough'));
    await expect(asked).rejects.toThrow('enough');
    await close();
  });
});
