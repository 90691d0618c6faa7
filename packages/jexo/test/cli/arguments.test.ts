import fc from 'fast-check';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { readPairs } from '../../src/inspect/input-text.js';
import { defineServer, tool } from '../../src/index.js';
import { connect } from '../support/connect.js';
import { cooperative, freshFolder, jexo } from '../support/command-line.js';

const folder = freshFolder('arguments');
function file(name: string, text: string | Buffer): string {
  writeFileSync(join(folder, name), text);
  return join(folder, name);
}

const schema = {
  type: 'object',
  $defs: { reading: { type: 'object', properties: { hive: { type: 'string' }, kg: { type: 'number' } } } },
  properties: {
    rows: { type: 'array', items: { $ref: '#/$defs/reading' } },
    place: { anyOf: [{ type: 'object', properties: { apiary: { type: 'string' }, row: { type: 'integer' } } }, { type: 'null' }] },
    'frost.months': { type: 'integer' },
    grid: { type: 'array', items: { type: 'array', items: { type: 'number' } } },
    tags: { type: 'array', items: { type: 'string' } },
    photo: { type: 'string', contentEncoding: 'base64' },
  },
} as const;

describe('arguments', () => {
  test.each([
    [
      'items by number, in brackets or behind a dot',
      ['rows[0].kg=31', 'rows.1.kg=28', 'rows[1].hive=SM-01'],
      { rows: [{ kg: 31 }, { kg: 28, hive: 'SM-01' }] },
    ],
    ['one object where a list is wanted', ['rows.kg=31', 'rows.hive=MR-03'], { rows: [{ kg: 31, hive: 'MR-03' }] }],
    ['the next item', ['rows[].kg=31', 'rows[].kg=28'], { rows: [{ kg: 31 }, { kg: 28 }] }],
    ['fields behind a union', ['place.apiary=MR', 'place.row=2'], { place: { apiary: 'MR', row: 2 } }],
    ['a name with a dot of its own', ['frost.months=4'], { 'frost.months': 4 }],
    ['lists of lists', ['grid[0][0]=1', 'grid[0][1]=2', 'grid[1]=[3]'], { grid: [[1, 2], [3]] }],
    ['a key given twice', ['tags=calm', 'tags=strong'], { tags: ['calm', 'strong'] }],
    ['a text that begins with @', ['place.apiary=@@MR'], { place: { apiary: '@MR' } }],
  ])('%s', (_, pairs, input) => {
    expect(readPairs(pairs, schema)).toEqual(input);
  });

  test.each([
    ['rows[2].kg=31', /only 0 before it/],
    ['place.apiary.x=1', undefined],
    ['photo=@hive.png', /cannot be read: there are no files here/],
  ])('%s without a list to count in, a record or a file', (pair, wrong) => {
    const read = () => readPairs([...(pair.startsWith('place') ? ['place.apiary=MR'] : []), pair], schema);
    expect(read).toThrow(wrong ?? /already has a plain value/);
  });

  test('any nested value is made again from its paths', () => {
    const leaf = fc.oneof(fc.integer(), fc.constantFrom('calm', 'strong', 'a b', 'x=y'));
    const name = fc.stringMatching(/^[a-z]{1,6}$/);
    const { tree } = fc.letrec<{ tree: unknown }>((tie) => ({
      tree: fc.oneof({ maxDepth: 3 }, leaf, fc.dictionary(name, tie('tree'), { minKeys: 1, maxKeys: 3 })),
    }));
    const pathsOf = (value: unknown, path: string): string[] =>
      typeof value === 'object' && value !== null
        ? Object.entries(value).flatMap(([key, inner]) => pathsOf(inner, path === '' ? key : `${path}.${key}`))
        : [`${path}=${String(value)}`];
    fc.assert(
      fc.property(fc.dictionary(name, tree, { minKeys: 1, maxKeys: 4 }), (value) => {
        expect(readPairs(pathsOf(value, ''), { type: 'object' })).toEqual(JSON.parse(JSON.stringify(value)));
      }),
    );
  });
});

test('a file is sent as bytes or text, and the image that comes back is saved', async () => {
  const bytes = Buffer.from([137, 80, 78, 71, 0, 255]);
  const server = file(
    'photos.ts',
    `import { answer, defineServer, tool } from 'jexo';
export default defineServer({ name: 'photos', version: '1', offers: [
  tool('show', { input: { type: 'object', properties: { photo: { type: 'string', contentEncoding: 'base64' }, note: { type: 'string' } } } },
    ({ photo, note }) => answer({ content: [{ type: 'text', text: note }, { type: 'image', data: photo, mimeType: 'image/png' }] })),
] });`,
  );
  const out = join(folder, 'back.png');
  const done = await jexo(['call', server, 'show', `photo=@${file('hive.png', bytes)}`, `note=@${file('note.txt', 'calm')}`, '--out', out]);
  expect([done.code, done.stdout]).toEqual([0, 'calm\n[image image/png, 6 bytes]\n']);
  expect(readFileSync(out)).toEqual(bytes);
  expect(done.stderr).toContain('back.png: 6 bytes');
  const missing = await jexo(['call', server, 'show', 'photo=@nowhere.png']);
  expect([missing.code, missing.stderr]).toEqual([2, expect.stringContaining('the file nowhere.png cannot be read')]);
  const nothing = await jexo(['call', join(cooperative, 'hives.ts'), 'winter_stores', 'strength=weak', 'frostMonths=3', '--out', out]);
  expect([nothing.code, nothing.stderr]).toEqual([1, expect.stringContaining('no image, sound or file')]);
});

test('a server’s questions are answered beforehand; what is missing is named', async () => {
  const apiary = join(cooperative, 'apiary.ts');
  const done = await jexo(['call', apiary, 'move_hive', 'hive=MR-03', '--answer', 'to=SM', '--yes', '--json']);
  expect(done.code).toBe(0);
  expect(JSON.parse(done.stdout)).toMatchObject({ structuredContent: { hive: 'MR-03', to: 'Saltmarsh' } });
  const unsure = await jexo(['call', apiary, 'move_hive', 'hive=MR-03', '--answer', 'to=SM']);
  expect([unsure.code, unsure.stderr]).toEqual([1, expect.stringContaining('To answer, add --yes')]);
  const silent = await jexo(['call', apiary, 'move_hive', 'hive=MR-03', '--yes']);
  expect([silent.code, silent.stderr]).toEqual([1, expect.stringContaining('--answer to=…')]);
});

test('what a started server writes to stderr is shown', async () => {
  const noisy = file(
    'noisy.ts',
    "console.error('the scales are warming up');\n/** Weighs. */\nexport const weigh = (): string => '31 kg';\n",
  );
  const { code, stdout, stderr } = await jexo([
    'call',
    'weigh',
    '--',
    process.execPath,
    join(cooperative, '../../packages/jexo/dist/cli.mjs'),
    'serve',
    noisy,
  ]);
  expect([code, stdout]).toEqual([0, '31 kg\n']);
  expect(stderr).toContain('the scales are warming up');
});

test('a list shows what is required, and the fields of objects in lists and unions', async () => {
  const server = file(
    'nested.ts',
    `/** Books inspections.
 *  @param rows what was seen */
export function book(rows: { hive: string; kg?: number }[], place?: { kind: 'apiary'; code: string } | { kind: 'field'; row: number }): number { return rows.length }`,
  );
  const { stdout } = await jexo(['list', server]);
  const lines = stdout.split('\n').map((line) => line.trim().replaceAll(/\s+/g, ' '));
  expect(lines).toEqual(
    expect.arrayContaining([
      expect.stringMatching(/^rows list of object required; what was seen/),
      expect.stringMatching(/^rows\[\]\.hive string required/),
      expect.stringMatching(/^rows\[\]\.kg number optional/),
      expect.stringMatching(/^place .* optional/),
      expect.stringMatching(/^place\.code string required; in form "apiary"/),
      expect.stringMatching(/^place\.row number required; in form "field"/),
    ]),
  );
});

test('a confirmation that names a field the tool lacks is refused where it is defined', () => {
  const move = () =>
    tool('move', { input: { type: 'object', properties: { hive: { type: 'string' } } }, confirm: 'Move {hvie}?' }, () => 1);
  expect(move).toThrow(/names \{hvie\}.*does not have/);
});

test('a value that fits no form of a union is told what the nearest one wants', async () => {
  const shape = (kind: string, more: object) => ({
    type: 'object',
    properties: { kind: { const: kind }, ...more },
    required: ['kind', ...Object.keys(more)],
    additionalProperties: false,
  });
  const client = await connect(
    defineServer({
      name: 'lots',
      version: '1',
      offers: [
        tool(
          'book',
          {
            input: {
              type: 'object',
              properties: {
                place: {
                  oneOf: [shape('apiary', { code: { type: 'string' } }), shape('field', { row: { type: 'integer' } }), shape('shed', {})],
                },
              },
            },
          },
          () => 'booked',
        ),
      ],
    }),
  );
  const { isError, content } = await client.call('book', { place: { kind: 'field', row: 'two' } });
  const [block] = content;
  const text = block?.type === 'text' ? block.text : '';
  expect(isError).toBe(true);
  expect(text).toContain('place.row: expected integer; got "two"');
  expect(text).not.toMatch(/anyOf|oneOf|code|shed/);
  await client.close();
});

test('schemas that lead back to themselves are listed and filled in, and end', async () => {
  const around = {
    type: 'object',
    properties: {
      list: { $ref: '#/$defs/list' },
      either: { $ref: '#/$defs/either' },
      ...Object.fromEntries([...'abcdefghij'].map((name) => [name, { $ref: '#' }])),
    },
    $defs: {
      list: { type: 'array', items: { $ref: '#/$defs/list' } },
      either: { anyOf: Array.from({ length: 12 }, () => ({ $ref: '#/$defs/either' })) },
    },
  };
  expect(readPairs(['list[0]=[]', 'either.x=1', 'a.b.c.list=[[]]'], around as never)).toEqual({
    list: [[]],
    either: { x: 1 },
    a: { b: { c: { list: [[]] } } },
  });
  const server = file(
    'around.ts',
    `import { defineServer, tool } from 'jexo';
export default defineServer({ name: 'around', version: '1', offers: [tool('turn', { input: ${JSON.stringify(around)} }, () => 1)] });`,
  );
  const { code, stdout } = await jexo(['list', server]);
  expect(code).toBe(0);
  expect(stdout).toContain('and more: see the whole schema with --json');
  expect(stdout.split('\n').length).toBeLessThan(250);
});

test('each item of a list is told what its own nearest form wants', async () => {
  const form = (kind: string, field: string) => ({
    type: 'object',
    properties: { kind: { const: kind }, [field]: { type: 'integer' } },
    required: ['kind', field],
  });
  const input = {
    type: 'object',
    properties: { rows: { type: 'array', items: { anyOf: [form('field', 'row'), form('shed', 'shelf')] } } },
  };
  const client = await connect(defineServer({ name: 'rows', version: '1', offers: [tool('book', { input: input as never }, () => 1)] }));
  const { content } = await client.call('book', {
    rows: [
      { kind: 'field', row: 'x' },
      { kind: 'shed', shelf: 'y' },
    ],
  });
  expect(content).toMatchObject([{ text: expect.stringContaining('rows[0].row: expected integer') }]);
  expect(content).toMatchObject([{ text: expect.stringContaining('rows[1].shelf: expected integer') }]);
  expect(JSON.stringify(content)).not.toMatch(/rows\[0\]\.shelf|rows\[1\]\.row/);
  await client.close();
});
