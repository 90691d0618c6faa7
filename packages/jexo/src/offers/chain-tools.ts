import { JexoError } from '../errors.js';
import { isRecord } from '../protocol/is-record.js';
import type { CallToolResult, JsonSchema, ToolAnnotations } from '../protocol/types.js';
import { answer, isAnswer, toResult } from './answer.js';
import type { Call } from './call.js';
import { freezeParts, thawParts, type FrozenParts } from './freeze.js';
import { nearest } from './nearest.js';
import type { Offer, ToolOffer } from './offer.js';
import { describeIssues } from './schema.js';
import { isSource, readParts, type Source } from './source.js';
import { tool } from './tool.js';

/** One call of a chain. */
export interface ChainStep {
  /** The name of a tool of the same server. */
  readonly call: string;
  /** Its input: values, and `{{path}}` for the chain's own input and the answers of earlier steps. */
  readonly with?: Readonly<Record<string, unknown>>;
  /** How later steps know its answer. Default: the tool's name. */
  readonly as?: string;
}

/** A tool that is made of calls of others. */
export interface ChainedTool {
  /** What the tool is called. */
  readonly name: string;
  /** For people. */
  readonly title?: string;
  /** What it does and when to use it. */
  readonly description: string;
  /** Default: no input. */
  readonly input?: JsonSchema;
  /** Hints on what it does. */
  readonly annotations?: ToolAnnotations;
  /** The calls, one after the other. */
  readonly steps: readonly ChainStep[];
  /** What it answers with, with `{{path}}`. Default: the answer of the last step. */
  readonly answer?: unknown;
}

/**
 * Tools that call other tools: with inputs fixed and mapped, one step after the other. The first step that fails ends the chain.
 *
 * @param parts offers and sources whose tools may be called; they are offered too unless `only` says which
 * @throws when it is read: JexoError JEXO_DEFINITION for a step that calls no tool of theirs
 * @example
 * chainTools([hives], [{ name: 'autumn_syrup', description: 'Thick syrup for so many colonies.', input, steps: [
 *   { call: 'mix_syrup', with: { colonies: '{{colonies}}', season: 'autumn' } } ] }])
 */
export function chainTools(parts: readonly (Offer | Source)[], chains: readonly ChainedTool[]): Source {
  return {
    name: 'chains',
    async read(context) {
      const read = await readParts(parts, context);
      const tools = new Map(
        read.flatMap(({ offers }) => offers.flatMap((each) => (each.kind === 'tool' ? [[each.name, each] as const] : []))),
      );
      return { offers: chains.map((chain) => chainOf(chain, tools)) };
    },
    async freeze(context) {
      const frozen = await freezeParts(parts, context);
      return frozen.every((part) => part === null) ? undefined : frozen;
    },
    thaw: (frozen) => chainTools(thawParts(parts, frozen as FrozenParts), chains),
    watch(changed) {
      const stops = parts.flatMap((part) => (isSource(part) && part.watch ? [part.watch(changed)] : []));
      return () => stops.forEach((stop) => stop());
    },
  };
}

function chainOf(chain: ChainedTool, tools: ReadonlyMap<string, ToolOffer>): ToolOffer {
  const { name, title, description, input, annotations, steps } = chain;
  for (const { call } of steps)
    if (!tools.has(call)) {
      const like = nearest(call, tools.keys());
      throw new JexoError('JEXO_DEFINITION', `The tool ${name} calls ${call}, which is not offered here.`, {
        where: `tool ${name}`,
        ...(like !== undefined && { next: `Did you mean ${like}?` }),
      });
    }
  const readsOnly = steps.every(({ call }) => tools.get(call)!.annotations?.readOnlyHint === true);
  return tool(
    name,
    {
      ...(title !== undefined && { title }),
      description,
      input: (input ?? { type: 'object', properties: {}, additionalProperties: false }) as never,
      annotations: annotations ?? (readsOnly ? { readOnlyHint: true } : {}),
    },
    (given: unknown, call: Call) => runChain(chain, tools, given as Record<string, unknown>, call) as never,
  );
}

async function runChain(
  { steps, answer: wanted }: ChainedTool,
  tools: ReadonlyMap<string, ToolOffer>,
  input: Record<string, unknown>,
  call: Call,
) {
  const known: Record<string, unknown> = { ...input };
  let last: CallToolResult = { content: [] };
  for (const [index, { call: name, with: given = {}, as = name }] of steps.entries()) {
    if (steps.length > 1) call.progress(index, steps.length, name);
    last = await callOffer(tools.get(name)!, filled(given, known) as Record<string, unknown>, call);
    if (last.isError) {
      const block = last.content[0];
      const why = block?.type === 'text' ? block.text : 'it failed';
      return answer({
        content: [{ type: 'text', text: steps.length === 1 ? why : `${name} (step ${index + 1} of ${steps.length}): ${why}` }],
        isError: true,
      });
    }
    known[as] = valueOf(last);
  }
  if (wanted !== undefined) return filled(wanted, known);
  return answer({ content: last.content, ...(last.structuredContent && { structuredContent: last.structuredContent }) });
}

/** Calls a tool of the same server as a client would: its input is checked, its confirmation asked for. */
async function callOffer(offer: ToolOffer, input: Record<string, unknown>, call: Call): Promise<CallToolResult> {
  const checked = await offer.input.check(input);
  if (!checked.ok)
    return {
      content: [{ type: 'text', text: `The input for ${offer.name} is not valid:\n${describeIssues(checked.issues)}` }],
      isError: true,
    };
  const question = offer.confirm?.(checked.value as never);
  if (question !== undefined) await call.ask(question, { type: 'object', properties: {} });
  const value = await offer.run(checked.value as never, call);
  if (isAnswer(value)) return value;
  return isRecord(value) && offer.output !== undefined
    ? { content: [{ type: 'text', text: JSON.stringify(value) }], structuredContent: value }
    : toResult(value);
}

/** The answer of a step as later steps see it: its structure, or its text, as JSON where it is such. */
function valueOf({ structuredContent, content }: CallToolResult): unknown {
  if (structuredContent !== undefined) return structuredContent;
  const text = content.flatMap((block) => (block.type === 'text' ? [block.text] : [])).join('\n');
  try {
    return JSON.parse(text) as unknown;
  } catch {
    return text;
  }
}

const whole = /^\{\{\s*([^{}]+?)\s*\}\}$/;
const part = /\{\{\s*([^{}]+?)\s*\}\}/g;

/** Replaces `{{path}}` by what is known: a text that is nothing else becomes the value itself; what is not known is omitted. */
export function filled(value: unknown, known: Readonly<Record<string, unknown>>): unknown {
  if (typeof value === 'string') {
    const [, path] = whole.exec(value) ?? [];
    if (path !== undefined) return at(known, path);
    return value.replaceAll(part, (_, each: string) => {
      const found = at(known, each);
      return typeof found === 'string' ? found : found === undefined ? '' : JSON.stringify(found);
    });
  }
  if (Array.isArray(value)) return value.map((each) => filled(each, known)).filter((each) => each !== undefined);
  if (!isRecord(value)) return value;
  return Object.fromEntries(
    Object.entries(value).flatMap(([key, each]) => {
      const made = filled(each, known);
      return made === undefined ? [] : [[key, made]];
    }),
  );
}

/** `lots.nodes[0].id` of what is known; undefined when it is not there. */
function at(known: Readonly<Record<string, unknown>>, path: string): unknown {
  let found: unknown = known;
  for (const step of path.split(/[.[\]]/).filter((each) => each !== '')) {
    if (typeof found !== 'object' || found === null || !Object.hasOwn(found, step)) return undefined;
    found = (found as Record<string, unknown>)[step];
  }
  return found;
}
