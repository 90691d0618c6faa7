import { JexoError } from '../../errors.js';
import type { ToolOffer } from '../../offers/offer.js';
import { tool } from '../../offers/tool.js';
import type { IndexProgress } from './build-index.js';
import { partsOf, uriOf } from './folder-uri.js';
import type { Found } from './folder-index.js';
import type { FolderSearch, SearchWay } from './search-folder.js';
import type { Section } from './sections.js';
import { snippetOf } from './words.js';
import { counted } from '../../protocol/counted.js';

/** What the tools of a folder work on. */
export interface Searched {
  readonly scheme: string;
  /** As it stands in the names of the tools. */
  readonly name: string;
  readonly about: string | undefined;
  readonly search: FolderSearch;
  /** Names in front matter with some of their values. */
  readonly matter: Readonly<Record<string, readonly string[]>>;
  readonly hasMeaning: boolean;
  /** The text of a part of a file, when a URI asks for one. */
  part(uri: string): Promise<string | undefined>;
}

/** About as many tokens as a text costs a model: four characters make one. */
const tokens = (text: string) => Math.ceil(text.length / 4);
const usualTokens = 1200;

const budget = {
  type: 'integer',
  minimum: 50,
  maximum: 20_000,
  description: `tokens the answer may take; ${usualTokens} unless you say otherwise`,
} as const;

/** `search_<name>` finds sections, `read_<name>` gives one with its neighbours. */
export function folderTools(searched: Searched): ToolOffer[] {
  return [searchTool(searched), readTool(searched)];
}

const day = (what: string) => ({ type: 'string', format: 'date', description: what }) as const;

/** What a search is asked, with what this folder's documents can be narrowed by. */
function inputOf({ matter, hasMeaning }: Searched) {
  const names = Object.entries(matter).filter(([name]) => name !== 'title' && name !== 'date');
  const known = names.map(([name, values]) => `${name}${values.length === 0 ? '' : ` (${values.join(', ')})`}`).slice(0, 8);
  return {
    type: 'object',
    properties: {
      words: { type: 'string', minLength: 1, maxLength: 400, description: 'what you look for' },
      limit: { type: 'integer', minimum: 1, maximum: 30, description: 'sections at most; 6 unless you say otherwise' },
      folder: { type: 'string', description: 'only documents in this folder' },
      ...(known.length > 0 && {
        where: {
          type: 'object',
          description: `only documents with these values in their front matter: ${known.join('; ')}`,
          additionalProperties: { type: ['string', 'number', 'boolean'] },
        },
      }),
      since: day('only documents of this day and later'),
      until: day('only documents of this day and earlier'),
      ...(hasMeaning && {
        by: { type: 'string', enum: ['both', 'words', 'meaning'], description: 'how sections are found; by both unless you say otherwise' },
      }),
      budget,
    },
    required: ['words'],
    additionalProperties: false,
  } as const;
}

const output = {
  type: 'object',
  properties: {
    hits: {
      type: 'array',
      items: {
        type: 'object',
        properties: {
          uri: { type: 'string' },
          heading: { type: 'string', description: 'the headings it is under' },
          score: { type: 'number' },
          snippet: { type: 'string' },
        },
        required: ['uri', 'heading', 'score', 'snippet'],
      },
    },
    note: { type: 'string' },
  },
  required: ['hits'],
} as const;

interface Asked {
  readonly words: string;
  readonly limit?: number;
  readonly folder?: string;
  readonly where?: Readonly<Record<string, string | number | boolean>>;
  readonly since?: string;
  readonly until?: string;
  readonly by?: SearchWay;
  readonly budget?: number;
}

function searchTool(searched: Searched): ToolOffer {
  const { scheme, search, name, about } = searched;
  return tool(
    `search_${name}`,
    {
      title: `Search ${name}`,
      description: `Finds sections of the documents in ${name} by words${searched.hasMeaning ? ' and meaning' : ''}.${about === undefined ? '' : ` ${about}`} Use before you answer from memory, and cite the URI. Words in quotes stand together; read_${name} gives a whole section.`,
      input: inputOf(searched),
      output,
      annotations: { readOnlyHint: true, openWorldHint: false },
    },
    async (input, call) => {
      const { words, limit = 6, folder, by = 'both', budget: most = usualTokens, ...narrowed } = input as Asked;
      const { found, documents, notes } = await search.find(words, {
        ...narrowed,
        limit,
        ...(folder !== undefined && { under: folder }),
        by,
        signal: call.signal,
        onProgress: ({ done, total }: IndexProgress) => call.progress(done, total, 'building the index'),
      });
      const { hits, cut } = within(found, most, scheme);
      const told = [
        ...notes,
        ...(found.length === 0 ? [`Nothing in ${counted(documents, 'document')} has these words. Try fewer or other words.`] : []),
        ...(cut > 0 ? [`${counted(cut, 'more section')} did not fit into ${most} tokens.`] : []),
      ];
      return { hits, ...(told.length > 0 && { note: told.join(' ') }) };
    },
  );
}

interface Hit {
  readonly uri: string;
  readonly heading: string;
  readonly score: number;
  readonly snippet: string;
}

/** As many of the hits as fit, the first in any case. */
function within(found: readonly Found[], most: number, scheme: string): { readonly hits: Hit[]; readonly cut: number } {
  const hits: Hit[] = [];
  let spent = 0;
  for (const { path, section, score, stems } of found) {
    const hit = {
      uri: uriOf(scheme, path, section.anchor),
      heading: section.headings.join(' › ') || path,
      score,
      snippet: snippetOf(section.text, stems),
    };
    spent += tokens(JSON.stringify(hit));
    if (spent > most && hits.length > 0) break;
    hits.push(hit);
  }
  return { hits, cut: found.length - hits.length };
}

function readTool({ scheme, search, name, part }: Searched): ToolOffer {
  return tool(
    `read_${name}`,
    {
      title: `Read ${name}`,
      description: `Gives a section of a document in ${name} by the URI that search_${name} found, with as many of the sections around it as fit.`,
      input: {
        type: 'object',
        properties: {
          uri: { type: 'string', description: `as search_${name} gives it; ?lines=1-200 at its end gives those lines of the file` },
          budget,
        },
        required: ['uri'],
        additionalProperties: false,
      },
      annotations: { readOnlyHint: true, openWorldHint: false },
    },
    async ({ uri, budget: most = usualTokens }) => {
      const lines = await part(uri);
      if (lines !== undefined) return around([{ text: lines }], 0, most);
      const { path, anchor } = partsOf(uri, scheme);
      const all = await search.sections(path);
      const at = all?.findIndex((each) => each.anchor === anchor) ?? -1;
      // A document's own URI is its beginning.
      const from = at < 0 && anchor === '' && all !== undefined && all.length > 0 ? 0 : at;
      if (all === undefined || from < 0)
        throw new JexoError('JEXO_INPUT_INVALID', `There is no section ${uri}. Take a URI that search_${name} has answered with.`, {
          where: 'uri',
        });
      return around(all, from, most);
    },
  );
}

/** A section, with its neighbours as long as they fit; what was cut is told. */
function around(all: readonly Pick<Section, 'text'>[], at: number, most: number): string {
  const own = all[at]!.text;
  if (tokens(own) > most)
    return `${own.slice(0, most * 4)}\n\n[cut: the section has about ${tokens(own)} tokens, and ${most} were asked for]`;
  let [from, to] = [at, at];
  let left = most - tokens(own);
  for (let isGrowing = true; isGrowing;) {
    isGrowing = false;
    for (const next of [to + 1, from - 1]) {
      const cost = all[next] === undefined ? Infinity : tokens(all[next].text);
      if (cost > left) continue;
      left -= cost;
      if (next > to) to = next;
      else from = next;
      isGrowing = true;
    }
  }
  const cut = [
    ...(from > 0 ? [`${counted(from, 'section')} before`] : []),
    ...(to < all.length - 1 ? [`${counted(all.length - 1 - to, 'section')} after`] : []),
  ];
  return (
    all
      .slice(from, to + 1)
      .map(({ text }) => text)
      .join('\n\n') + (cut.length > 0 ? `\n\n[cut: ${cut.join(', ')}]` : '')
  );
}
