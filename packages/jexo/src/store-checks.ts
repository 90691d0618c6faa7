import type { KeptEvent, SessionRecord, Store, TaskRecord } from './engine/store.js';

/** Two handles on one store, as two processes have them. */
export interface SharedStores {
  /** The handle of one process. */
  readonly one: Store;
  /** The handle of another. */
  readonly other: Store;
}

/** One thing that every store must do. */
export interface StoreCheck {
  /** As a test is called. */
  readonly name: string;
  /** @throws when the store does it not */
  check(stores: SharedStores): Promise<void>;
}

function expectSame(found: unknown, wanted: unknown, what: string): void {
  const [a, b] = [JSON.stringify(found), JSON.stringify(wanted)];
  if (a !== b) throw new Error(`${what}: expected ${b}, got ${a}`);
}

const record = (id: string, more: Partial<SessionRecord> = {}): SessionRecord => ({
  id,
  revision: '2025-11-25',
  client: { name: 'desk', version: '1' },
  capabilities: { elicitation: {} },
  caller: { transport: 'http', identity: 'keeper' },
  declared: { tools: {} },
  logLevel: 'info',
  subscriptions: [],
  pages: [],
  ...more,
});
const event = (stream: number, seq: number, text = `event ${stream}.${seq}`): KeptEvent => ({ stream, seq, text });
const task = (id: string, owner: string, status: 'working' | 'completed'): TaskRecord => ({
  task: {
    taskId: id,
    status,
    createdAt: new Date().toISOString(),
    lastUpdatedAt: new Date().toISOString(),
    ttl: 60_000,
    pollInterval: 500,
  },
  owner,
  ...(status === 'completed' && { result: { content: [] } }),
});
const sorted = (record: SessionRecord | undefined) =>
  record && { ...record, subscriptions: [...record.subscriptions].sort(), pages: [...record.pages].sort() };
const fields = (found: SessionRecord | undefined) =>
  found &&
  Object.entries(sorted(found)!)
    .filter(([, value]) => value !== undefined)
    .sort(([a], [b]) => (a < b ? -1 : 1));
/** Waits until something has come about, no longer than two seconds. */
async function until(is: () => boolean, what: string): Promise<void> {
  for (const end = Date.now() + 2000; !is();) {
    if (Date.now() > end) throw new Error(`${what}: it did not come about`);
    await new Promise((resolve) => setTimeout(resolve, 5));
  }
}

/**
 * What every store must do, for tests of one of your own: each check gets two handles on the same fresh store.
 *
 * @example
 * test.each(storeChecks)('$name', async ({ check }) => check({ one: myStore(place), other: myStore(place) }));
 */
export const storeChecks: readonly StoreCheck[] = [
  {
    name: 'a session is found by another process, as it was kept, until it is deleted',
    async check({ one, other }) {
      const kept = record('s1', { subscriptions: ['scale://MR-03', 'scale://UC-01'], pages: ['p 1'], client: undefined });
      await one.sessions.save(kept);
      expectSame(fields(await other.sessions.load('s1')), fields(kept), 'the record');
      expectSame(await other.sessions.load('s2'), undefined, 'an unknown session');
      await one.sessions.save(record('s1', { logLevel: 'error' }));
      const again = await other.sessions.load('s1');
      expectSame([again?.logLevel, again?.subscriptions, again?.pages], ['error', [], []], 'the later record');
      await other.sessions.delete('s1');
      expectSame(await one.sessions.load('s1'), undefined, 'a deleted session');
    },
  },
  {
    name: 'events of a stream come back in order, after any number, whichever process kept them',
    async check({ one, other }) {
      await one.events.begin('s', 1);
      await one.events.begin('s', 2);
      for (let seq = 1; seq <= 5; seq++) {
        await one.events.append('s', event(1, seq));
        await other.events.append('s', event(2, seq, `a | b\n"${seq}" ü 🐝`));
      }
      const rest = await other.events.since('s', 1, 2);
      expectSame([rest?.events, rest?.isEnded], [[event(1, 3), event(1, 4), event(1, 5)], false], 'the rest');
      expectSame((await one.events.since('s', 2, 4))?.events, [event(2, 5, 'a | b\n"5" ü 🐝')], 'a text with anything in it');
      expectSame((await other.events.since('s', 1, 5))?.events, [], 'nothing new');
      expectSame(await other.events.since('s', 1, 6), undefined, 'a number that never was');
      expectSame(await other.events.since('s', 3, 0), undefined, 'a stream that never was');
      await one.events.end('s', 1);
      expectSame((await other.events.since('s', 1, 4))?.isEnded, true, 'the end');
      await other.events.forget('s');
      expectSame(await one.events.since('s', 1, 0), undefined, 'a session that was forgotten');
    },
  },
  {
    name: 'too many events: the oldest are forgotten, and whoever misses one is told so',
    async check({ one, other }) {
      await one.events.begin('s', 1);
      for (let seq = 1; seq <= 600; seq++) await one.events.append('s', event(1, seq));
      expectSame(await other.events.since('s', 1, 1), undefined, 'a client that has missed forgotten events');
      const rest = await other.events.since('s', 1, 590);
      expectSame(
        rest?.events.map(({ seq }) => seq),
        [591, 592, 593, 594, 595, 596, 597, 598, 599, 600],
        'the latest events',
      );
    },
  },
  {
    name: 'messages reach all who have subscribed, in this process and in others, in order, and nobody after that',
    async check({ one, other }) {
      const heard: string[] = [];
      const stops = [
        one.bus.subscribe('t', (text) => heard.push(`one ${text}`)),
        other.bus.subscribe('t', (text) => heard.push(`other ${text}`)),
      ];
      other.bus.subscribe('elsewhere', (text) => heard.push(`elsewhere ${text}`));
      expectSame(await one.bus.publish('t', 'a'), 2, 'those who were reached');
      await one.bus.publish('t', 'b');
      await until(() => heard.length === 4, 'both messages for both');
      expectSame(
        heard.filter((text) => text.startsWith('other')),
        ['other a', 'other b'],
        'the order',
      );
      stops.forEach((stop) => stop());
      await until(() => true, '');
      for (let tries = 0; tries < 100 && (await one.bus.publish('t', 'c')) > 0; tries++)
        await new Promise((resolve) => setTimeout(resolve, 5));
      expectSame(await one.bus.publish('t', 'd'), 0, 'those who are left');
    },
  },
  {
    name: 'what is read after subscribing misses nothing that is published from then on',
    async check({ one, other }) {
      for (let round = 0; round < 20; round++) {
        const heard: string[] = [];
        const stop = one.bus.subscribe(`round ${round}`, (text) => heard.push(text));
        await one.sessions.load('any');
        await other.bus.publish(`round ${round}`, 'news');
        await until(() => heard.length === 1, 'the news');
        stop();
      }
    },
  },
  {
    name: 'tasks are found anywhere, listed in order for their owner alone, and forgotten',
    async check({ one, other }) {
      await one.tasks.save(task('t1', 'ines', 'working'));
      await new Promise((resolve) => setTimeout(resolve, 3));
      await other.tasks.save(task('t2', 'ines', 'working'));
      await one.tasks.save(task('t3', 'marek', 'working'));
      await one.tasks.save(task('t1', 'ines', 'completed'));
      expectSame(
        (await other.tasks.list('ines')).map(({ task: { taskId, status } }) => [taskId, status]).sort(),
        [
          ['t1', 'completed'],
          ['t2', 'working'],
        ],
        'her tasks',
      );
      expectSame((await other.tasks.load('t1'))?.result, { content: [] }, 'the result');
      await other.tasks.delete('t2');
      expectSame(
        (await one.tasks.list('ines')).map(({ task: { taskId } }) => taskId),
        ['t1'],
        'what is left',
      );
      expectSame(await one.tasks.load('t2'), undefined, 'a forgotten task');
    },
  },
  {
    name: 'what may only be done so often is counted for all processes together',
    async check({ one, other }) {
      const waits = [];
      for (const store of [one, other, one, other]) waits.push(await store.limits.take('calls of ines', 3, 60_000));
      expectSame(waits.slice(0, 3), [0, 0, 0], 'as often as is allowed');
      if (!(waits[3]! > 0 && waits[3]! <= 60_000)) throw new Error(`once more: expected milliseconds to wait, got ${waits[3]}`);
      expectSame(await one.limits.take('calls of marek', 3, 60_000), 0, 'another key');
      expectSame([await one.limits.take('short', 1, 20), (await one.limits.take('short', 1, 20)) > 0], [0, true], 'a short window');
      await new Promise((resolve) => setTimeout(resolve, 40));
      expectSame(await other.limits.take('short', 1, 20), 0, 'the next window');
    },
  },
  {
    name: 'state is replaced by the one who has read it last, and by nobody else',
    async check({ one, other }) {
      if (one.state === undefined || other.state === undefined) return; // kept in each process
      expectSame(await one.state.read('s'), { version: 0 }, 'nothing yet');
      expectSame(await one.state.swap('s', 0, { count: 1 }), true, 'the first');
      expectSame(await other.state.swap('s', 0, { count: 9 }), false, 'one that has read too early');
      const { version, value } = await other.state.read('s');
      expectSame(value, { count: 1 }, 'the value');
      expectSame(await other.state.swap('s', version, { count: 2 }), true, 'the next');
      await one.state.delete('s');
      expectSame((await other.state.read('s')).value, undefined, 'what was deleted');
    },
  },
  {
    name: 'a stream whose process has died is taken over once',
    async check({ one, other }) {
      const { takeOver } = one.events;
      if (takeOver === undefined || one.processes === undefined) return; // one process has it for itself
      const leave = await one.processes.join('p1');
      await one.events.begin('s', 1, { process: 'p1', requests: [7, 'b'] });
      expectSame((await other.events.since('s', 1, 0))?.holder, { process: 'p1', requests: [7, 'b'] }, 'who writes it');
      expectSame([await other.processes!.isAlive('p1'), await other.processes!.isAlive('p2')], [true, false], 'who lives');
      leave();
      const took = await Promise.all([one.events.takeOver!('s', 1, 'p1', 'p2'), other.events.takeOver!('s', 1, 'p1', 'p3')]);
      expectSame(took.filter(Boolean).length, 1, 'those who took it over');
    },
  },
];
