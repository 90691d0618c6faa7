import { JexoError } from '../errors.js';
import { nearest } from './nearest.js';
import type { Offer } from './offer.js';
import { isSource, type Source } from './source.js';
import { withPage, type ViewOffer } from './view.js';

type Views = Readonly<Record<string, ViewOffer>>;

/**
 * Gives views to tools that come from elsewhere: functions, a REST API, a database.
 *
 * @param views by the names of tools @returns the same offers and sources, whose tools have them
 * @throws when they are read: JexoError JEXO_DEFINITION for a name that none of the parts has
 * @example
 * defineServer({ name: 'apiary', version: '1.0.0', offers: withViews([wrapRest(registry)], { get_hive: view('hive', { file }) }) });
 */
export function withViews(parts: readonly (Offer | Source)[], views: Views): readonly (Offer | Source)[] {
  if (Object.keys(views).length === 0) return parts;
  const own = parts.flatMap((part) => (isSource(part) || part.kind !== 'tool' ? [] : [part.name]));
  const sources = parts.filter(isSource);
  const seen = new Map<Source, readonly string[]>();
  /** Once all have been read, the names that none of them has are an error. */
  const note = (source: Source, offers: readonly Offer[]) => {
    seen.set(
      source,
      offers.flatMap((offer) => (offer.kind === 'tool' ? [offer.name] : [])),
    );
    if (seen.size === sources.length) requireAll(views, [...own, ...[...seen.values()].flat()]);
  };
  if (sources.length === 0) requireAll(views, own);
  return parts.map((part) => (isSource(part) ? viewed(part, views, (offers) => note(part, offers)) : give(part, views)));
}

function requireAll(views: Views, names: readonly string[]): void {
  for (const name of Object.keys(views)) {
    if (names.includes(name)) continue;
    const like = nearest(name, names);
    throw new JexoError('JEXO_DEFINITION', `The view ${views[name]!.uri} is for the tool ${name}, which is not offered here.`, {
      where: views[name]!.uri,
      ...(like !== undefined && { next: `Did you mean ${like}?` }),
    });
  }
}

function give(offer: Offer, views: Views): Offer {
  return offer.kind === 'tool' && Object.hasOwn(views, offer.name) ? { ...offer, view: views[offer.name] } : offer;
}

interface Frozen {
  readonly inner: unknown;
  readonly pages: Readonly<Record<string, string>>;
}

function viewed(source: Source, views: Views, note: (offers: readonly Offer[]) => void): Source {
  return {
    ...source,
    async read(context) {
      const contents = await source.read(context);
      note(contents.offers);
      return { ...contents, offers: contents.offers.map((offer) => give(offer, views)) };
    },
    async freeze(context): Promise<Frozen> {
      const pages = await Promise.all(Object.values(views).map(async (view) => [view.uri, await view.page()] as const));
      return { inner: await source.freeze?.(context), pages: Object.fromEntries(pages) };
    },
    thaw(given) {
      const { inner, pages } = given as Frozen;
      const own = Object.fromEntries(Object.entries(views).map(([name, view]) => [name, withPage(view, pages[view.uri]!)]));
      // Names were looked for when it was packed.
      return viewed(inner === undefined || source.thaw === undefined ? source : source.thaw(inner), own, () => {});
    },
  };
}
