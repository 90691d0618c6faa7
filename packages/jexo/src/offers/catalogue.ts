import { JexoError } from '../errors.js';
import { errorCodes, RawJson, RpcError } from '../protocol/json-rpc.js';
import { shapeTool } from '../protocol/shape-down.js';
import type { Revision } from '../protocol/revisions.js';
import type { Tool } from '../protocol/types.js';
import type { Offer, Omission, Source, ToolOffer } from './offer.js';

/** One offer with the source it came from. */
export interface Entry<O extends Offer = Offer> {
  readonly offer: O;
  readonly source: string;
}

/** All that a server offers at one moment. It never changes: a reload makes a new one. */
export interface Catalogue {
  readonly tools: ReadonlyMap<string, Entry<ToolOffer>>;
  readonly omitted: readonly Omission[];
  /** One page of tools/list, serialised once per revision. */
  toolsPage(revision: Revision, cursor: unknown): RawJson;
}

/** Offers written in place form a source of their own. */
export const inPlace = 'server';

/**
 * Reads every source and puts the offers together.
 * @throws JexoError JEXO_NAME_CLASH when two offers share a name, with both places
 */
export async function collect(parts: readonly (Offer | Source)[], pageSize: number): Promise<Catalogue> {
  const tools = new Map<string, Entry<ToolOffer>>();
  const omitted: Omission[] = [];
  const add = (offer: Offer, source: string) => {
    const earlier = tools.get(offer.name);
    if (earlier !== undefined) {
      throw new JexoError(
        'JEXO_NAME_CLASH',
        `Two tools are called ${offer.name}: one from ${place(earlier)}, one from ${place({ offer, source })}.`,
        {
          where: offer.where ?? source,
        },
      );
    }
    tools.set(offer.name, { offer, source });
  };
  const read = await Promise.all(
    parts.map(async (part) =>
      'read' in part ? { source: part.name, found: await part.read() } : { source: inPlace, found: { offers: [part], omitted: [] } },
    ),
  );
  for (const { source, found } of read) {
    for (const offer of found.offers) add(offer, source);
    omitted.push(...(found.omitted ?? []));
  }
  const entries = [...tools.values()];
  return {
    tools,
    omitted,
    toolsPage: pager('tools', pageSize, (revision) => entries.map(({ offer }) => shapeTool(toolOf(offer), revision))),
  };
}

function place({ offer, source }: Entry): string {
  return offer.where === undefined ? source : `${source} (${offer.where})`;
}

export function toolOf(offer: ToolOffer): Tool {
  const { name, title, description, annotations, icons, meta } = offer;
  return {
    name,
    ...(title !== undefined && { title }),
    ...(description !== undefined && { description }),
    inputSchema: offer.input.json,
    ...(offer.output !== undefined && { outputSchema: offer.output.json }),
    ...(annotations !== undefined && { annotations }),
    ...(icons !== undefined && { icons }),
    ...(meta !== undefined && { _meta: meta }),
  };
}

/** Pages of one listing. A cursor is where the next page starts; clients must not look into it (Server utilities, "Pagination"). */
function pager(
  key: string,
  pageSize: number,
  list: (revision: Revision) => readonly object[],
): (revision: Revision, cursor: unknown) => RawJson {
  const written = new Map<string, RawJson>();
  return (revision, cursor) => {
    const cacheKey = cursor === undefined ? revision : `${revision} ${JSON.stringify(cursor)}`;
    const known = written.get(cacheKey);
    if (known !== undefined) return known;
    const items = list(revision);
    const start = cursor === undefined ? 0 : readCursor(key, cursor);
    if (cursor !== undefined && (start === undefined || start <= 0 || start >= items.length || start % pageSize !== 0)) {
      throw new RpcError(errorCodes.invalidParams, `Invalid cursor: ${JSON.stringify(cursor)} is not one this list has given`);
    }
    const from = start ?? 0;
    const end = from + pageSize;
    const page = new RawJson(
      JSON.stringify({ [key]: items.slice(from, end), ...(end < items.length && { nextCursor: writeCursor(key, end) }) }),
    );
    written.set(cacheKey, page);
    return page;
  };
}

function writeCursor(key: string, start: number): string {
  return `${key}.${start.toString(36)}`;
}

function readCursor(key: string, cursor: unknown): number | undefined {
  const found = typeof cursor === 'string' && cursor.startsWith(`${key}.`) ? cursor.slice(key.length + 1) : '';
  return /^[0-9a-z]{1,8}$/.test(found) ? Number.parseInt(found, 36) : undefined;
}
