import { boolean, mapOf, object, opt, shape } from '../check.js';
import { when, type Base } from './base.js';

/** What both sides declare. */
export function capabilitiesOf(base: Base) {
  const { r2, r3, r4 } = base;
  const listChanged = shape({ listChanged: opt(boolean) });
  const clientCapabilities = shape({
    experimental: opt(mapOf(object)),
    roots: opt(listChanged),
    sampling: opt(r4 ? shape({ context: opt(object), tools: opt(object) }) : object),
    ...when(r3, { elicitation: opt(r4 ? shape({ form: opt(object), url: opt(object) }) : object) }),
    ...when(r4, {
      tasks: opt(
        shape({
          list: opt(object),
          cancel: opt(object),
          requests: opt(shape({ sampling: opt(shape({ createMessage: opt(object) })), elicitation: opt(shape({ create: opt(object) })) })),
        }),
      ),
    }),
  });
  const serverCapabilities = shape({
    experimental: opt(mapOf(object)),
    logging: opt(object),
    ...when(r2, { completions: opt(object) }),
    prompts: opt(listChanged),
    resources: opt(shape({ subscribe: opt(boolean), listChanged: opt(boolean) })),
    tools: opt(listChanged),
    ...when(r4, {
      tasks: opt(shape({ list: opt(object), cancel: opt(object), requests: opt(shape({ tools: opt(shape({ call: opt(object) })) })) })),
    }),
  });
  return { clientCapabilities, serverCapabilities };
}
export type Capabilities = ReturnType<typeof capabilitiesOf>;
