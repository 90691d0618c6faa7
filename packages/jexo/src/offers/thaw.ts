import { defineServer, speaksTo, type Server } from './define-server.js';
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
export function thawServer(server: Server, frozen: FrozenParts): Server {
  const thawed = defineServer({ ...server.definition, offers: thawParts(server.definition.offers, frozen) });
  speaksTo(server, thawed);
  return thawed;
}
