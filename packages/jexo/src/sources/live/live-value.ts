import type { JsonSchema } from '../../protocol/json-schema.js';

/** A value that changes by itself: a tank's level, the state of a machine. */
export interface LiveValue {
  /** Parts joined by slashes: `tank1/level`. */
  readonly path: string;
  /** What it is called. */
  readonly title?: string;
  /** What it is, in a sentence. */
  readonly description?: string;
  /** The unit of its numbers: `kg`. */
  readonly unit?: string;
  /** Words for its values: `{ 0: 'idle', 1: 'filling' }`. */
  readonly words?: Readonly<Record<string, string>>;
  /** Seconds after which a value that did not come again is stale. Default: never. */
  readonly staleAfter?: number;
  /** What may be written to it. A value without it is only read. */
  readonly write?: JsonSchema;
}

/** A value at a moment. */
export interface LiveReading {
  /** Any JSON value. */
  readonly value: unknown;
  /** When it was taken, by the clock of the device: a date, an ISO text, or milliseconds since 1970. Default: now. */
  readonly at?: Date | string | number;
}

/** How live values are reached. */
export interface LiveAccess {
  /** What there is. It is asked when the source is read, and again after `listChanged`. */
  list(): readonly LiveValue[] | Promise<readonly LiveValue[]>;
  /** The value now. */
  read(path: string, signal: AbortSignal): LiveReading | Promise<LiveReading>;
  /** Calls `push` for every new value, and `listChanged` when `list` would give others; returns how to stop. Without it, values are polled. */
  watch?(push: (path: string, reading: LiveReading) => void, listChanged: () => void): (() => void) | Promise<() => void>;
  /** Writes a value that `list` gave a `write` schema. */
  write?(path: string, value: unknown, signal: AbortSignal): void | Promise<void>;
}

/** A reading that was taken in. */
export interface KeptReading {
  readonly value: unknown;
  /** By our clock, in milliseconds since 1970. */
  readonly received: number;
  /** By the clock of the device, if it said so. */
  readonly device?: number;
  /** True for the last value before we listened: it may be old. */
  readonly isRetained: boolean;
}

/** A difference of clocks that is worth a word. */
const clockToleranceMs = 5000;

/** Milliseconds since 1970 of a date in any form; undefined for anything else. Numbers under 10^11 are seconds. */
export function millisOf(at: unknown): number | undefined {
  if (at instanceof Date) return Number.isNaN(at.getTime()) ? undefined : at.getTime();
  if (typeof at === 'number' && Number.isFinite(at)) return Math.abs(at) < 1e11 ? at * 1000 : at;
  if (typeof at !== 'string') return undefined;
  const read = /^-?\d+(?:\.\d+)?$/.test(at) ? millisOf(Number(at)) : Date.parse(at);
  return read === undefined || Number.isNaN(read) ? undefined : read;
}

/** What a model reads of a value. */
export interface ShownValue {
  readonly path: string;
  readonly title?: string;
  readonly value?: unknown;
  readonly unit?: string;
  readonly means?: string;
  readonly at?: string;
  readonly ageSeconds?: number;
  readonly isStale?: boolean;
  readonly note?: string;
}

/** A value as a model reads it: with unit, words, time and age. */
export function showValue(described: LiveValue, reading: KeptReading | undefined, now: number, isConnected: boolean): ShownValue {
  const { path, title, unit, words, staleAfter } = described;
  const base = { path, ...(title !== undefined && { title }) };
  if (reading === undefined) return { ...base, note: 'It has had no value yet.' };
  const { value, received, device, isRetained } = reading;
  const means = meaningOf(value, words);
  const apart = device === undefined || isRetained ? 0 : device - received;
  const isClockOff = Math.abs(apart) > clockToleranceMs;
  // Of a retained value only the device knows how old it is. A clock that is off is not asked.
  const taken = isRetained ? device : isClockOff ? received : (device ?? received);
  const ageSeconds = taken === undefined ? undefined : Math.max(0, Math.round((now - taken) / 100) / 10);
  const isStale = staleAfter !== undefined && (ageSeconds === undefined || ageSeconds > staleAfter);
  const notes = [
    ...(isRetained && device === undefined ? ['The last value before we listened; how old it is, is not known.'] : []),
    ...(isClockOff
      ? [`The clock of the device is ${Math.round(Math.abs(apart) / 1000)} s ${apart > 0 ? 'ahead of' : 'behind'} ours.`]
      : []),
    ...(isConnected ? [] : ['The connection is lost: it may have changed since.']),
  ];
  return {
    ...base,
    value,
    ...(unit !== undefined && { unit }),
    ...(means !== undefined && { means }),
    ...(taken !== undefined && { at: new Date(taken).toISOString() }),
    ...(ageSeconds !== undefined && { ageSeconds }),
    ...((isStale || !isConnected) && { isStale: true }),
    ...(notes.length > 0 && { note: notes.join(' ') }),
  };
}

/** The word for a value. */
export function meaningOf(value: unknown, words: LiveValue['words']): string | undefined {
  if (words === undefined || (typeof value === 'object' && value !== null)) return undefined;
  const key = String(value);
  return Object.hasOwn(words, key) ? words[key] : undefined;
}
