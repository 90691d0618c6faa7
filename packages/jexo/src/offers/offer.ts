import { JexoError, messageOf } from '../errors.js';
import type { Annotations, Icon, Meta, PromptArgument, Resource, TaskSupport, ToolAnnotations } from '../protocol/types.js';
import type { UriTemplate } from '../protocol/uri-template.js';
import type { Call } from './call.js';
import type { Completer } from './completion.js';
import type { CompiledSchema } from './schema.js';

interface Described {
  readonly name: string;
  readonly title?: string | undefined;
  readonly description?: string | undefined;
  readonly icons?: readonly Icon[] | undefined;
  readonly tags?: readonly string[] | undefined;
  readonly meta?: Meta | undefined;
  /** Where it was defined, for messages: a file and line, a document and path. */
  readonly where?: string | undefined;
  /** Other names by which it may be chosen. */
  readonly aliases?: readonly string[] | undefined;
  /** Serves other offers of its source, and is kept whatever is chosen among them. */
  readonly comesAlong?: boolean | undefined;
  readonly run: (input: never, call: Call) => unknown;
}

/** A tool as the rest of Jexo sees it, wherever it came from. */
export interface ToolOffer extends Described {
  readonly kind: 'tool';
  readonly input: CompiledSchema;
  readonly output?: CompiledSchema | undefined;
  readonly annotations?: ToolAnnotations | undefined;
  readonly taskSupport?: TaskSupport | undefined;
  /** Questions for inputs that may be missing, by property. */
  readonly ask?: Readonly<Record<string, string>> | undefined;
  /** What a person is asked to confirm before it runs. */
  readonly confirm?: ((input: never) => string | undefined) | undefined;
  /** Runs in place of the handler's failure when the client cannot be asked. */
  readonly fallback?: ((input: never, call: Call) => unknown) | undefined;
}

export interface ResourceOffer extends Described {
  readonly kind: 'resource';
  readonly uri: string;
  readonly mimeType?: string | undefined;
  /** Bytes. */
  readonly size?: number | undefined;
  readonly annotations?: Annotations | undefined;
  /** Calls `changed` whenever the contents do, while somebody is subscribed; returns how to stop. */
  readonly watch?: ((changed: () => void) => () => void) | undefined;
}

export interface TemplateOffer extends Described {
  readonly kind: 'template';
  readonly template: UriTemplate;
  readonly mimeType?: string | undefined;
  readonly annotations?: Annotations | undefined;
  readonly complete?: Readonly<Record<string, Completer>> | undefined;
  /** Resources of this form that `resources/list` names. */
  readonly list?: (() => readonly Resource[] | Promise<readonly Resource[]>) | undefined;
  readonly watch?: ((changed: () => void, uri: string) => () => void) | undefined;
}

export interface PromptOffer extends Described {
  readonly kind: 'prompt';
  readonly arguments: readonly PromptArgument[];
  readonly input?: CompiledSchema | undefined;
  readonly complete?: Readonly<Record<string, Completer>> | undefined;
}

export type Offer = ToolOffer | ResourceOffer | TemplateOffer | PromptOffer;

/** What every offer may say of itself. */
export interface Description {
  /** For people. A model sees the name and the description. */
  readonly title?: string;
  readonly description?: string;
  readonly icons?: readonly Icon[];
  /** Group it in the inspector; clients do not see them. */
  readonly tags?: readonly string[];
  readonly meta?: Meta;
}

/** @throws JexoError JEXO_DEFINITION */
export function requireName(kind: string, name: unknown, run: unknown): void {
  if (typeof name !== 'string' || name === '') throw new JexoError('JEXO_DEFINITION', `A ${kind} needs a name.`);
  if (typeof run !== 'function')
    throw new JexoError('JEXO_DEFINITION', `The ${kind} ${name} needs a function as its last argument.`, { where: `${kind} ${name}` });
}

/** Icons may only be fetched over https or carried as data (Base protocol, "Icons"). @throws JexoError JEXO_DEFINITION */
export function checkIcons(where: string, icons: readonly Icon[] | undefined): void {
  for (const { src } of icons ?? []) {
    if (!/^(https:|data:image\/)/i.test(src))
      throw new JexoError('JEXO_DEFINITION', `${where} has the icon ${JSON.stringify(src)}; an icon must be an https: or data:image URI.`, {
        where,
      });
  }
}

/** Turns any throw of a reader of definitions into one of ours, naming the place. */
export function definitionError(where: string, error: unknown): JexoError {
  return new JexoError('JEXO_DEFINITION', messageOf(error), { where, cause: error });
}
