import type { Model, Move, TalkEntry, TalkImage, ToolCall, Turn } from '../models/model.js';
import { standInModel } from '../models/stand-in-model.js';
import type { ContentBlock, CreateMessageParams, CreateMessageResult, Tool } from '../protocol/types.js';
import { blockForModel } from './for-the-model.js';

/** The parts of a sampling message, as its revision has them. */
type Part =
  | ContentBlock
  | { readonly type: 'tool_use'; readonly id: string; readonly name: string; readonly input: Record<string, unknown> }
  | ToolResultPart;
interface ToolResultPart {
  readonly type: 'tool_result';
  readonly toolUseId: string;
  readonly content?: readonly ContentBlock[];
  readonly structuredContent?: unknown;
  readonly isError?: boolean;
}

/**
 * Answers a server's request for the model (Client features, "Sampling").
 * @param ask puts a turn before the model, and counts what it uses
 */
export async function generateFor(
  request: CreateMessageParams,
  model: Model,
  ask: (turn: Turn) => Promise<Move>,
): Promise<CreateMessageResult> {
  if (model.isStandIn) return standInModel(request);
  const { systemPrompt, tools = [] } = request as { systemPrompt?: string; tools?: readonly Tool[] };
  const move = await ask({
    ...(systemPrompt !== undefined && { instructions: systemPrompt }),
    tools,
    talk: talkOf(request, model.takesImages === true),
  });
  const text = { type: 'text' as const, text: move.text ?? '' };
  if (move.calls.length === 0) return { role: 'assistant', content: text, model: model.name, stopReason: 'endTurn' };
  const uses = move.calls.map(({ id, name, input }) => ({ type: 'tool_use' as const, id, name, input }));
  const content = [...(text.text === '' ? [] : [text]), ...uses] as unknown as CreateMessageResult['content'];
  return { role: 'assistant', content, model: model.name, stopReason: 'toolUse' };
}

function talkOf({ messages }: CreateMessageParams, takesImages: boolean): TalkEntry[] {
  const talk: TalkEntry[] = [];
  const names = new Map<string, string>();
  for (const { role, content } of messages) {
    const parts = [content].flat() as unknown as readonly Part[];
    const images: TalkImage[] = [];
    const texts: string[] = [];
    const calls: ToolCall[] = [];
    for (const part of parts) {
      if (part.type === 'tool_use') {
        names.set(part.id, part.name);
        calls.push({ id: part.id, name: part.name, input: part.input });
      } else if (part.type === 'tool_result') {
        const { toolUseId: id, content: blocks = [], structuredContent, isError } = part;
        const text = blocks.map((block) => blockForModel(block, false, [])).join('\n');
        const shown = text === '' && structuredContent !== undefined ? JSON.stringify(structuredContent) : text;
        talk.push({ role: 'tool', id, name: names.get(id) ?? '', text: shown, ...(isError && { failed: true }) });
      } else texts.push(blockForModel(part, takesImages, images));
    }
    const text = texts.join('\n');
    if (role === 'assistant') talk.push({ role, calls, ...(text !== '' && { text }) });
    else if (text !== '' || images.length > 0) talk.push({ role: 'user', text, ...(images.length > 0 && { images }) });
  }
  return talk;
}
