import { randomUUID } from 'node:crypto';
import { printFault } from '../../engine/faults.js';
import type {
  Bus,
  EventStore,
  KeptEvent,
  LimitStore,
  SessionRecord,
  SessionStore,
  StateStore,
  Store,
  StreamRest,
  TaskRecord,
  TaskStore,
} from '../../engine/store.js';
import { readAddress } from './address.js';
import { RedisConnection } from './connection.js';
import { RedisQueues } from './task-queue.js';

/** How much a Redis keeps, and how long. */
export interface RedisStoreOptions {
  /** Stands before every key and topic, so that several applications can share one Redis. Default: that of the URL, else `jexo:`. */
  readonly prefix?: string;
  /** Milliseconds after which a session that nobody uses is forgotten. Default 24 hours. */
  readonly sessionTtlMs?: number;
  /** Events kept for each session, so that a lost connection can be resumed. Default 500. */
  readonly maxKeptEvents?: number;
  /** Bytes of events kept for each session. Default 1 MiB. */
  readonly maxKeptBytes?: number;
  /** Milliseconds that one command may take. Default 2,000. */
  readonly commandTimeoutMs?: number;
  /** Called with faults of the connection. Default: printed to stderr. */
  readonly onFault?: (error: unknown, reference: string) => void;
}

/** Streams that have ended, remembered for those who missed their end. */
const maxEnded = 64;
const day = 86_400_000;
/** Times the usual time that what is only written down may take: a Redis that hangs for seconds loses nothing of it. */
const patient = 15;
/** A process that has not been heard from for so long is dead. */
const aliveMs = 6000;
/** How often a process says that it lives. */
const beatMs = 2000;

/**
 * Keeps sessions, events, tasks, limits and state in a Redis 7, so that any process may answer any request. Needs the package `redis`. Keys of a session
 * share a hash tag.
 *
 * While the Redis cannot be reached, new sessions are refused with 503; calls of sessions that a process already carries go on without what needs the store.
 *
 * @param url `redis://…`, or `rediss://…` for TLS; `redis+cluster://one:7000,two:7000`; `redis+sentinel://one:26379,two:26379/main`. With
 *   `?prefix=apiary:` the prefix of keys.
 * @throws JexoError JEXO_USAGE for another URL. When it is first used: JEXO_PACKAGE_MISSING, JEXO_STORE
 * @example
 * await serveHttp(apiary, { store: redis('redis://127.0.0.1:6379') });
 */
export function redis(url: string, options: RedisStoreOptions = {}): Store {
  const address = readAddress(url);
  const { prefix = address.prefix ?? 'jexo:', commandTimeoutMs = 2000, onFault = printFault } = options;
  const connection = new RedisConnection(address, { commandTimeoutMs, onFault: (error) => onFault(error, 'store') });
  const named = { ...options, prefix, ttl: options.sessionTtlMs ?? day };
  const gaps = new Set<() => void>();
  connection.onGap = () => gaps.forEach((hear) => hear());
  const queues = new RedisQueues(connection, prefix, (error) => onFault(error, 'store'));
  const processes = processesIn(connection, prefix, (error) => onFault(error, 'store'));
  return {
    sessions: sessionsIn(connection, named),
    events: eventsIn(connection, named),
    bus: busOf(connection, prefix, gaps),
    tasks: tasksIn(connection, prefix),
    limits: limitsIn(connection, prefix),
    state: stateIn(connection, named),
    processes,
    queue: (server) => queues.of(server),
    get isReachable() {
      return connection.isReachable !== false;
    },
    async close() {
      processes.stop();
      await queues.close();
      await connection.close();
    },
  };
}

type Named = RedisStoreOptions & { readonly prefix: string; readonly ttl: number };

/** A field for each part that changes by itself: two processes that change different ones do not undo each other's work. */
function fieldsOf({ subscriptions, pages, ...rest }: SessionRecord): Record<string, string> {
  return {
    ...Object.fromEntries(Object.entries(rest).map(([name, value]) => [name, JSON.stringify(value ?? null)])),
    ...Object.fromEntries(subscriptions.map((uri) => [`sub ${uri}`, '1'])),
    ...Object.fromEntries(pages.map((id) => [`page ${id}`, '1'])),
  };
}

function recordOf(fields: Readonly<Record<string, string>>): SessionRecord | undefined {
  if (fields.id === undefined) return undefined;
  const after = (start: string) => Object.keys(fields).flatMap((name) => (name.startsWith(start) ? [name.slice(start.length)] : []));
  const plain = Object.entries(fields).filter(([name]) => !/^(?:sub|page) /.test(name));
  const values = plain.map(([name, text]) => [name, (JSON.parse(text) as unknown) ?? undefined] as const);
  return { ...(Object.fromEntries(values) as unknown as SessionRecord), subscriptions: after('sub '), pages: after('page ') };
}

/** What this process has last written of so many sessions is remembered, to write only what has changed. */
const mostRemembered = 50_000;

function sessionsIn(connection: RedisConnection, { prefix, ttl }: Named): SessionStore {
  const key = (id: string) => `${prefix}{${id}}:session`;
  const written = new Map<string, Readonly<Record<string, string>>>();
  const remember = (id: string, fields: Readonly<Record<string, string>>) => {
    written.delete(id);
    if (written.size >= mostRemembered) written.delete(written.keys().next().value!);
    written.set(id, fields);
  };
  return {
    async save(record) {
      const fields = fieldsOf(record);
      const before = written.get(record.id) ?? {};
      remember(record.id, fields);
      const changed = Object.entries(fields).filter(([name, value]) => before[name] !== value);
      const gone = Object.keys(before).filter((name) => !(name in fields));
      await connection.run((client) => {
        const batch = client.multi();
        if (changed.length > 0) batch.hSet(key(record.id), Object.fromEntries(changed));
        if (gone.length > 0) batch.hDel(key(record.id), gone);
        return batch.pExpire(key(record.id), ttl).exec();
      });
    },
    async load(id) {
      const [fields] = (await connection.run((client) => client.multi().hGetAll(key(id)).pExpire(key(id), ttl).exec())) as unknown as [
        Record<string, string>,
      ];
      const record = recordOf({ ...fields });
      if (record !== undefined) remember(id, fieldsOf(record));
      return record;
    },
    async delete(id) {
      written.delete(id);
      await connection.run((client) => client.del(key(id)));
    },
    async touch(id) {
      await connection.run((client) => client.pExpire(key(id), ttl));
    },
  };
}

function eventsIn(connection: RedisConnection, { prefix, ttl, maxKeptEvents = 500, maxKeptBytes = 1024 * 1024 }: Named): EventStore {
  const keys = (id: string) => [`${prefix}{${id}}:events`, `${prefix}{${id}}:streams`];
  const marks = (id: string) => keys(id)[1]!;
  return {
    async begin(id, stream, holder) {
      const by = holder === undefined ? '' : `${holder.process} ${JSON.stringify(holder.requests)}`;
      await connection.run(
        (client) =>
          client
            .multi()
            .hSet(marks(id), { [`${stream}.last`]: '0', [`${stream}.by`]: by })
            .pExpire(marks(id), ttl)
            .exec(),
        patient,
      );
    },
    async append(id, { stream, seq, text }) {
      await connection.script('append', keys(id), [stream, seq, text, maxKeptEvents, maxKeptBytes, ttl], patient);
    },
    async end(id, stream) {
      await connection.script('end', [marks(id)], [stream, maxEnded], patient);
    },
    async since(id, stream, seq): Promise<StreamRest | undefined> {
      const found = (await connection.script('since', keys(id), [stream, seq])) as readonly string[] | null;
      if (found === null) return undefined;
      const [ended, by = '', ...rest] = found;
      const events: KeptEvent[] = [];
      for (let at = 0; at < rest.length; at += 2) events.push({ stream, seq: Number(rest[at]), text: rest[at + 1]! });
      const [, process, requests] = /^(\S+) (.*)$/.exec(by) ?? [];
      return {
        events,
        isEnded: ended === '1',
        ...(process !== undefined && { holder: { process, requests: JSON.parse(requests!) as (string | number)[] } }),
      };
    },
    async takeOver(id, stream, from, to) {
      return (await connection.script('takeOver', [marks(id)], [stream, from, to])) === 1;
    },
    async forget(id) {
      await connection.run((client) => client.del(keys(id)));
    },
  };
}

function busOf(connection: RedisConnection, prefix: string, gaps: Set<() => void>): Bus {
  const named = (topic: string) => `${prefix}bus:${topic}`;
  return {
    publish: (topic, message) => connection.publish(named(topic), message, patient),
    subscribe: (topic, hear) => connection.subscribe(named(topic), hear),
    onGap(hear) {
      gaps.add(hear);
      return () => gaps.delete(hear);
    },
  };
}

function tasksIn(connection: RedisConnection, prefix: string): TaskStore {
  const key = (id: string) => `${prefix}{${id}}:task`;
  const own = (owner: string) => `${prefix}tasks:${owner}`;
  const load = async (id: string): Promise<TaskRecord | undefined> => {
    const text = await connection.run((client) => client.hGet(key(id), 'record'));
    return text === null || text === undefined ? undefined : (JSON.parse(text) as TaskRecord);
  };
  return {
    async save(record) {
      const { taskId, ttl, createdAt } = record.task;
      const begun = Date.parse(createdAt);
      const left = Math.max(1, ttl === null ? day : begun + ttl - Date.now());
      const done = ['completed', 'failed', 'cancelled'].includes(record.task.status) ? 1 : 0;
      if (
        (await connection.script(
          'saveTask',
          [key(taskId)],
          [JSON.stringify(record), done, left, record.run ?? 0],
          done === 1 ? patient : 1,
        )) === 0
      )
        return false;
      await connection.run((client) =>
        client
          .multi()
          .zAdd(own(record.owner), { score: begun, value: taskId })
          .pExpire(own(record.owner), day, 'GT')
          .pExpire(own(record.owner), day, 'NX')
          .exec(),
      );
      return true;
    },
    load,
    async list(owner) {
      const ids = await connection.run((client) => client.zRange(own(owner), 0, -1));
      const found = await Promise.all(ids.map(async (id) => [id, await load(id)] as const));
      const expired = found.flatMap(([id, record]) => (record === undefined ? [id] : []));
      if (expired.length > 0) await connection.run((client) => client.zRem(own(owner), expired));
      return found.flatMap(([, record]) => (record === undefined ? [] : [record]));
    },
    async delete(id) {
      const record = await load(id);
      await connection.run((client) => client.del(key(id)));
      if (record !== undefined) await connection.run((client) => client.zRem(own(record.owner), id));
    },
  };
}

function limitsIn(connection: RedisConnection, prefix: string): LimitStore {
  return {
    take: async (key, most, perMs) => Number(await connection.script('take', [`${prefix}limit:${key}`], [most, perMs])),
  };
}

function stateIn(connection: RedisConnection, { prefix, ttl }: Named): StateStore {
  const key = (id: string) => `${prefix}{${id}}:state`;
  return {
    async read(id) {
      const [version, value] = await connection.run((client) => client.hmGet(key(id), ['v', 'value']));
      return { version: Number(version ?? 0), value: value === null || value === undefined ? undefined : (JSON.parse(value) as unknown) };
    },
    async swap(id, version, value) {
      const next = await connection.script('swap', [key(id)], [version, JSON.stringify(value), ttl]);
      return next !== 0;
    },
    async delete(id) {
      await connection.run((client) => client.del(key(id)));
    },
  };
}

function processesIn(connection: RedisConnection, prefix: string, onFault: (error: unknown) => void) {
  const key = (id: string) => `${prefix}process:${id}`;
  const timers = new Map<string, NodeJS.Timeout>();
  const beat = (id: string) => connection.run((client) => client.set(key(id), '1', { expiration: { type: 'PX', value: aliveMs } }));
  return {
    self: randomUUID().slice(0, 8),
    /** Says from now on that a process lives. */
    async join(id: string): Promise<() => void> {
      const timer = setInterval(() => void beat(id).catch(() => undefined), beatMs);
      timer.unref();
      timers.set(id, timer);
      await beat(id).catch(onFault);
      return () => {
        clearInterval(timer);
        timers.delete(id);
        connection.run((client) => client.del(key(id))).catch(() => undefined); // it ends by itself
      };
    },
    isAlive: async (id: string) => timers.has(id) || (await connection.run((client) => client.exists(key(id)))) === 1,
    stop(): void {
      for (const timer of timers.values()) clearInterval(timer);
      timers.clear();
    },
  };
}
