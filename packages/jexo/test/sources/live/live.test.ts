import fc from 'fast-check';
import {
  connect,
  defineServer,
  wrapLive,
  type Client,
  type ConnectOptions,
  type LiveAccess,
  type LiveOptions,
  type LiveValue,
} from '../../../src/index.js';
import { sourceChecks } from '../../../src/source-checks.js';

const open: (() => Promise<unknown>)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});

/** A plant of the test's own, whose values the test changes. */
function plant(more: Partial<LiveAccess> = {}) {
  const values: LiveValue[] = [
    { path: 'tank1/level', title: 'Level of tank 1', unit: 'l', staleAfter: 60 },
    { path: 'tank1/temperature', unit: '°C' },
    { path: 'pump1/state', words: { 0: 'idle', 1: 'filling', true: 'on' } },
    { path: 'heater', description: 'the setpoint', unit: '°C', write: { type: 'number', minimum: 20, maximum: 40 } },
  ];
  const now: Record<string, unknown> = { 'tank1/level': 140, 'tank1/temperature': 36.5, 'pump1/state': 1, heater: 38 };
  const written: unknown[] = [];
  let push: Parameters<NonNullable<LiveAccess['watch']>>[0] = () => undefined;
  let listChanged = () => undefined as void;
  let watching = 0;
  const access: LiveAccess = {
    list: () => values,
    read: (path) => ({ value: now[path] }),
    watch(to, changed) {
      watching++;
      push = to;
      listChanged = changed;
      return () => void watching--;
    },
    write: (path, value) => {
      written.push([path, value]);
      now[path] = value;
      push(path, { value });
    },
    ...more,
  };
  return {
    access,
    values,
    now,
    written,
    push: (path: string, value: unknown, at?: Date) => push(path, { value, ...(at && { at }) }),
    listChanged: () => listChanged(),
    watching: () => watching,
  };
}

async function serve(access: LiveAccess, options: LiveOptions = {}, connecting: ConnectOptions = {}): Promise<Client> {
  const server = defineServer({ name: 'plant', version: '1.0.0', offers: [wrapLive(access, { name: 'plant', everyMs: 50, ...options })] });
  const client = await connect(server, connecting);
  open.push(() => client.close().then(() => server.close()));
  return client;
}
const body = (contents: readonly unknown[]) => JSON.parse((contents[0] as { text: string }).text) as Record<string, unknown>;
const until = async (what: string, check: () => boolean | Promise<boolean>) => {
  for (let tries = 0; tries < 400; tries++) {
    if (await check()) return;
    await new Promise((resolve) => setTimeout(resolve, 10));
  }
  throw new Error(`It never came to be that ${what}.`);
};
type Values = { values: Record<string, unknown>[]; note?: string };
const readValues = async (client: Client, ...paths: string[]) =>
  (await client.call('read_values', { paths })).structuredContent as unknown as Values;

test('a value is a resource with unit, words, time and age; templates complete level by level', async () => {
  const { access } = plant();
  const client = await serve(access);
  expect((await client.resources()).map(({ uri }) => uri)).toEqual([
    'plant://tank1/level',
    'plant://tank1/temperature',
    'plant://pump1/state',
    'plant://heater',
  ]);
  expect(body((await client.read('plant://pump1/state')).contents)).toEqual({
    path: 'pump1/state',
    value: 1,
    means: 'filling',
    at: expect.stringMatching(/^20.*Z$/),
    ageSeconds: 0,
  });
  expect(body((await client.read('plant://tank1')).contents)).toMatchObject({
    values: [{ path: 'tank1/level', unit: 'l', value: 140 }, { path: 'tank1/temperature' }],
  });
  await expect(client.read('plant://tank9')).rejects.toThrow('Resource not found');
  await expect(client.read('plant://%')).rejects.toThrow('Resource not found');
  expect((await client.templates()).map(({ uriTemplate }) => uriTemplate)).toEqual(['plant://{level1}', 'plant://{level1}/{level2}']);
  const complete = (name: string, value: string, known: Record<string, string> = {}) =>
    client.complete({ type: 'ref/resource', uri: 'plant://{level1}/{level2}' }, { name, value }, known).then(({ values }) => values);
  expect(await complete('level1', '')).toEqual(['heater', 'pump1', 'tank1']);
  expect(await complete('level2', 'l', { level1: 'tank1' })).toEqual(['level']);
  expect(await complete('level2', '', { level1: 'pump1' })).toEqual(['state']);
});

test('many values are read at once, by patterns; a wrong path gets a hint', async () => {
  const { access } = plant();
  const client = await serve(access, { about: 'The honey house.' });
  const tools = Object.fromEntries((await client.tools()).map((tool) => [tool.name, tool]));
  expect(tools.read_values!.description).toContain(
    'The honey house. Values: tank1/level (Level of tank 1; l), tank1/temperature (°C), pump1/state (idle, filling, on)',
  );
  expect((await readValues(client, 'tank1/*')).values.map(({ path }) => path)).toEqual(['tank1/level', 'tank1/temperature']);
  expect((await readValues(client, '**', 'tank1/level')).values).toHaveLength(4);
  expect((await readValues(client, 'tank1')).values).toHaveLength(2);
  expect((await readValues(client, '*/state')).values).toMatchObject([{ value: 1, means: 'filling' }]);
  const wrong = await client.call('read_values', { paths: ['tank1/leval'] });
  expect([wrong.isError, JSON.stringify(wrong.content)]).toEqual([true, expect.stringContaining('Did you mean tank1/level?')]);
});

test('a subscriber hears of changes, of the newest in any case, and of those below', async () => {
  const { access, push } = plant();
  const client = await serve(access, { everyMs: 100 });
  const heard: string[] = [];
  await client.watch('plant://tank1/level', (uri) => heard.push(uri));
  await client.watch('plant://tank1', (uri) => heard.push(uri));
  for (let value = 1; value <= 1000; value++) push('tank1/level', value);
  await until(
    'both have heard of the last',
    () => heard.filter((uri) => uri === 'plant://tank1/level').length >= 2 && heard.includes('plant://tank1'),
  );
  await new Promise((resolve) => setTimeout(resolve, 250));
  expect(heard.length).toBeLessThanOrEqual(6);
  expect(body((await client.read('plant://tank1/level')).contents)).toMatchObject({ value: 1000 });
  const before = heard.length;
  push('tank1/level', 1000);
  await new Promise((resolve) => setTimeout(resolve, 150));
  expect(heard.length).toBe(before);
});

test('age, staleness and the clock of the device are told', async () => {
  const { access, push } = plant();
  const client = await serve(access);
  push('tank1/level', 7, new Date(Date.now() - 3000));
  expect((await readValues(client, 'tank1/level')).values[0]).toMatchObject({ value: 7, ageSeconds: expect.closeTo(3, 0) });
  push('tank1/level', 8, new Date(Date.now() - 3600_000));
  const [off] = (await readValues(client, 'tank1/level')).values;
  expect(off).toMatchObject({ value: 8, ageSeconds: 0, note: 'The clock of the device is 3600 s behind ours.' });
  expect(off!.isStale).toBeUndefined();
  push('tank1/level', 9, new Date(Date.now() + 100_000));
  expect((await readValues(client, 'tank1/level')).values[0]!.note).toMatch(/^The clock of the device is 100 s ahead of ours\./);
  const old = plant();
  const late = await serve(old.access, { name: 'old', prefix: 'old_' });
  old.values[1] = { ...old.values[1]!, staleAfter: 0 };
  old.push('tank1/temperature', 1);
  await new Promise((resolve) => setTimeout(resolve, 150));
  old.listChanged();
  await until('it is stale', async () => {
    const { structuredContent } = await late.call('old_read_values', { paths: ['tank1/temperature'] });
    return (structuredContent as unknown as Values).values[0]!.isStale === true;
  });
});

test('the history of a value is kept within bounds, averaged, and in words', async () => {
  const { access, push } = plant();
  const client = await serve(access, { points: 50 });
  type History = { points: { at: string; value: unknown; means?: string }[]; note?: string; unit?: string };
  const history = async (input: object) => (await client.call('history', { ...input })).structuredContent as unknown as History;
  for (let value = 1; value <= 80; value++) push('tank1/level', value);
  const all = await history({ path: 'tank1/level' });
  expect([all.unit, all.points.length, all.points[0]!.value, all.points.at(-1)!.value]).toEqual(['l', 50, 31, 80]);
  expect(all.note).toMatch(/^What is kept begins at /);
  const few = await history({ path: 'tank1/level', points: 5 });
  expect(few.points.length).toBeLessThanOrEqual(5);
  expect(few.note).toContain('50 points, averaged over spans of');
  const mean = few.points.reduce((sum, { value }) => sum + (value as number), 0) / few.points.length;
  expect(mean).toBeGreaterThan(30);
  for (const state of [0, 1, 0, 7]) push('pump1/state', state);
  expect((await history({ path: 'pump1/state' })).points.map(({ value, means }) => [value, means])).toEqual([
    [0, 'idle'],
    [1, 'filling'],
    [0, 'idle'],
    [7, undefined],
  ]);
  const several = await client.call('history', { path: 'tank1' });
  expect(JSON.stringify(several.content)).toContain('tank1 is several values');
});

test('writing asks a person, keeps to the schema, and is offered only for what may be written', async () => {
  const { access, written } = plant();
  const asked: string[] = [];
  let answer: 'accept' | 'decline' = 'accept';
  const client = await serve(
    access,
    {},
    {
      elicitation: {
        form: ({ message }) => {
          asked.push(message);
          return answer === 'accept' ? { action: 'accept', content: {} } : { action: 'decline' };
        },
      },
    },
  );
  const write = async (path: string, value: unknown) => {
    const result = await client.call('write_value', { path, value });
    return [result.isError ?? false, JSON.stringify(result.structuredContent ?? result.content)];
  };
  expect(await write('heater', 39)).toEqual([false, JSON.stringify({ path: 'heater', before: 38, written: 39 })]);
  expect(asked).toEqual(['Write 39 °C to heater? It is 38 now.']);
  answer = 'decline';
  expect((await write('heater', 22))[0]).toBe(true);
  answer = 'accept';
  expect((await write('heater', 90))[0]).toBe(true);
  expect((await write('tank1/level', 1))[0]).toBe(true);
  expect(written).toEqual([['heater', 39]]);
  // Nobody can be asked: nothing is written.
  const silent = await serve(access);
  expect((await silent.call('write_value', { path: 'heater', value: 30 })).isError).toBe(true);
  expect(written).toHaveLength(1);
  const trusting = await serve(access, { confirm: false });
  expect((await trusting.call('write_value', { path: 'heater', value: 30 })).structuredContent).toMatchObject({ written: 30 });
  const { write: _, ...readOnly } = access;
  expect((await (await serve(readOnly)).tools()).map(({ name }) => name)).toEqual(['read_values', 'history']);
});

test('values that come and go are listed; one that fails says why, and the others are read', async () => {
  const { access, values, listChanged, watching } = plant();
  let told = 0;
  const client = await serve(
    { ...access, read: (path) => (path === 'tank1/temperature' ? Promise.reject(new Error('the sensor is unplugged')) : { value: 5 }) },
    { maxValues: 4 },
    { onResourcesChanged: () => told++ },
  );
  await client.resources();
  expect((await readValues(client, 'tank1/*')).values).toMatchObject([
    { value: 5 },
    { path: 'tank1/temperature', note: 'It could not be read: the sensor is unplugged' },
  ]);
  values.push({ path: 'tank2/level' });
  values.splice(0, 1);
  listChanged();
  await until('the list is new', async () => (await client.resources()).some(({ uri }) => uri === 'plant://tank2/level'));
  expect(told).toBeGreaterThan(0);
  expect((await client.resources()).map(({ uri }) => uri)).not.toContain('plant://tank1/level');
  expect(watching()).toBe(1);
  values.push({ path: 'tank3/level' });
  listChanged();
  await until('the one beyond the limit is not listed', async () => !(await client.resources()).some(({ uri }) => uri.includes('tank3')));
});

test('without watch, values are polled: they have a history, and subscribers hear of changes', async () => {
  const { access, now } = plant();
  const { watch: _, ...polled } = access;
  const client = await serve(polled, { pollMs: 20, everyMs: 10 });
  const heard: string[] = [];
  await client.watch('plant://tank1/level', (uri) => heard.push(uri));
  await until(
    'it has been polled',
    async () => ((await client.call('history', { path: 'tank1/level' })).structuredContent as { points: unknown[] }).points.length > 3,
  );
  const before = heard.length;
  now['tank1/level'] = 200;
  await until('the change is told', () => heard.length > before);
});

test('paths that cannot be are refused with what they should be', async () => {
  for (const path of ['', '/a', 'a/', 'a//b', ' a', 'a\nb'])
    await expect(
      wrapLive({ list: () => [{ path }], read: () => ({ value: 1 }) }).read({
        settings: {},
        signal: new AbortController().signal,
        progress: () => undefined,
      }),
    ).rejects.toThrow(/gave the path/);
  await expect(
    wrapLive({ list: () => [{ path: 'a' }, { path: 'a' }], read: () => ({ value: 1 }) }).read({
      settings: {},
      signal: new AbortController().signal,
      progress: () => undefined,
    }),
  ).rejects.toThrow('twice');
});

test('any JSON value comes back as it is, and any path can be read by the URI that is listed', async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.uniqueArray(
        fc.stringMatching(/^[a-zA-Z0-9 äß#?%&+_.-]{1,8}(\/[a-zA-Z0-9 äß#?%&+_.-]{1,8}){0,3}$/).filter((path) => !/^\s/.test(path)),
        { minLength: 1, maxLength: 4 },
      ),
      fc.jsonValue({ maxDepth: 2 }),
      async (paths, value) => {
        const server = defineServer({
          name: 'any',
          version: '1.0.0',
          offers: [wrapLive({ list: () => paths.map((path) => ({ path })), read: () => ({ value }), watch: () => () => undefined })],
        });
        const client = await connect(server);
        const plain = JSON.parse(JSON.stringify(value)) as unknown;
        for (const { uri, name } of await client.resources())
          expect(body((await client.read(uri)).contents)).toMatchObject({ path: name, value: plain });
        await client.close();
        await server.close();
      },
    ),
    { numRuns: 60 },
  );
});

describe('as a source', () => {
  for (const { name, run } of sourceChecks(() => wrapLive(plant().access))) test(name, run);
});
