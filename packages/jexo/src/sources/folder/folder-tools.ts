import { JexoError } from '../../errors.js';
import type { ToolOffer } from '../../offers/offer.js';
import { tool } from '../../offers/tool.js';
import type { Section } from './sections.js';
import { partsOf, uriOf } from './folder-uri.js';
import type { FolderState } from './wrap-folder.js';

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
export function folderTools(state: FolderState, name: string, about: string | undefined): ToolOffer[] {
  return [searchTool(state, name, about), readTool(state, name)];
}

function searchTool(state: FolderState, name: string, about: string | undefined): ToolOffer {
  const { scheme, index } = state;
  return tool(
    `search_${name}`,
    {
      title: `Search ${name}`,
      description: `Finds sections of the documents in ${name} by words.${about === undefined ? '' : ` ${about}`} Use before you answer from memory, and cite the URI. Words in quotes stand together; read_${name} gives a whole section.`,
      input: {
        type: 'object',
        properties: {
          words: { type: 'string', minLength: 1, maxLength: 400, description: 'what you look for' },
          limit: { type: 'integer', minimum: 1, maximum: 30, description: 'sections at most; 6 unless you say otherwise' },
          folder: { type: 'string', description: 'only documents in this folder' },
          budget,
        },
        required: ['words'],
        additionalProperties: false,
      },
      output: {
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
      },
      annotations: { readOnlyHint: true, openWorldHint: false },
    },
    ({ words, limit = 6, folder, budget: most = usualTokens }) => {
      const found = index.find(words, { limit, ...(folder !== undefined && { under: folder }) });
      const hits: { uri: string; heading: string; score: number; snippet: string }[] = [];
      let spent = 0;
      for (const { path, section, score, snippet } of found) {
        const hit = { uri: uriOf(scheme, path, section.anchor), heading: section.headings.join(' › ') || path, score, snippet };
        spent += tokens(JSON.stringify(hit));
        if (spent > most && hits.length > 0) break;
        hits.push(hit);
      }
      const note =
        found.length === 0
          ? `Nothing in ${index.files} documents has these words. Try fewer or other words.`
          : hits.length < found.length
            ? `${found.length - hits.length} more sections did not fit into ${most} tokens.`
            : undefined;
      return { hits, ...(note !== undefined && { note }) };
    },
  );
}

function readTool(state: FolderState, name: string): ToolOffer {
  const { scheme, index } = state;
  return tool(
    `read_${name}`,
    {
      title: `Read ${name}`,
      description: `Gives a section of a document in ${name} by the URI that search_${name} found, with as many of the sections around it as fit.`,
      input: {
        type: 'object',
        properties: { uri: { type: 'string', description: `as search_${name} gives it` }, budget },
        required: ['uri'],
        additionalProperties: false,
      },
      annotations: { readOnlyHint: true, openWorldHint: false },
    },
    ({ uri, budget: most = usualTokens }) => {
      const { path, anchor } = partsOf(uri, scheme);
      const found = index.section(path, anchor);
      if (found === undefined)
        throw new JexoError('JEXO_INPUT_INVALID', `There is no section ${uri}. Take a URI that search_${name} has answered with.`, {
          where: 'uri',
        });
      return around(found.all, found.at, most);
    },
  );
}

/** A section, with its neighbours as long as they fit; what was cut is told. */
function around(all: readonly Section[], at: number, most: number): string {
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
  const cut = [...(from > 0 ? [`${from} sections before`] : []), ...(to < all.length - 1 ? [`${all.length - 1 - to} sections after`] : [])];
  return (
    all
      .slice(from, to + 1)
      .map(({ text }) => text)
      .join('\n\n') + (cut.length > 0 ? `\n\n[cut: ${cut.join(', ')}]` : '')
  );
}
