/** Pages of a server that the person was sent to, by the ids the server gave them. */
export interface Pages {
  /** The person has agreed to open it. */
  opened(id: string): void;
  /** The server says that they are done there. False when nothing is known of it. */
  done(id: unknown): boolean;
  /** Resolves when the server says so, or has said so already. */
  whenDone(id: string): Promise<void>;
}

/** More pages than a person can have open; the oldest are forgotten. */
const mostPages = 1000;

export function createPages(): Pages {
  const open = new Set<string>();
  const finished = new Set<string>();
  const waiting = new Map<string, (() => void)[]>();
  const keep = (ids: Set<string>, id: string) => {
    ids.add(id);
    if (ids.size > mostPages) ids.delete(ids.values().next().value!);
  };
  return {
    opened: (id) => keep(open, id),
    done(id) {
      if (typeof id !== 'string' || !open.delete(id)) return false;
      keep(finished, id);
      for (const go of waiting.get(id) ?? []) go();
      waiting.delete(id);
      return true;
    },
    whenDone: (id) =>
      finished.has(id) ? Promise.resolve() : new Promise((resolve) => waiting.set(id, [...(waiting.get(id) ?? []), resolve])),
  };
}
