import type { JsonSchema } from './model';

export type Input = Record<string, unknown>;

/** A schema with its references followed and its parts put together, one level deep. */
export function resolve(schema: JsonSchema | boolean | undefined, root: JsonSchema, depth = 0): JsonSchema {
  if (schema === undefined || typeof schema === 'boolean') return {};
  if (typeof schema.$ref === 'string' && depth < 20) {
    const { $ref, ...beside } = schema;
    const found = $ref
      .replace(/^#\/?/, '')
      .split('/')
      .filter((step) => step !== '')
      .reduce<unknown>(
        (at, step) => (at as Record<string, unknown> | undefined)?.[decodeURIComponent(step).replaceAll('~1', '/').replaceAll('~0', '~')],
        root,
      );
    return resolve({ ...(found as JsonSchema | undefined), ...beside }, root, depth + 1);
  }
  if (Array.isArray(schema.allOf) && depth < 20) {
    const { allOf, ...own } = schema;
    const parts = (allOf as JsonSchema[]).map((part) => resolve(part, root, depth + 1));
    return [...parts, own].reduce((all: JsonSchema, part) => ({
      ...all,
      ...part,
      ...((all.properties ?? part.properties) !== undefined && {
        properties: { ...(all.properties as object), ...(part.properties as object) },
      }),
      ...((all.required ?? part.required) !== undefined && {
        required: [...((all.required as string[] | undefined) ?? []), ...((part.required as string[] | undefined) ?? [])],
      }),
    }));
  }
  return schema;
}

export const typesOf = (schema: JsonSchema): string[] =>
  ([schema.type].flat() as (string | undefined)[]).filter((type) => type !== undefined);
export const typeOf = (schema: JsonSchema) =>
  typesOf(schema).find((type) => type !== 'null') ??
  (schema.properties !== undefined ? 'object' : schema.items !== undefined ? 'array' : undefined);

/** The variants of a union: each a schema with words for it. */
export function variantsOf(schema: JsonSchema, root: JsonSchema): { readonly words: string; readonly schema: JsonSchema }[] {
  const listed = (schema.anyOf ?? schema.oneOf) as JsonSchema[] | undefined;
  // Branches that only name formats of one text are ways to write it, not different things.
  const isOneText = schema.type === 'string' && listed?.every((each) => Object.keys(each).every((key) => key === 'format'));
  if (Array.isArray(listed) && !isOneText && !constantsOf(schema)) {
    // A default belongs to the union as a whole, not to each of its variants.
    const { anyOf: _a, oneOf: _o, default: _d, title: _t, examples: _e, ...shared } = schema;
    return listed.map((each) => {
      const part = resolve({ ...shared, ...resolve(each, root) }, root);
      return { words: wordsFor(part, root), schema: part };
    });
  }
  const types = typesOf(schema);
  if (types.length > 1 && !Array.isArray(schema.enum)) {
    const { default: _d, ...shared } = schema;
    return types.map((type) => ({ words: type === 'null' ? 'nothing (null)' : type, schema: { ...shared, type } }));
  }
  return [];
}

export function wordsFor(schema: JsonSchema, root: JsonSchema): string {
  if (typeof schema.title === 'string') return schema.title;
  if (schema.const !== undefined) return JSON.stringify(schema.const);
  const marked = Object.entries((schema.properties ?? {}) as Record<string, JsonSchema>).find(
    ([, each]) => resolve(each, root).const !== undefined,
  );
  if (marked !== undefined) return `${marked[0]}: ${String(resolve(marked[1], root).const)}`;
  if (typeOf(schema) === 'array') return `list of ${wordsFor(resolve(schema.items as JsonSchema, root), root)}`;
  return (
    (schema.format as string | undefined) ??
    (typesOf(schema).includes('null') && typesOf(schema).length === 1 ? 'nothing (null)' : (typeOf(schema) ?? 'anything'))
  );
}

/** A choice among fixed values, with the words for each. */
export function constantsOf(schema: JsonSchema): { readonly value: unknown; readonly words: string }[] | undefined {
  const show = (value: unknown) => (typeof value === 'string' ? value : JSON.stringify(value));
  if (Array.isArray(schema.enum)) {
    const names = schema.enumNames as string[] | undefined;
    return (schema.enum as unknown[]).map((value, index) => ({ value, words: names?.[index] ?? show(value) }));
  }
  const listed = (schema.oneOf ?? schema.anyOf) as JsonSchema[] | undefined;
  if (Array.isArray(listed) && listed.length > 0 && listed.every((each) => each.const !== undefined))
    return listed.map(({ const: value, title }) => ({
      value,
      words: typeof title === 'string' ? `${title} (${show(value)})` : show(value),
    }));
  return undefined;
}

export function fits(value: unknown, schema: JsonSchema, root: JsonSchema): boolean {
  const resolved = resolve(schema, root);
  if (resolved.const !== undefined) return value === resolved.const;
  const type = typesOf(resolved)[0] ?? typeOf(resolved);
  if (value === null) return type === 'null';
  if (Array.isArray(value)) return type === 'array';
  if (typeof value !== 'object') return type === typeof value || (type === 'integer' && typeof value === 'number') || type === undefined;
  if (type !== 'object') return false;
  return Object.entries((resolved.properties ?? {}) as Record<string, JsonSchema>).every(([key, each]) => {
    const constant = resolve(each, root).const;
    return constant === undefined || (value as Input)[key] === constant;
  });
}

/** What a value of a schema starts as: its default, its constant, the fixed parts of an object. */
export function initial(schema: JsonSchema, root: JsonSchema): unknown {
  const resolved = resolve(schema, root);
  if (resolved.default !== undefined) return resolved.default;
  if (resolved.const !== undefined) return resolved.const;
  switch (typesOf(resolved)[0] ?? typeOf(resolved)) {
    case 'object':
      return initialInput(resolved, root);
    case 'array':
      return [];
    case 'null':
      return null;
    case 'boolean':
      return false;
    default:
      return undefined;
  }
}

/** The input a form starts with: defaults and constants of what is required. */
export function initialInput(schema: JsonSchema, root: JsonSchema = schema): Input {
  const input: Input = {};
  const resolved = resolve(schema, root);
  const required = new Set((resolved.required ?? []) as string[]);
  for (const [name, property] of Object.entries((resolved.properties ?? {}) as Record<string, JsonSchema>)) {
    const { default: given, const: fixed } = resolve(property, root);
    if (given !== undefined) input[name] = given;
    else if (fixed !== undefined && required.has(name)) input[name] = fixed;
  }
  return input;
}

export function exampleOf(schema: JsonSchema): string | undefined {
  const [example] = (schema.examples as unknown[] | undefined) ?? [];
  if (example !== undefined) return typeof example === 'string' ? example : JSON.stringify(example);
  return schema.format === 'date-time' ? '2026-06-01T00:00:00Z' : undefined;
}
