import { JexoError } from '../errors.js';
import {
  contentTypes,
  type ContentBlock,
  type GetPromptResult,
  type JsonSchema,
  type PromptArgument,
  type PromptMessage,
} from '../protocol/types.js';
import { isRecord } from '../protocol/is-record.js';
import type { Call } from './call.js';
import type { Completer } from './completion.js';
import { checkIcons, requireName, type Description, type PromptOffer } from './offer.js';
import { compileSchema, type Infer, type Schema } from './schema.js';

/** What a prompt may be made of: a text or a block is one message of the user's. */
export type Rendered = RenderedPart | readonly RenderedPart[] | GetPromptResult;
type RenderedPart = string | ContentBlock | { readonly role: 'user' | 'assistant'; readonly content: string | ContentBlock };

/** What `prompt` takes beside the name and the function. */
export interface PromptDefinition<I extends Schema | undefined> extends Description {
  /** An object whose properties are texts: the protocol gives a prompt's arguments as strings. Enums complete themselves. */
  readonly input?: I;
  /** Suggestions for an argument: a list, or a function of what was typed and of the arguments already known. */
  readonly complete?: { readonly [A in keyof (I extends Schema ? Infer<I> : object)]?: Completer };
}

/**
 * Describes one prompt (Server features, "Prompts").
 *
 * @throws JexoError JEXO_DEFINITION, JEXO_SCHEMA_INVALID
 * @example
 * prompt('lot_label', { input: z.object({ lot: z.string(), language: z.enum(['en', 'fr']) }) },
 *   ({ lot, language }) => `Write the label of lot ${lot} in ${language}.`);
 */
export function prompt<const I extends Schema | undefined = undefined>(
  name: string,
  definition: PromptDefinition<I>,
  render: (input: I extends Schema ? Infer<I> : Record<string, never>, call: Call) => Rendered | Promise<Rendered>,
): PromptOffer {
  requireName('prompt', name, render);
  const where = `prompt ${name}`;
  checkIcons(where, definition.icons);
  const { complete, input: schema, ...rest } = definition;
  const input = schema === undefined ? undefined : compileSchema(schema, 'input', where);
  const properties = Object.entries((input?.json.properties ?? {}) as Record<string, JsonSchema>);
  const required = new Set((input?.json.required ?? []) as string[]);
  const enums: Record<string, Completer> = {};
  for (const [property, described] of properties) {
    const values = Array.isArray(described.enum) ? (described.enum as unknown[]) : undefined;
    const texts =
      values?.every((value) => typeof value === 'string') ?? (described.type === 'string' || typeof described.const === 'string');
    if (!texts)
      throw new JexoError('JEXO_DEFINITION', `${where}: ${property} must be a text, since a prompt's arguments are strings.`, { where });
    if (values !== undefined) enums[property] = values as string[];
  }
  return {
    kind: 'prompt',
    name,
    ...rest,
    arguments: properties.map(([property, described]): PromptArgument => {
      const { title, description } = described as { title?: string; description?: string };
      return {
        name: property,
        ...(title !== undefined && { title }),
        ...(description !== undefined && { description }),
        required: required.has(property),
      };
    }),
    input,
    complete: { ...enums, ...(complete as Record<string, Completer> | undefined) },
    run: render as PromptOffer['run'],
  };
}

/** Makes the answer of `prompts/get` of what a prompt rendered. */
export function toMessages(value: unknown, description: string | undefined): GetPromptResult {
  if (isRecord(value) && Array.isArray(value.messages)) return value as unknown as GetPromptResult;
  const messages = (Array.isArray(value) ? (value as unknown[]) : [value]).map(toMessage);
  return { ...(description !== undefined && { description }), messages };
}

function toMessage(value: unknown): PromptMessage {
  if (isRecord(value)) {
    if ((value.role === 'user' || value.role === 'assistant') && 'content' in value) {
      const { role, content } = value;
      return { role, content: typeof content === 'string' ? { type: 'text', text: content } : (content as ContentBlock) };
    }
    if (contentTypes.includes(String(value.type))) return { role: 'user', content: value as unknown as ContentBlock };
  }
  return { role: 'user', content: { type: 'text', text: typeof value === 'string' ? value : JSON.stringify(value) } };
}
