import type { Served } from '../client/clients.js';
import { weigh } from '../models/stand-in-chooser.js';
import { estimateTokens } from '../models/tokens.js';
import type { Tool } from '../protocol/types.js';

/** What a model is given of a tool, in tokens. */
export const tokensOfTool = ({ name, description, inputSchema }: Tool): number => estimateTokens({ name, description, inputSchema });

/**
 * The tools a model is given: all of them while they cost no more than the budget; otherwise those in `kept`, and of the others the ones
 * that share the most telling words with the request, as many as fit.
 *
 * @param words the request, and what else says what is wanted
 * @param kept names that stay: what was called or found before
 */
export function pickTools<T extends Tool & Served>(
  tools: readonly T[],
  { words, kept, budget }: { readonly words: string; readonly kept: ReadonlySet<string>; readonly budget: number },
): readonly T[] {
  if (tools.reduce((sum, each) => sum + tokensOfTool(each), 0) <= budget) return tools;
  const byName = new Map(tools.map((each) => [each.name, each]));
  const wanted = [...tools.filter(({ name }) => kept.has(name)), ...weigh(words, tools).map(({ tool }) => byName.get(tool)!)];
  const picked = new Set<T>();
  let spent = 0;
  for (const each of wanted) {
    if (picked.has(each)) continue;
    spent += tokensOfTool(each);
    if (spent > budget) break;
    picked.add(each);
  }
  // In the order in which they were listed, so that a model's cache of its beginning holds.
  return tools.filter((each) => picked.has(each));
}

/** The tool by which a model finds those it was not given. */
export const finder = (name: string, hidden: number): Tool => ({
  name,
  description: `Finds tools by words. ${hidden} more tools than these are there; those that are found can be called from the next step on.`,
  inputSchema: {
    type: 'object',
    properties: { words: { type: 'string', description: 'What the tool should do, in plain words.' } },
    required: ['words'],
  },
  annotations: { readOnlyHint: true },
});

/** Answers the finder: the names that were found, and a text for the model. */
export function findTools(
  tools: readonly Tool[],
  words: unknown,
): { readonly names: readonly string[]; readonly text: string; readonly failed: boolean } {
  if (typeof words !== 'string' || words.trim() === '') return { names: [], text: 'Say in words what the tool should do.', failed: true };
  const found = weigh(words, tools).slice(0, 8);
  if (found.length === 0) return { names: [], text: 'No tool has these words. Try others.', failed: false };
  const lines = found.map(({ tool }) => {
    const [first = ''] = (tools.find(({ name }) => name === tool)?.description ?? '').split('\n');
    return `${tool}: ${first}`;
  });
  return { names: found.map(({ tool }) => tool), text: lines.join('\n'), failed: false };
}
