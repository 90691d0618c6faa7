/** The TypeScript type of values that fit a JSON Schema literal, for the keywords that have a counterpart in types. */
export type FromJsonSchema<S> = S extends { readonly const: infer C }
  ? C
  : S extends { readonly enum: readonly (infer E)[] }
    ? E
    : S extends { readonly anyOf: readonly (infer B)[] }
      ? FromJsonSchema<B>
      : S extends { readonly oneOf: readonly (infer B)[] }
        ? FromJsonSchema<B>
        : S extends { readonly type: infer T }
          ? T extends readonly (infer Each)[]
            ? OfType<Each, S>
            : OfType<T, S>
          : unknown;

type OfType<T, S> = T extends 'string'
  ? string
  : T extends 'number' | 'integer'
    ? number
    : T extends 'boolean'
      ? boolean
      : T extends 'null'
        ? null
        : T extends 'array'
          ? S extends { readonly items: infer I }
            ? FromJsonSchema<I>[]
            : unknown[]
          : T extends 'object'
            ? OfObject<S>
            : unknown;

type OfObject<S> = S extends { readonly properties: infer P }
  ? Flat<
      { [K in keyof P as K extends Always<S, P> ? K : never]: FromJsonSchema<P[K]> } & {
        [K in keyof P as K extends Always<S, P> ? never : K]?: FromJsonSchema<P[K]>;
      }
    >
  : S extends { readonly additionalProperties: infer A }
    ? A extends object
      ? Record<string, FromJsonSchema<A>>
      : Record<string, unknown>
    : Record<string, unknown>;

/** The properties a handler can count on: the required ones, and those with a default, which is filled in before it runs. */
type Always<S, P> =
  | (S extends { readonly required: readonly (infer R)[] } ? R : never)
  | { [K in keyof P]: P[K] extends { readonly default: unknown } ? K : never }[keyof P];
type Flat<T> = { [K in keyof T]: T[K] };
