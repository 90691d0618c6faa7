import type { CallToolResult, ContentBlock, GetPromptResult, ReadResourceResult } from '../../protocol/types.js';
import { isRecord } from '../../protocol/is-record.js';
import { parsePath, replaceAt } from '../value-path.js';
import { patternOf } from './sheet-text.js';
import { jsonIn } from '../value-text.js';

/** An answer as a sheet keeps it: its value, and the text a model reads. */
export interface AnswerValue {
  readonly value: unknown;
  readonly text: string;
}

/** Longer runs of base64 than this are kept by their length and sum. */
const longData = 120;

/**
 * A tool's answer is its structured content; a function's plain result, the value itself; without structure, the JSON or
 * the text that a model reads, or the blocks.
 */
export async function toolAnswer({ structuredContent, content }: CallToolResult): Promise<AnswerValue> {
  const text = content.map(blockWords).join('\n');
  if (structuredContent !== undefined) return { value: plainResult(structuredContent), text };
  const only = content.every(({ type }) => type === 'text');
  return { value: only ? (jsonIn(text) ?? text) : await shortened(content), text };
}

export async function resourceAnswer({ contents }: ReadResourceResult): Promise<AnswerValue> {
  const [first, ...more] = contents;
  const text = contents.map((each) => ('text' in each ? each.text : `[${each.mimeType ?? 'data'}]`)).join('\n');
  if (first !== undefined && more.length === 0 && 'text' in first) return { value: jsonIn(first.text) ?? first.text, text };
  return { value: await shortened(contents), text };
}

export function promptAnswer({ messages }: GetPromptResult): Promise<AnswerValue> {
  const text = messages.map(({ role, content }) => `${role}: ${blockWords(content)}`).join('\n');
  const value = messages.map(({ role, content }) => ({ role, ...(content.type === 'text' ? { text: content.text } : { content }) }));
  return shortened(value).then((short) => ({ value: short, text }));
}

/** What stands alone under `result` is the value a function gave. */
export function plainResult(value: unknown): unknown {
  return isRecord(value) && Object.keys(value).length === 1 && 'result' in value ? value.result : value;
}

function blockWords(block: ContentBlock): string {
  if (block.type === 'text') return block.text;
  if (block.type === 'resource' && 'text' in block.resource) return block.resource.text;
  return block.type === 'resource_link' ? block.uri : `[${block.type}]`;
}

/** Pictures and other data are kept by what tells them apart. */
async function shortened(value: unknown): Promise<unknown> {
  if (typeof value === 'string' && value.length > longData && /^[A-Za-z0-9+/]+=*$/.test(value)) {
    const digest = await crypto.subtle.digest('SHA-256', new TextEncoder().encode(value));
    const sum = [...new Uint8Array(digest).slice(0, 6)].map((byte) => byte.toString(16).padStart(2, '0')).join('');
    return `<${value.length} characters of base64, sum ${sum}>`;
  }
  if (Array.isArray(value)) return Promise.all(value.map(shortened));
  if (!isRecord(value)) return value;
  return Object.fromEntries(await Promise.all(Object.entries(value).map(async ([key, item]) => [key, await shortened(item)] as const)));
}

const named: Readonly<Record<string, readonly [RegExp, string]>> = {
  times: [/\d{4}-\d\d-\d\d[T ]\d\d:\d\d(?::\d\d(?:\.\d+)?)?(?:Z|[+-]\d\d:?\d\d)?/g, '<time>'],
  ids: [/\b[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}\b|\b[0-9a-f]{16,}\b/gi, '<id>'],
};

/** Puts placeholders where what stands there is not compared. */
export function masked(value: unknown, masks: readonly string[]): unknown {
  return masks.reduce((result, mask) => {
    const [pattern, word] = named[mask] ?? [patternOf(mask), '<masked>'];
    if (pattern !== undefined) return maskTexts(result, new RegExp(pattern.source, `${pattern.flags.replace('g', '')}g`), word!);
    return replaceAt(result, parsePath(mask), () => '<masked>');
  }, value);
}

function maskTexts(value: unknown, pattern: RegExp, word: string): unknown {
  if (typeof value === 'string') return value.replace(pattern, word);
  if (Array.isArray(value)) return value.map((item) => maskTexts(item, pattern, word));
  if (!isRecord(value)) return value;
  return Object.fromEntries(Object.entries(value).map(([key, item]) => [key, maskTexts(item, pattern, word)]));
}
