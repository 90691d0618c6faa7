import type { Answered } from '../client/answer-server.js';
import type { TalkEntry } from '../models/model.js';

/** Where a conversation is kept between requests. Implement it over any store. */
export interface Memory {
  /** What was said so far, oldest first. */
  entries(): Answered<readonly TalkEntry[]>;
  /** Adds what was said since. Called with whole exchanges: no call is without its result. */
  add(entries: readonly TalkEntry[]): Answered<void>;
  /** Forgets all of it. */
  clear(): Answered<void>;
}

/**
 * Keeps a conversation while the process runs.
 * @param before what it begins with
 */
export function memory(before: readonly TalkEntry[] = []): Memory {
  const kept = [...before];
  return {
    entries: () => [...kept],
    add: (entries) => void kept.push(...entries),
    clear: () => void (kept.length = 0),
  };
}

/** Whether a value is an entry of a conversation: what comes from a file or a browser's store may be anything. */
export function isTalkEntry(value: unknown): value is TalkEntry {
  if (typeof value !== 'object' || value === null) return false;
  const { role, text, calls, id, name } = value as Record<string, unknown>;
  if (role === 'user') return typeof text === 'string';
  if (role === 'tool') return typeof id === 'string' && typeof name === 'string' && typeof text === 'string';
  return role === 'assistant' && Array.isArray(calls) && (text === undefined || typeof text === 'string');
}

/**
 * The entries as models take them: from the first request on, each call with its result behind it, no result without its call. What was
 * left half by a process that was killed is dropped.
 */
export function wholeTalk(entries: readonly TalkEntry[]): TalkEntry[] {
  const first = entries.findIndex(({ role }) => role === 'user');
  const whole: TalkEntry[] = [];
  for (let at = Math.max(0, first); first >= 0 && at < entries.length; at++) {
    const entry = entries[at]!;
    if (entry.role === 'tool') continue;
    if (entry.role === 'user' || entry.calls.length === 0) {
      whole.push(entry);
      continue;
    }
    const results: TalkEntry[] = [];
    while (entries[at + results.length + 1]?.role === 'tool') results.push(entries[at + results.length + 1]!);
    const answered = new Set(results.map((result) => (result.role === 'tool' ? result.id : '')));
    const calls = entry.calls.filter(({ id }) => answered.has(id));
    const wanted = new Set(calls.map(({ id }) => id));
    if (calls.length > 0 || (entry.text ?? '') !== '') whole.push({ ...entry, calls });
    whole.push(...results.filter((result) => result.role === 'tool' && wanted.has(result.id)));
  }
  return whole;
}
