import { RawJson } from '../protocol/json-rpc.js';
import { since, type Revision } from '../protocol/revisions.js';
import { contentTypes, type CallToolResult, type ContentBlock, type Meta } from '../protocol/types.js';

const brand = Symbol.for('jexo.answer');

/** An answer whose content blocks the handler chose itself. */
export interface Answer extends CallToolResult {
  readonly [brand]: true;
}

/**
 * Lets a handler say exactly what its answer holds, instead of returning a plain value.
 *
 * @example
 * return answer({ content: [{ type: 'image', data, mimeType: 'image/png' }], structured: { hive: 'MR-03' } });
 */
export function answer(parts: {
  content?: readonly ContentBlock[];
  structured?: Record<string, unknown>;
  isError?: boolean;
  meta?: Meta;
}): Answer {
  return {
    [brand]: true,
    content: parts.content ?? [],
    ...(parts.structured !== undefined && { structuredContent: parts.structured }),
    ...(parts.isError === true && { isError: true }),
    ...(parts.meta !== undefined && { _meta: parts.meta }),
  };
}

export function isAnswer(value: unknown): value is Answer {
  return typeof value === 'object' && value !== null && brand in value;
}

export function failed(text: string): CallToolResult {
  return { content: [{ type: 'text', text }], isError: true };
}

function looksLikeContent(value: unknown): value is CallToolResult {
  const content = (value as { content?: unknown } | null)?.content;
  return (
    Array.isArray(content) &&
    content.length > 0 &&
    content.every((block) => contentTypes.includes((block as { type?: string } | null)?.type ?? ''))
  );
}

/** True for plain JSON objects, which may travel as structured content. */
export function isRecord(value: unknown): value is Record<string, unknown> {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}

/** Turns what a handler returned into a tool result, when no output schema says what it is. */
export function toResult(value: unknown): CallToolResult {
  if (isAnswer(value) || looksLikeContent(value)) return value as CallToolResult;
  if (value === undefined || value === null) return { content: [] };
  if (typeof value === 'string') return { content: [{ type: 'text', text: value }] };
  const text = JSON.stringify(value);
  return { content: [{ type: 'text', text: text ?? String(value) }] };
}

/**
 * Serialises a structured answer once: its text is the mirror that clients without structured content read
 * (Server features, "Structured Content": SHOULD also return the serialised JSON in a text block).
 */
export function serialiseStructured(value: Record<string, unknown>, revision: Revision): RawJson {
  const json = JSON.stringify(value);
  const mirror = `{"content":[{"type":"text","text":${JSON.stringify(json)}}]`;
  return new RawJson(since(revision, '2025-06-18') ? `${mirror},"structuredContent":${json}}` : `${mirror}}`);
}
