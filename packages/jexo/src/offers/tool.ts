import { propertiesOf } from '../protocol/json-schema.js';
import { JexoError } from '../errors.js';
import type { Icon, TaskSupport, ToolAnnotations } from '../protocol/types.js';
import type { Answer } from './answer.js';
import type { Call } from './call.js';
import { checkIcons, requireName, type Description, type ToolOffer } from './offer.js';
import type { TaskRetry } from './task-retry.js';
import { isUri } from './resource.js';
import { viewUri, type ViewOffer } from './view.js';
import { compileSchema, type Infer, type InferInput, type Schema } from './schema.js';

/** What `tool` takes beside the name and the function. */
export interface ToolDefinition<I extends Schema | undefined, O extends Schema | undefined> extends Description {
  /** What it does and when to use it: this decides whether a model picks the tool. */
  readonly description?: string;
  /** Default: no input. */
  readonly input?: I;
  /** When given, every answer is checked against it and sent as structured content. */
  readonly output?: O;
  /** Hints on what it does: read only, destructive, idempotent. */
  readonly annotations?: ToolAnnotations;
  /** `https:` or `data:` images that clients may show. */
  readonly icons?: readonly Icon[];
  /** `optional` lets a client run it as a task, `required` makes it (Tasks, 2025-11-25). Default `forbidden`. */
  readonly taskSupport?: TaskSupport;
  /**
   * When a task of it is run again after its handler has thrown: `{ times: 3, delayMs: 500 }`. Default: never. Plain calls are not repeated.
   * A tool whose annotations say that it is read-only or idempotent is also run again when the worker that ran it has died.
   */
  readonly taskRetry?: TaskRetry;
  /**
   * The page that hosts which show views put beside its answers (Extensions, "Interactive views"). It need not be offered by itself too. Clients that show none
   * get the answer alone, so it has to stand on its own.
   */
  readonly view?: ViewOffer | string;
  /**
   * `view` keeps it from the model: only the page may call it, as for what a person does in the page and the model is not to do. `model` keeps it from the page.
   * Default: both may. Clients that show no views do not see a tool for views alone.
   */
  readonly visibleTo?: 'model' | 'view';
  /**
   * Questions for arguments the caller may omit: a person is asked for what is missing, by the property's own schema.
   * With a client that cannot ask, a missing input is refused as any other.
   */
  readonly ask?: { readonly [property: string]: string };
  /**
   * Asks a person before it runs; `{hive}` stands for an input. The call is refused when the person says no, and when the
   * client cannot ask, unless there is a `fallback`.
   */
  readonly confirm?: string | ((input: I extends Schema ? Infer<I> : Record<string, never>) => string | undefined);
  /** Answers in the handler's place when it needed to ask and the client cannot. */
  readonly fallback?: (input: I extends Schema ? Infer<I> : Record<string, never>, call: Call) => unknown;
}

/** A tool with its types, so that a page may be typed by its server: `openView<typeof hiveWeight>()`. */
export type TypedTool<I = unknown, O = unknown> = ToolOffer & {
  /** Never set: only the types are used. */
  readonly types?: { readonly input: I; readonly output: O };
};

type Handled<O> = O extends Schema ? InferInput<O> | Answer : unknown;
const noInput = { type: 'object', additionalProperties: false } as const;

/**
 * Describes one tool (Server features, "Tools").
 *
 * @param name 1 to 128 characters of `A-Z a-z 0-9 _ - .`
 * @throws JexoError JEXO_DEFINITION for an empty name, JEXO_SCHEMA_INVALID for a schema that cannot be told to clients
 * @example
 * tool('mites_per_100', { description: 'Infestation rate.', input: z.object({ mites: z.number(), bees: z.number() }) },
 *   ({ mites, bees }) => `${(100 * mites) / bees} mites per 100 bees`);
 */
export function tool<const I extends Schema | undefined = undefined, const O extends Schema | undefined = undefined>(
  name: string,
  definition: ToolDefinition<I, O>,
  run: (input: I extends Schema ? Infer<I> : Record<string, never>, call: Call) => Handled<O> | Promise<Handled<O>>,
): TypedTool<I extends Schema ? InferInput<I> : Record<string, never>, O extends Schema ? Infer<O> : unknown> {
  requireName('tool', name, run);
  const where = `tool ${name}`;
  checkIcons(where, definition.icons);
  const { title, description, annotations, icons, tags, scope, meta, taskSupport, taskRetry, ask, confirm, fallback, view, visibleTo } =
    definition;
  const input = compileSchema(definition.input ?? noInput, 'input', where);
  for (const property of Object.keys(ask ?? {})) {
    if (!Object.hasOwn(propertiesOf(input.json), property)) {
      throw new JexoError('JEXO_DEFINITION', `${where} asks for ${property}, which its input does not have.`, { where });
    }
  }
  for (const [, field] of typeof confirm === 'string' ? confirm.matchAll(/\{(\w+)\}/g) : []) {
    if (!Object.hasOwn(propertiesOf(input.json), field!))
      throw new JexoError('JEXO_DEFINITION', `${where} names {${field}} in its confirmation, which its input does not have.`, {
        where,
        next: `Its input has: ${Object.keys(propertiesOf(input.json)).join(', ') || 'nothing'}.`,
      });
  }
  return {
    kind: 'tool',
    name,
    title,
    description,
    input,
    output: definition.output === undefined ? undefined : compileSchema(definition.output, 'output', where),
    annotations,
    icons,
    tags,
    scope,
    meta,
    taskSupport,
    taskRetry,
    view: typeof view === 'string' ? viewUriOf(view, where) : view,
    visibleTo: visibleTo === undefined ? undefined : [visibleTo === 'view' ? 'app' : 'model'],
    ask,
    confirm: typeof confirm === 'string' ? (values: Record<string, unknown>) => fill(confirm, values) : (confirm as ToolOffer['confirm']),
    fallback: fallback as ToolOffer['fallback'],
    run: run as ToolOffer['run'],
  };
}

/** @throws JexoError JEXO_DEFINITION */
function viewUriOf(text: string, where: string): string {
  const uri = text.startsWith('ui://') ? text : viewUri(text);
  if (isUri(uri)) return uri;
  throw new JexoError('JEXO_DEFINITION', `${where} has the view ${JSON.stringify(text)}, which is no name of one.`, { where });
}

function fill(text: string, values: Record<string, unknown>): string {
  return text.replaceAll(/\{(\w+)\}/g, (all, name: string) => (Object.hasOwn(values, name) ? String(values[name]) : all));
}
