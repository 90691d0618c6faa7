import { glob } from './choose.js';
import type { Offer } from './offer.js';

/** Which offers something is for. */
export interface Selection {
  /** Only what one of these names: a name, `list_*`, or `tag:scales`. Default: all that it can be for. */
  readonly only?: readonly string[];
  /** All but what these name. */
  readonly except?: readonly string[];
}

/** Tells whether an offer is selected; what was found for one is kept. */
export function selects({ only, except = [] }: Selection): (offer: Offer) => boolean {
  const known = new WeakMap<Offer, boolean>();
  const matches = (offer: Offer) => (pattern: string) =>
    pattern.startsWith('tag:') ? (offer.tags?.includes(pattern.slice(4)) ?? false) : glob(pattern).test(offer.name);
  return (offer) => {
    let found = known.get(offer);
    if (found === undefined) {
      found = (only === undefined || only.some(matches(offer))) && !except.some(matches(offer));
      known.set(offer, found);
    }
    return found;
  };
}
