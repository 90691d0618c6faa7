import { join } from 'node:path';
import { defineServer, tool } from '../../src/index.js';
import { connect, createRecorder, matchers, standInModel, textOf } from '../../src/testing.js';
import { cooperative, freshFolder, hives, run } from '../support/command-line.js';
import { mkdirSync, symlinkSync, writeFileSync } from 'node:fs';

const number = { type: 'number' } as const;
const server = defineServer({
  name: 'meadow',
  version: '1',
  offers: [
    tool(
      'add_up',
      {
        description: 'Adds two weights of a hive. Use for sums.',
        input: {
          type: 'object',
          properties: { a: { ...number, description: 'one' }, b: { ...number, description: 'other' } },
          required: ['a', 'b'],
        },
        output: { type: 'object', properties: { sum: number, parts: { type: 'array' } } },
      },
      ({ a, b }) => {
        if (a < 0) throw new Error('A weight is not negative.');
        return { sum: a + b, parts: [a, b] };
      },
    ),
    tool('vague', {}, () => 'something'),
  ],
});

test('an answer is matched by its fields, its words, or a plain result', async () => {
  const client = await connect(server);
  const answer = await client.call('add_up', { a: 1, b: 2 });
  expect(matchers.toAnswer(answer, { sum: 3 })).toMatchObject({ pass: true });
  expect(matchers.toAnswer(answer, { sum: 3, parts: [1, 2] })).toMatchObject({ pass: true });
  expect(matchers.toAnswer(answer, /"sum":3/)).toMatchObject({ pass: true });
  const wrong = matchers.toAnswer(answer, { sum: 4, parts: [1], more: 1 });
  expect(wrong.pass).toBe(false);
  expect(wrong.message()).toBe('The answer differs:\n- sum: expected 4; got 3\n- more: is missing; expected 1');
  expect(matchers.toAnswer(await client.call('vague'), 'something')).toMatchObject({ pass: true });
  expect(matchers.toAnswer(await client.call('vague'), 'other').message()).toContain('does not say other');
  await client.close();
  const functions = await connect(hives);
  expect(matchers.toAnswer(await functions.call('winter_stores', { strength: 'weak', frostMonths: 4 }), 11.5)).toMatchObject({
    pass: true,
  });
  await functions.close();
});

test('a failure is matched by what the model is told', async () => {
  const client = await connect(server);
  const failure = await client.call('add_up', { a: -1, b: 2 });
  expect(matchers.toFail(failure, 'not negative')).toMatchObject({ pass: true });
  expect(matchers.toFail(failure, /positive/)).toMatchObject({ pass: false });
  expect(matchers.toAnswer(failure, { sum: 1 }).message()).toContain('The tool failed: A weight is not negative.');
  expect(matchers.toFail(await client.call('add_up', { a: 1, b: 2 })).message()).toContain('did not fail');
  expect(textOf(failure)).toBe('A weight is not negative.');
  await client.close();
});

test('what is offered, and what the check finds', async () => {
  const client = await connect(server);
  expect(await matchers.toOffer(client, 'add_up', 'vague')).toMatchObject({ pass: true });
  expect((await matchers.toOffer(client, 'subtract')).message()).toBe('The server does not offer subtract; it offers add_up, vague.');
  const found = await matchers.toPassCheck(client);
  expect(found.pass).toBe(false);
  expect(found.message()).toBe('The check finds:\n- tool vague: It has no description. (no-description)');
  expect(await matchers.toPassCheck(client, { silences: [{ rule: 'no-description', name: 'vague', reason: 'on purpose' }] })).toMatchObject(
    { pass: true },
  );
  expect((await matchers.toPassCheck(client, { from: 'note' })).message()).toContain('no-output-schema');
  await client.close();
  const demo = await connect(join(cooperative, 'apiary.ts'));
  expect(await matchers.toPassCheck(demo, { from: 'note' })).toMatchObject({ pass: true });
  await demo.close();
});

test('the recorder and the stand-in are at hand', async () => {
  const recorder = createRecorder();
  const client = await connect(server, { tap: (event) => recorder.record(1, event) });
  await client.close();
  expect(recorder.since(0).length).toBeGreaterThan(1);
  expect(standInModel({ messages: [], maxTokens: 10 }).model).toBe('stand-in');
});

test('in a runner of its own, with the published package', async () => {
  const project = freshFolder('runner');
  mkdirSync(join(project, 'node_modules'));
  symlinkSync(join(cooperative, '../../packages/jexo'), join(project, 'node_modules/jexo'));
  writeFileSync(
    join(project, 'own.test.mjs'),
    `import assert from 'node:assert';
import test from 'node:test';
import { defineServer, tool } from 'jexo';
import { connect, matchers } from 'jexo/testing';
test('adds', async () => {
  const client = await connect(defineServer({ name: 'x', version: '1', offers: [tool('one', {}, () => 1)] }));
  const { pass, message } = matchers.toAnswer(await client.call('one'), '1');
  assert.ok(pass, message());
  await client.close();
});`,
  );
  const { code, stdout } = await run(process.execPath, ['--test', 'own.test.mjs'], { cwd: project });
  expect([code, stdout]).toEqual([0, expect.stringMatching(/pass 1/)]);
});
