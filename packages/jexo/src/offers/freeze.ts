import { JexoError } from '../errors.js';
import type { Offer } from './offer.js';
import { viewOf, withPage, type ViewOffer } from './view.js';
import { isSource, type ReadContext, type Source } from './source.js';

/** What a pack carries of one source: which it is, and what it gave. */
interface FrozenPart {
  readonly source: string;
  readonly frozen: unknown;
}
/** By the place of each part in its list; null for a part that needs nothing. */
export type FrozenParts = readonly (FrozenPart | null)[];

/** What a pack carries of these offers and sources, in their order. */
export function freezeParts(parts: readonly (Offer | Source)[], context: ReadContext): Promise<FrozenParts> {
  return Promise.all(
    parts.map(async (part) => {
      if (!isSource(part)) {
        const view = viewOf(part);
        return view === undefined ? null : { source: view.uri, frozen: await view.page() };
      }
      const frozen = await part.freeze?.(context);
      return frozen === undefined ? null : { source: part.name, frozen };
    }),
  );
}

/**
 * The same parts, reading from what `freezeParts` gave.
 * @throws JexoError JEXO_PACK when the parts are others than those that were frozen
 */
export function thawParts(parts: readonly (Offer | Source)[], frozen: FrozenParts): readonly (Offer | Source)[] {
  const views = new Map<string, ViewOffer>();
  return parts.map((part, index) => {
    const own = frozen[index];
    if (own == null) return part;
    const view = isSource(part) ? undefined : viewOf(part);
    if (view !== undefined && view.uri === own.source) {
      // The view of several tools stays one.
      const kept = views.get(view.uri) ?? withPage(view, own.frozen as string);
      views.set(view.uri, kept);
      return (part as Offer).kind === 'tool' ? ({ ...part, view: kept } as Offer) : kept;
    }
    if (!isSource(part) || part.name !== own.source || part.thaw === undefined)
      throw new JexoError('JEXO_PACK', `This pack was made of ${own.source}, but the server now offers ${part.name} in its place.`, {
        where: own.source,
        next: 'Describe the same offers wherever the module runs, and pack it again.',
      });
    return part.thaw(own.frozen);
  });
}
