import type { Caller } from '../engine/servable.js';
import type { TaskLimits } from '../engine/task-book.js';
import { JexoError } from '../errors.js';
import type { Icon, Implementation, ServerCapabilities } from '../protocol/types.js';
import type { Middleware } from './middleware.js';
import type { Offer } from './offer.js';
import { isSource, type Source } from './source.js';

/** What `defineServer` takes. */
export interface ServerDefinition {
  /** Programmatic name, shown to clients. */
  readonly name: string;
  /** Shown to clients. */
  readonly version: string;
  /** For people. */
  readonly title?: string;
  /** One short text: what this server is. */
  readonly description?: string;
  /** How to use the server; a client may put it before its model. */
  readonly instructions?: string;
  /** `https:` or `data:` images that clients may show. */
  readonly icons?: readonly Icon[];
  /** A page about the server. */
  readonly websiteUrl?: string;
  /** Offers written in place, and sources. */
  readonly offers: readonly (Offer | Source)[];
  /**
   * Declared to every client beside what the offers are for: features that both sides have agreed on outside the standard (Lifecycle,
   * "Capability Negotiation"). What a client declares is in `call.session.clientCapabilities`.
   */
  readonly capabilities?: Pick<ServerCapabilities, 'experimental' | 'extensions'>;
  /** Runs around every handler, outermost first. */
  readonly middleware?: readonly Middleware[];
  /**
   * Says who may see and use an offer. What a caller may not see is neither listed nor found: not by a call, a completion or a
   * subscription. It is asked once for each offer and caller, so its answer may depend on these two alone. Default: everybody sees all.
   *
   * @example
   * visible: (offer, caller) => !offer.tags?.includes('inspectors') || caller.identity === 'ines'
   */
  readonly visible?: (offer: Offer, caller: Caller) => boolean;
  /**
   * Scopes that callers need for offers, by name, pattern or tag; an offer's own `scope` goes first. Where nobody is asked who they are, scopes mean nothing.
   *
   * @example
   * offerScopes: { 'move_*': 'hives:write', 'tag:inspectors': 'hives:inspect' }
   */
  readonly offerScopes?: Readonly<Record<string, string>>;
  /**
   * True lists offers whose scope a caller lacks; a call is refused with 403 and says which scope it needs, so that clients can ask for it
   * (Authorization, "Scope Challenge Handling"). Default: such offers are hidden.
   */
  readonly stepUp?: boolean;
  /** Entries a page of a listing holds. Default 100. */
  readonly pageSize?: number;
  /** Tool calls one session may make in a minute. Default: any number. */
  readonly callsPerMinute?: number;
  /** Log messages one session gets in a second; for further ones it gets their number. Default: any number. */
  readonly logsPerSecond?: number;
  /** Requests that may be in flight at once, all clients together; further ones are refused. Default 10,000. */
  readonly maxCalls?: number;
  /** For tools that run as tasks. */
  readonly tasks?: TaskLimits;
  /**
   * True declares every kind of offer from the start, because later ones may come. Default: true when a source can change.
   */
  readonly changes?: boolean;
  /** Called when a source that said it had changed could not be read again; the old offers stay. Default: nothing is called. */
  readonly onReloadFailed?: (error: unknown) => void;
}

export const defaultPageSize = 100;
export const defaultMaxCalls = 10_000;

/** True when clients must be ready for any kind of offer. */
export function mayChange({ changes, offers }: ServerDefinition): boolean {
  return changes ?? offers.some((part) => isSource(part) && part.watch !== undefined);
}

export function infoOf({ name, version, title, description, icons, websiteUrl }: ServerDefinition): Implementation {
  return {
    name,
    version,
    ...(title !== undefined && { title }),
    ...(description !== undefined && { description }),
    ...(icons !== undefined && { icons }),
    ...(websiteUrl !== undefined && { websiteUrl }),
  };
}

/** @throws JexoError JEXO_DEFINITION when a field has the wrong kind */
export function checkDefinition(definition: ServerDefinition): void {
  const refuse = (field: string, wanted: string): never => {
    throw new JexoError('JEXO_DEFINITION', `defineServer: ${field} must be ${wanted}.`, { where: field });
  };
  if (typeof definition !== 'object' || definition === null) refuse('its argument', 'an object');
  if (typeof definition.name !== 'string' || definition.name === '') refuse('name', 'a text');
  if (typeof definition.version !== 'string' || definition.version === '') refuse('version', 'a text');
  if (!Array.isArray(definition.offers)) refuse('offers', 'a list of offers and sources');
  definition.offers.forEach((offer: unknown, index: number) => {
    const known = typeof offer === 'object' && offer !== null && ('kind' in offer || typeof (offer as Source).read === 'function');
    if (!known) refuse(`offers[${index}]`, 'made by tool(), resource(), template(), prompt(), wrapFunctions() or another source');
  });
  const { pageSize, callsPerMinute, visible, offerScopes } = definition;
  if (offerScopes !== undefined && !Object.values(offerScopes).every((each) => typeof each === 'string' && each !== ''))
    refuse('offerScopes', 'scopes by names or patterns of offers');
  if (callsPerMinute !== undefined && !(callsPerMinute >= 1)) refuse('callsPerMinute', 'a number from 1');
  if (pageSize !== undefined && (!Number.isInteger(pageSize) || pageSize < 1)) refuse('pageSize', 'a whole number from 1');
  if (visible !== undefined && typeof visible !== 'function') refuse('visible', 'a function of an offer and a caller');
}
