import fc from 'fast-check';
import { readCallSheet } from '../../src/inspect/sheets/call-sheet.js';
import { callsFromWire } from '../../src/inspect/sheets/from-wire.js';
import { judgeAnswer } from '../../src/inspect/sheets/judge-answer.js';
import { toJUnit } from '../../src/inspect/sheets/junit.js';
import { chooseCalls, replaySheet } from '../../src/inspect/sheets/replay.js';
import { addCall, updateSheet } from '../../src/inspect/sheets/write-sheet.js';
import { any, parsePath, replaceAt, valueAt } from '../../src/inspect/value-path.js';
import { connect, createRecorder } from '../../src/testing.js';
import { z } from 'zod';
import { defineServer, prompt, template, tool } from '../../src/index.js';

const lots = new Map<string, number>();
const server = () =>
  defineServer({
    name: 'lots',
    version: '1.0.0',
    offers: [
      tool('new_lot', { input: z.object({ jars: z.number() }), output: z.object({ id: z.string(), at: z.string() }) }, ({ jars }) => {
        const id = `H-${lots.size + 1}`;
        lots.set(id, jars);
        return { id, at: new Date().toISOString() };
      }),
      tool('jars_of', { input: z.object({ lot: z.string() }) }, ({ lot }) => {
        const jars = lots.get(lot);
        if (jars === undefined) throw new Error(`Lot ${lot} is not known.`);
        return `${jars} jars`;
      }),
      tool('sell', { input: z.object({ lot: z.string() }) }, async ({ lot }, call) => {
        const { jars } = await call.ask(`How many jars of ${lot}?`, z.object({ jars: z.number() }));
        const { content } = await call.generate(`Thank the buyer of ${jars} jars.`);
        const [block] = [content].flat();
        return block?.type === 'text' ? block.text : '';
      }),
      template('lot://{lot}', { name: 'lot', mimeType: 'application/json' }, ({ lot }) => ({ lot, jars: lots.get(lot) ?? 0 })),
      prompt('label', { input: z.object({ lot: z.string() }) }, ({ lot }) => `Label ${lot}.`),
    ],
  });
beforeEach(() => lots.clear());

const replay = async (text: string, only?: string[]) =>
  replaySheet(await readCallSheet(text, 'lots.calls.yaml'), {
    connect: (answers) => connect(server(), answers),
    env: { BUYER: 'the shop' },
    ...(only && { only }),
  });
const wrongs = async (text: string) => (await replay(text)).calls.map(({ wrong }) => wrong.map(({ message }) => message));

const sheet = `masks: [times]
calls:
  # the first lot of the season
  - name: a new lot
    call: new_lot
    with: { jars: 12 }
    capture: { lot: id }
    must: { be: { id: H-1, at: <time> } }
  - name: what is in it
    call: jars_of
    with: { lot: '\${lot}' }
    must: { be: 12 jars, say: ['/^\\d+ jars$/'], maxMs: 5000 }
  - name: read it
    read: lot://\${lot}
    must: { have: { jars: 12 }, fit: { type: object, required: [lot] }, at: { lot: '\${lot}' } }
  - name: sell some
    call: sell
    with: { lot: '\${lot}' }
    replies:
      - { to: How many jars of H-1, with: { jars: 3 } }
      - { say: 'Thanks from \${env.BUYER}' }
    must: { be: Thanks from the shop }
  - name: one that is not there
    call: jars_of
    with: { lot: H-9 }
    must: { fail: [H-9, '/not known/'] }
  - name: a label
    render: label
    with: { lot: '\${lot}' }
    must: { say: 'Label H-1' }
`;

test('calls are made in order, captured values used, questions answered, times masked', async () => {
  expect(await wrongs(sheet)).toEqual([[], [], [], [], [], []]);
});

test('each way of being different is told', async () => {
  const different = sheet
    .replace('id: H-1', 'id: H-7')
    .replace('be: 12 jars, say', 'be: 12 pots, say')
    .replace('/^\\d+ jars$/', '/kg/')
    .replace('jars: 12 }, fit', 'jars: 13, pots: 1 }, fit')
    .replace('[lot] }', '[weight] }')
    .replace("lot: '${lot}' } }", 'lot: H-2 } }')
    .replace('How many jars of H-1', 'Which lot')
    .replace('/not known/', '/sold out/')
    .replace("say: 'Label H-1'", 'fail: true');
  expect(await wrongs(different)).toEqual([
    ['The answer differs.'],
    ['The answer differs.', expect.stringContaining('does not say /kg/')],
    ['The answer does not have what it must have.', 'lot is not what it must be.', expect.stringMatching(/weight.* does not fit/)],
    [expect.stringContaining('reply is to Which lot')],
    [expect.stringContaining('does not say /sold out/')],
    [expect.stringMatching(/^It must fail, but it answered: user: Label H-1/)],
  ]);
});

test('questions without a reply, and replies without a question, are told', async () => {
  expect(
    await wrongs(`calls:
  - { call: sell, with: { lot: H-1 }, must: { fail: true } }
  - { call: jars_of, with: { lot: H-1 }, replies: [{ to: Sure, with: {} }], must: { fail: true } }`),
  ).toEqual([[expect.stringMatching(/asked "How many jars of H-1\?", and the sheet has no reply/)], ['A reply was never asked for: Sure']]);
});

test('a call that needs what was not captured says so, and --only brings along what is needed', async () => {
  const [, second] = await wrongs(sheet.replace('capture: { lot: id }', 'capture: { lot: number }'));
  expect(second).toEqual([expect.stringContaining('lot was not captured')]);
  const { calls } = await readCallSheet(sheet, 'x');
  expect(chooseCalls(calls, ['what*']).map(({ name }) => name)).toEqual(['a new lot', 'what is in it']);
  expect(chooseCalls(calls, ['nothing'])).toEqual([]);
  lots.clear();
  expect((await replay(sheet, ['read it'])).calls.map(({ status }) => status)).toEqual(['as kept', 'as kept']);
});

test('updating writes what came, and leaves comments, references and the rest alone', async () => {
  const stale = sheet
    .replace('id: H-1', 'id: H-7')
    .replace("lot: '${lot}' } }", "lot: '${lot}', jars: 2 } }")
    .replace('jars: 12 }, fit', 'jars: 99 }, fit')
    .replace("[H-9, '/not known/']", '[sold]')
    .replace("say: 'Label H-1'", 'be: nothing');
  const read = await readCallSheet(stale, 'lots.calls.yaml');
  const done = await replaySheet(read, { connect: (answers) => connect(server(), answers), env: { BUYER: 'the shop' } });
  const { text, names } = updateSheet(read, done);
  expect(names).toEqual(['a new lot', 'read it', 'one that is not there', 'a label']);
  // Nothing is touched but the demands that changed.
  const rest = (whole: string) => whole.replaceAll(/^ {4}must:.*\n(?: {6}.*\n)*/gm, '');
  expect(rest(text)).toBe(rest(stale));
  expect(text).toContain('id: H-1');
  expect(text).toContain('lot: "${lot}"');
  expect(text).toContain('Lot H-9 is not known.');
  lots.clear();
  const again = await replay(text);
  expect(again.calls.map(({ wrong }) => wrong)).toEqual([[], [], [], [], [], []]);
  expect(updateSheet(await readCallSheet(text, 'x'), again).names).toEqual([]);
});

test('what is wrong with a sheet is told by line, all of it at once', async () => {
  const lines = async (text: string) =>
    readCallSheet(text, 'bad.calls.yaml').then(
      () => [],
      (error: { code: string; message: string }) => [error.code, ...error.message.split('\n')],
    );
  expect(await lines('calls:\n  - call: a\n   with: {}')).toEqual(['JEXO_SHEET', expect.stringMatching(/^bad.calls.yaml:3: /)]);
  expect(
    await lines(`calls:
  - call: a
    read: b
  - call: c
    must: { beh: 1 }
  - { call: d, with: 3 }`),
  ).toEqual(
    expect.arrayContaining([
      'JEXO_SHEET',
      expect.stringMatching(/:2: /),
      expect.stringMatching(/:5: .*beh/),
      expect.stringMatching(/:6: calls\[2\].with/),
    ]),
  );
  expect(
    await lines(`calls:
  - { name: x, call: a, with: { b: '\${lot}' } }
  - { name: x, call: a, after: y, capture: { env: id } }
  - { call: a, must: { say: '/(/' } }
  - { call: a, masks: ['a[['], must: { fail: true, be: 1 } }`),
  ).toEqual(expect.arrayContaining([expect.stringContaining('calls[1].capture')]));
  expect(
    await lines(`calls:
  - { name: x, call: a, with: { b: '\${lot}' } }
  - { name: x, call: a, after: y }
  - { call: a, must: { say: '/(/' } }
  - { call: a, masks: ['a[['], must: { fail: true, be: 1 } }`),
  ).toEqual([
    'JEXO_SHEET',
    expect.stringMatching(/:2: no call before this one captures lot/),
    expect.stringMatching(/:3: another call is called "x"/),
    expect.stringMatching(/:3: no call before this one is called "y"/),
    expect.stringMatching(/:4: .*regular expression/i),
    expect.stringMatching(/:5: "a\[\[" is not a path/),
    expect.stringMatching(/:5: an answer that must fail/),
  ]);
});

test('the calls of a trace become a sheet that replays', async () => {
  const recorder = createRecorder();
  const client = await connect(server(), {
    tap: (event) => recorder.record(1, event),
    elicitation: { form: () => ({ action: 'accept', content: { jars: 2 } }) },
    sampling: { create: () => ({ role: 'assistant', content: { type: 'text', text: 'Thanks.' }, model: 'm' }) },
  });
  await client.call('jars_of', { lot: 'H-1' });
  await client.call('sell', { lot: 'H-1' });
  await client.read('lot://H-1');
  await client.prompt('label', { lot: 'H-1' });
  await client.call('nobody', {}).catch(() => undefined);
  await client.close();
  const calls = await callsFromWire(recorder.since(0));
  const text = calls.reduce((before, call) => addCall(before, 'trace.calls.yaml', call), '');
  expect(calls.map(({ kind, subject }) => [kind, subject])).toEqual([
    ['tool', 'jars_of'],
    ['tool', 'sell'],
    ['resource', 'lot://H-1'],
    ['prompt', 'label'],
    ['tool', 'nobody'],
  ]);
  expect((await replay(text)).calls.map(({ wrong }) => wrong)).toEqual([[], [], [], [], []]);
});

describe('for any JSON', () => {
  const json = fc.jsonValue({ maxDepth: 3 }).map((value) => JSON.parse(JSON.stringify(value)) as unknown);

  test('what is kept on a sheet is what replays', async () => {
    await fc.assert(
      fc.asyncProperty(json, fc.dictionary(fc.string(), json), async (value, input) => {
        fc.pre(!JSON.stringify([value, input]).includes('${'));
        const text = addCall('', 'x.calls.yaml', { kind: 'tool', subject: 'any', input, must: { be: value } });
        const { calls } = await readCallSheet(text, 'x.calls.yaml');
        expect(calls[0]).toMatchObject({ subject: 'any', input });
        const answer = { value, text: '' };
        expect(await judgeAnswer({ failed: false, answer }, calls[0]!.must, [], 1)).toEqual([]);
        const other = { value: [value], text: '' };
        expect(await judgeAnswer({ failed: false, answer: other }, calls[0]!.must, [], 1)).not.toEqual([]);
      }),
      { numRuns: 200 },
    );
  });

  test('a path leads to what was put there', () => {
    const step = fc.oneof(
      fc.string({ minLength: 1 }).filter((text) => /^[^.[\]"*$]+$/.test(text)),
      fc.nat(3),
    );
    fc.assert(
      fc.property(fc.array(step, { maxLength: 4 }), json, (steps, value) => {
        const whole = steps.reduceRight<unknown>(
          (inner, each) => (typeof each === 'number' ? Array.from({ length: each + 1 }, () => inner) : { [each]: inner }),
          value,
        );
        const text = steps.map((each) => (typeof each === 'number' ? `[${each}]` : `["${JSON.stringify(each).slice(1, -1)}"]`)).join('');
        expect(parsePath(text)).toEqual(steps);
        expect(valueAt(whole, parsePath(text))).toEqual(value);
        expect(
          valueAt(
            replaceAt(whole, parsePath(text), () => 'new'),
            steps,
          ),
        ).toEqual('new');
      }),
    );
    expect(parsePath('$.hives[].id')).toEqual(['hives', any, 'id']);
    expect(valueAt({ hives: [{ id: 1 }, { id: 2 }] }, parsePath('hives[].id'))).toEqual([1, 2]);
    expect(() => parsePath('a..b')).toThrow('is not a path');
  });

  test('a report is well-formed whatever the names', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), fc.string({ unit: 'binary' }), (name, failure) => {
        const text = toJUnit([{ name, tookMs: 1, cases: [{ name, file: name, line: 1, tookMs: 1, failure }] }]);
        expect(text).not.toMatch(/[\u0000-\u0008\u000B\u000C\u000E-\u001F\uFFFE\uFFFF]/);
        expect(text.replaceAll(/&(?:amp|lt|gt|quot|#10);/g, '')).not.toContain('&');
        expect(text.match(/<testcase/g)).toHaveLength(1);
        expect(text.replaceAll(/"[^"<>]*"/g, '').match(/</g)).toHaveLength(9);
      }),
    );
  });
});
