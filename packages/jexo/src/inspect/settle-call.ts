import { isJexoError } from '../errors.js';
import type { Issue } from '../offers/schema.js';
import type { CallToolResult, GetPromptResult, ReadResourceResult } from '../protocol/types.js';
import { seriesOf } from './series.js';
import { estimateTokens } from '../models/tokens.js';
import { troubleOf } from './trouble.js';
import { jsonIn, readable } from './value-text.js';
import type { CallSheet } from './bench-state.js';

/** What a tool's answer makes of a call's sheet. */
export function settledTool(result: CallToolResult): Partial<CallSheet> {
  const { structuredContent } = result;
  const only = result.content.length === 1 && result.content[0]?.type === 'text' ? result.content[0].text : undefined;
  // Servers of older revisions put JSON into a text.
  const value = structuredContent ?? (only === undefined ? undefined : jsonIn(only));
  const series = value === undefined ? undefined : seriesOf(value);
  return {
    status: result.isError ? 'failed' : 'answered',
    result,
    ...(value !== undefined && { shown: readable(value) }),
    ...(series && { series }),
    ...sizeOf(result),
  };
}

export function settled(answer: ReadResourceResult | GetPromptResult): Partial<CallSheet> {
  return {
    status: 'answered',
    ...('contents' in answer ? { contents: answer.contents } : { messages: answer.messages }),
    ...sizeOf(answer),
  };
}

function sizeOf(answer: object): { bytes: number; tokens: number } {
  const text = JSON.stringify(answer);
  return { bytes: new TextEncoder().encode(text).length, tokens: estimateTokens(text) };
}

export function failedWith(error: unknown, aborted: boolean): Partial<CallSheet> {
  if (aborted) return { status: 'cancelled', trouble: troubleOf(error) };
  // An answer that does not fit what was promised is shown all the same.
  const data =
    isJexoError(error) && error.code === 'JEXO_OUTPUT_INVALID' ? (error.data as { result: CallToolResult; issues: Issue[] }) : undefined;
  return { ...(data && { ...settledTool(data.result), mismatch: data.issues }), status: 'failed', trouble: troubleOf(error) };
}
