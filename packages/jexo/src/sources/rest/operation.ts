import type { Omission } from '../../offers/source.js';
import type { SecurityNeeds, SecurityScheme } from '../http/security.js';

export type Place = 'path' | 'query' | 'header' | 'cookie';
export type Style = 'matrix' | 'label' | 'simple' | 'form' | 'spaceDelimited' | 'pipeDelimited' | 'deepObject';

export interface Parameter {
  readonly name: string;
  readonly in: Place;
  readonly required: boolean;
  readonly description?: string;
  readonly schema: unknown;
  readonly style: Style;
  readonly explode: boolean;
  readonly allowReserved: boolean;
  /** The media type of a parameter that is sent as a document of its own, as JSON. */
  readonly content?: string;
}

export interface PartEncoding {
  readonly contentType?: string;
  readonly style?: Style;
  readonly explode?: boolean;
  readonly allowReserved?: boolean;
}

export interface Body {
  readonly required: boolean;
  readonly description?: string;
  readonly mediaType: string;
  readonly schema: unknown;
  readonly encoding: Readonly<Record<string, PartEncoding>>;
  /** Types it may also be sent as, with fields of their own; none when the type was chosen. */
  readonly others: readonly string[];
}

/** One operation of an API, of whatever kind of document. */
export interface Operation {
  readonly method: string;
  readonly path: string;
  readonly id?: string;
  readonly summary?: string;
  readonly description?: string;
  readonly tags: readonly string[];
  readonly deprecated: boolean;
  readonly parameters: readonly Parameter[];
  readonly body?: Body;
  readonly answer?: {
    readonly status: string;
    readonly description: string;
    readonly mediaType?: string;
    readonly schema?: unknown;
    readonly linked?: boolean;
  };
  /** Alternatives; each needs all of its schemes. Empty when none is needed. */
  readonly security: readonly SecurityNeeds[];
  readonly servers: readonly Server[];
  /** File and line, looked for when it is read. */
  readonly where: string;
}

export interface Server {
  readonly url: string;
  readonly variables: Readonly<Record<string, { readonly default?: string; readonly enum?: readonly string[] }>>;
}

export interface Api {
  readonly title: string;
  readonly version: string;
  readonly description?: string;
  readonly operations: readonly Operation[];
  readonly schemes: Readonly<Record<string, SecurityScheme>>;
  readonly servers: readonly Server[];
  /** True when the document is not on this disk, and so may not name what is read here. */
  readonly isRemote: boolean;
  /** What could not be read. */
  readonly problems: readonly Omission[];
}

/** The names by which an operation may be chosen, beside its own. */
export function aliasesOf({ id, method, path }: Operation): string[] {
  return [...(id === undefined ? [] : [id]), `${method} ${path}`, path];
}
