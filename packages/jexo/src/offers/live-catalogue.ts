import { collect, type Catalogue } from './catalogue.js';
import { defaultPageSize, type ServerDefinition } from './definition.js';
import type { Offer } from './offer.js';
import { selects, type Selection } from './selection.js';
import { closeParts, isSource, readContext, type ReadContext } from './source.js';

/** The lists of which a client can be told that they have changed. */
export type ListKind = 'tools' | 'resources' | 'prompts';

/** One offer that came, went or became another. */
export interface Difference {
  /** The list it is in. */
  readonly kind: ListKind;
  readonly before: Offer | undefined;
  readonly after: Offer | undefined;
}

/** What a server offers from moment to moment: read on first use, read again on request or when a source says that it has changed. */
export interface LiveCatalogue {
  /** What is switched on; undefined until the sources have been read. */
  readonly current: Catalogue | undefined;
  /** With what is switched off. */
  readonly whole: Catalogue | undefined;
  /** Reads the sources on first use. A failure goes to everybody who waits; the next call tries again. */
  get(context?: Partial<ReadContext>): Promise<Catalogue>;
  /** Reads again, after `next` has taken the definition's place when one is given. The old contents stay when a source fails. */
  reload(next?: ServerDefinition): Promise<Catalogue>;
  /** Switches offers on and off from now on; undefined switches everything on. */
  switch(selection: Selection | undefined): void;
  /** What is switched on; undefined when it is everything. */
  readonly switches: Selection | undefined;
  /** Watches the sources until `unwatch`; what has changed meanwhile is read at once. */
  watch(): void;
  unwatch(): void;
  /** Closes the sources and forgets what was read. */
  close(): Promise<void>;
}

/**
 * @param definition the definition that holds now
 * @param adopt makes another definition the one that holds
 * @param tell gets what differs after a reload or a switch
 */
// eslint-disable-next-line max-lines-per-function -- the operations share what was read
export function createLiveCatalogue(
  definition: () => ServerDefinition,
  adopt: (next: ServerDefinition) => void,
  tell: (changed: readonly Difference[]) => void,
): LiveCatalogue {
  let context: Partial<ReadContext> = {};
  let loading: Promise<Catalogue> | undefined;
  let current: Catalogue | undefined;
  /** With what is switched off. */
  let whole: Catalogue | undefined;
  let switches: Selection | undefined;
  let reloading: Promise<unknown> = Promise.resolve();
  let watching: (() => void)[] | undefined;
  let isStale = false;
  const load = ({ offers, pageSize = defaultPageSize }: ServerDefinition, how: Partial<ReadContext>) =>
    collect(offers, pageSize, readContext(how));
  /** Of the context only the settings outlive the read: who waited for the first one does not wait for a later one. */
  const settingsOnly = () => (context.settings === undefined ? {} : { settings: context.settings });

  const adoptCatalogue = (found: Catalogue): Catalogue => {
    whole = found;
    current = switches === undefined ? found : found.switched(selects(switches));
    return current;
  };

  const reloadNow = async (next: ServerDefinition | undefined): Promise<Catalogue> => {
    const before = current;
    const earlier = definition();
    const found = await load(next ?? earlier, settingsOnly());
    const isWatching = watching !== undefined;
    if (next !== undefined) {
      if (isWatching) self.unwatch();
      isStale = false;
      adopt(next);
    }
    const now = adoptCatalogue(found);
    loading = Promise.resolve(found);
    if (next !== undefined && isWatching) self.watch();
    if (before !== undefined) tell(differences(before, now));
    if (next !== undefined) await closeReplaced(earlier, next);
    return now;
  };

  const self: LiveCatalogue = {
    get current() {
      return current;
    },
    get whole() {
      return whole;
    },
    get(given = {}) {
      if (loading === undefined) {
        context = { ...context, ...given };
        const mine = load(definition(), context).then((found) => {
          if (loading === mine) adoptCatalogue(found);
          return found;
        });
        loading = mine;
        mine.catch(() => loading === mine && (loading = undefined));
      }
      return loading.then((found) => current ?? found);
    },
    switch(selection) {
      switches = selection;
      if (whole === undefined) return;
      const before = current!;
      tell(differences(before, adoptCatalogue(whole)));
    },
    get switches() {
      return switches;
    },
    reload(next) {
      // One after the other: the last one asked for is the one that stays.
      const mine = reloading.then(() => reloadNow(next));
      reloading = mine.catch(() => undefined);
      return mine;
    },
    watch() {
      if (watching !== undefined) return;
      // A source that changes while it is read says so once more.
      const changed = () => {
        self.reload().catch((error: unknown) => definition().onReloadFailed?.(error));
      };
      if (isStale) changed();
      isStale = false;
      watching = definition().offers.flatMap((part) => (isSource(part) && part.watch !== undefined ? [part.watch(changed)] : []));
    },
    unwatch() {
      for (const stop of watching ?? []) stop();
      isStale = (watching?.length ?? 0) > 0;
      watching = undefined;
    },
    async close() {
      self.unwatch();
      isStale = false;
      current = whole = undefined;
      loading = undefined;
      await closeParts(definition().offers);
    },
  };
  return self;
}

/** Sources that are in both definitions go on. */
async function closeReplaced(earlier: ServerDefinition, next: ServerDefinition): Promise<void> {
  const kept = new Set<unknown>(next.offers);
  try {
    await closeParts(earlier.offers.filter((part) => !kept.has(part)));
  } catch (error) {
    next.onReloadFailed?.(error); // the new sources serve already
  }
}

/** What came, went or became another between two catalogues. */
function differences(before: Catalogue, after: Catalogue): readonly Difference[] {
  const text = (offer: Offer | undefined) =>
    offer && JSON.stringify({ ...offer, ...('template' in offer && { template: offer.template.text }) });
  const among = (
    kind: ListKind,
    old: ReadonlyMap<string, { readonly offer: Offer }>,
    fresh: ReadonlyMap<string, { readonly offer: Offer }>,
  ) =>
    [...new Set([...old.keys(), ...fresh.keys()])].flatMap((key): Difference[] => {
      const [was, is] = [old.get(key)?.offer, fresh.get(key)?.offer];
      return was === is || text(was) === text(is) ? [] : [{ kind, before: was, after: is }];
    });
  return [
    ...among('tools', before.tools, after.tools),
    ...among('resources', before.resources, after.resources),
    ...among('resources', before.templates, after.templates),
    ...among('prompts', before.prompts, after.prompts),
  ];
}
