import type { KeptEvent, SessionRecord, Store, TaskRecord } from '../../src/index.js';

/** What several processes would share: nothing but texts, as in a database. */
export interface Texts {
  readonly values: Map<string, string>;
  readonly listeners: Set<(topic: string, message: string) => void>;
}
export const texts = (): Texts => ({ values: new Map(), listeners: new Set() });

/** A store that a third party would write: it answers later, and keeps nothing but texts. */
export function textStore({ values, listeners }: Texts): Store {
  const later = <T>(value: T) => new Promise<T>((resolve) => setImmediate(resolve, value));
  const get = <T>(key: string): T | undefined => (values.has(key) ? (JSON.parse(values.get(key)!) as T) : undefined);
  const set = (key: string, value: unknown) => later(void values.set(key, JSON.stringify(value)));
  const streamKey = (session: string, stream: number) => `events ${session} ${stream}`;
  const counts = new Map<string, number>();
  return {
    sessions: {
      save: (record) => set(`session ${record.id}`, record),
      load: (id) => later(get<SessionRecord>(`session ${id}`)),
      delete: (id) => later(void values.delete(`session ${id}`)),
    },
    events: {
      begin: (session, stream) => set(streamKey(session, stream), { events: [], isEnded: false }),
      append(session, event) {
        const kept = get<{ events: KeptEvent[]; isEnded: boolean }>(streamKey(session, event.stream))!;
        return set(streamKey(session, event.stream), { ...kept, events: [...kept.events, event] });
      },
      end: (session, stream) => set(streamKey(session, stream), { ...get<object>(streamKey(session, stream)), isEnded: true }),
      since(session, stream, seq) {
        const kept = get<{ events: KeptEvent[]; isEnded: boolean }>(streamKey(session, stream));
        const isKnown = kept !== undefined && seq <= (kept.events.at(-1)?.seq ?? 0);
        return later(isKnown ? { ...kept, events: kept.events.filter((event) => event.seq > seq) } : undefined);
      },
      forget: (session) => later([...values.keys()].forEach((key) => key.startsWith(`events ${session} `) && values.delete(key))),
    },
    bus: {
      async publish(topic, message) {
        await later(undefined);
        const before = reached;
        for (const hear of [...listeners]) hear(topic, message);
        return reached - before;
      },
      subscribe(topic, hear) {
        const listener = (of: string, message: string) => {
          if (of !== topic) return;
          reached++;
          hear(message);
        };
        listeners.add(listener);
        return () => listeners.delete(listener);
      },
    },
    tasks: {
      save: (record) => set(`task ${record.task.taskId}`, record),
      load: (id) => later(get<TaskRecord>(`task ${id}`)),
      list: (owner) =>
        later(
          [...values.keys()]
            .filter((key) => key.startsWith('task '))
            .map((key) => get<TaskRecord>(key)!)
            .filter((record) => record.owner === owner),
        ),
      delete: (id) => later(void values.delete(`task ${id}`)),
    },
    limits: {
      take(key, most) {
        counts.set(key, (counts.get(key) ?? 0) + 1);
        return later(counts.get(key)! <= most ? 0 : 60_000);
      },
    },
    close: () => undefined,
  };
}

/** Subscribers that were reached, over all stores. */
let reached = 0;
