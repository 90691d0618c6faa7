import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { connect } from '../support/connect.js';
import { readModule } from '../../src/sources/functions/read-module.js';
import { snakeCase } from '../../src/sources/functions/snake-case.js';
import type { FunctionShape } from '../../src/sources/functions/shape.js';
import { freshFolder, hives } from '../support/command-line.js';

const folder = freshFolder('types');
let count = 0;

function read(source: string, extension = 'ts') {
  const file = join(folder, `module${++count}.${extension}`);
  writeFileSync(file, source);
  return { ...readModule(file), file };
}
function only(source: string): FunctionShape {
  const { functions, omitted } = read(source);
  expect(omitted).toEqual([]);
  expect(functions).toHaveLength(1);
  return functions[0]!;
}
const text = { type: 'string' };
const number = { type: 'number' };

test.each([
  ['number', { type: 'object', properties: { result: number }, required: ['result'] }, 'result'],
  ['Promise<string[]>', { type: 'object', properties: { result: { type: 'array', items: text } }, required: ['result'] }, 'result'],
  ['number | undefined', { type: 'object', properties: { result: { type: ['number', 'null'] } }, required: ['result'] }, 'result'],
  [
    '{ a: number } | undefined',
    {
      type: 'object',
      properties: { result: { type: ['object', 'null'], properties: { a: number }, required: ['a'] } },
      required: ['result'],
    },
    'result',
  ],
  ['AsyncIterable<number>', { type: 'object', properties: { result: { type: 'array', items: number } }, required: ['result'] }, 'items'],
  [
    'AsyncGenerator<Date>',
    { type: 'object', properties: { result: { type: 'array', items: { type: 'string', format: 'date-time' } } }, required: ['result'] },
    'items',
  ],
  ['Generator<number>', { type: 'object', properties: { result: { type: 'array', items: number } }, required: ['result'] }, 'result'],
  ['Error', { type: 'object', properties: { name: text, message: text }, required: ['name', 'message'] }, 'object'],
  ['{ a: number; weigh(): number }', { type: 'object', properties: { a: number }, required: ['a'] }, 'object'],
  ['{ toJSON(): { kg: number } }', { type: 'object', properties: { kg: number }, required: ['kg'] }, 'object'],
  ['Blob', undefined, 'media'],
  ['unknown', undefined, 'nothing'],
  ['{ a: number }', { type: 'object', properties: { a: number }, required: ['a'] }, 'object'],
  ['Promise<{ a: number }>', { type: 'object', properties: { a: number }, required: ['a'] }, 'object'],
  ['Promise<void>', undefined, 'nothing'],
  ['undefined', undefined, 'nothing'],
])('a return type of %s', (type, schema, as) => {
  const shape = only(`export function f(): ${type} { return undefined as never; }`);
  expect(shape.output).toEqual(schema);
  expect(shape.returns.as).toBe(as);
});

test.each([
  ['visit: (hive: string) => void', /visit is a callback/],
  ['hive: { weigh: () => number }', /hive\.weigh is a callback/],
  ['key: symbol', /key is a symbol/],
  ['m: Map<{ a: 1 }, string>', /m is a Map whose keys are neither strings nor numbers/],
  ['hive: { weigh(): number }', /hive\.weigh is a callback/],
  ['answer: Response', /answer has the type Response/],
  ['either: Date | URL', /either is .*, and JSON can't distinguish/],
  ['nothing: never', /nothing has the type never/],
  ['deep: { a: { b: symbol }[] }', /deep\.a\.b is a symbol/],
  ['this: { hive: string }, n: number', /needs a this of the type/],
])('%s cannot be expressed, and is named with file, line and parameter', (parameter, why) => {
  const { functions, omitted } = read(`export function good(): number { return 1 }\n\nexport function bad(${parameter}): void {}\n`);
  expect(functions.map(({ name }) => name)).toEqual(['good']);
  expect(omitted).toEqual([
    { name: 'bad', where: expect.stringMatching(/^module\d+\.ts:3$/), why: expect.stringMatching(why), next: expect.stringMatching(/\.$/) },
  ]);
});

test('a type parameter takes what its bound takes, and anything without one', () => {
  const { functions, omitted } = read(`
    export function first<T>(list: T[]): T { return list[0]! }
    export function longest<T extends { length: number }>(list: T[]): T { return list[0]! }
    export function pick<K extends 'a' | 'b' = 'a'>(key: K): void {}`);
  expect(omitted).toEqual([]);
  expect(functions.map(({ input }) => input.properties)).toEqual([
    { list: { type: 'array', items: {} } },
    { list: { type: 'array', items: { type: 'object', properties: { length: number }, required: ['length'] } } },
    { key: { type: 'string', enum: ['a', 'b'] } },
  ]);
});

test('what is optional and cannot be expressed is omitted and reported', () => {
  const { functions, omitted } = read(
    `export function sort(list: number[], by?: (a: number) => number, options: { strict?: boolean; on?: () => void } = {}): void {}`,
  );
  expect(functions[0]!.input.properties).toEqual({
    list: { type: 'array', items: number },
    options: { type: 'object', properties: { strict: { type: 'boolean' } }, default: {} },
  });
  expect(functions[0]!.parameters.map(({ from }) => from)).toEqual(['property', 'nothing', 'property']);
  expect(omitted).toMatchObject([
    { name: 'sort by', partial: true, why: expect.stringContaining('is a callback') },
    { name: 'sort options.on', partial: true },
  ]);
});

test('comments become descriptions, tags become keywords, initialisers become defaults', () => {
  const shape = only(`
    /** Weighs a hive.
     *  Second line.
     *  @param hive which one  @pattern ^[A-Z]{2}-\\d{2}$  @example "MR-03"
     *  @param times - how often
     *  @minimum 1
     *  @integer
     *  @param mode how
     *  @returns kilograms
     *  @readOnly
     *  @title Weigh a hive
     *  @tags scales, daily */
    export async function weigh(hive: string, times: number = 3, mode: 'net' | 'gross' = 'net', at = -1.5, tags: string[] = ['a']): Promise<number> { return 1 }`);
  expect(shape).toMatchObject({
    name: 'weigh',
    title: 'Weigh a hive',
    description: 'Weighs a hive.\nSecond line.',
    annotations: { readOnlyHint: true },
    tags: ['scales', 'daily'],
  });
  expect(shape.input).toEqual({
    type: 'object',
    properties: {
      hive: { ...text, description: 'which one', pattern: '^[A-Z]{2}-\\d{2}$', examples: ['MR-03'] },
      times: { type: 'integer', description: 'how often', minimum: 1, default: 3 },
      mode: { type: 'string', enum: ['net', 'gross'], description: 'how', default: 'net' },
      at: { ...number, default: -1.5 },
      tags: { type: 'array', items: text, default: ['a'] },
    },
    required: ['hive'],
    additionalProperties: false,
  });
  expect(shape.output).toMatchObject({ properties: { result: { ...number, description: 'kilograms' } } });
});

test('what is exported is offered, however it is written', () => {
  const { functions } = read(`
    export const arrow = (a: number): number => a;
    export async function later(): Promise<void> {}
    function hidden() {}
    export { hidden as shown };
    export default function named() {}
    export const notAFunction = 3;
    export function _private() {}
    /** @internal */ export function internal() {}
    export type T = string; export interface I {}`);
  expect(functions.map(({ name }) => name).sort()).toEqual(['arrow', 'later', 'named', 'shown']);
  expect(functions.find(({ name }) => name === 'named')?.export).toBe('default');
});

test('of overloads the union is offered, and all are described', () => {
  const shape = only(`
    /** Weighs one hive. And more. */ export function f(a: string): void;
    /** Weighs one in a unit. */ export function f(a: string, b: number): void;
    export function f(a: string, b?: number): void {}`);
  expect(shape.input).toMatchObject({ properties: { a: text, b: number }, required: ['a'] });
  expect(shape.description).toBe(
    'Weighs one in a unit.\nIt has 2 forms:\n- f(a: string): void: Weighs one hive.\n- f(a: string, b: number): void: Weighs one in a unit.',
  );
});

test('of overloads, one that takes what another takes stands for both, and one that cannot be expressed is passed over', () => {
  expect(
    only(`export function f(a: 'x'): void; export function f(a: string): void; export function f(a: string): void {}`).input,
  ).toMatchObject({
    properties: { a: text },
  });
  expect(
    only(
      `export function f(a: string): void; export function f(a: string, then: () => void): void; export function f(a: string, then?: () => void): void {}`,
    ).input.properties,
  ).toEqual({ a: text });
});

test('a destructured object is the input itself', () => {
  const shape = only(`export function f({ hive, frames = 10 }: { hive: string;\n/** how many @maximum 20 */\nframes?: number }): void {}`);
  expect(shape.input).toEqual({
    type: 'object',
    properties: { hive: text, frames: { ...number, description: 'how many', maximum: 20, default: 10 } },
    required: ['hive'],
    additionalProperties: false,
  });
});

test('a type that contains itself is written once', () => {
  const shape = only(`interface Queen { line: string; mother?: Queen } export function f(queen: Queen): void {}`);
  expect(shape.input).toMatchObject({
    properties: { queen: { $ref: '#/$defs/Queen' } },
    $defs: { Queen: { type: 'object', properties: { line: text, mother: { $ref: '#/$defs/Queen' } }, required: ['line'] } },
  });
});

test('JavaScript is read by its JSDoc types', () => {
  const { functions } = read(`/** @param {number} a one @param {'x' | 'y'} [b] two */\nexport function f(a, b) { return a }`, 'js');
  expect(functions[0]?.input).toMatchObject({ properties: { a: number, b: { enum: ['x', 'y'] } }, required: ['a'] });
});

test('types are followed into other files', () => {
  writeFileSync(join(folder, 'places.ts'), `/** An apiary. */ export interface Apiary {\n /** Two letters. */\n code: string }`);
  const shape = only(`import type { Apiary } from './places'; export function f(apiary: Apiary): void {}`);
  expect(shape.input).toMatchObject({ properties: { apiary: { properties: { code: { ...text, description: 'Two letters.' } } } } });
});

test('the schema of a type changes when the type does', () => {
  const before = only('export function f(a: { b: string }): void {}');
  const after = only('export function f(a: { b: number }): void {}');
  expect(after.input).not.toEqual(before.input);
});

test.each([
  ['mixSyrup', 'mix_syrup'],
  ['mitesPer100', 'mites_per_100'],
  ['parseURL', 'parse_url'],
  ['getHTTPData', 'get_http_data'],
  ['sha256Of', 'sha256_of'],
  ['already_snake', 'already_snake'],
  ['$dollar', 'dollar'],
  ['A', 'a'],
])('%s is called %s', (name, expected) => {
  expect(snakeCase(name)).toBe(expected);
});

test.each(['5.9.3', '6.0.3', '7.0.2', 'none'])("a project's own compiler (%s) is never loaded", async (version) => {
  const project = freshFolder('project');
  if (version !== 'none') {
    const own = join(project, 'node_modules', 'typescript');
    mkdirSync(own, { recursive: true });
    writeFileSync(join(own, 'package.json'), JSON.stringify({ name: 'typescript', version, main: 'index.js' }));
    writeFileSync(join(own, 'index.js'), 'throw new Error("the compiler of the project was loaded")');
  }
  writeFileSync(
    join(project, 'tsconfig.json'),
    JSON.stringify({ compilerOptions: { strict: true, module: 'nodenext', target: 'esnext', unheardOf: true } }),
  );
  writeFileSync(join(project, 'hives.ts'), readFileSync(hives));
  const client = await connect(join(project, 'hives.ts'));
  expect((await client.call('mix_syrup', { colonies: 3 })).structuredContent).toEqual({ sugarKg: 3, waterL: 3 });
  await client.close();
});

test('arguments arrive in order and in kind, and answers leave as JSON', async () => {
  const file = join(folder, 'kinds.ts');
  writeFileSync(
    file,
    `export function kinds(at: Date, tags: Set<string>, counts: Map<string, number>, raw: Uint8Array, ...more: number[]) {
      return { day: at.getUTCDate(), tags: tags.size, sum: [...counts.values()].reduce((a, b) => a + b, 0), bytes: raw.length, more: more.length, at, counts, tagged: tags, raw };
    }
    export function stop(signal: AbortSignal, n = 2): boolean { return signal.aborted || n > 3 }`,
  );
  const client = await connect(file);
  const { structuredContent } = await client.call('kinds', {
    at: '2026-06-03T00:00:00Z',
    tags: ['a', 'b'],
    counts: { x: 1, y: 2 },
    raw: 'aGl2ZQ==',
    more: [1, 2, 3],
  });
  expect(structuredContent).toEqual({
    day: 3,
    tags: 2,
    sum: 3,
    bytes: 4,
    more: 3,
    at: '2026-06-03T00:00:00.000Z',
    counts: { x: 1, y: 2 },
    tagged: ['a', 'b'],
    raw: 'aGl2ZQ==',
  });
  expect((await client.call('stop')).structuredContent).toEqual({ result: false });
  await client.close();
});
