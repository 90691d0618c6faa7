import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { connect, type Client } from '../../src/index.js';
import { freshFolder } from '../support/command-line.js';
import { textOf } from '../support/fake-api.js';

const folder = freshFolder('shapes');
let count = 0;

/** The functions of a module as tools. */
async function offered(source: string): Promise<{ client: Client; schemaOf: (name: string) => Record<string, Record<string, unknown>> }> {
  const file = join(folder, `module${++count}.ts`);
  writeFileSync(file, source);
  const client = await connect(file);
  const tools = await client.tools();
  return {
    client,
    schemaOf: (name) => tools.find((tool) => tool.name === name)!.inputSchema.properties as Record<string, Record<string, unknown>>,
  };
}

describe('a value that is not there', () => {
  test('is null in an answer, at the root and within lists', async () => {
    const { client } = await offered(`
      interface Hive { id: string; queen?: number }
      export function findHive(id: string): Hive | undefined { return id === 'MR-03' ? { id } : undefined; }
      export async function findLater(id: string): Promise<Hive | null | undefined> { return id === 'MR-03' ? { id } : undefined; }
      export function findName(id: string): string | undefined { return id === 'MR-03' ? 'Old oak' : undefined; }
      export function findAll(): (Hive | undefined)[] { return [{ id: 'MR-03' }, undefined]; }
      export function pair(): [string, number?] { return ['MR-03', undefined]; }
      export async function* each(): AsyncGenerator<string | undefined> { yield 'MR-03'; yield undefined; }
      export function inSet(): Set<number | undefined> { return new Set([1, undefined]); }
      export function record(): Record<string, Hive | undefined> { return { a: { id: 'a' }, b: undefined }; }
    `);
    const answer = async (name: string, input = {}) => {
      const { structuredContent, isError } = await client.call(name, input);
      expect(isError).toBeUndefined();
      return structuredContent;
    };
    expect(await answer('find_hive', { id: 'x' })).toEqual({ result: null });
    expect(await answer('find_hive', { id: 'MR-03' })).toEqual({ result: { id: 'MR-03' } });
    expect(await answer('find_later', { id: 'x' })).toEqual({ result: null });
    expect(await answer('find_name', { id: 'x' })).toEqual({ result: null });
    expect(await answer('find_name', { id: 'MR-03' })).toEqual({ result: 'Old oak' });
    expect(await answer('find_all')).toEqual({ result: [{ id: 'MR-03' }, null] });
    expect(await answer('pair')).toEqual({ result: ['MR-03', null] });
    expect(await answer('each')).toEqual({ result: ['MR-03', null] });
    expect(await answer('in_set')).toEqual({ result: [1, null] });
    expect(await answer('record')).toEqual({ a: { id: 'a' } });
  });

  test('is no default: the word undefined, and whatever else the schema refuses', async () => {
    const { client, schemaOf } = await offered(`
      /** @param note a note @default undefined
       *  @param frames how many @default NaN
       *  @param bees how many @default 300 */
      export function take(note?: string, frames?: number, bees?: number): unknown { return [note, frames, bees]; }
    `);
    const { note, frames, bees } = schemaOf('take');
    expect([note, frames, bees].map((each) => each!.default)).toEqual([undefined, undefined, 300]);
    expect(textOf(await client.call('take', {}))).toBe('[null,null,300]');
  });
});

test('a default that is the member of an enum keeps its value', async () => {
  const { client, schemaOf } = await offered(`
    export enum Season { Spring, Autumn }
    export enum Colour { White = 'white', Blue = 'blue' }
    const modes = { fast: 'quick', slow: 'calm' } as const;
    /** @param other the other @default Season.Autumn */
    export function feed(season: Season = Season.Autumn, colour: Colour = Colour.Blue, mode: (typeof modes)[keyof typeof modes] = modes.fast, other?: Season): string {
      return [season, colour, mode, other].join(' ');
    }
  `);
  const { season, colour, mode, other } = schemaOf('feed');
  expect([season, colour, mode, other].map((each) => each!.default)).toEqual([1, 'blue', 'quick', 1]);
  expect(textOf(await client.call('feed', {}))).toBe('1 blue quick 1');
});

test('a date is taken with and without a time', async () => {
  const { client } = await offered(
    `export function day(of: Date, others: Date[] = []): string { return [of, ...others].map((each) => each.toISOString()).join(' '); }`,
  );
  expect(textOf(await client.call('day', { of: '2026-06-01' }))).toBe('2026-06-01T00:00:00.000Z');
  expect(textOf(await client.call('day', { of: '2026-06-01T10:00:00+02:00', others: ['2026-06-02'] }))).toBe(
    '2026-06-01T08:00:00.000Z 2026-06-02T00:00:00.000Z',
  );
  expect(await client.call('day', { of: 'June' })).toMatchObject({ isError: true });
});

describe('overloads', () => {
  test('are offered as the union of what they take', async () => {
    const { client, schemaOf } = await offered(`
      /** One hive.
       *  @param hive which one */
      export function weigh(hive: string): number;
      /** Several hives. */
      export function weigh(hives: string[], year: number): Promise<number[]>;
      export function weigh(...all: unknown[]): unknown { return typeof all[0] === 'string' ? 41 : Promise.resolve((all[0] as string[]).map(() => all[1])); }
    `);
    const [tool] = await client.tools();
    expect(tool!.inputSchema.required).toEqual(['hives']);
    expect(schemaOf('weigh').hives).toEqual({
      anyOf: [{ type: 'string' }, { type: 'array', items: { type: 'string' } }],
      description: 'which one. Or hive, by the form.',
    });
    expect(tool!.description).toContain('It has 2 forms:');
    expect((await client.call('weigh', { hives: 'MR-03' })).structuredContent).toEqual({ result: 41 });
    expect((await client.call('weigh', { hives: ['MR-03'], year: 2026 })).structuredContent).toEqual({ result: [2026] });
  });

  test('that cannot be told apart in JSON are offered by the one that can be', async () => {
    const { client } = await offered(`
      export function count(list: Map<string, Date>): number;
      export function count(list: { [key: string]: URL }, deep: boolean): number;
      export function count(list: unknown): number { return list instanceof Map ? list.size : 0; }
    `);
    const [tool] = await client.tools();
    expect(Object.keys(tool!.inputSchema.properties as object)).toEqual(['list', 'deep']);
  });
});

test('a member that cannot be sent takes along no more than it must', async () => {
  const { client, schemaOf } = await offered(`
    class Scale { constructor(readonly id: string) {} weigh(): number { return 1; } }
    export function list(at: string, options?: { filter(hive: string): boolean; deep: { on(): void }; limit?: number }): unknown { return [at, options ?? null]; }
    export function mark(how: 'auto' | Scale, by: Scale | null, note?: string | Scale): unknown { return [how, by, note ?? null]; }
    export function read(text: boolean): string | Map<symbol, number> { return text ? 'calm' : new Map(); }
  `);
  expect(schemaOf('list').options!.properties).toEqual({ limit: { type: 'number' } });
  expect(textOf(await client.call('list', { at: 'MR', options: { limit: 2 } }))).toBe('["MR",{"limit":2}]');
  expect(schemaOf('mark')).toEqual({ how: { type: 'string', enum: ['auto'] }, by: { type: 'null' }, note: { type: 'string' } });
  expect(textOf(await client.call('mark', { how: 'auto', by: null }))).toBe('["auto",null,null]');
  expect(await client.call('read', { text: true })).toMatchObject({ structuredContent: { result: 'calm' } });
  expect((await client.call('read', { text: false })).isError).toBeUndefined();
});
