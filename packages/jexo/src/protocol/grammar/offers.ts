import { boolean, list, mapOf, object, oneOf, opt, shape, text } from '../check.js';
import { when, type Base, type Fields } from './base.js';
import type { Content } from './content.js';

/** Tools, resources, templates and prompts. */
export function offersOf(base: Base, { resourceFields, content }: Content) {
  const { r2, r3, r4, innerMeta, title, icons, annotations } = base;
  const rootSchema = shape({ $schema: opt(text), type: oneOf('object'), properties: opt(mapOf(object)), required: opt(list(text)) });
  const hints = {
    title: opt(text),
    readOnlyHint: opt(boolean),
    destructiveHint: opt(boolean),
    idempotentHint: opt(boolean),
    openWorldHint: opt(boolean),
  };
  const tool = shape({
    name: text,
    ...title,
    ...icons,
    description: opt(text),
    inputSchema: rootSchema,
    ...when(r3, { outputSchema: opt(rootSchema) }),
    ...when(r2, { annotations: opt(shape(hints)) }),
    ...when(r4, { execution: opt(shape({ taskSupport: opt(oneOf('forbidden', 'optional', 'required')) })) }),
    ...innerMeta,
  });
  const resource = shape(resourceFields);
  const template = shape({
    uriTemplate: text,
    name: text,
    ...title,
    ...icons,
    description: opt(text),
    mimeType: opt(text),
    annotations,
    ...innerMeta,
  });
  const argument = shape({ name: text, ...title, description: opt(text), required: opt(boolean) });
  const prompt = shape({ name: text, ...title, ...icons, description: opt(text), arguments: opt(list(argument)), ...innerMeta });
  const toolResult: Fields = { content: list(content), ...when(r3, { structuredContent: opt(object) }), isError: opt(boolean) };
  return { tool, resource, template, prompt, toolResult };
}
export type Offers = ReturnType<typeof offersOf>;
