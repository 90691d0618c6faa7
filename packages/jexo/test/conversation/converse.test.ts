import {
  approvals,
  connectAll,
  converse,
  defineServer,
  memory,
  prompt,
  resource,
  tool,
  type Clients,
  type ConverseOptions,
  type Model,
  type Move,
  type Outcome,
  type Step,
  type Turn,
} from '../../src/index.js';

const open: Clients[] = [];
afterEach(async () => {
  for (const each of open.splice(0)) await each.close();
});

const calls: string[] = [];
const apiary = defineServer({
  name: 'apiary',
  version: '1.0.0',
  instructions: 'Hives are named as MR-03.',
  offers: [
    tool(
      'weigh',
      {
        description: 'Weighs a hive.',
        annotations: { readOnlyHint: true },
        input: { type: 'object', properties: { hive: { type: 'string', pattern: '^[A-Z]{2}-\\d\\d$' } }, required: ['hive'] },
      },
      ({ hive }, call) => {
        calls.push(`weigh ${String(hive)}`);
        call.progress(1, 2, 'on the scales');
        return { hive, kg: 31 };
      },
    ),
    tool('move_hive', { description: 'Moves a hive.', annotations: { destructiveHint: true } }, async (_, call) => {
      calls.push('move');
      const { to } = (await call.ask('Where to?', { type: 'object', properties: { to: { type: 'string' } }, required: ['to'] })) as {
        to: string;
      };
      return `moved to ${to}`;
    }),
    tool('long', { description: 'A long log.', annotations: { readOnlyHint: true } }, () => 'x'.repeat(9000) + 'END'),
    tool('label', { description: 'Writes a label.', annotations: { readOnlyHint: true } }, async (_, call) => {
      const { content } = await call.generate('Write a label for lot 7.');
      return JSON.stringify(content);
    }),
    tool('wait', { description: 'Waits.', annotations: { readOnlyHint: true } }, (_, call) => {
      call.progress(0, 1, 'waiting');
      return new Promise((_resolve, reject) => {
        call.signal.addEventListener('abort', () => (calls.push('cancelled'), reject(new Error('stopped'))));
      });
    }),
    tool('picture', { annotations: { readOnlyHint: true } }, () => ({
      content: [{ type: 'image' as const, mimeType: 'image/png', data: 'AAAA' }],
    })),
    resource('log://today', {}, () => 'MR-03 was calm.'),
    prompt('before_winter', { description: 'Asks.' }, () => 'Check the stores before winter.'),
  ],
});
const connected = async () => {
  const clients = await connectAll({ apiary });
  open.push(clients);
  return clients;
};

/** A model that does what it is told, and notes what it was given. */
function scripted(moves: readonly (Move | ((turn: Turn) => Move | Promise<Move>))[], more: Partial<Model> = {}) {
  const turns: Turn[] = [];
  const model: Model = {
    name: 'scripted',
    isStandIn: false,
    async next(turn) {
      const move = moves[Math.min(turns.length, moves.length - 1)]!;
      turns.push({ ...turn, talk: [...turn.talk] });
      return typeof move === 'function' ? move(turn) : move;
    },
    ...more,
  };
  return { model, turns };
}
const call = (name: string, input: Record<string, unknown> = {}, id = 'c') => ({ id, name, input });
const hold = async (options: Omit<ConverseOptions, 'clients' | 'request'> & Partial<ConverseOptions>): Promise<Outcome> =>
  converse({ clients: await connected(), request: 'How heavy is MR-03?', approve: () => true, ...options });
const of = <K extends Step['kind']>(outcome: Outcome, kind: K) =>
  outcome.steps.filter((each): each is Step & { kind: K } => each.kind === kind);
const lastResult = (turn: Turn) => turn.talk.findLast((each) => each.role === 'tool') as { text: string; failed?: boolean };

beforeEach(() => void calls.splice(0));

test('asks, calls, feeds back and answers; every step is told in order', async () => {
  const told: string[] = [];
  const { model, turns } = scripted([
    { text: 'Weighing.', calls: [call('weigh', { hive: 'MR-03' })] },
    { text: 'It weighs 31 kg.', calls: [] },
  ]);
  const outcome = await hold({ model, instructions: 'Answer briefly.', onStep: ({ kind }) => told.push(kind) });
  expect(outcome).toMatchObject({ answer: 'It weighs 31 kg.', ended: 'answered', calls: 1 });
  expect(told).toEqual(['request', 'asked', 'moved', 'approval', 'call', 'progress', 'result', 'asked', 'moved', 'ended']);
  expect(outcome.steps.map(({ n }) => n)).toEqual(outcome.steps.map((_, index) => index + 1));
  expect(turns[0]!.instructions).toBe('Answer briefly.\n\nThe server apiary says on its use:\nHives are named as MR-03.');
  expect(lastResult(turns[1]!)).toMatchObject({ text: '{"hive":"MR-03","kg":31}' });
  expect(outcome.usage).toMatchObject({ isEstimated: true });
  expect(outcome.usage.inputTokens).toBeGreaterThan(50);
});

test('errors go to the model: of the tool, of its input, of a name, of arguments that are no object', async () => {
  const texts: string[] = [];
  const note = (turn: Turn, move: Move) => (texts.push(lastResult(turn).text), move);
  const { model } = scripted([
    { calls: [call('weigh', { hive: 'three' })] },
    (turn) => note(turn, { calls: [call('wiegh', {})] }),
    (turn) => note(turn, { calls: [{ ...call('weigh'), broken: 'The arguments are not a JSON object: [1' }] }),
    (turn) => note(turn, { calls: [], text: 'I give up.' }),
  ]);
  const outcome = await hold({ model });
  expect(outcome.ended).toBe('answered');
  expect(texts).toEqual([
    expect.stringContaining('hive'),
    'There is no tool wiegh. Did you mean weigh?',
    'The arguments are not a JSON object: [1',
  ]);
  expect(of(outcome, 'result').every(({ failed }) => failed)).toBe(true);
});

test('nothing is called that was not approved, and the model is told why', async () => {
  const clients = await connected();
  const texts: string[] = [];
  for (const approve of [undefined, () => false, () => ({ approved: 'yes' }) as never, () => Promise.reject(new Error('no dialog'))]) {
    const { model, turns } = scripted([
      { calls: [call('weigh', { hive: 'MR-03' }, 'a'), call('move_hive', {}, 'b')] },
      { text: 'ok', calls: [] },
    ]);
    const outcome = await converse({ clients, request: 'Move it.', model, ...(approve && { approve }) });
    expect(of(outcome, 'approval').map(({ approved }) => approved)).toEqual([false, false]);
    expect(of(outcome, 'result').map(({ text }) => text.startsWith('The call was not approved.'))).toEqual([true, true]);
    texts.push(lastResult(turns[1]!).text);
  }
  expect(calls).toEqual([]);
  expect(texts).toEqual([
    expect.stringContaining('Nobody was there'),
    expect.stringContaining('person refused'),
    expect.stringContaining('person refused'),
    expect.stringContaining('no dialog'),
  ]);
});

test('several calls run side by side, as many as the limit says; results are in the order of the calls, ids are told apart', async () => {
  let running = 0;
  let most = 0;
  const slow = defineServer({
    name: 'slow',
    version: '1.0.0',
    offers: [
      tool('slow', { input: { type: 'object', properties: { n: { type: 'number' } } } }, async ({ n }) => {
        most = Math.max(most, ++running);
        await new Promise((resolve) => setTimeout(resolve, 20 - Number(n) * 3));
        running--;
        return `n${String(n)}`;
      }),
    ],
  });
  const clients = await connectAll([slow]);
  open.push(clients);
  const { model, turns } = scripted([{ calls: [0, 1, 2, 3, 4].map((n) => call('slow', { n }, 'same')) }, { text: 'done', calls: [] }]);
  await converse({ clients, request: 'Go.', model, approve: () => true, limits: { parallel: 3 } });
  expect(most).toBe(3);
  const results = turns[1]!.talk.filter((each) => each.role === 'tool');
  expect(results.map(({ text }) => text)).toEqual(['n0', 'n1', 'n2', 'n3', 'n4']);
  expect(new Set(results.map((each) => (each.role === 'tool' ? each.id : ''))).size).toBe(5);
});

test('limits end it, each by its name', async () => {
  let n = 0;
  const forEver = () => scripted([() => ({ calls: [call('weigh', { hive: `MR-${String(10 + (n++ % 80))}` })], text: 'Again.' })]).model;
  expect(await hold({ model: forEver(), limits: { steps: 3 } })).toMatchObject({ ended: 'steps', calls: 3, answer: 'Again.' });
  expect(await hold({ model: forEver(), limits: { calls: 2 } })).toMatchObject({ ended: 'calls', calls: 2 });
  expect(await hold({ model: forEver(), limits: { tokens: 2000 } })).toMatchObject({ ended: 'tokens' });
  expect(await hold({ model: forEver(), limits: { cost: 0.01 }, price: { input: 10, output: 30 } })).toMatchObject({
    ended: 'cost',
    usage: { cost: expect.any(Number) },
  });
  const outcome = await hold({ model: { name: 'deaf', isStandIn: false, next: () => new Promise(() => undefined) }, limits: { ms: 50 } });
  expect(outcome).toMatchObject({ ended: 'time', calls: 0 });
  await expect(hold({ limits: { steps: Number.NaN } })).rejects.toMatchObject({ code: 'JEXO_USAGE', where: 'limits.steps' });
  await expect(hold({ request: ' ' })).rejects.toMatchObject({ code: 'JEXO_USAGE' });
  await expect(hold({ limits: { cost: 1 } })).rejects.toMatchObject({ code: 'JEXO_USAGE', where: 'limits.cost' });
});

test('calls beyond the rate wait for their turn', async () => {
  const { model } = scripted([{ calls: ['MR-03', 'MR-04', 'MR-05'].map((hive) => call('weigh', { hive })) }, { calls: [], text: 'ok' }]);
  const outcome = await hold({ model, limits: { callsPerMinute: 2, ms: 300 } });
  expect(outcome).toMatchObject({ ended: 'time', calls: 2 });
  expect(calls).toEqual(['weigh MR-03', 'weigh MR-04']);
});

test('the same call is made three times and then refused', async () => {
  const { model, turns } = scripted([{ calls: [call('weigh', { hive: 'MR-03' })] }]);
  const outcome = await hold({ model, limits: { steps: 6 } });
  expect(calls).toHaveLength(3);
  expect(outcome.calls).toBe(3);
  expect(lastResult(turns.at(-1)!).text).toMatch(/was made 3 times with the same input/);
});

test('stopping it cancels the call on the server, and what was said is kept whole', async () => {
  const kept = memory();
  const stop = new AbortController();
  const { model } = scripted([{ calls: [call('weigh', { hive: 'MR-03' }, 'a'), call('wait', {}, 'b')] }]);
  const outcome = await hold({
    model,
    memory: kept,
    signal: stop.signal,
    // It is waiting, and the other call is answered.
    onStep: (step) => step.kind === 'progress' && step.message === 'waiting' && setTimeout(() => stop.abort(), 20),
  });
  expect(outcome.ended).toBe('cancelled');
  for (let tries = 0; !calls.includes('cancelled') && tries < 100; tries++) await new Promise((resolve) => setTimeout(resolve, 10));
  expect(calls).toContain('cancelled');
  // What was answered is kept, and what was not is told as such.
  expect(await kept.entries()).toMatchObject([
    { role: 'user' },
    { role: 'assistant', calls: [{ id: 'a' }, { id: 'b' }] },
    { role: 'tool', id: 'a', text: expect.stringContaining('31') },
    { role: 'tool', id: 'b', failed: true, text: expect.stringContaining('ended before') },
  ]);
});

test('what was said before is said again; what a file holds half is left aside', async () => {
  const kept = memory([
    { role: 'tool', id: 'x', name: 'weigh', text: 'of nobody' },
    { role: 'user', text: 'Which hive is heavy?' },
    { role: 'assistant', calls: [call('weigh', {}, 'lost')], text: 'Looking.' },
    { role: 'assistant', calls: [], text: 'MR-03.' },
  ]);
  const { model, turns } = scripted([{ calls: [], text: 'Yes.' }]);
  await hold({ model, memory: kept, request: 'Is it calm?' });
  await hold({ model, memory: kept, request: 'Sure?' });
  expect(turns[1]!.talk).toEqual([
    { role: 'user', text: 'Which hive is heavy?' },
    { role: 'assistant', calls: [], text: 'Looking.' },
    { role: 'assistant', calls: [], text: 'MR-03.' },
    { role: 'user', text: 'Is it calm?' },
    { role: 'assistant', calls: [], text: 'Yes.' },
    { role: 'user', text: 'Sure?' },
  ]);
});

test('a memory that fails or hangs does no harm', async () => {
  const { model } = scripted([{ calls: [], text: 'Yes.' }]);
  const outcome = await hold({ model, memory: { entries: () => [], add: () => Promise.reject(new Error('disk full')), clear() {} } });
  expect(outcome.answer).toBe('Yes.');
  expect(of(outcome, 'trouble')).toMatchObject([{ where: 'memory', why: 'disk full' }]);
});

test('a long answer is cut, and read on with a tool; or summed up by the model', async () => {
  const read = scripted([
    { calls: [call('long')] },
    (turn) => {
      expect(turn.tools.map(({ name }) => name)).toContain('read_more');
      const { answer, from } = JSON.parse(/read_more: (\{.*\})/.exec(lastResult(turn).text)![1]!) as { answer: string; from: number };
      return { calls: [call('read_more', { answer, from: from + 4000 })] };
    },
    (turn) => ({ calls: [], text: lastResult(turn).text.slice(-3) }),
  ]);
  const outcome = await hold({ model: read.model, limits: { resultTokens: 1000 } });
  expect(outcome).toMatchObject({ answer: 'END', calls: 1 });
  expect(of(outcome, 'result')[0]).toMatchObject({ cutFrom: 9003 });
  const summed = scripted([
    { calls: [call('long')] },
    { calls: [], text: 'Many x.' },
    (turn) => ({ calls: [], text: lastResult(turn).text }),
  ]);
  expect((await hold({ model: summed.model, longAnswers: 'summarise', limits: { resultTokens: 1000 } })).answer).toMatch(
    /^Many x\.\n\[A summary of 9003 characters/,
  );
});

test('a question of a server is answered by the person; without one it is closed', async () => {
  const { model } = scripted([{ calls: [call('move_hive')] }, (turn) => ({ calls: [], text: lastResult(turn).text })]);
  const asked: string[] = [];
  const outcome = await hold({
    model,
    onQuestion: ({ message, asker }) => {
      asked.push(`${asker.server} ${String(asker.tool)}: ${message}`);
      return { action: 'accept', content: { to: 'SM' } };
    },
  });
  expect(asked).toEqual(['apiary move_hive: Where to?']);
  expect(outcome.answer).toBe('moved to SM');
  expect(of(outcome, 'question')).toMatchObject([{ server: 'apiary', action: 'accept', content: { to: 'SM' } }]);
  expect(
    (
      await hold({
        model: scripted([{ calls: [call('move_hive')] }, (turn) => ({ calls: [], text: String(lastResult(turn).failed) })]).model,
      })
    ).answer,
  ).toBe('true');
});

test('a server uses the model only when the person agrees', async () => {
  const moves = [
    { calls: [call('label')] },
    { calls: [], text: 'Lot 7, lime.' },
    (turn: Turn) => ({ calls: [], text: lastResult(turn).text }),
  ];
  const agreed = await hold({ model: scripted(moves).model, consent: (_, server) => server === 'apiary' });
  expect(agreed.answer).toContain('Lot 7, lime.');
  expect(of(agreed, 'generated')).toMatchObject([{ server: 'apiary', agreed: true, text: 'Lot 7, lime.' }]);
  const refused = await hold({ model: scripted([moves[0]!, moves[2]!]).model });
  expect(refused.answer).toMatch(/refused/);
  expect(of(refused, 'generated')).toMatchObject([{ agreed: false }]);
});

test('resources and prompts are put before the request; one that cannot be read is told', async () => {
  const { model, turns } = scripted([{ calls: [], text: 'ok' }]);
  const outcome = await hold({ model, context: [{ uri: 'log://today' }, { uri: 'log://never' }, { prompt: 'before_winter' }] });
  expect(turns[0]!.talk).toMatchObject([
    { role: 'user', text: 'Check the stores before winter.' },
    { role: 'user', text: expect.stringMatching(/log:\/\/today:\nMR-03 was calm\.\n\nHow heavy/) },
  ]);
  expect(of(outcome, 'trouble')).toMatchObject([{ where: 'log://never' }]);
});

test('images reach models that take them, and are named to others', async () => {
  for (const takesImages of [true, false]) {
    const { model, turns } = scripted([{ calls: [call('picture')] }, { calls: [], text: 'seen' }], { takesImages });
    await hold({ model });
    expect(lastResult(turns[1]!)).toMatchObject(
      takesImages
        ? { text: '[image 1]', images: [{ mimeType: 'image/png', data: 'AAAA' }] }
        : { text: '[an image, image/png, 3 bytes: not shown]' },
    );
  }
});

test('a tool whose definition has changed since it was approved is not called', async () => {
  const clients = await connected();
  const { model, turns } = scripted([{ calls: [call('weigh', { hive: 'MR-03' })] }, { calls: [], text: 'ok' }]);
  await converse({
    clients,
    request: 'Weigh.',
    model,
    approve: () => {
      clients.choose({ apiary: { except: ['weigh'] } });
      return true;
    },
  });
  expect(calls).toEqual([]);
  expect(lastResult(turns[1]!).text).toContain('is gone');
});

test('too many tools are chosen by the words of the request; the rest is found', async () => {
  const many = defineServer({
    name: 'many',
    version: '1.0.0',
    offers: ['syrup', 'queen', 'honey', 'smoker', 'frame', 'mites'].flatMap((word) =>
      Array.from({ length: 10 }, (_, n) =>
        tool(`${word}_${n}`, { description: `Works on ${word} number ${n}, and more than that in many words.` }, () => `${word} ${n}`),
      ),
    ),
  });
  const clients = await connectAll([many]);
  open.push(clients);
  const { model, turns } = scripted([
    { calls: [call('find_tools', { words: 'smoker' })] },
    (turn) => ({ calls: [call(turn.tools.find(({ name }) => name.startsWith('smoker'))!.name)] }),
    { calls: [], text: 'ok' },
  ]);
  const outcome = await converse({ clients, request: 'How are the mites?', model, approve: () => true, limits: { toolTokens: 600 } });
  const names = turns.map(({ tools }) => tools.map(({ name }) => name));
  expect(names[0]!.length).toBeLessThan(20);
  expect(names[0]!.filter((name) => !name.startsWith('mites'))).toEqual(['find_tools']);
  expect(names[1]!.some((name) => name.startsWith('smoker'))).toBe(true);
  expect(outcome).toMatchObject({ ended: 'answered', calls: 1 });
});

test('a conversation that is too long for the model is shortened, oldest first', async () => {
  const kept = memory(
    Array.from({ length: 40 }, (_, n) => [
      { role: 'user' as const, text: `Question ${n} ${'x'.repeat(400)}` },
      { role: 'assistant' as const, calls: [], text: `Answer ${n}` },
    ]).flat(),
  );
  const { model, turns } = scripted([{ calls: [], text: 'ok' }]);
  const outcome = await hold({ model, memory: kept, limits: { contextTokens: 2000 } });
  const [first] = turns[0]!.talk;
  expect(first).toMatchObject({ role: 'user', text: expect.not.stringContaining('Question 0 ') });
  expect(turns[0]!.talk.at(-1)).toMatchObject({ text: 'How heavy is MR-03?' });
  expect(of(outcome, 'shortened')).toHaveLength(1);
  // All of it is kept all the same.
  expect(await kept.entries()).toHaveLength(82);
});

describe('approvals', () => {
  const { model } = scripted([{ calls: [call('weigh', { hive: 'MR-03' }, 'a'), call('move_hive', {}, 'b')] }, { text: 'ok', calls: [] }]);
  const again = () =>
    scripted([{ calls: [call('weigh', { hive: 'MR-03' }, 'a'), call('move_hive', {}, 'b')] }, { text: 'ok', calls: [] }]).model;
  const decisions = (outcome: Outcome) => of(outcome, 'approval').map(({ name, approved, by }) => `${name} ${String(approved)} ${by}`);

  test('rules by annotation, tag, server and name; refusing comes first, asking next', async () => {
    expect(decisions(await hold({ model: again(), approve: approvals({ allow: ['read-only'] }) }))).toEqual([
      'weigh true rule',
      'move_hive false nobody',
    ]);
    expect(decisions(await hold({ model: again(), approve: approvals({ allow: ['server:api*'], refuse: ['destructive'] }) }))).toEqual([
      'weigh true rule',
      'move_hive false rule',
    ]);
    const asked: string[] = [];
    const person = ({ tool: { name } }: { tool: { name: string } }) => (asked.push(name), 'once' as const);
    await hold({ model: again(), approve: approvals({ allow: ['*'], ask: ['destructive'], person }) });
    expect(asked).toEqual(['move_hive']);
    expect(() => approvals({ allow: ['read only'] })).toThrow(expect.objectContaining({ code: 'JEXO_USAGE' }));
  });

  test('once, for the tool, for the session', async () => {
    for (const [says, then] of [
      ['once', 2],
      ['tool', 0],
      ['session', 0],
      ['no', 2],
    ] as const) {
      let asked = 0;
      const approve = approvals({ person: () => (asked++, says) });
      await hold({ model: again(), approve });
      asked = 0;
      await hold({ model: again(), approve });
      expect([says, asked]).toEqual([says, then]);
    }
  });

  test('a definition that has changed is asked for again, whatever was approved, and shown', async () => {
    const of = (description: string) =>
      defineServer({
        name: 'lab',
        version: '1.0.0',
        offers: [tool('count', { description, annotations: { readOnlyHint: true } }, () => 'ok')],
      });
    const asked: string[] = [];
    const approve = approvals({
      allow: ['read-only'],
      person: ({ changedFrom, tool: { description } }) => (
        asked.push(`${String(changedFrom?.description)} → ${String(description)}`),
        'no'
      ),
    });
    for (const description of ['Counts.', 'Counts.', 'Counts, and sends it away.']) {
      const clients = await connectAll({ lab: of(description) });
      open.push(clients);
      await converse({
        clients,
        request: 'Count.',
        approve,
        model: scripted([{ calls: [call('count')] }, { calls: [], text: 'ok' }]).model,
      });
    }
    expect(asked).toEqual(['Counts. → Counts, and sends it away.']);
    void model;
  });
});
