import { since, type Revision } from './revisions.js';
import type { CallToolResult, ContentBlock, Tool } from './types.js';

/** A tool as a peer of this revision knows it. */
export function shapeTool(tool: Tool, revision: Revision): object {
  if (since(revision, '2025-11-25')) return tool;
  const { name, title, description, inputSchema, outputSchema, annotations, _meta } = tool;
  if (since(revision, '2025-06-18')) return { name, title, description, inputSchema, outputSchema, annotations, _meta };
  return since(revision, '2025-03-26') ? { name, description, inputSchema, annotations } : { name, description, inputSchema };
}

/** A tool result as a peer of this revision knows it: what it lacks becomes text, so that nothing is lost silently. */
export function shapeResult(result: CallToolResult, revision: Revision): CallToolResult {
  if (since(revision, '2025-06-18')) return result;
  const { structuredContent, content, ...rest } = result;
  const shaped = content.map((block) => shapeBlock(block, revision));
  if (structuredContent !== undefined && !shaped.some((block) => block.type === 'text'))
    shaped.push({ type: 'text', text: JSON.stringify(structuredContent) });
  return { ...rest, content: shaped };
}

export function shapeBlock(block: ContentBlock, revision: Revision): ContentBlock {
  if (since(revision, '2025-06-18')) return block;
  const { _meta, ...known } = block as ContentBlock & { _meta?: unknown };
  if (known.type === 'resource_link') return { type: 'text', text: `${known.title ?? known.name}: ${known.uri}` };
  if (known.type === 'audio' && !since(revision, '2025-03-26'))
    return { type: 'text', text: `[audio of type ${known.mimeType} left out: this revision of the protocol has no audio]` };
  return known as ContentBlock;
}
