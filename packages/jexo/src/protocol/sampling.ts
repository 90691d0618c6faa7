import type { SamplingContent, SamplingMessage } from './types.js';

const blocksOf = ({ content }: SamplingMessage): readonly SamplingContent[] => [content].flat() as readonly SamplingContent[];

/**
 * Why a history of messages is not balanced (Client features, "Sampling", "Tool use"): every tool_use is answered in the
 * very next message, which is the user's and holds tool_result blocks only. Undefined when it is.
 */
export function unbalanced(messages: readonly SamplingMessage[]): string | undefined {
  let open: string[] = [];
  for (const [index, message] of messages.entries()) {
    const blocks = blocksOf(message);
    const results = blocks.filter((block) => block.type === 'tool_result');
    const where = `messages[${index}]`;
    if (results.length > 0) {
      if (message.role !== 'user') return `${where} holds a tool_result, but is not the user's`;
      if (results.length < blocks.length) return `${where} mixes tool_result with other content`;
    }
    const answered = results.map(({ toolUseId }) => toolUseId);
    const missing = open.filter((id) => !answered.includes(id));
    if (missing.length > 0) return `${where} does not answer the tool_use ${missing.join(', ')} of the message before it`;
    const stray = answered.filter((id) => !open.includes(id));
    if (stray.length > 0) return `${where} answers the tool_use ${stray.join(', ')}, which the message before it does not hold`;
    const uses = blocks.filter((block) => block.type === 'tool_use');
    if (uses.length > 0 && message.role !== 'assistant') return `${where} holds a tool_use, but is not the assistant's`;
    open = uses.map(({ id }) => id);
  }
  return open.length > 0 ? `the last message holds the tool_use ${open.join(', ')}, which nothing answers` : undefined;
}
