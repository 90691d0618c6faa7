import { requiredOf } from '../protocol/json-schema.js';
import MiniSearch from 'minisearch';
import type { Candidate, MatchedWord, Model } from './model.js';
import type { JsonSchema, Tool } from '../protocol/types.js';
import { readInput } from './read-input.js';
import { stemOf, wordsOf } from './words.js';

/**
 * A stand-in for a model that chooses tools. It is none: it weighs the words a request shares with the names (three times),
 * descriptions and parameters of the tools by BM25, over stems and without words that say nothing, and fills in arguments from
 * numbers, choices and patterns in the request. It chooses none when too few of the request's words are known. The same request
 * always leads to the same tool. After one call it is done.
 */
export const standInChooser: Model = {
  name: 'stand-in',
  isStandIn: true,
  next({ tools, talk }) {
    const last = talk.at(-1);
    if (last?.role !== 'user')
      return Promise.resolve({ calls: [], text: '(stand-in) The tool has answered; there is nothing more to choose.' });
    const candidates = weigh(last.text, tools);
    const [best] = candidates;
    if (best === undefined) return Promise.resolve({ calls: [], text: '(stand-in) No tool has enough of these words.', candidates });
    return Promise.resolve({ calls: [{ id: `call-${talk.length}`, name: best.tool, input: best.input }], candidates });
  },
};

/** Of a request's telling words, the share that must be known for a tool to be chosen at all. */
const leastKnown = 0.25;

interface Entry {
  readonly id: number;
  readonly name: string;
  readonly description: string;
  readonly parameters: string;
}
const fields = ['name', 'description', 'parameters'] as const;

/** The tools that share words with a request, the likeliest first. */
export function weigh(request: string, tools: readonly Tool[]): Candidate[] {
  const index = new MiniSearch<Entry>({
    fields: [...fields],
    tokenize: wordsOf,
    processTerm: (word) => stemOf(word) ?? null,
    searchOptions: { boost: { name: 3 }, prefix: false, fuzzy: false },
  });
  index.addAll(
    tools.map(({ name, description = '', inputSchema }, id) => ({ id, name, description, parameters: parameterWords(inputSchema) })),
  );
  const telling = new Map(
    wordsOf(request).flatMap((word) => (stemOf(word) === undefined ? [] : [[stemOf(word)!, word.toLowerCase()] as const])),
  );
  const found = index.search(request).map(({ id, score, match }) => {
    const tool = tools[id as number]!;
    const words = [...telling].flatMap(([stem, word]): MatchedWord[] =>
      match[stem] === undefined ? [] : [{ word, where: fields.filter((field) => match[stem]!.includes(field)) }],
    );
    const { input, missing } = readInput(request, tool.inputSchema);
    const required = requiredOf(tool.inputSchema).length;
    // A request that holds what a tool needs speaks for it.
    const filled = required === 0 ? 0 : (required - missing.length) / required;
    return { tool: tool.name, weight: score * (1 + 0.15 * filled), words, input, missing };
  });
  const enough = found.filter(({ words }) => words.length / Math.max(1, telling.size) >= leastKnown);
  enough.sort((a, b) => b.weight - a.weight || a.tool.localeCompare(b.tool));
  const most = enough[0]?.weight ?? 1;
  return enough.map(({ weight, ...candidate }) => ({ ...candidate, share: weight / most }));
}

/** Names, descriptions and choices of all parameters, inner ones too. */
function parameterWords(schema: JsonSchema): string {
  const parts: string[] = [];
  const visit = (each: unknown) => {
    if (typeof each !== 'object' || each === null) return;
    const { properties, items, anyOf, oneOf, allOf, description, title, enum: values, const: only } = each as JsonSchema;
    for (const text of [description, title]) if (typeof text === 'string') parts.push(text);
    for (const value of [...((values as unknown[] | undefined) ?? []), only]) if (typeof value === 'string') parts.push(value);
    for (const [name, inner] of Object.entries((properties ?? {}) as Record<string, JsonSchema>)) {
      parts.push(name);
      visit(inner);
    }
    for (const inner of [items, anyOf, oneOf, allOf].flat()) visit(inner);
  };
  visit(schema);
  return parts.join(' ');
}

/** Words tried at most when it is looked for what would have helped. */
const mostTried = 8;

/**
 * The fewest words of a request that, put into a tool's description, would have made it the first choice; undefined when no
 * words of the request do.
 */
export function helpfulWords(request: string, wanted: string, tools: readonly Tool[]): string[] | undefined {
  const tool = tools.find(({ name }) => name === wanted);
  if (tool === undefined) return undefined;
  const own = new Set(wordsOf([tool.name, tool.description ?? '', parameterWords(tool.inputSchema)].join(' ')).map(stemOf));
  const seen = new Set<string>();
  const missing = wordsOf(request).filter((word) => {
    const stem = stemOf(word);
    if (stem === undefined || own.has(stem) || seen.has(stem)) return false;
    seen.add(stem);
    return true;
  });
  const helped = (words: readonly string[]) =>
    weigh(
      request,
      tools.map((each) => (each === tool ? { ...tool, description: `${tool.description ?? ''} ${words.join(' ')}` } : each)),
    )[0]?.tool === wanted;
  const tried = missing.slice(0, mostTried);
  const single = tried.find((word) => helped([word]));
  if (single !== undefined) return [single.toLowerCase()];
  for (let count = 2; count <= tried.length; count++)
    if (helped(tried.slice(0, count))) return tried.slice(0, count).map((word) => word.toLowerCase());
  return undefined;
}
