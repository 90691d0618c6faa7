import fc from 'fast-check';
import { mkdirSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { parse } from 'yaml';
import { sheetFiles } from '../../src/cli/sheet-files.js';
import { defineServer, tool } from '../../src/index.js';
import { readCallSheet } from '../../src/inspect/sheets/call-sheet.js';
import { replaySheet } from '../../src/inspect/sheets/replay.js';
import { addCall, updateSheet } from '../../src/inspect/sheets/write-sheet.js';
import { connect } from '../../src/testing.js';
import { freshFolder } from '../support/command-line.js';

const server = () =>
  defineServer({
    name: 'lots',
    version: '1.0.0',
    offers: [
      tool('lot', {}, () => ({ id: 'H-1', jars: 12, of: { hive: 'MR-03', frames: [1, 2, 3] } })),
      tool('broken', {}, () => (undefined as unknown as string[]).map(String)),
    ],
  });
const replay = async (text: string) => {
  const sheet = await readCallSheet(text, 'lots.calls.yaml');
  return { sheet, done: await replaySheet(sheet, { connect: (answers) => connect(server(), answers), env: {} }) };
};

const blocks = `calls:
  - name: one
    call: lot
    must:
      be:
        id: H-9
        jars: 1
  - name: two # kept
    call: lot
    must:
      have:
        id: H-8

  - { name: three, call: lot, must: { be: 1 } }
  - call: lot
    must:
      at:
        of.hive: X`;

test('updating a block leaves what stands behind it on its own lines', async () => {
  for (const text of [blocks, `${blocks}\n`, `${blocks}\n\n# the end\n`, blocks.replaceAll('\n', '\r\n')]) {
    const { sheet, done } = await replay(text);
    const updated = updateSheet(sheet, done);
    expect(updated.names).toEqual(['one', 'two', 'three', 'lot']);
    const { calls } = parse(updated.text) as { calls: { name?: string; must: unknown }[] };
    expect(calls.map(({ name }) => name)).toEqual(['one', 'two', 'three', undefined]);
    expect(calls[1]!.must).toEqual({ have: { id: 'H-1' } });
    expect(calls[3]!.must).toEqual({ at: { 'of.hive': 'MR-03' } });
    expect(updated.text).toContain('two # kept');
    expect((await replay(updated.text)).done.calls.map(({ status }) => status)).toEqual(Array(4).fill('as kept'));
  }
});

test('however a sheet is laid out, an update reads as the sheet with new demands, and is green', async () => {
  const blank = fc.constantFrom('', '\n', '\n  # words\n');
  const must = fc.constantFrom(
    '\n    must:\n      be: 7',
    '\n    must: { be: 7 }',
    '\n    must:\n      be:\n        - 1\n        - 2',
    '\n    must: {be: [a,\n      b]}',
  );
  const call = fc.tuple(must, blank).map(([demand, behind]) => `  - call: lot${demand}\n${behind}`);
  await fc.assert(
    fc.asyncProperty(fc.array(call, { minLength: 1, maxLength: 4 }), async (calls) => {
      const { sheet, done } = await replay(`calls:\n${calls.join('')}`);
      const { text } = updateSheet(sheet, done);
      expect((await replay(text)).done.calls.every(({ status }) => status === 'as kept')).toBe(true);
      const more = addCall(text, 'lots.calls.yaml', { kind: 'tool', subject: 'lot', input: {}, must: { be: 1 } });
      expect((parse(more) as { calls: unknown[] }).calls).toHaveLength(calls.length + 1);
    }),
    { numRuns: 60 },
  );
});

test('a kept fault replays green, although its reference is another each time', async () => {
  const client = await connect(server());
  const failed = (await client.call('broken')).content[0] as { text: string };
  expect(failed.text).toMatch(/reference [0-9a-f]{6}/);
  const kept = addCall('', 'lots.calls.yaml', { kind: 'tool', subject: 'broken', input: {}, must: { fail: failed.text } });
  expect((await replay(kept)).done.calls[0]!.status).toBe('as kept');
  const { sheet, done } = await replay('calls:\n  - call: broken\n    must: { be: 1 }\n');
  const { text } = updateSheet(sheet, done);
  expect(text).toContain('(reference …)');
  expect((await replay(text)).done.calls[0]!.status).toBe('as kept');
});

test('sheets are not read or written through links out of the folder', async () => {
  const root = freshFolder('sheet-links');
  const [inside, outside] = [join(root, 'inside'), join(root, 'outside')];
  mkdirSync(join(inside, 'own'), { recursive: true });
  mkdirSync(outside);
  writeFileSync(join(outside, 'a.calls.yaml'), 'calls: []\n');
  symlinkSync(outside, join(inside, 'away'));
  symlinkSync(join(outside, 'a.calls.yaml'), join(inside, 'a.calls.yaml'));
  const store = sheetFiles(inside);
  await store.save('own/b.calls.yaml', 'calls: []\n');
  expect(await store.load('own/b.calls.yaml')).toBe('calls: []\n');
  for (const name of ['away/a.calls.yaml', 'a.calls.yaml', '../outside/a.calls.yaml']) {
    await expect((async () => store.load(name))()).rejects.toMatchObject({ code: 'JEXO_USAGE' });
    await expect((async () => store.save(name, 'x'))()).rejects.toMatchObject({ code: 'JEXO_USAGE' });
  }
});
