import type { Candidate, Model } from '../../models/model.js';
import { JexoError, messageOf } from '../../errors.js';
import { nearest } from '../../offers/nearest.js';
import type { Tool } from '../../protocol/types.js';
import { differences, type Difference } from '../difference.js';
import { likeness } from '../sheets/judge-answer.js';
import type { RehearsedConversation } from './rehearse-conversation.js';
import { noTool, type KeptConversation, type KeptRequest, type RequestSheetFile } from './request-sheet.js';
import { helpfulWords } from '../../models/stand-in-chooser.js';

export interface RehearsedRequest {
  readonly say: string;
  readonly line: number;
  readonly wanted: readonly string[];
  /** The tool that was chosen; undefined for none. */
  readonly chosen?: string;
  readonly input?: Readonly<Record<string, unknown>>;
  readonly hit: boolean;
  /** Why the model gave no answer to it; then it is no hit. */
  readonly fault?: string;
  /** A hit that was nearly none, or a miss that was nearly a hit: the shares of the two are this close. */
  readonly narrow: boolean;
  /** Where the arguments are not what they should be. */
  readonly wrongInput: readonly Difference[];
  readonly candidates: readonly Candidate[];
  /** Of a whole conversation: what was called and answered, and in what it is not what it should be. */
  readonly conversation?: RehearsedConversation;
  /** Words of the request that would have helped, in the description of the tool that was wanted. */
  readonly helpful?: { readonly tool: string; readonly words: readonly string[] };
  readonly tookMs: number;
}

/** How often a wanted tool (row) led to a chosen one (column); `none` stands for no tool. */
export interface Confusion {
  readonly tools: readonly string[];
  readonly rows: readonly (readonly number[])[];
}

export interface Rehearsed {
  readonly file: string;
  readonly model: string;
  readonly isStandIn: boolean;
  readonly requests: readonly RehearsedRequest[];
  readonly hits: number;
  readonly confusion: Confusion;
  readonly tookMs: number;
}

export interface RehearseOptions {
  readonly tools: readonly Tool[];
  readonly instructions?: string;
  readonly model: Model;
  /** Holds the conversations of the sheet. Default: they are not held, and say so. */
  readonly hold?: (conversation: KeptConversation) => Promise<RehearsedConversation>;
  readonly signal?: AbortSignal;
  readonly onRequest?: (request: RehearsedRequest, done: number, of: number) => void;
}

/** So many requests without an answer, from the first on, and the model is taken for one that cannot be used. */
const mostFaults = 3;

/** Two shares closer than this may change places with the next edit of a description. */
const narrowBy = 0.1;

/**
 * Puts each request of a sheet before a model, by itself, and says which tool it chose.
 * @throws JexoError JEXO_SHEET when the sheet names a tool that is not there, JEXO_MODEL when the model cannot be used
 */
export async function rehearse(
  sheet: RequestSheetFile,
  { tools, instructions, model, hold = notHeld, signal, onRequest }: RehearseOptions,
): Promise<Rehearsed> {
  requireTools(sheet, tools);
  const start = performance.now();
  const requests: RehearsedRequest[] = [];
  for (const kept of sheet.requests) {
    signal?.throwIfAborted();
    const began = performance.now();
    let done: RehearsedRequest;
    try {
      if (kept.conversation !== undefined) done = judgeConversation(kept, await hold(kept.conversation), performance.now() - began);
      else {
        const { calls, candidates = [] } = await model.next(
          { tools, talk: [{ role: 'user', text: kept.say }], ...(instructions !== undefined && { instructions }) },
          signal,
        );
        done = judge(kept, calls[0], candidates, tools, performance.now() - began);
      }
    } catch (error) {
      signal?.throwIfAborted();
      // A request that was refused says nothing of the others; a service that answers none is told as what it is.
      if (requests.every(({ fault }) => fault !== undefined) && requests.length + 1 >= Math.min(mostFaults, sheet.requests.length))
        throw error;
      done = { ...judge(kept, undefined, [], tools, performance.now() - began), hit: false, fault: messageOf(error) };
    }
    requests.push(done);
    onRequest?.(done, requests.length, sheet.requests.length);
  }
  return {
    file: sheet.file,
    model: model.name,
    isStandIn: model.isStandIn,
    requests,
    hits: requests.filter(({ hit }) => hit).length,
    confusion: confusionOf(requests, tools),
    tookMs: performance.now() - start,
  };
}

function requireTools({ file, requests }: RequestSheetFile, tools: readonly Tool[]): void {
  const names = tools.map(({ name }) => name);
  const unknown = requests.flatMap(({ line, tools: wanted }) =>
    wanted.filter((name) => !names.includes(name)).map((name) => ({ line, name })),
  );
  if (unknown.length === 0) return;
  const words = unknown.map(({ line, name }) => {
    const near = nearest(name, names);
    return { line, message: `the server has no tool ${name}${near === undefined ? '' : `; did you mean ${near}?`}` };
  });
  throw new JexoError('JEXO_SHEET', words.map(({ line, message }) => `${file}:${line}: ${message}`).join('\n'), {
    where: `${file}:${unknown[0]!.line}`,
    data: { issues: words },
  });
}

function judge(
  { say, line, tools: wanted, input }: KeptRequest,
  call: { readonly name: string; readonly input: Readonly<Record<string, unknown>> } | undefined,
  candidates: readonly Candidate[],
  tools: readonly Tool[],
  tookMs: number,
): RehearsedRequest {
  const isRight = call === undefined ? wanted.length === 0 : wanted.includes(call.name);
  const best = candidates[0];
  const rival = candidates.find(({ tool }) => (isRight ? !wanted.includes(tool) : wanted.includes(tool)));
  const helped =
    isRight || wanted.length === 0
      ? undefined
      : wanted.map((tool) => ({ tool, words: helpfulWords(say, tool, tools) })).find(({ words }) => words !== undefined);
  return {
    say,
    line,
    wanted,
    ...(call && { chosen: call.name, input: call.input }),
    hit: isRight,
    narrow: best !== undefined && rival !== undefined && best.share - rival.share < narrowBy,
    wrongInput: isRight && call !== undefined && input !== undefined ? differences(input, likeness(input, call.input)) : [],
    candidates: candidates.slice(0, 5),
    ...(helped?.words && { helpful: { tool: helped.tool, words: helped.words } }),
    tookMs,
  };
}

const notHeld = (): Promise<never> =>
  Promise.reject(
    new JexoError('JEXO_USAGE', 'Whole conversations are rehearsed at the terminal.', { next: 'As in: jexo rehearse <target> <sheet>' }),
  );

function judgeConversation(
  { say, line, tools: wanted }: KeptRequest,
  conversation: RehearsedConversation,
  tookMs: number,
): RehearsedRequest {
  return { say, line, wanted, hit: conversation.wrong.length === 0, narrow: false, wrongInput: [], candidates: [], conversation, tookMs };
}

function confusionOf(requests: readonly RehearsedRequest[], tools: readonly Tool[]): Confusion {
  const involved = new Set(
    requests.flatMap(({ wanted, chosen, conversation }) =>
      conversation !== undefined ? [] : [...(wanted.length === 0 ? [noTool] : wanted), chosen ?? noTool],
    ),
  );
  const names = [...tools.map(({ name }) => name), noTool].filter((name) => involved.has(name));
  const rows = names.map(() => names.map(() => 0));
  for (const { wanted, chosen = noTool, hit, conversation } of requests) {
    if (conversation !== undefined) continue;
    const row = hit ? chosen : (wanted[0] ?? noTool);
    rows[names.indexOf(row)]![names.indexOf(chosen) < 0 ? names.length - 1 : names.indexOf(chosen)]!++;
  }
  return { tools: names, rows };
}
