import type { ApprovalStore, KeptApproval, Memory, TalkEntry } from 'jexo';

const prefix = 'assistant.';

/** What this browser keeps under a name; `fallback` where nothing, or something else, is kept. */
export function load<T>(name: string, fallback: T, fits: (value: unknown) => boolean = () => true): T {
  try {
    const text = localStorage.getItem(prefix + name);
    const value: unknown = text === null ? undefined : JSON.parse(text);
    return value !== undefined && fits(value) ? (value as T) : fallback;
  } catch {
    return fallback; // private windows may keep nothing
  }
}

/** False when the browser has no room for it, or keeps nothing. */
export function save(name: string, value: unknown): boolean {
  try {
    localStorage.setItem(prefix + name, JSON.stringify(value));
    return true;
  } catch {
    return false;
  }
}

/** The conversation, kept in this browser. */
export const browserMemory: Memory = {
  entries: () => load<readonly TalkEntry[]>('talk', [], Array.isArray),
  add(entries) {
    if (!save('talk', [...load<readonly TalkEntry[]>('talk', [], Array.isArray), ...entries]))
      throw new Error('This browser has no room for the conversation.');
  },
  clear: () => void save('talk', []),
};

/** Approvals, kept in this browser. */
export const browserApprovals: ApprovalStore = {
  get: (key) => load<Record<string, KeptApproval>>('approvals', {})[key],
  set: (key, approval) => void save('approvals', { ...load<Record<string, KeptApproval>>('approvals', {}), [key]: approval }),
};
