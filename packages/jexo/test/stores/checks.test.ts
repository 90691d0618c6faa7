import { memoryStore, redis, type Store } from '../../src/index.js';
import { storeChecks } from '../../src/testing.js';
import { makeRedis, withRedis, type RedisServer } from '../support/redis-server.js';
import { texts, textStore } from '../seats/text-store.js';

let server: RedisServer | undefined;
afterAll(() => server?.stop());

const forgetful = 'too many events: the oldest are forgotten, and whoever misses one is told so';
for (const { name, check } of storeChecks) {
  test(`in memory: ${name}`, async () => {
    const store = memoryStore();
    await check({ one: store, other: store });
  });
  // The one of a third party keeps every event.
  if (name !== forgetful && !name.startsWith('what may only'))
    test(`texts alone: ${name}`, async () => {
      const shared = texts();
      await check({ one: textStore(shared), other: textStore(shared) });
    });
  withRedis(`Redis: ${name}`, async () => {
    server ??= await makeRedis();
    const prefix = `t${Math.random()}:`;
    const stores: Store[] = [redis(server.url, { prefix }), redis(server.url, { prefix })];
    try {
      await check({ one: stores[0]!, other: stores[1]! });
    } finally {
      await Promise.all(stores.map((store) => store.close()));
    }
  });
}

withRedis('a Redis that is shared by applications keeps them apart by their prefix', async () => {
  server ??= await makeRedis();
  const [one, other] = [redis(server.url, { prefix: 'one:' }), redis(server.url, { prefix: 'other:' })];
  await one.limits.take('k', 1, 60_000);
  expect(await other.limits.take('k', 1, 60_000)).toBe(0);
  await Promise.all([one.close(), other.close()]);
});

withRedis('a Redis that is away, hangs or comes back empty: commands fail in time with words, and work again by themselves', async () => {
  const own = await makeRedis();
  const faults: unknown[] = [];
  const store = redis(own.url, { commandTimeoutMs: 1500, onFault: (error) => faults.push(error) });
  try {
    expect(await store.sessions.load('s')).toBeUndefined();
    own.hold();
    await expect(store.sessions.load('s')).rejects.toMatchObject({
      code: 'JEXO_STORE',
      message: expect.stringContaining('within 1500 ms') as string,
    });
    expect(store.isReachable).toBe(false);
    own.goOn();
    while (store.isReachable === false) await Promise.resolve(store.sessions.load('s')).catch(() => undefined);
    let gaps = 0;
    const heard: string[] = [];
    store.bus.onGap!(() => gaps++);
    store.bus.subscribe('t', (text) => heard.push(text));
    await store.bus.publish('t', 'before');
    await own.stop();
    await expect(store.sessions.load('s')).rejects.toMatchObject({ code: 'JEXO_STORE' });
    await own.start();
    while ((await Promise.resolve(store.bus.publish('t', 'after')).catch(() => 0)) === 0)
      await new Promise((resolve) => setTimeout(resolve, 20));
    while (!heard.includes('after')) await new Promise((resolve) => setTimeout(resolve, 10));
    expect([heard[0], gaps > 0, store.isReachable]).toEqual(['before', true, true]);
    // Scripts are sent again to one that does not know them.
    expect(await store.limits.take('k', 1, 1000)).toBe(0);
  } finally {
    await store.close();
    await own.stop();
  }
});
