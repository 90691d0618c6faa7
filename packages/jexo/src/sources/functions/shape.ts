import type { JsonSchema } from '../../protocol/types.js';
import type { Omission } from '../../offers/offer.js';

/** How a JSON value becomes the value a function takes. Absent where they are the same. */
export type Revive =
  | { readonly to: 'date' }
  | { readonly to: 'url' }
  | { readonly to: 'bytes' }
  | { readonly to: 'set'; readonly item?: Revive }
  | { readonly to: 'map'; readonly value?: Revive }
  | { readonly to: 'list'; readonly item: Revive }
  | { readonly to: 'tuple'; readonly items: readonly (Revive | null)[] }
  | { readonly to: 'object'; readonly properties: Readonly<Record<string, Revive>>; readonly rest?: Revive };

export interface ParameterShape {
  /** The property of the input it is taken from; several when it is a destructured object. */
  readonly name: string;
  readonly from: 'property' | 'rest' | 'whole-input' | 'signal' | 'call';
  readonly revive?: Revive;
}

/** One function as read from its types: plain data, so that it can be cached and frozen into a pack. */
export interface FunctionShape {
  /** The name it is exported by. */
  readonly export: string;
  /** The name of its tool. */
  readonly name: string;
  readonly description?: string;
  readonly title?: string;
  readonly where: string;
  readonly parameters: readonly ParameterShape[];
  readonly input: JsonSchema;
  /** Absent when it returns nothing. */
  readonly output?: JsonSchema;
  /** True when the answer is put under the property `result`, because the protocol wants an object. */
  readonly wrapped: boolean;
  readonly annotations?: Readonly<Record<string, boolean>>;
  readonly tags?: readonly string[];
}

export interface ModuleShape {
  readonly functions: readonly FunctionShape[];
  readonly omitted: readonly Omission[];
  /** Text of the module's own leading comment, when it has one. */
  readonly about?: string;
}
