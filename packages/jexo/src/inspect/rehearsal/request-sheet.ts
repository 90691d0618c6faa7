import { requestSheetSchema } from '../sheets/schemas.js';
import type { KeptReply } from '../sheets/call-sheet.js';
import { readSheetText, sheetError, type SheetIssue } from '../sheets/sheet-text.js';

/** The word for "no tool at all". */
export const noTool = 'none';

export interface KeptRequest {
  readonly line: number;
  readonly say: string;
  /** Any of these is right; empty when no tool should be chosen. */
  readonly tools: readonly string[];
  /** Arguments it should be called with; others are allowed. */
  readonly input?: Readonly<Record<string, unknown>>;
  /** A whole conversation in place of the choice of one tool. */
  readonly conversation?: KeptConversation;
}

/** A conversation, the calls it must make, and what its last answer must hold. */
export interface KeptConversation {
  /** What the person says, one after the other. */
  readonly say: readonly string[];
  readonly steps: readonly { readonly tools: readonly string[]; readonly input?: Readonly<Record<string, unknown>> }[];
  /** Texts, or patterns as `/\\d+ kg/`. */
  readonly answer: readonly string[];
  /** To what servers ask, in order. */
  readonly replies: readonly KeptReply[];
}

interface WrittenStep {
  readonly tool: string | readonly string[];
  readonly with?: Record<string, unknown>;
}
interface WrittenRequest extends Partial<WrittenStep> {
  readonly say: string | readonly string[];
  readonly steps?: readonly WrittenStep[];
  readonly answer?: string | readonly string[];
  readonly replies?: readonly (KeptReply['action'] | Partial<KeptReply>)[];
}

export interface RequestSheetFile {
  readonly file: string;
  readonly target?: string | readonly string[];
  readonly requests: readonly KeptRequest[];
}

/**
 * Reads a request sheet.
 * @throws JexoError JEXO_SHEET, which names every line that is wrong
 */
export async function readRequestSheet(text: string, file: string): Promise<RequestSheetFile> {
  const { value, lineOf } = await readSheetText(text, file, requestSheetSchema);
  const { target, requests } = value as {
    target?: string | string[];
    requests: WrittenRequest[];
  };
  const seen = new Map<string, number>();
  const issues: SheetIssue[] = [];
  const kept = requests.map(({ say: said, tool, with: input, steps, answer, replies = [] }, index): KeptRequest => {
    const line = lineOf(['requests', index]);
    const say = [said].flat().join(' / ');
    const wrong =
      steps !== undefined && input !== undefined
        ? 'with belongs to a step here'
        : steps === undefined && (answer !== undefined || replies.length > 0 || typeof said !== 'string')
          ? 'answer, replies and several requests need steps'
          : undefined;
    if (wrong !== undefined) issues.push({ line, message: wrong });
    const before = seen.get(say);
    if (before !== undefined) issues.push({ line, message: `this request stands on line ${before} already` });
    seen.set(say, line);
    if (steps !== undefined)
      return {
        line,
        say,
        tools: [...new Set(steps.flatMap((step) => [step.tool].flat()))],
        conversation: {
          say: [said].flat(),
          steps: steps.map((step) => ({ tools: [step.tool].flat(), ...(step.with && { input: step.with }) })),
          answer: [answer ?? []].flat(),
          replies: replies.map((reply) => (typeof reply === 'string' ? { action: reply } : { action: 'accept', ...reply })),
        },
      };
    const tools = [tool ?? []].flat();
    return { line, say, tools: tools.length === 1 && tools[0] === noTool ? [] : tools, ...(input && { input }) };
  });
  if (issues.length > 0) throw sheetError(file, issues);
  return { file, ...(target !== undefined && { target }), requests: kept };
}
