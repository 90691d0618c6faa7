import { byMember, integer, list, number, object, oneOf, oneOrMany, opt, shape, share, text } from '../check.js';
import { role, when, type Base, type Fields } from './base.js';
import type { Content } from './content.js';
import type { Offers } from './offers.js';

/** What a server asks of a client’s model, and what it answers. */
export function samplingOf(base: Base, { plain }: Content, { tool, toolResult }: Offers) {
  const { r4, withMeta, request, asTask } = base;
  const samplingBlock = byMember('type', {
    ...plain,
    ...(r4 && {
      tool_use: shape({ type: oneOf('tool_use'), id: text, name: text, input: object, ...withMeta }),
      tool_result: shape({ type: oneOf('tool_result'), toolUseId: text, ...toolResult, ...withMeta }),
    }),
  });
  const samplingContent = r4 ? oneOrMany(samplingBlock) : samplingBlock;
  const samplingMessage = shape({ role, content: samplingContent, ...when(r4, withMeta as Fields) });
  const samplingParams = shape({
    ...request,
    ...asTask,
    messages: list(samplingMessage),
    modelPreferences: opt(
      shape({
        hints: opt(list(shape({ name: opt(text) }))),
        costPriority: opt(share),
        speedPriority: opt(share),
        intelligencePriority: opt(share),
      }),
    ),
    systemPrompt: opt(text),
    includeContext: opt(oneOf('none', 'thisServer', 'allServers')),
    temperature: opt(number),
    maxTokens: integer,
    stopSequences: opt(list(text)),
    metadata: opt(object),
    ...when(r4, { tools: opt(list(tool)), toolChoice: opt(shape({ mode: opt(oneOf('auto', 'required', 'none')) })) }),
  });
  return { samplingContent, samplingParams };
}
export type Sampling = ReturnType<typeof samplingOf>;
