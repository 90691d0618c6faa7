import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { readModule } from '../../src/sources/functions/read-module.js';
import type { Client } from '../../src/index.js';
import { connect } from '../support/connect.js';
import { freshFolder } from '../support/command-line.js';

/**
 * A table of types: what schema each gives as a parameter, and a value that goes in as JSON, is what the function expects
 * (`is`), and comes back as the same JSON (or as `back`).
 */
interface Row {
  readonly type: string;
  readonly schema: object;
  readonly value: unknown;
  /** Judges `v` inside the function. */
  readonly is?: string;
  readonly back?: unknown;
  /** What it looks like as an answer, where that differs. */
  readonly out?: object;
  readonly before?: string;
}
const text = { type: 'string' };
const number = { type: 'number' };
const bool = { type: 'boolean' };
const list = (items: object) => ({ type: 'array', items });
const object = (properties: object, required: string[] = Object.keys(properties)) => ({
  type: 'object',
  properties,
  ...(required.length > 0 && { required }),
});
/** A date comes in with a time or without; it goes out with one. */
const formats = { anyOf: [{ format: 'date-time' }, { format: 'date' }] };
const date = { type: 'string', ...formats };
const goingOut = (schema: object): object =>
  JSON.parse(JSON.stringify(schema).replaceAll(JSON.stringify(formats).slice(1, -1), '"format":"date-time"')) as object;
const base64 = { type: 'string', contentEncoding: 'base64' };
const day = '2026-06-03T00:00:00.000Z';
const bytes = 'aGl2ZQ==';
const row = (type: string, schema: object, value: unknown, more: Omit<Row, 'type' | 'schema' | 'value'> = {}): Row => ({
  type,
  schema,
  value,
  ...more,
});

const rows: readonly Row[] = [
  // plain
  row('string', text, 'MR-03', { is: "typeof v === 'string'" }),
  row('number', number, 4.5, { is: "typeof v === 'number'" }),
  row('boolean', bool, true),
  row('null', { type: 'null' }, null, { is: 'v === null' }),
  row('unknown', {}, { any: ['thing'] }),
  row('any', {}, 7),
  row('object', { type: 'object' }, { free: 1 }),
  row('{}', { type: 'object', properties: {} }, { free: 1 }),
  // literals, unions, enums
  row("'spring' | 'autumn'", { type: 'string', enum: ['spring', 'autumn'] }, 'autumn'),
  row('1 | 2 | 3', { type: 'number', enum: [1, 2, 3] }, 2),
  row("'one'", { const: 'one' }, 'one'),
  row('42', { const: 42 }, 42),
  row('true', { const: true }, true),
  row('false', { const: false }, false),
  row('string | null', { type: ['string', 'null'] }, null),
  row("'a' | 'b' | null", { type: ['string', 'null'], enum: ['a', 'b', null] }, 'b'),
  row('string | number', { anyOf: [text, number] }, 3),
  row('string | number | boolean', { anyOf: [bool, text, number] }, false),
  row("'auto' | number", { anyOf: [{ type: 'string', enum: ['auto'] }, number] }, 'auto'),
  row('string | string[]', { anyOf: [text, list(text)] }, ['a']),
  row('Season', { type: 'string', enum: ['spring', 'autumn'] }, 'spring', {
    before: "export enum Season { Spring = 'spring', Autumn = 'autumn' }",
    is: 'v === Season.Spring',
  }),
  row(
    'Level',
    {
      type: 'number',
      oneOf: [
        { const: 0, title: 'Low' },
        { const: 5, title: 'Watch' },
        { const: 6, title: 'Treat' },
      ],
    },
    5,
    { before: 'export enum Level { Low, Watch = 5, Treat }', is: 'v === Level.Watch' },
  ),
  row('keyof Weights', { type: 'string', enum: ['gross', 'net'] }, 'net', { before: 'interface Weights { gross: number; net: number }' }),
  row("Exclude<'a' | 'b' | 'c', 'c'>", { type: 'string', enum: ['a', 'b'] }, 'a'),
  row('typeof places[number]', { type: 'string', enum: ['MR', 'UC'] }, 'UC', { before: "const places = ['MR', 'UC'] as const;" }),
  // texts with a form
  row('`${string}-${number}`', { type: 'string', pattern: String.raw`^.*--?\d+(?:\.\d+)?$` }, 'MR-03'),
  row('`h${1 | 2}`', { type: 'string', enum: ['h1', 'h2'] }, 'h2'),
  row(
    "`${'MR' | 'UC'}-${string}`",
    {
      anyOf: [
        { type: 'string', pattern: '^MR-.*$' },
        { type: 'string', pattern: '^UC-.*$' },
      ],
    },
    'UC-1',
  ),
  row('HiveId', text, 'MR-03', { before: "type HiveId = string & { readonly __brand: 'HiveId' };" }),
  row('Kg', number, 31, { before: 'type Kg = number & { readonly [unit]: true }; declare const unit: unique symbol;' }),
  // lists
  row('string[]', list(text), ['a', 'b']),
  row('readonly string[]', list(text), []),
  row('number[][]', list(list(number)), [[1], [2, 3]]),
  row('Array<number | null>', list({ type: ['number', 'null'] }), [1, null]),
  row('(string | number)[]', list({ anyOf: [text, number] }), ['a', 1]),
  row('{ hive: string }[]', list(object({ hive: text })), [{ hive: 'MR-03' }]),
  row('[string, number]', { type: 'array', prefixItems: [text, number], minItems: 2, items: false, maxItems: 2 }, ['a', 1]),
  row('[string, number?]', { type: 'array', prefixItems: [text, number], minItems: 1, items: false, maxItems: 2 }, ['a'], {
    out: { type: 'array', prefixItems: [text, { type: ['number', 'null'] }], minItems: 1, items: false, maxItems: 2 },
  }),
  row('[string, ...number[]]', { type: 'array', prefixItems: [text], minItems: 1, items: number }, ['a', 1, 2]),
  row('[lat: number, lon: number]', { type: 'array', prefixItems: [number, number], minItems: 2, items: false, maxItems: 2 }, [51, 1]),
  row('readonly [Date, string]', { type: 'array', prefixItems: [date, text], minItems: 2, items: false, maxItems: 2 }, [day, 'x'], {
    is: 'v[0] instanceof Date',
  }),
  row('Iterable<string>', list(text), ['a', 'b'], { is: '[...v].length === 2' }),
  row('ArrayLike<number>', list(number), [1, 2], { is: 'v.length === 2' }),
  // objects
  row('{ hive: string; frames?: number }', object({ hive: text, frames: number }, ['hive']), { hive: 'MR-03' }),
  row('{ at: string | undefined }', object({ at: text }, []), {}),
  row('{ place: { apiary: string } }', object({ place: object({ apiary: text }) }), { place: { apiary: 'MR' } }),
  row('{ readonly a: 1; "odd key": string }', object({ a: { const: 1 }, 'odd key': text }), { a: 1, 'odd key': 'x' }),
  row('Record<string, number>', { type: 'object', additionalProperties: number }, { a: 1 }),
  row('{ [hive: string]: boolean }', { type: 'object', additionalProperties: bool }, { 'MR-03': true }),
  row('Record<number, string>', { type: 'object', additionalProperties: text }, { 1: 'x' }),
  row('{ name: string; [more: string]: unknown }', { ...object({ name: text }), additionalProperties: {} }, { name: 'a', b: 2 }),
  row('Record<`h-${string}`, number>', { type: 'object', patternProperties: { '^h-.*$': number } }, { 'h-1': 2 }),
  row("Record<'a' | 'b', number>", object({ a: number, b: number }), { a: 1, b: 2 }),
  row('Partial<{ a: string }>', object({ a: text }, []), {}),
  row('Required<{ a?: string }>', object({ a: text }), { a: 'x' }),
  row("Pick<{ a: string; b: number }, 'a'>", object({ a: text }), { a: 'x' }),
  row("Omit<{ a: string; b: number }, 'a'>", object({ b: number }), { b: 1 }),
  row('Readonly<{ a: string[] }>', object({ a: list(text) }), { a: [] }),
  row('{ a: string } & { b: number }', object({ a: text, b: number }), { a: 'x', b: 1 }),
  row(
    'Hive',
    object({ queen: object({ year: number }), id: text }),
    { id: 'MR-03', queen: { year: 2025 } },
    {
      before: 'interface Queen { year: number } interface Named { id: string } interface Hive extends Named { queen: Queen }',
    },
  ),
  row(
    'Page<string>',
    object({ items: list(text), next: text }, ['items']),
    { items: ['a'] },
    {
      before: 'interface Page<T> { items: T[]; next?: string }',
    },
  ),
  row(
    'Pair<Date>',
    object({ a: date, b: date }),
    { a: day, b: day },
    {
      before: 'type Pair<T> = { a: T; b: T };',
      is: 'v.b instanceof Date',
    },
  ),
  row(
    'Reading',
    object({ kg: number, hive: text }),
    { kg: 31, hive: 'MR-03' },
    {
      before: 'class Reading { constructor(public kg: number, public hive: string, private secret = 1) {} }',
    },
  ),
  // discriminated unions
  row(
    "{ kind: 'x'; a: number } | { kind: 'y'; b: string }",
    { anyOf: [object({ kind: { const: 'x' }, a: number }), object({ kind: { const: 'y' }, b: text })] },
    { kind: 'y', b: 'z' },
  ),
  row(
    "{ kind: 'seen'; at: Date } | { kind: 'planned'; on: string }",
    { anyOf: [object({ kind: { const: 'seen' }, at: date }), object({ kind: { const: 'planned' }, on: text })] },
    { kind: 'seen', at: day },
    { is: "v.kind === 'seen' && v.at instanceof Date" },
  ),
  // recursion
  row(
    'Node',
    { $ref: '#/$defs/Node' },
    { name: 'a', more: [{ name: 'b', more: [] }] },
    { before: 'interface Node { name: string; more: Node[] }' },
  ),
  row(
    'Visit',
    { $ref: '#/$defs/Visit' },
    { at: day, then: { at: day } },
    {
      before: 'interface Visit { at: Date; then?: Visit }',
      is: 'v.then!.at instanceof Date',
    },
  ),
  row(
    'Json',
    { $ref: '#/$defs/Json' },
    { a: [1, 'x', null, { b: true }] },
    {
      before: 'type Json = string | number | boolean | null | Json[] | { [key: string]: Json };',
    },
  ),
  // values that are not JSON
  row('Date', date, day, { is: 'v instanceof Date' }),
  row('Date | null', { type: ['string', 'null'], ...formats }, day, { is: 'v instanceof Date' }),
  row('Date | number', { anyOf: [number, date] }, day, { is: 'v instanceof Date' }),
  row('Date | string', text, day, { is: "typeof v === 'string'", out: { anyOf: [text, date] } }),
  row('Date[]', list(date), [day], { is: 'v[0] instanceof Date' }),
  row('{ from: Date; to?: Date }', object({ from: date, to: date }, ['from']), { from: day }, { is: 'v.from instanceof Date' }),
  row('Record<string, Date>', { type: 'object', additionalProperties: date }, { a: day }, { is: 'v.a instanceof Date' }),
  row('URL', { type: 'string', format: 'uri' }, 'https://hives.example/MR', { is: 'v instanceof URL' }),
  row('RegExp', { type: 'string', format: 'regex' }, '^MR-', { is: "v.test('MR-03')" }),
  row('bigint', { type: 'string', pattern: String.raw`^-?\d+$` }, '9007199254740993', { is: 'v === 9007199254740993n' }),
  row('Uint8Array', base64, bytes, { is: 'v.length === 4' }),
  row('ArrayBuffer', base64, bytes, { is: 'v.byteLength === 4' }),
  row('Float64Array', list(number), [1.5, 2], { is: 'v instanceof Float64Array' }),
  row('Uint16Array', list(number), [1, 2], { is: 'v instanceof Uint16Array' }),
  row('Set<string>', { ...list(text), uniqueItems: true }, ['a', 'b'], { is: 'v instanceof Set' }),
  row('ReadonlySet<Date>', { ...list(date), uniqueItems: true }, [day], { is: '[...v][0] instanceof Date' }),
  row('Map<string, number>', { type: 'object', additionalProperties: number }, { a: 1 }, { is: "v.get('a') === 1" }),
  row('Map<number, Date>', { type: 'object', additionalProperties: date }, { 7: day }, { is: 'v.get(7) instanceof Date' }),
  row(
    'Map<string, Set<string>>',
    { type: 'object', additionalProperties: { ...list(text), uniqueItems: true } },
    { a: ['x'] },
    {
      is: "v.get('a')!.has('x')",
    },
  ),
  row('string[] | Set<string>', list(text), ['a'], {
    is: 'Array.isArray(v)',
    out: { anyOf: [list(text), { ...list(text), uniqueItems: true }] },
  }),
  row(
    '{ photo: Blob }',
    object({ photo: object({ data: base64, mimeType: text }, ['data']) }),
    { photo: { data: bytes, mimeType: 'image/png' } },
    {
      is: "v.photo instanceof Blob && v.photo.type === 'image/png'",
    },
  ),
  row(
    '{ file: File }',
    object({ file: object({ data: base64, mimeType: text, name: text }, ['data', 'name']) }),
    { file: { data: bytes, name: 'a.txt' } },
    { is: "v.file.name === 'a.txt'" },
  ),
];

const folder = freshFolder('signatures');
let count = 0;
function read(source: string) {
  const file = join(folder, `signatures${++count}.ts`);
  writeFileSync(file, source);
  return { ...readModule(file), file };
}

const source = [
  ...new Set(rows.map(({ before }) => before ?? '')),
  ...rows.map(
    ({ type, is = 'true' }, index) =>
      `export function f${index}(v: ${type}): ${type} { if (!(${is})) throw new Error('came as ' + typeof v); return v }`,
  ),
].join('\n');
const all = read(source);
let client: Client;
beforeAll(async () => void (client = await connect(all.file)));
afterAll(() => client.close());

test('the table has at least eighty rows, and every one is offered', () => {
  expect(rows.length).toBeGreaterThanOrEqual(80);
  expect(all.omitted).toEqual([]);
  expect(all.functions).toHaveLength(rows.length);
});

describe.each(rows.map((each, index) => [each.type, each, index] as const))('%s', (_type, each, index) => {
  const shape = all.functions.find((found) => found.export === `f${index}`)!;

  test('has this schema, as a parameter and as an answer', () => {
    const { $defs: _defs, ...input } = shape.input;
    expect(input).toEqual({
      type: 'object',
      properties: { v: each.schema },
      ...(/undefined$/.test(each.type) ? {} : { required: ['v'] }),
      additionalProperties: false,
    });
    const out = goingOut(each.out ?? each.schema);
    if (Object.keys(each.schema).length === 0) return expect(shape.output).toBeUndefined();
    const { $defs: _out, ...output } = shape.output!;
    expect(output).toEqual(
      (out as { type?: string }).type === 'object' ? out : { type: 'object', properties: { result: out }, required: ['result'] },
    );
  });

  test('takes a value and gives it back', async () => {
    const answer = await client.call(shape.name, { v: each.value } as never);
    expect(answer.isError).toBeFalsy();
    const expected = 'back' in each ? each.back : each.value;
    if (shape.output === undefined) expect(JSON.parse((answer.content[0] as { text: string }).text)).toEqual(expected);
    else expect(shape.returns.as === 'object' ? answer.structuredContent : answer.structuredContent?.result).toEqual(expected);
  });
});

test('a change of any type changes its schema', () => {
  const mutations = ['(T)[]', '{ mutated: T }', '[T]', 'T extends never ? never : Record<string, T>'];
  const mutated = read(
    [
      ...new Set(rows.map(({ before }) => before ?? '')),
      ...rows.flatMap(({ type }, index) =>
        mutations.map((mutation, at) => `export function m${index}_${at}(v: ${mutation.replaceAll('T', () => `(${type})`)}): void {}`),
      ),
    ].join('\n'),
  );
  for (const [index] of rows.entries()) {
    const own = all.functions.find((found) => found.export === `f${index}`)!;
    for (const [at, mutation] of mutations.entries()) {
      const other = mutated.functions.find((found) => found.export === `m${index}_${at}`);
      expect([rows[index]!.type, mutation, other?.input]).not.toEqual([rows[index]!.type, mutation, own.input]);
    }
  }
});
