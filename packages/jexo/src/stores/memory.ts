import type { Clock } from '../engine/clock.js';
import { systemClock } from '../engine/clock.js';
import type { Bus, LimitStore, SessionRecord, SessionStore, StateStore, Store, TaskRecord, TaskStore } from '../engine/store.js';
import { isDone } from '../engine/task-entry.js';
import { memoryEvents, type EventLimits } from './memory-events.js';

/** The limits of a store in memory. */
export interface MemoryStoreOptions extends EventLimits {
  /** Default: the clock of the runtime. */
  readonly clock?: Clock;
}

/** Keys whose counts are remembered; beyond that the oldest are forgotten. */
const mostCounted = 10_000;

/**
 * Keeps everything in this process: what is served without another store uses one of its own. Give the same one to several
 * servings in one process, and a session that was begun at one goes on at another.
 */
export function memoryStore({ clock = systemClock, ...limits }: MemoryStoreOptions = {}): Store {
  return {
    sessions: memorySessions(),
    events: memoryEvents(limits),
    bus: memoryBus(),
    tasks: memoryTasks(),
    limits: memoryLimits(clock),
    state: memoryStates(),
    close: () => undefined,
  };
}

function memorySessions(): SessionStore {
  const records = new Map<string, SessionRecord>();
  return {
    save: (record) => void records.set(record.id, record),
    load: (id) => records.get(id),
    delete: (id) => void records.delete(id),
  };
}

function memoryBus(): Bus {
  const topics = new Map<string, Set<(message: string) => void>>();
  return {
    publish(topic, message) {
      const heard = topics.get(topic);
      for (const hear of heard ?? []) hear(message);
      return heard?.size ?? 0;
    },
    subscribe(topic, hear) {
      let listeners = topics.get(topic);
      if (listeners === undefined) topics.set(topic, (listeners = new Set()));
      listeners.add(hear);
      return () => {
        if (listeners.delete(hear) && listeners.size === 0 && topics.get(topic) === listeners) topics.delete(topic);
      };
    },
  };
}

export function memoryTasks(): TaskStore {
  const records = new Map<string, TaskRecord>();
  return {
    save(record) {
      const { taskId } = record.task;
      const before = records.get(taskId);
      if (before !== undefined && (isDone(before.task) || (before.run ?? 0) > (record.run ?? 0))) return false;
      records.set(taskId, record);
      return true;
    },
    load: (id) => records.get(id),
    list: (owner) => [...records.values()].filter((record) => record.owner === owner),
    delete: (id) => void records.delete(id),
  };
}

/** Values that handlers keep of sessions. */
export function memoryStates(): StateStore {
  const states = new Map<string, { readonly version: number; readonly text: string }>();
  return {
    read(session) {
      const found = states.get(session);
      return { version: found?.version ?? 0, value: found && (JSON.parse(found.text) as unknown) };
    },
    swap(session, version, value) {
      if ((states.get(session)?.version ?? 0) !== version) return false;
      states.set(session, { version: version + 1, text: JSON.stringify(value) });
      return true;
    },
    delete: (session) => void states.delete(session),
  };
}

/** Lets through at most so many in a window that begins with the first one. */
export function memoryLimits(clock: Clock): LimitStore {
  const windows = new Map<string, { startedAt: number; count: number }>();
  return {
    take(key, most, perMs) {
      const now = clock.now();
      let window = windows.get(key);
      if (window === undefined || now - window.startedAt >= perMs) {
        windows.delete(key); // what is counted again goes to the end, so that the oldest stand first
        if (windows.size >= mostCounted) windows.delete(windows.keys().next().value!);
        windows.set(key, (window = { startedAt: now, count: 0 }));
      }
      if (++window.count <= most) return 0;
      return Math.max(1, window.startedAt + perMs - now);
    },
  };
}
