import type { Client } from '../../client/connect-link.js';
import { JexoError } from '../../errors.js';
import type { Tool } from '../../protocol/types.js';
import { questionSheetSchema } from '../sheets/schemas.js';
import { readSheetText } from '../sheets/sheet-text.js';

/** A question, and the pages that answer it. */
export interface KeptQuestion {
  readonly line: number;
  readonly ask: string;
  /** Paths, or URIs; any of them is right. With `#` a section is meant. */
  readonly pages: readonly string[];
}

export interface QuestionSheetFile {
  readonly file: string;
  readonly target?: string | readonly string[];
  readonly questions: readonly KeptQuestion[];
}

/**
 * Reads a question sheet.
 * @throws JexoError JEXO_SHEET, which names every line that is wrong
 */
export async function readQuestionSheet(text: string, file: string): Promise<QuestionSheetFile> {
  const { value, lineOf } = await readSheetText(text, file, questionSheetSchema);
  const { target, questions } = value as { target?: string | string[]; questions: { ask: string; pages: string | string[] }[] };
  return {
    file,
    ...(target !== undefined && { target }),
    questions: questions.map(({ ask, pages }, index) => ({ line: lineOf(['questions', index]), ask, pages: [pages].flat() })),
  };
}

/** What a search answered to one question. */
export interface RehearsedQuestion extends KeptQuestion {
  /** URIs in the order they were found. */
  readonly found: readonly string[];
  /** The place of the first that answers it, from 1; undefined when none among those found does. */
  readonly rank?: number;
}

/** All questions, asked in one way. */
export interface RehearsedWay {
  /** `words`, `meaning` or `both`; missing where the search knows one way only. */
  readonly by?: string;
  readonly questions: readonly RehearsedQuestion[];
  /** The share of questions whose answer is among the first five. */
  readonly recallAt5: number;
  /** The mean of one by the place of the first answer (mean reciprocal rank). */
  readonly mrr: number;
}

export interface RehearsedQuestions extends RehearsedWay {
  readonly file: string;
  readonly tool: string;
  /** Every way the search knows, where it knows several; what stands above is the one it takes by itself. */
  readonly ways: readonly RehearsedWay[];
}

const depth = 10;

/** Asks every question of a server's search tool. @throws JexoError JEXO_NOTHING_OFFERED when it has none */
export async function rehearseQuestions(
  { file, questions }: QuestionSheetFile,
  {
    client,
    tools,
    signal,
    onQuestion,
  }: { client: Client; tools: readonly Tool[]; signal?: AbortSignal; onQuestion(done: number, of: number, ask: string): unknown },
): Promise<RehearsedQuestions> {
  const tool = tools.find(isSearch);
  if (tool === undefined)
    throw new JexoError('JEXO_NOTHING_OFFERED', 'The server has no tool that searches: one that takes words and answers with hits.', {
      where: file,
      next: 'Give a folder, or a server that wraps one with search: true.',
    });
  const known = (tool.inputSchema.properties?.by as { enum?: readonly string[] } | undefined)?.enum ?? [];
  const kinds: readonly (string | undefined)[] = known.length === 0 ? [undefined] : known;
  const ways: RehearsedWay[] = [];
  for (const [round, by] of kinds.entries()) {
    const asked: RehearsedQuestion[] = [];
    for (const [index, question] of questions.entries()) {
      onQuestion(round * questions.length + index, kinds.length * questions.length, question.ask);
      const input = { words: question.ask, limit: depth, ...(by !== undefined && { by }) };
      const { structuredContent } = await client.call(tool.name, input, signal && { signal });
      const found = ((structuredContent?.hits ?? []) as { uri: string }[]).map(({ uri }) => uri);
      const at = found.findIndex((uri) => question.pages.some((page) => isPage(uri, page)));
      asked.push({ ...question, found, ...(at >= 0 && { rank: at + 1 }) });
    }
    ways.push({
      ...(by !== undefined && { by }),
      questions: asked,
      recallAt5: mean(asked.map(({ rank = Infinity }) => (rank <= 5 ? 1 : 0))),
      mrr: mean(asked.map(({ rank }) => (rank === undefined ? 0 : 1 / rank))),
    });
  }
  return { file, tool: tool.name, ...ways[0]!, ways };
}

const mean = (values: readonly number[]) => (values.length === 0 ? 1 : values.reduce((sum, value) => sum + value, 0) / values.length);

const isSearch = ({ inputSchema, outputSchema }: Tool) =>
  inputSchema.properties?.words !== undefined && outputSchema?.properties?.hits !== undefined;

/** `mites/counting.md` is every section of that page, `mites/counting.md#sugar-roll` the one. */
function isPage(uri: string, page: string): boolean {
  const place = decodeURIComponent(uri.replace(/^[a-z][a-z0-9+.-]*:\/\//, ''));
  const wanted = page.replace(/^[a-z][a-z0-9+.-]*:\/\//, '');
  return wanted.includes('#') ? place === wanted : place.replace(/#.*$/, '') === wanted;
}
