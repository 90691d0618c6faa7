import type { Store } from '../engine/store.js';
import type { Selection } from './selection.js';

/** What concerns the servers of all processes that share a store. */
export type News = { readonly updated: string } | { readonly switch: Selection | null };

/** The way to the same server in other processes. */
export interface SharedNews {
  /** Tells the others. @returns the id of the news; undefined where there are no others */
  publish(news: News): string | undefined;
  /** Hears those of a store from now on. Gives how to leave. */
  join(store: Store): () => void;
}

/** @param name of the server: servers of other names may share the store @param hear gets what others tell */
export function shareNews(name: () => string, hear: (news: News, id: string) => void): SharedNews {
  const self = globalThis.crypto.randomUUID();
  const joined = new Map<Store, { count: number; readonly stop: () => void }>();
  const topic = () => `server ${name()}`;
  return {
    publish(news) {
      if (joined.size === 0) return undefined;
      const id = globalThis.crypto.randomUUID();
      for (const store of joined.keys()) {
        const told = store.bus.publish(topic(), JSON.stringify({ from: self, id, news }));
        // The store reports that it cannot be used; the sessions here are told all the same.
        if (told instanceof Promise) told.catch(() => undefined);
      }
      return id;
    },
    join(store) {
      const known = joined.get(store);
      if (known !== undefined) known.count++;
      else {
        const stop = store.bus.subscribe(topic(), (text) => {
          const { from, id, news } = JSON.parse(text) as { from: string; id: string; news: News };
          if (from !== self) hear(news, id);
        });
        joined.set(store, { count: 1, stop });
      }
      return () => {
        const found = joined.get(store);
        if (found === undefined || --found.count > 0) return;
        joined.delete(store);
        found.stop();
      };
    },
  };
}
