/**
 * What each message becomes for a peer of an older revision. What it cannot know is taken out; what would be lost with
 * it becomes text, so that nothing is lost silently.
 */
import { propertiesOf } from './json-schema.js';
import { errorCodes, RpcError } from './json-rpc.js';
import { since, type Revision } from './revisions.js';
import type {
  Annotations,
  CallToolResult,
  ContentBlock,
  CreateMessageParams,
  CreateMessageResult,
  ElicitParams,
  GetPromptResult,
  Implementation,
  JsonSchema,
  Prompt,
  ReadResourceResult,
  Resource,
  ResourceTemplate,
  SamplingContent,
  SamplingMessage,
  ServerCapabilities,
  Tool,
} from './types.js';

/** Drops the members that came after the peer's revision. */
function without(value: object, names: readonly string[]): object {
  return Object.fromEntries(Object.entries(value).filter(([name, member]) => member !== undefined && !names.includes(name)));
}

/** Views are an extension, which has its own versions: whoever declares it reads what it says in any revision. */
function viewPart(meta: unknown): { readonly _meta?: object } {
  const ui = (meta as { ui?: object } | undefined)?.ui;
  return ui === undefined ? {} : { _meta: { ui } };
}

/** Members every offer may have: `title` beside `name`, and `_meta` on inner objects, came with 2025-06-18; icons with 2025-11-25. */
function tooNew(revision: Revision): string[] {
  return [...(since(revision, '2025-06-18') ? [] : ['title', '_meta']), ...(since(revision, '2025-11-25') ? [] : ['icons'])];
}

export function shapeImplementation(info: Implementation, revision: Revision): object {
  return without(info, [...tooNew(revision), ...(since(revision, '2025-11-25') ? [] : ['description', 'websiteUrl'])]);
}

export function shapeServerCapabilities(capabilities: ServerCapabilities, revision: Revision): object {
  return without(capabilities, [
    ...(since(revision, '2025-11-25') ? [] : ['tasks']),
    ...(since(revision, '2025-03-26') ? [] : ['completions']),
  ]);
}

export function shapeTool(tool: Tool, revision: Revision): object {
  if (since(revision, '2025-11-25')) return tool;
  const gone = [...tooNew(revision), 'execution'];
  if (!since(revision, '2025-06-18')) gone.push('outputSchema');
  if (!since(revision, '2025-03-26')) gone.push('annotations');
  return since(revision, '2025-06-18') ? without(tool, gone) : { ...without(tool, gone), ...viewPart(tool._meta) };
}

function shapeAnnotations<T extends { readonly annotations?: Annotations }>(value: T, revision: Revision): T {
  if (since(revision, '2025-06-18') || value.annotations === undefined) return value;
  return { ...value, annotations: without(value.annotations, ['lastModified']) };
}

export function shapeResource<T extends Resource | ResourceTemplate>(resource: T, revision: Revision): object {
  if (since(revision, '2025-11-25')) return resource;
  const shaped = shapeAnnotations(without(resource, tooNew(revision)) as T, revision);
  return since(revision, '2025-06-18') ? shaped : { ...shaped, ...viewPart(resource._meta) };
}

export function shapePrompt(prompt: Prompt, revision: Revision): object {
  if (since(revision, '2025-11-25')) return prompt;
  const shaped = without(prompt, tooNew(revision)) as Prompt;
  return shaped.arguments === undefined
    ? shaped
    : { ...shaped, arguments: shaped.arguments.map((argument) => without(argument, tooNew(revision))) };
}

export function shapeResult(result: CallToolResult, revision: Revision): CallToolResult {
  if (since(revision, '2025-11-25')) return result;
  const content = result.content.map((block) => shapeBlock(block, revision));
  if (since(revision, '2025-06-18')) return { ...result, content };
  const { structuredContent, ...rest } = result;
  // The mirror of the structured answer is all such a peer gets of it.
  if (structuredContent !== undefined && !content.some((block) => block.type === 'text'))
    content.push({ type: 'text', text: JSON.stringify(structuredContent) });
  return { ...rest, content };
}

export function shapeBlock(block: ContentBlock, revision: Revision): ContentBlock {
  if (since(revision, '2025-11-25')) return block;
  if (since(revision, '2025-06-18')) return without(block, ['icons']) as ContentBlock;
  if (block.type === 'resource_link') {
    const about = block.description === undefined ? '' : ` (${block.description})`;
    return { type: 'text', text: `${block.title ?? block.name}: ${block.uri}${about}` };
  }
  if (block.type === 'audio' && !since(revision, '2025-03-26'))
    return { type: 'text', text: `[audio of type ${block.mimeType} omitted: this revision of the protocol has no audio]` };
  const plain = shapeAnnotations(without(block, ['_meta']) as ContentBlock, revision);
  return plain.type === 'resource' ? { ...plain, resource: without(plain.resource, ['_meta']) as typeof plain.resource } : plain;
}

export function shapePromptResult(result: GetPromptResult, revision: Revision): GetPromptResult {
  if (since(revision, '2025-11-25')) return result;
  return { ...result, messages: result.messages.map(({ role, content }) => ({ role, content: shapeBlock(content, revision) })) };
}

export function shapeReadResult(result: ReadResourceResult, revision: Revision): ReadResourceResult {
  if (since(revision, '2025-06-18')) return result;
  return { ...result, contents: result.contents.map((each) => ({ ...without(each, ['_meta']), ...viewPart(each._meta) }) as typeof each) };
}

/** Choices with titles were written otherwise in 2025-06-18, which also knew a default for yes and no only. */
export function shapeElicitation(params: ElicitParams, revision: Revision): ElicitParams {
  if (since(revision, '2025-11-25') || params.requestedSchema === undefined) return params;
  const properties = Object.entries(propertiesOf(params.requestedSchema)).map(([name, field]) => {
    const { oneOf, default: fallback, ...rest } = field;
    const choices = oneOf as readonly { const: string; title: string }[] | undefined;
    return [
      name,
      {
        ...rest,
        ...(choices !== undefined && { enum: choices.map((choice) => choice.const), enumNames: choices.map((choice) => choice.title) }),
        ...(field.type === 'boolean' && fallback !== undefined && { default: fallback }),
      },
    ];
  });
  const { $schema: _, ...requestedSchema } = params.requestedSchema;
  return { message: params.message, requestedSchema: { ...requestedSchema, properties: Object.fromEntries(properties) } };
}

/** Why a form cannot be shown by a peer of this revision; undefined when it can. */
export function elicitationObstacle(requestedSchema: JsonSchema, revision: Revision): string | undefined {
  if (!since(revision, '2025-06-18')) return `revision ${revision} of the protocol has no elicitation`;
  if (since(revision, '2025-11-25')) return undefined;
  const many = Object.entries(propertiesOf(requestedSchema)).find(([, field]) => field.type === 'array');
  return many === undefined ? undefined : `revision ${revision} of the protocol has no choice of several (${many[0]})`;
}

export function shapeSampling(params: CreateMessageParams, revision: Revision): CreateMessageParams {
  if (since(revision, '2025-11-25')) return params;
  const rest = without(params, ['tools', 'toolChoice']) as CreateMessageParams;
  const older = since(revision, '2025-03-26');
  // One message may hold one block only: several become several messages of the same role.
  const messages = rest.messages.flatMap(({ role, content }) =>
    [content].flat().map((block): SamplingMessage => {
      if (block.type === 'tool_use')
        return { role, content: { type: 'text', text: `[calls ${block.name} with ${JSON.stringify(block.input)}]` } };
      if (block.type === 'tool_result') {
        const said = block.content.map((part) => (part.type === 'text' ? part.text : `[${part.type}]`)).join('\n');
        return { role, content: { type: 'text', text: `[result of ${block.toolUseId}: ${said}]` } };
      }
      if (block.type === 'audio' && !older) return { role, content: { type: 'text', text: `[audio of type ${block.mimeType} omitted]` } };
      return { role, content: since(revision, '2025-06-18') ? block : (without(block, ['_meta']) as SamplingContent) };
    }),
  );
  return { ...rest, messages };
}

/**
 * What a model wrote, as the revision lets a client send it: one block before 2025-11-25, no sound before 2025-03-26, and tool use only
 * where tools were given.
 * @throws RpcError for an answer that is none
 */
export function shapeSamplingAnswer(answer: CreateMessageResult, revision: Revision, toolUse: 'none' | 'auto' | 'required'): object {
  const none = (why: string) => new RpcError(errorCodes.internalError, `The model gave no usable answer: ${why}`);
  if (typeof answer !== 'object' || answer === null) throw none('nothing came');
  const blocks = ([answer.content].flat() as (SamplingContent | undefined)[]).filter(
    (each) => typeof each?.type === 'string',
  ) as SamplingContent[];
  if (blocks.length === 0) throw none('it has no content');
  const usesTool = blocks.some(({ type }) => type === 'tool_use');
  if (toolUse === 'none' && usesTool) throw none('it wants a tool that it was not given');
  if (toolUse === 'required' && !usesTool) throw none('it uses no tool, though the server required one');
  const { role = 'assistant', model = 'unknown', stopReason, _meta } = answer as CreateMessageResult & { _meta?: object };
  const rest = { role, model, ...(stopReason !== undefined && { stopReason }), ...(_meta !== undefined && { _meta }) };
  if (since(revision, '2025-11-25')) return { ...rest, content: blocks.length === 1 ? blocks[0] : blocks };
  const [only, another] = blocks as [SamplingContent, SamplingContent?];
  const plain = (block: SamplingContent) => (block.type === 'text' ? block.text : `[${block.type}]`);
  const single = another === undefined ? only : { type: 'text' as const, text: blocks.map(plain).join('\n') };
  return { ...rest, content: single.type === 'audio' && !since(revision, '2025-03-26') ? { type: 'text', text: '[audio]' } : single };
}
