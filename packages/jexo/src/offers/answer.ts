import { RawJson } from '../protocol/json-rpc.js';
import { since, type Revision } from '../protocol/revisions.js';
import { shapeResult } from '../protocol/shape-down.js';
import { contentTypes, type CallToolResult, type ContentBlock, type Meta } from '../protocol/types.js';
import type { CompiledSchema } from './schema.js';

const brand = Symbol.for('jexo.answer');

/** An answer whose content blocks the handler chose itself. */
export interface Answer extends CallToolResult {
  readonly [brand]: true;
}

/**
 * Lets a handler say exactly what its answer holds, instead of returning a plain value.
 *
 * @example
 * return answer({ content: [{ type: 'image', data, mimeType: 'image/png' }], structuredContent: { hive: 'MR-03' } });
 */
export function answer(parts: {
  content?: readonly ContentBlock[];
  structuredContent?: Record<string, unknown>;
  isError?: boolean;
  meta?: Meta;
}): Answer {
  return {
    [brand]: true,
    content: parts.content ?? [],
    ...(parts.structuredContent !== undefined && { structuredContent: parts.structuredContent }),
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

/** Turns what a handler returned into a tool result, when no output schema says what it is. */
export function toResult(value: unknown): CallToolResult {
  if (isAnswer(value) || looksLikeContent(value)) return value as CallToolResult;
  if (value === undefined || value === null) return { content: [] };
  if (typeof value === 'string') return { content: [{ type: 'text', text: value }] };
  const text = JSON.stringify(value);
  return { content: [{ type: 'text', text: text ?? String(value) }] };
}

/** What is known of a structured answer that its source has checked and serialised itself. */
export interface Settled {
  /** The serialised structure. */
  readonly json: string;
  /** The schema it has passed. */
  readonly output: CompiledSchema;
}
/** By the structure itself, so that one that was replaced on its way is checked and serialised again. */
const settled = new WeakMap<object, Settled>();

/** An answer whose structure has been checked by `output` and serialised as `json` already. */
export function settledAnswer(parts: {
  readonly text: string;
  readonly more: readonly ContentBlock[];
  readonly structured: Record<string, unknown>;
  readonly json: string;
  readonly output: CompiledSchema;
}): Answer {
  const { text, more, structured, json, output } = parts;
  settled.set(structured, { json, output });
  return answer({ content: [{ type: 'text', text }, ...more], structuredContent: structured });
}

/** What is known of an answer; undefined when it has yet to be checked. */
export function settledOf({ structuredContent }: CallToolResult): Settled | undefined {
  return structuredContent === undefined ? undefined : settled.get(structuredContent);
}

/** A result with its structure serialised already. */
export function withStructure(result: CallToolResult, json: string, revision: Revision): RawJson {
  const { structuredContent: _, ...rest } = result;
  const head = JSON.stringify(shapeResult(rest, revision));
  return new RawJson(since(revision, '2025-06-18') ? `${head.slice(0, -1)},"structuredContent":${json}}` : head);
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
