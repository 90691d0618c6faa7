import type { Icon, Meta, ToolAnnotations } from '../protocol/types.js';
import type { Answer } from './answer.js';
import type { Call } from './call.js';
import { compileSchema, type CompiledSchema, type Infer, type InferInput, type Schema } from './schema.js';
import { JexoError } from '../errors.js';

/** A tool as the rest of Jexo sees it, wherever it came from. */
export interface ToolOffer {
  readonly kind: 'tool';
  readonly name: string;
  readonly title?: string | undefined;
  readonly description?: string | undefined;
  readonly input: CompiledSchema;
  readonly output?: CompiledSchema | undefined;
  readonly annotations?: ToolAnnotations | undefined;
  readonly icons?: readonly Icon[] | undefined;
  readonly tags?: readonly string[] | undefined;
  readonly meta?: Meta | undefined;
  /** Where it was defined, for messages: a file and line, a document and path. */
  readonly where?: string | undefined;
  readonly run: (input: never, call: Call) => unknown;
}

export type Offer = ToolOffer;

/** Something that could not be offered, and why. */
export interface Omission {
  readonly name: string;
  /** A file with its line. */
  readonly where: string;
  readonly why: string;
  readonly next: string;
}

/** What a source yields when it is read. */
export interface Yield {
  readonly offers: readonly Offer[];
  readonly omitted?: readonly Omission[];
}

/**
 * Anything that yields offers. A third party writes one by returning this shape.
 *
 * @example
 * const clock: Source = { name: 'clock', read: async () => ({ offers: [tool('now', {}, () => new Date().toISOString())] }) };
 */
export interface Source {
  /** Shown beside its offers; groups them. */
  readonly name: string;
  read(): Promise<Yield>;
  /** Calls `changed` whenever `read` would yield something else; returns how to stop. */
  watch?(changed: () => void): () => void;
}

export interface ToolDefinition<I extends Schema | undefined, O extends Schema | undefined> {
  /** For people. A model sees the name and the description. */
  readonly title?: string;
  /** What it does and when to use it: this decides whether a model picks the tool. */
  readonly description?: string;
  /** Default: no input. */
  readonly input?: I;
  /** When given, every answer is checked against it and sent as structured content. */
  readonly output?: O;
  readonly annotations?: ToolAnnotations;
  readonly icons?: readonly Icon[];
  readonly tags?: readonly string[];
  readonly meta?: Meta;
}

type Handled<O> = O extends Schema ? InferInput<O> | Answer : unknown;
const noInput = { type: 'object', additionalProperties: false } as const;

/**
 * Describes one tool.
 *
 * @param name 1 to 128 characters of `A-Z a-z 0-9 _ - .` (Server features, "Tool names")
 * @throws JexoError JEXO_DEFINITION for an empty name, JEXO_SCHEMA_INVALID for a schema that cannot be told to clients
 * @example
 * tool('mites_per_100', { description: 'Infestation rate.', input: z.object({ mites: z.number(), bees: z.number() }) },
 *   ({ mites, bees }) => `${(100 * mites) / bees} mites per 100 bees`);
 */
export function tool<const I extends Schema | undefined = undefined, const O extends Schema | undefined = undefined>(
  name: string,
  definition: ToolDefinition<I, O>,
  run: (input: I extends Schema ? Infer<I> : Record<string, never>, call: Call) => Handled<O> | Promise<Handled<O>>,
): ToolOffer {
  if (typeof name !== 'string' || name === '') throw new JexoError('JEXO_DEFINITION', 'A tool needs a name.');
  if (typeof run !== 'function') throw new JexoError('JEXO_DEFINITION', `The tool ${name} needs a function as its third argument.`);
  const where = `tool ${name}`;
  return {
    kind: 'tool',
    name,
    title: definition.title,
    description: definition.description,
    input: compileSchema(definition.input ?? noInput, 'input', where),
    output: definition.output === undefined ? undefined : compileSchema(definition.output, 'output', where),
    annotations: definition.annotations,
    icons: definition.icons,
    tags: definition.tags,
    meta: definition.meta,
    run: run as ToolOffer['run'],
  };
}
