import { requestSheetSchema } from '../sheets/schemas.js';
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
    requests: { say: string; tool: string | string[]; with?: Record<string, unknown> }[];
  };
  const seen = new Map<string, number>();
  const issues: SheetIssue[] = [];
  const kept = requests.map(({ say, tool, with: input }, index): KeptRequest => {
    const line = lineOf(['requests', index]);
    const before = seen.get(say);
    if (before !== undefined) issues.push({ line, message: `this request stands on line ${before} already` });
    seen.set(say, line);
    const tools = [tool].flat();
    return { line, say, tools: tools.length === 1 && tools[0] === noTool ? [] : tools, ...(input && { input }) };
  });
  if (issues.length > 0) throw sheetError(file, issues);
  return { file, ...(target !== undefined && { target }), requests: kept };
}
