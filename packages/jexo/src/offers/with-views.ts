import type { Offer } from './offer.js';
import { isSource, type Source } from './source.js';
import { withPage, type ViewOffer } from './view.js';

/**
 * Gives views to tools that come from elsewhere: functions, a REST API, a database. Names that none of the parts has are passed over.
 *
 * @param views by the names of tools @returns the same offers and sources, whose tools have them
 * @example
 * defineServer({ name: 'apiary', version: '1.0.0', offers: withViews([wrapRest(registry)], { get_hive: view('hive', { file }) }) });
 */
export function withViews(parts: readonly (Offer | Source)[], views: Readonly<Record<string, ViewOffer>>): readonly (Offer | Source)[] {
  const give = (offer: Offer): Offer =>
    offer.kind === 'tool' && Object.hasOwn(views, offer.name) ? { ...offer, view: views[offer.name] } : offer;
  if (Object.keys(views).length === 0) return parts;
  return parts.map((part) => (isSource(part) ? viewed(part, views, give) : give(part)));
}

interface Frozen {
  readonly inner: unknown;
  readonly pages: Readonly<Record<string, string>>;
}

function viewed(source: Source, views: Readonly<Record<string, ViewOffer>>, give: (offer: Offer) => Offer): Source {
  return {
    ...source,
    async read(context) {
      const contents = await source.read(context);
      return { ...contents, offers: contents.offers.map(give) };
    },
    async freeze(context): Promise<Frozen> {
      const pages = await Promise.all(Object.values(views).map(async (view) => [view.uri, await view.page()] as const));
      return { inner: await source.freeze?.(context), pages: Object.fromEntries(pages) };
    },
    thaw(given) {
      const { inner, pages } = given as Frozen;
      const kept = new Map(Object.entries(pages));
      const own = Object.fromEntries(Object.entries(views).map(([name, view]) => [name, withPage(view, kept.get(view.uri)!)]));
      const [made] = withViews([inner === undefined || source.thaw === undefined ? source : source.thaw(inner)], own);
      return made as Source;
    },
  };
}
