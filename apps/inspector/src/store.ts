import { useSyncExternalStore } from 'react';
import { BenchTrouble, follow, loadBench, saveNotes, troubleOf, unlock } from './api';
import type { CallSheet, ConnectionState, Question, StderrLine, Trouble } from './model';
import { TraceBook, type TraceRow } from './trace-rows';

export type Place = 'bench' | 'model' | 'sheets' | 'connections';
export type Draft = Record<string, unknown>;

/** What outlives a reload, and a restart of the bench. */
export interface Notes {
  readonly place: Place;
  /** The connection that is looked at, by its number. */
  readonly active?: number;
  /** What lies on the bench, by connection as it is shown: `tool mix_syrup`. */
  readonly chosen: Readonly<Record<string, string>>;
  /** Input that was typed, by connection and item. */
  readonly drafts: Readonly<Record<string, Draft>>;
  /** Names and descriptions that are tried out, by connection and tool. */
  readonly edits: Readonly<Record<string, Readonly<Record<string, { name?: string; description?: string }>>>>;
  /** The sheet that is looked at. */
  readonly sheet?: string;
}

export interface Store extends Notes {
  readonly phase: 'opening' | 'open' | 'locked' | 'lost';
  readonly trouble?: Trouble;
  /** The model that can be asked, beside the stand-in. */
  readonly model?: string;
  /** Where views are shown. */
  readonly sandbox?: string;
  /** How often a watched resource has changed, by connection and URI. */
  readonly updated: ReadonlyMap<string, number>;
  readonly connections: readonly ConnectionState[];
  readonly calls: ReadonlyMap<number, CallSheet>;
  readonly questions: readonly Question[];
  readonly stderr: readonly StderrLine[];
  readonly rows: readonly TraceRow[];
}

export const traceBook = new TraceBook();
let store: Store = {
  phase: 'opening',
  place: 'bench',
  connections: [],
  updated: new Map(),
  calls: new Map(),
  questions: [],
  stderr: [],
  rows: [],
  chosen: {},
  drafts: {},
  edits: {},
};
const listeners = new Set<() => void>();

function set(change: Partial<Store>): void {
  store = { ...store, ...change };
  listeners.forEach((listener) => listener());
}

export function useStore<T>(select: (store: Store) => T): T {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => select(store),
  );
}

/** The connection that is looked at. */
export function useActive(): ConnectionState | undefined {
  return useStore(({ connections, active }) => connections.find(({ id }) => id === active) ?? connections[0]);
}

let saving: ReturnType<typeof setTimeout> | undefined;

/** Changes what outlives a reload; it is written down a moment later, or when the page goes. */
export function keep(change: Partial<Notes>): void {
  set(change);
  clearTimeout(saving);
  saving = setTimeout(writeNotes, 300);
}
function writeNotes(): void {
  clearTimeout(saving);
  saving = undefined;
  const { place, active, chosen, drafts, edits, sheet } = store;
  saveNotes(JSON.stringify({ place, active, chosen, drafts, edits, sheet })).catch(() => undefined); // the banner says when the bench is gone
}
addEventListener('pagehide', () => saving !== undefined && writeNotes());
export function keepDraft(key: string, draft: Draft): void {
  keep({ drafts: { ...store.drafts, [key]: draft } });
}
export function choose(connection: ConnectionState, item: string): void {
  keep({ place: 'bench', active: connection.id, chosen: { ...store.chosen, [connection.shown]: item } });
}

function readNotes(text: string): Partial<Notes> {
  if (text === '') return {};
  try {
    return JSON.parse(text) as Partial<Notes>;
  } catch {
    return {}; // notes of another version; a person loses a draft
  }
}

function replace<T extends { readonly id: number }>(list: readonly T[], item: T): T[] {
  return list.some(({ id }) => id === item.id) ? list.map((each) => (each.id === item.id ? item : each)) : [...list, item];
}

const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

/** Opens the bench and follows it for as long as the page is there; a bench that went away is looked for again. */
export async function start(): Promise<void> {
  try {
    await unlock();
  } catch (error) {
    return set({ phase: 'locked', trouble: troubleOf(error) });
  }
  for (let attempt = 0; ; attempt++) {
    try {
      const { connections, calls, questions, stderr, notes, model, sandbox } = await loadBench();
      const { trouble: _, ...rest } = store;
      store = { ...rest, ...(store.phase === 'opening' && readNotes(notes)) };
      set({
        phase: 'open',
        connections,
        calls: new Map(calls.map((call) => [call.id, call])),
        questions,
        stderr,
        ...(model !== undefined && { model }),
        ...(sandbox !== undefined && { sandbox }),
      });
      attempt = 0;
      await follow(
        store.rows.at(-1)?.entry.seq ?? 0,
        {
          connection: (state) => set({ connections: replace(store.connections, state) }),
          gone: (gone) => set({ connections: store.connections.filter(({ id }) => id !== gone) }),
          call: (call) => set({ calls: new Map(store.calls).set(call.id, call) }),
          question: (question) => set({ questions: replace(store.questions, question).filter(({ state }) => state === 'open') }),
          updated({ connection, uri }) {
            const key = `${connection} ${uri}`;
            set({ updated: new Map(store.updated).set(key, (store.updated.get(key) ?? 0) + 1) });
          },
          stderr: (line) => set({ stderr: [...store.stderr, line].slice(-2000) }),
          wire(entries) {
            traceBook.add(entries);
            set({ rows: traceBook.rows });
          },
        },
        new AbortController().signal,
      );
    } catch (error) {
      const trouble = troubleOf(error);
      if (error instanceof BenchTrouble && trouble.code === 'JEXO_LOCKED') return set({ phase: 'locked', trouble });
    }
    set({
      phase: 'lost',
      trouble: {
        code: 'JEXO_CONNECT',
        message: 'The bench has stopped answering.',
        next: 'Start it again with jexo inspect, and open the address it prints.',
      },
    });
    await pause(Math.min(500 * 2 ** attempt, 8000));
  }
}
