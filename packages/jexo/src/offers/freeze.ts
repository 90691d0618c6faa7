import { JexoError } from '../errors.js';
import type { Offer } from './offer.js';
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
      const frozen = isSource(part) ? await part.freeze?.(context) : undefined;
      return frozen === undefined ? null : { source: part.name, frozen };
    }),
  );
}

/**
 * The same parts, reading from what `freezeParts` gave.
 * @throws JexoError JEXO_PACK when the parts are others than those that were frozen
 */
export function thawParts(parts: readonly (Offer | Source)[], frozen: FrozenParts): readonly (Offer | Source)[] {
  return parts.map((part, index) => {
    const own = frozen[index];
    if (own == null) return part;
    if (!isSource(part) || part.name !== own.source || part.thaw === undefined)
      throw new JexoError('JEXO_PACK', `This pack was made of ${own.source}, but the server now offers ${part.name} in its place.`, {
        where: own.source,
        next: 'Describe the same offers wherever the module runs, and pack it again.',
      });
    return part.thaw(own.frozen);
  });
}
