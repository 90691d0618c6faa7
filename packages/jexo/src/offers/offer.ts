import type { TaskRetry } from './task-retry.js';
import { JexoError, messageOf } from '../errors.js';
import type { Annotations, Icon, Meta, PromptArgument, Resource, TaskSupport, ToolAnnotations } from '../protocol/types.js';
import type { UriTemplate } from '../protocol/uri-template.js';
import type { Call } from './call.js';
import type { Completer } from './completion.js';
import type { ToolAudience } from '../protocol/views.js';
import type { CompiledSchema } from './schema.js';
import type { ViewOffer } from './view.js';

interface Described {
  readonly name: string;
  readonly title?: string | undefined;
  readonly description?: string | undefined;
  readonly icons?: readonly Icon[] | undefined;
  readonly tags?: readonly string[] | undefined;
  readonly scope?: string | undefined;
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
  /** Tells offers apart. */
  readonly kind: 'tool';
  /** Checks what it is called with. */
  readonly input: CompiledSchema;
  /** Checks what it answers with, when something is promised. */
  readonly output?: CompiledSchema | undefined;
  /** Hints on what it does. */
  readonly annotations?: ToolAnnotations | undefined;
  /** Whether it may, must or must not run as a task. */
  readonly taskSupport?: TaskSupport | undefined;
  /** When a task of it is run again after its handler has thrown. */
  readonly taskRetry?: TaskRetry | undefined;
  /** The page that clients which can do so show with its answers, or the URI of one. */
  readonly view?: ViewOffer | string | undefined;
  /** Who may call it; without a list the model and views may. */
  readonly visibleTo?: readonly ToolAudience[] | undefined;
  /** Questions for inputs that may be missing, by property. */
  readonly ask?: Readonly<Record<string, string>> | undefined;
  /** What a person is asked to confirm before it runs. */
  readonly confirm?: ((input: never) => string | undefined) | undefined;
  /** Runs in place of the handler's failure when the client cannot be asked. */
  readonly fallback?: ((input: never, call: Call) => unknown) | undefined;
}

/** A resource as the rest of Jexo sees it. */
export interface ResourceOffer extends Described {
  /** Tells offers apart. */
  readonly kind: 'resource';
  /** What it is read by. */
  readonly uri: string;
  /** As it is listed. */
  readonly mimeType?: string | undefined;
  /** Bytes. */
  readonly size?: number | undefined;
  /** For whom it is, and how important. */
  readonly annotations?: Annotations | undefined;
  /** Calls `changed` whenever the contents do, while somebody is subscribed; returns how to stop. */
  readonly watch?: ((changed: () => void) => () => void) | undefined;
}

/** A resource template as the rest of Jexo sees it. */
export interface TemplateOffer extends Described {
  /** Tells offers apart. */
  readonly kind: 'template';
  /** The URI template (RFC 6570). */
  readonly template: UriTemplate;
  /** Of all resources of this form. */
  readonly mimeType?: string | undefined;
  /** For whom they are, and how important. */
  readonly annotations?: Annotations | undefined;
  /** Suggestions, by variable. */
  readonly complete?: Readonly<Record<string, Completer>> | undefined;
  /** Resources of this form that `resources/list` names. */
  readonly list?: (() => readonly Resource[] | Promise<readonly Resource[]>) | undefined;
  /** Calls `changed` whenever the resource at `uri` changes; returns how to stop. */
  readonly watch?: ((changed: () => void, uri: string) => () => void) | undefined;
}

/** A prompt as the rest of Jexo sees it, wherever it came from. */
export interface PromptOffer extends Described {
  /** Tells offers apart. */
  readonly kind: 'prompt';
  /** As they are listed. */
  readonly arguments: readonly PromptArgument[];
  /** Checks the arguments. */
  readonly input?: CompiledSchema | undefined;
  /** Suggestions, by argument. */
  readonly complete?: Readonly<Record<string, Completer>> | undefined;
}

/** One thing a server offers. */
export type Offer = ToolOffer | ResourceOffer | TemplateOffer | PromptOffer;

/** What every offer may say of itself. */
export interface Description {
  /** For people. A model sees the name and the description. */
  readonly title?: string;
  readonly description?: string;
  readonly icons?: readonly Icon[];
  /** Group it in the inspector, and for choices and switches; clients do not see them. */
  readonly tags?: readonly string[];
  /** Only callers with this scope see it, where callers have an identity: `hives:write`. Default: everybody. */
  readonly scope?: string;
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
