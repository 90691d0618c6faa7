import { setTimeout as pauseFor } from 'node:timers/promises';
import { messageOf } from '../../errors.js';
import { millisOf, type KeptReading, type LiveAccess, type LiveReading, type LiveValue } from './live-value.js';

/** A point of a value's history. */
export interface LivePoint {
  readonly at: number;
  readonly value: unknown;
}

/** Limits on what is kept and told. */
export interface BoardLimits {
  /** Points of history kept of each value. */
  readonly points: number;
  /** Values at most. */
  readonly values: number;
  /** Milliseconds between two notifications of one value; the newest wins. */
  readonly everyMs: number;
  /** Milliseconds between two looks at values that are polled. */
  readonly pollMs: number;
}

/** The live values of a source: what there is, its last readings and their history. */
export interface LiveBoard {
  /** Asks again what there is. */
  refresh(): Promise<void>;
  readonly values: ReadonlyMap<string, LiveValue>;
  /** Values beyond the limit. */
  readonly omitted: number;
  reading(path: string, signal: AbortSignal): Promise<KeptReading | undefined>;
  history(path: string): readonly LivePoint[];
  /** Calls `changed` when the value at this path, or one below it, has changed; at most once in `everyMs`. */
  watch(path: string, changed: () => void): () => void;
  onList(changed: () => void): () => void;
  close(): void;
}

/** A list that keeps its last points. */
class Ring {
  private readonly kept: LivePoint[] = [];
  private start = 0;
  constructor(private readonly most: number) {}
  add(point: LivePoint): void {
    if (this.kept.length < this.most) this.kept.push(point);
    else {
      this.kept[this.start] = point;
      this.start = (this.start + 1) % this.most;
    }
  }
  all(): LivePoint[] {
    return [...this.kept.slice(this.start), ...this.kept.slice(0, this.start)];
  }
}

const listEveryMs = 1000;

// eslint-disable-next-line max-lines-per-function -- the operations share the readings
export function liveBoard(access: LiveAccess, limits: BoardLimits, now: () => number = Date.now): LiveBoard {
  let values = new Map<string, LiveValue>();
  let omitted = 0;
  const readings = new Map<string, KeptReading>();
  const histories = new Map<string, Ring>();
  const watchers = new Map<string, Set<() => void>>();
  const listeners = new Set<() => void>();
  let stop: (() => void) | undefined;
  let starting: Promise<void> | undefined;
  let isClosed = false;
  const keep = (path: string, { value, at }: LiveReading, isRetained = false): KeptReading => {
    const device = millisOf(at);
    const reading: KeptReading = { value, received: now(), ...(device !== undefined && { device }), isRetained };
    const before = readings.get(path);
    readings.set(path, reading);
    let ring = histories.get(path);
    if (ring === undefined) histories.set(path, (ring = new Ring(limits.points)));
    ring.add({ at: isRetained ? (device ?? reading.received) : reading.received, value });
    if (before === undefined || !Object.is(before.value, value)) notify(path);
    return reading;
  };
  const notify = (path: string) => {
    if (watchers.size === 0) return;
    // Those who watch `tank1` want to know of `tank1/level` too.
    for (let part = path; part !== ''; part = part.slice(0, Math.max(0, part.lastIndexOf('/'))))
      for (const each of watchers.get(part) ?? []) each();
  };
  const push = (path: string, reading: LiveReading & { readonly isRetained?: boolean }) => {
    if (isClosed || !values.has(path)) return;
    keep(path, reading, reading.isRetained);
  };
  const listChanged = thinned(() => {
    for (const each of listeners) each();
  }, listEveryMs);
  const start = async () => {
    if (access.watch !== undefined) {
      stop = await access.watch(push, listChanged);
      if (isClosed) stop();
      return;
    }
    const controller = new AbortController();
    stop = () => controller.abort();
    void poll(controller.signal);
  };
  /** Values without `watch` are looked at in turn, so that they have a history and subscribers hear of changes. */
  const poll = async (signal: AbortSignal): Promise<void> => {
    while (!signal.aborted) {
      await pauseFor(limits.pollMs, undefined, { signal, ref: false }).catch(() => undefined);
      for (const path of values.keys()) {
        if (signal.aborted) return;
        try {
          keep(path, await access.read(path, signal));
        } catch {
          // who reads the value is told
        }
      }
    }
  };
  return {
    async refresh() {
      isClosed = false;
      const listed = await access.list();
      checkList(listed);
      values = new Map(listed.slice(0, limits.values).map((each) => [each.path, each]));
      omitted = Math.max(0, listed.length - limits.values);
      for (const path of readings.keys())
        if (!values.has(path)) {
          readings.delete(path);
          histories.delete(path);
        }
      starting ??= start();
      await starting;
    },
    get values() {
      return values;
    },
    get omitted() {
      return omitted;
    },
    async reading(path, signal) {
      // A source that tells of changes has told of the last one: what was pushed is what there is.
      const known = readings.get(path);
      if (access.watch !== undefined && known !== undefined) return known;
      const read = await access.read(path, signal);
      return read.value === undefined ? undefined : keep(path, read);
    },
    history: (path) => histories.get(path)?.all() ?? [],
    watch(path, changed) {
      const told = thinned(changed, limits.everyMs);
      const all = watchers.get(path) ?? new Set();
      watchers.set(path, all);
      all.add(told);
      return () => {
        told.cancel();
        all.delete(told);
        if (all.size === 0) watchers.delete(path);
      };
    },
    onList(changed) {
      listeners.add(changed);
      return () => void listeners.delete(changed);
    },
    close() {
      isClosed = true;
      listChanged.cancel();
      stop?.();
      stop = undefined;
      starting = undefined;
    },
  };
}

/** Calls `work` at once, and then at most once in `ms`, the last time in any case. */
function thinned(work: () => void, ms: number): { (): void; cancel(): void } {
  let timer: NodeJS.Timeout | undefined;
  let isWaiting = false;
  const run = () => {
    isWaiting = false;
    timer = setTimeout(() => {
      timer = undefined;
      if (isWaiting) run();
    }, ms);
    timer.unref();
    work();
  };
  const told = () => {
    if (timer === undefined) run();
    else isWaiting = true;
  };
  return Object.assign(told, {
    cancel() {
      clearTimeout(timer);
      timer = undefined;
      isWaiting = false;
    },
  });
}

/** @throws Error for a list with a path that cannot be one */
function checkList(listed: readonly LiveValue[]): void {
  if (!Array.isArray(listed)) throw new Error('list() must give a list of values.');
  const seen = new Set<string>();
  for (const { path } of listed) {
    if (typeof path !== 'string' || !/^[^/\s](?:[^\u0000-\u001f]*[^/])?$/.test(path) || path.includes('//'))
      throw new Error(`list() gave the path ${JSON.stringify(path)}. A path is parts joined by slashes: tank1/level.`);
    if (seen.has(path)) throw new Error(`list() gave the path ${path} twice.`);
    seen.add(path);
  }
}

/** What went wrong with one value, for whoever has asked for several. */
export const faultOf = (error: unknown): string => `It could not be read: ${messageOf(error)}`;
