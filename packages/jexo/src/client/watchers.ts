import { tell } from './listeners.js';

type Changed = (uri: string) => void;

/** Who watches which resource. */
export interface Watchers {
  uris(): readonly string[];
  /** True when nobody watched it before: then the server has to be told. */
  add(uri: string, changed: Changed): boolean;
  /** True when nobody watches it any more. */
  remove(uri: string, changed: Changed): boolean;
  /** Tells those who watch a resource, or one that it lies under. */
  updated(uri: string): void;
}

export function createWatchers(): Watchers {
  const watchers = new Map<string, Set<Changed>>();
  return {
    uris: () => [...watchers.keys()],
    add(uri, changed) {
      const known = watchers.get(uri);
      if (known === undefined) watchers.set(uri, new Set([changed]));
      else known.add(changed);
      return known === undefined;
    },
    remove(uri, changed) {
      const left = watchers.get(uri);
      if (!left?.delete(changed) || left.size > 0) return false;
      return watchers.delete(uri);
    },
    updated(uri) {
      for (const [subscribed, tasks] of watchers)
        if (uri === subscribed || uri.startsWith(subscribed.endsWith('/') ? subscribed : `${subscribed}/`))
          for (const task of tasks) tell(() => task(uri));
    },
  };
}
