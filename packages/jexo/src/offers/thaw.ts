import { defineServer, type Server } from './define-server.js';
import { freezeParts, thawParts, type FrozenParts } from './freeze.js';
import { readContext } from './source.js';

/** What a pack carries of a server's sources. */
export function freezeServer({ definition }: Server): Promise<FrozenParts> {
  return freezeParts(definition.offers, readContext());
}

/**
 * The server, with sources that read from what `freezeServer` gave.
 * @throws JexoError JEXO_PACK when it offers something else than what was frozen
 */
export function thawServer({ definition }: Server, frozen: FrozenParts): Server {
  return defineServer({ ...definition, offers: thawParts(definition.offers, frozen) });
}
