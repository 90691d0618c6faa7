import type { Caller } from '../engine/servable.js';
import type { ServerDefinition } from './definition.js';
import type { Offer } from './offer.js';
import { scopeRule } from './offer-scopes.js';

/** Says what a caller may see and use. What it says no to is neither listed nor found. */
export type Sees = (offer: Offer, caller: Caller) => boolean;

/**
 * What a caller may see: what the definition lets it see, what its scopes reach, and what it asked to be narrowed to.
 * @returns undefined when that is everything
 */
export function sightOf(definition: ServerDefinition, caller: Caller, hasScopes: boolean): Sees | undefined {
  const { visible, offerScopes, stepUp = false } = definition;
  const hides = !stepUp && caller.identity !== undefined && (hasScopes || offerScopes !== undefined);
  if (visible === undefined && caller.narrowedTo === undefined && !hides) return undefined;
  const scopeOf = scopeRule(definition);
  return (offer, who) => (!hides || reaches(scopeOf(offer), who)) && isWithin(offer, who) && (visible?.(offer, who) ?? true);
}

/** An offer with a scope is for callers who have it. Where nobody is asked who they are, scopes mean nothing. */
function reaches(scope: string | undefined, { identity, scopes }: Caller): boolean {
  return scope === undefined || identity === undefined || (scopes?.includes(scope) ?? false);
}

function isWithin({ tags }: Offer, { narrowedTo }: Caller): boolean {
  return narrowedTo === undefined || narrowedTo.some((tag) => tags?.includes(tag) ?? false);
}
