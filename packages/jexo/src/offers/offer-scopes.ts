import type { Caller } from '../engine/servable.js';
import { errorCodes, RpcError, type Params } from '../protocol/json-rpc.js';
import { isRecord } from '../protocol/is-record.js';
import type { Catalogue } from './catalogue.js';
import type { ServerDefinition } from './definition.js';
import type { Offer } from './offer.js';
import { selects } from './selection.js';
import { findResource } from './serve-offers.js';

type ScopeOf = (offer: Offer) => string | undefined;

const ownScope: ScopeOf = ({ scope }) => scope;
const rules = new WeakMap<object, ScopeOf>();

/** The scope that an offer is for: its own, else that of the first pattern it fits. */
export function scopeRule({ offerScopes }: ServerDefinition): ScopeOf {
  if (offerScopes === undefined) return ownScope;
  let rule = rules.get(offerScopes);
  if (rule === undefined) {
    const parts = Object.entries(offerScopes).map(([pattern, scope]) => ({ scope, fits: selects({ only: [pattern] }) }));
    rule = (offer) => offer.scope ?? parts.find(({ fits }) => fits(offer))?.scope;
    rules.set(offerScopes, rule);
  }
  return rule;
}

/** What a message is about: the offer that it wants to use. */
function offerOf(catalogue: Catalogue, method: unknown, params: Params): Offer | undefined {
  const { name, uri, ref } = params as { name?: unknown; uri?: unknown; ref?: { name?: unknown; uri?: unknown } };
  switch (method) {
    case 'tools/call':
      return catalogue.tools.get(name as string)?.offer;
    case 'prompts/get':
      return catalogue.prompts.get(name as string)?.offer;
    case 'resources/read':
    case 'resources/subscribe':
      return typeof uri === 'string' ? findResource(catalogue, uri)?.offer : undefined;
    case 'completion/complete':
      return catalogue.prompts.get(ref?.name as string)?.offer ?? catalogue.templates.get(ref?.uri as string)?.offer;
    default:
      return undefined;
  }
}

/** The scopes that a caller lacks for what messages ask for; none where offers that it may not use are hidden. */
export function missingScopes(
  catalogue: Catalogue,
  definition: ServerDefinition,
  messages: readonly unknown[],
  caller: Caller,
): readonly string[] {
  if (definition.stepUp !== true || caller.identity === undefined) return [];
  const rule = scopeRule(definition);
  const missing = messages.flatMap((message) => {
    const { method, params } = isRecord(message) ? message : {};
    const offer = offerOf(catalogue, method, isRecord(params) ? params : {});
    const scope = offer === undefined ? undefined : rule(offer);
    return scope === undefined || (caller.scopes?.includes(scope) ?? false) ? [] : [scope];
  });
  return [...new Set(missing)];
}

/** For transports that have no way of their own to say it. @throws RpcError -32003 */
export function requireScopes(catalogue: Catalogue, definition: ServerDefinition, method: string, params: Params, caller: Caller): void {
  const missing = missingScopes(catalogue, definition, [{ method, params }], caller);
  if (missing.length > 0) throw new RpcError(errorCodes.forbidden, `This needs the scope ${missing.join(' ')}`, { scopes: missing });
}
