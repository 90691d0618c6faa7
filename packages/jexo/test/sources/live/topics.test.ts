import { setFlagsFromString } from 'node:v8';
import { runInNewContext } from 'node:vm';
import { createServer, type Server as NetServer } from 'node:net';
import { Aedes } from 'aedes';
import fc from 'fast-check';
import { connectAsync, type MqttClient } from 'mqtt';
import { connect, defineServer, env, wrapTopics, type ConnectOptions, type WrapTopicsOptions } from '../../../src/index.js';
import { matchesTopic, pluck, readPayload } from '../../../src/sources/live/payload.js';
import { splitUrl } from '../../../src/sources/live/wrap-topics.js';
import { sourceChecks } from '../../../src/source-checks.js';
import { makeBroker, withBroker, type Broker } from '../../support/broker.js';

const open: (() => Promise<unknown>)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});

async function startBroker(user?: Parameters<typeof makeBroker>[0]): Promise<Broker> {
  const broker = await makeBroker(user);
  await broker.start();
  open.push(() => broker.stop());
  return broker;
}
async function feed(
  url: string,
  options = {},
): Promise<MqttClient & { say(topic: string, payload: unknown, retain?: boolean): Promise<unknown> }> {
  const client = await connectAsync(url, { protocolVersion: 4, reconnectPeriod: 100, ...options });
  client.on('error', () => undefined);
  open.push(() => client.endAsync(true));
  const say = (topic: string, payload: unknown, retain = false) =>
    client.publishAsync(topic, typeof payload === 'string' || Buffer.isBuffer(payload) ? payload : JSON.stringify(payload), {
      retain,
      qos: 1,
    });
  return Object.assign(client, { say });
}
async function serve(url: Parameters<typeof wrapTopics>[0], options: WrapTopicsOptions = {}, connecting: ConnectOptions = {}) {
  const source = wrapTopics(url, { everyMs: 50, ...options });
  const server = defineServer({ name: 'feed', version: '1.0.0', offers: [source] });
  const client = await connect(server, connecting);
  open.push(() => client.close().then(() => server.close()));
  const values = async (...paths: string[]) =>
    ((await client.call('read_values', { paths })).structuredContent as { values: Record<string, unknown>[] }).values;
  return { client, values };
}
const until = async (what: string, check: () => boolean | Promise<boolean>, tries = 800) => {
  for (let at = 0; at < tries; at++) {
    if (await check()) return;
    await new Promise((resolve) => setTimeout(resolve, 10));
  }
  throw new Error(`It never came to be that ${what}.`);
};
const read = (url: Parameters<typeof wrapTopics>[0], options: WrapTopicsOptions = {}, settings: Record<string, string> = {}) => {
  const source = wrapTopics(url, options);
  return source.read({ settings, signal: new AbortController().signal, progress: () => undefined }).finally(() => source.close?.());
};

withBroker('topics are resources with last value, unit, words and age; new ones are listed, changes are told', async () => {
  const broker = await startBroker();
  const device = await feed(broker.url);
  await device.say('alderwick/MR/MR-01/weight', { kg: 41.2, at: new Date(Date.now() - 120_000).toISOString() }, true);
  await device.say('alderwick/MR/MR-01/state', '1', true);
  await device.say('elsewhere/x', '1', true);
  let told = 0;
  const { client, values } = await serve(
    `${broker.url}/alderwick/#`,
    {
      name: 'alderwick',
      values: {
        'alderwick/+/+/weight': { field: 'kg', time: 'at', unit: 'kg', staleAfter: 60, title: 'Weight' },
        'alderwick/+/+/state': { words: { 0: 'calm', 1: 'humming' } },
        'alderwick/declared': { unit: 'kg' },
      },
    },
    { onResourcesChanged: () => told++ },
  );
  expect((await client.resources()).map(({ name }) => name)).toEqual([
    'alderwick/MR/MR-01/state',
    'alderwick/MR/MR-01/weight',
    'alderwick/declared',
  ]);
  expect(await values('**')).toEqual([
    { path: 'alderwick/MR/MR-01/state', value: 1, means: 'humming', note: expect.stringContaining('how old it is, is not known') },
    expect.objectContaining({ value: 41.2, unit: 'kg', ageSeconds: expect.closeTo(120, -1), isStale: true }),
    { path: 'alderwick/declared', note: 'It has had no value yet.' },
  ]);
  const heard: string[] = [];
  await client.watch('alderwick://alderwick/MR/MR-01/weight', (uri) => heard.push(uri));
  await device.say('alderwick/MR/MR-01/weight', { kg: 41.3, at: new Date().toISOString() });
  await until('the change is told', () => heard.length > 0);
  const [now] = await values('alderwick/MR/MR-01/weight');
  expect([now!.value, now!.isStale]).toEqual([41.3, undefined]);
  await device.say('alderwick/UC/UC-04/weight', { kg: 38 });
  await until(
    'the new topic is listed',
    async () => told > 0 && (await client.resources()).some(({ name }) => name === 'alderwick/UC/UC-04/weight'),
  );
  const { values: hives } = await client.complete(
    { type: 'ref/resource', uri: 'alderwick://{level1}/{level2}/{level3}/{level4}' },
    { name: 'level3', value: '' },
    { level2: 'UC' },
  );
  expect(hives).toEqual(['UC-04']);
  const { points } = (await client.call('history', { path: 'alderwick/MR/MR-01/weight' })).structuredContent as {
    points: { value: number }[];
  };
  expect(points.map(({ value }) => value)).toEqual([41.2, 41.3]);
});

withBroker('payloads of every kind are read; one that is not what was declared says so', async () => {
  const broker = await startBroker();
  const device = await feed(broker.url);
  const { client, values } = await serve(broker.url, {
    topics: ['t/#'],
    values: { 't/number': { type: 'number' }, 't/text': { type: 'text' }, 't/bytes': { type: 'bytes' }, 't/field': { field: 'a.0.b' } },
  });
  await device.say('t/number', '12.5');
  await device.say('t/text', '12.5');
  await device.say('t/bytes', Buffer.from([255, 0, 1]));
  await device.say('t/field', { a: [{ b: 'deep' }] });
  await device.say('t/any', 'plain words');
  await device.say('t/binary', Buffer.from([255, 0]));
  await until('all are there', async () => (await client.resources()).length === 6);
  const byPath = async () => Object.fromEntries((await values('**')).map(({ path, value, note }) => [path, note ?? value]));
  expect(await byPath()).toEqual({
    't/number': 12.5,
    't/text': '12.5',
    't/bytes': '/wAB',
    't/field': 'deep',
    't/any': 'plain words',
    't/binary': '/wA=',
  });
  await device.say('t/field', { b: 1 });
  await device.say('t/number', 'twelve');
  await device.say('t/new-field', 'x');
  await until('the last has come', async () => (await client.resources()).length === 7);
  // The last good value stays, and is what it was.
  expect((await byPath())['t/field']).toBe('deep');
  const fresh = await serve(broker.url, { topics: ['u'], values: { u: { type: 'number' } } });
  await device.say('u', 'twelve');
  await until(
    'the fault is told',
    async () => (await fresh.values('u'))[0]!.note === 'It could not be read: the payload is not a number: twelve',
  );
});

withBroker('publishing is offered for declared topics alone, and a person confirms it', async () => {
  const broker = await startBroker();
  const device = await feed(broker.url);
  const got: [string, string][] = [];
  device.on('message', (topic, payload) => got.push([topic, payload.toString()]));
  await device.subscribeAsync('#');
  const options: WrapTopicsOptions = {
    topics: ['alderwick/#'],
    publish: { 'alderwick/MR/heater/set': { schema: { type: 'number', maximum: 40 }, description: 'the setpoint' } },
  };
  const asked: string[] = [];
  const { client } = await serve(broker.url, options, {
    elicitation: { form: ({ message }) => (asked.push(message), { action: 'accept', content: {} }) },
  });
  const tool = (await client.tools()).find(({ name }) => name === 'write_value')!;
  expect(tool.inputSchema.properties).toMatchObject({
    path: { enum: ['alderwick/MR/heater/set'] },
    value: { type: 'number', maximum: 40 },
  });
  expect((await client.call('write_value', { path: 'alderwick/MR/heater/set', value: 38 })).structuredContent).toMatchObject({
    written: 38,
  });
  expect(asked).toEqual(['Write 38 to alderwick/MR/heater/set?']);
  await until('it was published', () => got.length > 0);
  expect((await client.call('write_value', { path: 'alderwick/MR/heater/set', value: 50 })).isError).toBe(true);
  expect((await client.call('write_value', { path: 'other', value: 5 })).isError).toBe(true);
  expect(got).toEqual([['alderwick/MR/heater/set', '38']]);
  expect(() => wrapTopics(broker.url, { publish: { 'a/+': { schema: {} } } })).toThrow('has no wildcards');
  expect((await (await serve(broker.url, { topics: ['alderwick/#'] })).client.tools()).map(({ name }) => name)).toEqual([
    'read_values',
    'history',
  ]);
});

withBroker('a broker that restarts is connected to again; meanwhile values are marked, and publishing says why not', async () => {
  const broker = await startBroker();
  const device = await feed(broker.url);
  await device.say('a/b', '1', true);
  const { client, values } = await serve(broker.url, {
    topics: ['a/#'],
    confirm: false,
    publish: { 'a/set': { schema: { type: 'number' } } },
  });
  expect((await values('a/b'))[0]).toMatchObject({ value: 1 });
  await broker.stop();
  await until('the loss is told', async () => (await values('a/b'))[0]!.isStale === true);
  expect((await values('a/b'))[0]!.note).toContain('The connection is lost');
  const refused = await client.call('write_value', { path: 'a/set', value: 1 });
  expect([refused.isError, JSON.stringify(refused.content)]).toEqual([true, expect.stringContaining('nothing was published')]);
  await broker.start();
  await until('it is connected again', async () => (await values('a/b'))[0]!.isStale === undefined, 3000);
  await until('the device is back', () => device.connected);
  await device.say('a/b', '2');
  await until('the new value is there', async () => (await values('a/b'))[0]!.value === 2);
});

withBroker('a broker that is away, refuses the password, or grants nothing is named; no secret is in the message', async () => {
  const secret = 's3cret/w@rd';
  const broker = await startBroker({ name: 'keeper', password: secret });
  await expect(read('mqtt://127.0.0.1:9', { connectMs: 500 })).rejects.toMatchObject({
    code: 'JEXO_CONNECT',
    message: expect.stringContaining('mqtt://127.0.0.1:9 cannot be reached'),
  });
  const wrong = await read(broker.url, { username: 'keeper', password: 'wrong-one' }).catch((error: Error) => error);
  expect(wrong).toMatchObject({ code: 'JEXO_CONNECT', message: expect.stringContaining('refused the name or password') });
  expect(JSON.stringify([wrong, (wrong as Error).message, (wrong as Error).stack])).not.toContain('wrong-one');
  const inUrl = await read(broker.url.replace('//', '//keeper:wrong-two@')).catch((error: Error) => error);
  expect(inUrl).toMatchObject({ code: 'JEXO_CONNECT' });
  expect(JSON.stringify([inUrl, (inUrl as Error).message])).not.toContain('wrong-two');
  await expect(read(env('FEED'))).rejects.toMatchObject({ code: 'JEXO_SETTING', message: expect.stringContaining('FEED') });
  const { settings } = await read(
    env('FEED'),
    { username: env('FEED_USER'), password: env('FEED_PASSWORD') },
    { FEED: broker.url, FEED_USER: 'keeper', FEED_PASSWORD: secret },
  );
  expect(settings).toEqual([
    { variable: 'FEED', purpose: 'the address of the broker of topics', secret: true },
    { variable: 'FEED_USER', purpose: 'the name for the broker of topics', secret: false },
    { variable: 'FEED_PASSWORD', purpose: 'the password for the broker of topics', secret: true },
  ]);
  expect(() => wrapTopics('http://127.0.0.1')).toThrow('begins with mqtt://');
});

/** What is held, and not what only waits to be collected. */
function heldBytes(): number {
  setFlagsFromString('--expose-gc');
  (runInNewContext('gc') as () => void)();
  return process.memoryUsage().heapUsed;
}

withBroker(
  'a storm of messages is taken with bounded memory, and the newest wins',
  async () => {
    const broker = await startBroker();
    const device = await feed(broker.url);
    const { client, values } = await serve(broker.url, { topics: ['storm/#'], points: 100, maxValues: 50, everyMs: 100 });
    const total = 60_000;
    const heard: string[] = [];
    await device.say('storm/0', 'first');
    await until('the topic is there', async () => (await client.resources()).length > 0);
    await client.watch('topics://storm/0', (uri) => heard.push(uri));
    const before = heldBytes();
    const began = performance.now();
    for (let at = 0; at < total; at++) {
      device.publish(`storm/${at % 120}`, JSON.stringify({ at, filler: 'x'.repeat(100) }), { qos: 0 });
      if (at % 500 === 499) await new Promise((resolve) => setImmediate(resolve));
    }
    await device.say('storm/0', { at: 'last' });
    await until('the newest has come', async () => JSON.stringify((await values('storm/0'))[0]!.value) === '{"at":"last"}', 3000);
    const seconds = (performance.now() - began) / 1000;
    expect((await client.resources()).length).toBe(50);
    expect((heldBytes() - before) / 1024 / 1024).toBeLessThan(120);
    expect(heard.length).toBeLessThanOrEqual(seconds * 10 + 3);
    expect(heard.length).toBeGreaterThan(0);
    const { points } = (await client.call('history', { path: 'storm/0', points: 1000 })).structuredContent as { points: unknown[] };
    expect(points).toHaveLength(100);
  },
  60_000,
);

test('a broker that speaks MQTT 3.1.1 alone is spoken to by that', async () => {
  const aedes = await Aedes.createBroker();
  const server: NetServer = createServer(aedes.handle);
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  open.push(() => new Promise((resolve) => aedes.close(() => server.close(resolve))));
  const versions: number[] = [];
  aedes.on('client', (client) => versions.push((client as unknown as { version: number }).version));
  const url = `mqtt://127.0.0.1:${(server.address() as { port: number }).port}`;
  const device = await feed(url);
  await device.say('a/b', '1', true);
  const { values } = await serve(url, { topics: ['a/#'] });
  expect((await values('a/b'))[0]).toMatchObject({ value: 1 });
  expect(new Set(versions)).toEqual(new Set([4]));
});

test('topic filters match as the standard says', () => {
  for (const [filter, topic, isMatch] of [
    ['a/b', 'a/b', true],
    ['a/b', 'a/b/c', false],
    ['a/+', 'a/b', true],
    ['a/+', 'a', false],
    ['a/+', 'a/b/c', false],
    ['a/#', 'a', true],
    ['a/#', 'a/b/c', true],
    ['#', 'a/b', true],
    ['#', '$SYS/x', false],
    ['+/x', '$SYS/x', false],
    ['$SYS/#', '$SYS/x', true],
    ['+/b/+', 'a/b/c', true],
    ['a//b', 'a//b', true],
  ] as const)
    expect([filter, topic, matchesTopic(filter, topic)]).toEqual([filter, topic, isMatch]);
  for (const wrong of ['', 'a#', 'a/#/b', 'a+/b', '#/a'])
    expect(() => wrapTopics('mqtt://127.0.0.1', { topics: [wrong] })).toThrow(expect.objectContaining({ code: 'JEXO_DEFINITION' }));
  expect(splitUrl('mqtt://keeper:pw@127.0.0.1:1883/alderwick/#')).toEqual({
    broker: 'mqtt://keeper:pw@127.0.0.1:1883',
    topics: ['alderwick/#'],
  });
  expect(splitUrl('mqtt://h')).toEqual({ broker: 'mqtt://h', topics: ['#'] });
  expect(splitUrl('wss://h/mqtt')).toEqual({ broker: 'wss://h/mqtt', topics: ['#'] });
});

test('any payload is read without a fault where no type is declared; fields are the own ones', () => {
  fc.assert(
    fc.property(fc.uint8Array({ maxLength: 60 }), (bytes) => {
      const value = readPayload(bytes, undefined);
      expect(JSON.parse(JSON.stringify(value))).toEqual(value === undefined ? undefined : JSON.parse(JSON.stringify(value)));
    }),
  );
  expect(pluck({ a: 1 }, 'constructor')).toBeUndefined();
  expect(pluck([{ b: 2 }], '0.b')).toBe(2);
  expect(pluck(null, 'a')).toBeUndefined();
});

describe('as a source', () => {
  let broker: Broker;
  beforeAll(async () => {
    broker = await makeBroker();
    await broker.start().catch(() => undefined);
  });
  afterAll(() => broker.stop());
  for (const { name, run } of sourceChecks(() => wrapTopics(broker.url, { topics: ['kept/#'], values: { 'kept/one': { unit: 'kg' } } })))
    withBroker(name, run);
});
