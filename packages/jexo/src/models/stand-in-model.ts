import type { CreateMessageParams, CreateMessageResult } from '../protocol/types.js';

/**
 * A stand-in for a host application's model, so that a server's request for one can be tried. It is none: it says so, and gives
 * the first sentences of what it was asked in a fixed form, the same words each time.
 */
export function standInModel({ messages, maxTokens }: CreateMessageParams): CreateMessageResult {
  const last = [messages.at(-1)?.content ?? []].flat();
  const asked = last.flatMap((block) => (block.type === 'text' ? [block.text] : [])).join('\n');
  const sentences = asked.split(/(?<=[.!?:])\s+|\n+/).filter((sentence) => sentence.trim() !== '');
  const text = `(stand-in model) Asked: ${sentences.slice(0, 2).join(' ')} Given: ${Math.max(0, sentences.length - 1)} more lines, the last: ${sentences.at(-1) ?? 'none'}`;
  return {
    role: 'assistant',
    content: { type: 'text', text: text.slice(0, Math.max(1, maxTokens) * 4) },
    model: 'stand-in',
    stopReason: 'endTurn',
  };
}
