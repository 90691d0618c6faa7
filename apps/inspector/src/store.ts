import { useSyncExternalStore } from 'react';
import { BenchTrouble, follow, loadBench, unlock } from './api';
import type { BenchState, CallSheet, StderrLine, Trouble, WireEntry } from './model';

export interface Store {
  readonly phase: 'opening' | 'open' | 'locked' | 'lost';
  readonly trouble?: Trouble;
  readonly bench?: BenchState;
  readonly calls: ReadonlyMap<number, CallSheet>;
  readonly stderr: readonly StderrLine[];
  readonly wire: readonly WireEntry[];
}

/** Messages kept in the page; the bench itself keeps more, and exports all. */
const maxWire = 5000;
let store: Store = { phase: 'opening', calls: new Map(), stderr: [], wire: [] };
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
      const { state, calls, stderr } = await loadBench();
      set({ phase: 'open', bench: state, calls: new Map(calls.map((call) => [call.id, call])), stderr });
      attempt = 0;
      await follow(
        store.wire.at(-1)?.seq ?? 0,
        {
          state: (bench) => set({ bench }),
          call: (call) => set({ calls: new Map(store.calls).set(call.id, call) }),
          stderr: (line) => set({ stderr: [...store.stderr, line].slice(-500) }),
          wire: (entries) => set({ wire: [...store.wire, ...entries].slice(-maxWire) }),
        },
        new AbortController().signal,
      );
    } catch (error) {
      const trouble = troubleOf(error);
      if (error instanceof BenchTrouble && trouble.code === 'JEXO_USAGE') return set({ phase: 'locked', trouble });
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

function troubleOf(error: unknown): Trouble {
  if (error instanceof BenchTrouble) return error.trouble;
  return { code: 'JEXO_INTERNAL', message: error instanceof Error ? error.message : String(error) };
}
