import type { Icon, JsonSchema, TaskSupport } from '../../protocol/types.js';

/** The kinds of JSON that a union's members can be told apart by. */
export type JsonKind = 'string' | 'number' | 'boolean' | 'array' | 'object';

/** How a JSON value becomes the value a function takes. Absent where they are the same. docs/functions.md shows the whole mapping. */
export type Revive =
  | { readonly to: 'date' | 'url' | 'bytes' | 'array-buffer' | 'bigint' | 'regexp' | 'blob' | 'file' | 'stream' }
  | { readonly to: 'numbers'; readonly of: string }
  | { readonly to: 'set'; readonly item?: Revive }
  | { readonly to: 'map'; readonly numberKeys?: true; readonly value?: Revive }
  | { readonly to: 'list'; readonly item: Revive }
  | { readonly to: 'async-list'; readonly item?: Revive }
  | { readonly to: 'tuple'; readonly items: readonly (Revive | null)[] }
  | { readonly to: 'object'; readonly properties: Readonly<Record<string, Revive>>; readonly rest?: Revive }
  /** A discriminated union: the property's value says which. */
  | { readonly to: 'case'; readonly property: string; readonly cases: Readonly<Record<string, Revive>> }
  | { readonly to: 'kind'; readonly kinds: Readonly<Partial<Record<JsonKind, Revive>>> }
  /** A type that contains itself, by its name among the function's `revives`. */
  | { readonly to: 'ref'; readonly name: string };

export interface ParameterShape {
  /** The property of the input it is taken from; several when it is a destructured object. */
  readonly name: string;
  readonly from: 'property' | 'rest' | 'whole-input' | 'signal' | 'call' | 'nothing';
  readonly revive?: Revive;
}

/** How what a function returns becomes an answer. */
export type ReturnShape =
  /** Nothing is promised: an answer says only that it is done, or holds whatever came. */
  | { readonly as: 'nothing' }
  /** An object, given as it is. */
  | { readonly as: 'object' }
  /** Anything else, put under the property `result`, because the protocol wants an object. */
  | { readonly as: 'result' }
  /** Items that come one by one: each is told as progress, all together are the result. */
  | { readonly as: 'items' }
  /** Bytes of a media kind: an image, a sound, a file. */
  | { readonly as: 'media'; readonly mimeType?: string };

/** One function as read from its types: plain data, so that it can be cached and frozen into a pack. */
export interface FunctionShape {
  /** The name it is exported by. */
  readonly export: string;
  /** The method, where what is exported is an object or a class. */
  readonly member?: string;
  /** True when an instance of the exported class is needed to call the method. */
  readonly needsInstance?: true;
  /** True when that class can be made without arguments. */
  readonly makesItself?: true;
  readonly kind: 'tool' | 'resource' | 'template' | 'prompt';
  /** The URI of a resource, or the template of several. */
  readonly uri?: string;
  readonly mimeType?: string;
  /** The name of its offer. */
  readonly name: string;
  readonly description?: string;
  readonly title?: string;
  readonly icons?: readonly Icon[];
  readonly where: string;
  readonly parameters: readonly ParameterShape[];
  readonly input: JsonSchema;
  /** How types that contain themselves are revived, by name. */
  readonly revives?: Readonly<Record<string, Revive>>;
  /** Absent when nothing is promised. */
  readonly output?: JsonSchema;
  readonly returns: ReturnShape;
  readonly annotations?: Readonly<Record<string, boolean>>;
  readonly tags?: readonly string[];
  readonly taskSupport?: TaskSupport;
  /** The page that is shown with its answers, or the folder of an app. */
  readonly view?: string;
  /** The page itself, in a pack. */
  readonly page?: string;
  /** Who may call it. */
  readonly visibleTo?: 'model' | 'view';
  /** When a task of it is run again. */
  readonly taskRetry?: { readonly times: number };
  /** What a person is asked to confirm, with the input's properties in braces. */
  readonly confirm?: string;
}

/** An export, or a part of one, whose types cannot be told to a client. */
export interface UnreadableExport {
  readonly name: string;
  /** A file with its line. */
  readonly where: string;
  readonly why: string;
  readonly next: string;
  /** True when only an optional parameter is omitted, and the function is offered without it. */
  readonly partial?: boolean;
}

/** What the type reader found in a module: plain JSON, which a packed server carries. */
export interface ModuleShape {
  /** The functions that can be offered. */
  readonly functions: readonly FunctionShape[];
  /** Exports that cannot be offered, and why. */
  readonly omitted: readonly UnreadableExport[];
}
