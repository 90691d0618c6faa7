import { isRecord } from '../protocol/is-record.js';
import type { JsonSchema } from '../protocol/types.js';

/** A schema in the few keywords that model services take, and the names of properties that had to change on the way. */
export interface PlainSchema {
  readonly schema: JsonSchema;
  /** A value as the tool wants it, from one as the model writes it. */
  toOwn(value: unknown): unknown;
  /** And back. */
  toGiven(value: unknown): unknown;
}

/** Names of properties that services take. */
const takenProperty = /^[A-Za-z0-9_.-]{1,64}$/;
/** What is copied as it is. Every other keyword only narrows what is allowed, and the server checks that itself. */
const copied = new Set([
  'title',
  'description',
  'default',
  'enum',
  'format',
  'pattern',
  'minimum',
  'maximum',
  'exclusiveMinimum',
  'exclusiveMaximum',
  'multipleOf',
  'minLength',
  'maxLength',
  'minItems',
  'maxItems',
  'uniqueItems',
]);
/** Levels to which a schema that refers to itself is written out. */
const mostRepeats = 2;

/** Given names to own names, for each object schema that was written. */
type Renames = WeakMap<object, ReadonlyMap<string, string>>;

/**
 * Rewrites a tool's input schema for model services: references are written out, `const` becomes `enum`, `oneOf` becomes `anyOf`, `allOf`
 * is merged, lists of types become `anyOf`, tuples become lists, the root is an object without alternatives, and properties get names that
 * services take. What is dropped only narrows: a value that fits the tool's schema fits this one, written with the names given here.
 */
export function plainSchema(root: JsonSchema): PlainSchema {
  const renames: Renames = new WeakMap();
  const written = new Writer(root, renames).root();
  return {
    schema: written,
    toOwn: (value) => renamed(value, [written], renames, 'own'),
    toGiven: (value) => renamed(value, [written], renames, 'given'),
  };
}

class Writer {
  constructor(
    private readonly whole: JsonSchema,
    private readonly renames: Renames,
  ) {}

  root(): JsonSchema {
    const merged = this.withoutAlternatives(this.resolved(this.whole, []), []);
    const whole = this.write({ ...merged, type: 'object' }, []);
    const written = { ...whole, properties: whole.properties ?? {} } as JsonSchema;
    const names = this.renames.get(whole);
    if (names !== undefined) this.renames.set(written, names);
    return written;
  }

  /** A schema behind its references; `path` are those that were followed to get here. */
  private resolved(schema: unknown, path: readonly string[]): JsonSchema {
    if (!isRecord(schema)) return {};
    const { $ref: ref, ...beside } = schema;
    if (typeof ref !== 'string') return schema as JsonSchema;
    if (path.filter((each) => each === ref).length >= mostRepeats) return beside as JsonSchema;
    const found = this.resolved(at(this.whole, ref), [...path, ref]);
    return { ...found, ...beside } as JsonSchema;
  }

  /** The references that were followed when this schema was reached. */
  private pathOf(schema: unknown, path: readonly string[]): readonly string[] {
    const steps = [...path];
    for (let each = schema; isRecord(each) && typeof each.$ref === 'string'; each = at(this.whole, each.$ref)) {
      if (steps.filter((step) => step === each.$ref).length >= mostRepeats) break;
      steps.push(each.$ref);
    }
    return steps;
  }

  /** Alternatives of the root side by side: whatever one of them has may be given, and what all of them require must be. */
  private withoutAlternatives(schema: JsonSchema, path: readonly string[]): JsonSchema {
    const { anyOf, oneOf, allOf, ...rest } = schema;
    let merged = this.merged(rest as JsonSchema, allOf, path);
    for (const list of [anyOf, oneOf]) {
      if (!Array.isArray(list) || list.length === 0) continue;
      const branches = (list as unknown[]).map((each) =>
        this.withoutAlternatives(this.resolved(each, path), [...path, ...this.pathOf(each, path)]),
      );
      const properties: Record<string, JsonSchema> = {};
      for (const branch of branches)
        for (const [name, each] of Object.entries(propertiesIn(branch)))
          properties[name] = properties[name] === undefined ? each : ({ anyOf: [properties[name], each] } as JsonSchema);
      const required = branches
        .map((branch) => new Set(requiredIn(branch)))
        .reduce((a, b) => new Set([...a].filter((name) => b.has(name))));
      const isOpen = branches.some(({ additionalProperties }) => additionalProperties !== false);
      merged = both(merged, { properties, required: [...required], ...(!isOpen && { additionalProperties: false }) } as JsonSchema);
      if (isOpen && merged.additionalProperties === false) delete (merged as Record<string, unknown>).additionalProperties;
    }
    return merged;
  }

  private merged(schema: JsonSchema, allOf: unknown, path: readonly string[]): JsonSchema {
    if (!Array.isArray(allOf)) return schema;
    return (allOf as unknown[]).reduce<JsonSchema>((sum, each) => {
      const { allOf: inner, ...part } = this.resolved(each, [...path, ...this.pathOf(each, path)]);
      return both(sum, this.merged(part as JsonSchema, inner, path));
    }, schema);
  }

  private write(given: unknown, path: readonly string[]): JsonSchema {
    if (!isRecord(given)) return {};
    const steps = this.pathOf(given, path);
    const { allOf, ...bare } = this.resolved(given, path);
    const schema = this.merged(bare as JsonSchema, allOf, steps);
    const written: Record<string, unknown> = {};
    for (const [key, value] of Object.entries(schema)) if (copied.has(key)) written[key] = value;
    if ('const' in schema) written.enum = [schema.const];
    const alternatives = [schema.anyOf, schema.oneOf].filter((each): each is JsonSchema[] => Array.isArray(each) && each.length > 0);
    // Two lists of alternatives at once: the first is kept, since the other only narrows.
    if (alternatives.length > 0) written.anyOf = alternatives[0]!.map((each) => this.write(each, steps));
    const types = [schema.type].flat().filter((each) => typeof each === 'string');
    if (types.length > 1 && written.anyOf === undefined && written.enum === undefined) {
      const { title, description, default: preset, ...parts } = written;
      const words = Object.fromEntries(Object.entries({ title, description, default: preset }).filter(([, value]) => value !== undefined));
      return { ...words, anyOf: types.map((type) => this.ofType(type, schema, { ...parts }, steps)) };
    }
    return this.ofType(types.length === 1 ? types[0] : undefined, schema, written, steps);
  }

  private ofType(type: string | undefined, schema: JsonSchema, written: Record<string, unknown>, path: readonly string[]): JsonSchema {
    if (type !== undefined) written.type = type;
    if (type === 'object' || (type === undefined && schema.properties !== undefined)) this.object(schema, written, path);
    if (type === 'array' || (type === undefined && (schema.items !== undefined || schema.prefixItems !== undefined)))
      this.list(schema, written, path);
    return written as JsonSchema;
  }

  private object(schema: JsonSchema, written: Record<string, unknown>, path: readonly string[]): void {
    const own = Object.entries(propertiesIn(schema)).filter(([, each]) => (each as unknown) !== false);
    const names = new Map<string, string>();
    for (const [name] of own.filter(([each]) => takenProperty.test(each))) names.set(name, name);
    for (const [name] of own.filter(([each]) => !takenProperty.test(each))) {
      const plain = name.replaceAll(/[^A-Za-z0-9_.-]+/g, '_').slice(0, 60) || 'field';
      let free = plain;
      for (let count = 2; names.has(free); count++) free = `${plain}_${count}`;
      names.set(free, name);
    }
    const given = new Map([...names].map(([shown, name]) => [name, shown]));
    if (own.length > 0)
      written.properties = Object.fromEntries(own.map(([name, each]) => [given.get(name)!, this.write(each, path)] as const));
    const required = requiredIn(schema).flatMap((name) => given.get(name) ?? []);
    if (required.length > 0) written.required = required;
    const { additionalProperties: more } = schema;
    if (isRecord(more)) written.additionalProperties = this.write(more, path);
    // Names by a pattern are further names to a reader who knows no patterns.
    else if (more === false && schema.patternProperties === undefined) written.additionalProperties = false;
    const changed = new Map([...names].filter(([shown, name]) => shown !== name));
    if (changed.size > 0) this.renames.set(written, changed);
  }

  private list(schema: JsonSchema, written: Record<string, unknown>, path: readonly string[]): void {
    const { items, prefixItems, additionalItems } = schema as Record<string, unknown>;
    const tuple = Array.isArray(prefixItems) ? prefixItems : Array.isArray(items) ? items : undefined;
    if (tuple === undefined) {
      written.items = this.write(items, path);
      return;
    }
    const rest = Array.isArray(prefixItems) ? items : additionalItems;
    if (rest === false) written.maxItems = Math.min(tuple.length, (schema.maxItems as number | undefined) ?? Infinity);
    const kinds = [...(tuple as unknown[]), ...(isRecord(rest) ? [rest] : [])].map((each) => this.write(each, path));
    const isOpen = rest !== false && !isRecord(rest);
    // A list that may go on with anything can only be told to be one.
    written.items = isOpen && written.maxItems === undefined ? {} : kinds.length === 1 ? kinds[0] : { anyOf: kinds };
  }
}

/** What both schemas ask for, as far as it can be said in one. */
function both(a: JsonSchema, b: JsonSchema): JsonSchema {
  const merged: Record<string, unknown> = { ...b, ...a };
  const properties: Record<string, JsonSchema> = { ...propertiesIn(b) };
  for (const [name, each] of Object.entries(propertiesIn(a)))
    properties[name] = properties[name] === undefined ? each : ({ allOf: [each, properties[name]] } as JsonSchema);
  if (Object.keys(properties).length > 0) merged.properties = properties;
  const required = [...new Set([...requiredIn(a), ...requiredIn(b)])];
  if (required.length > 0) merged.required = required;
  return merged as JsonSchema;
}

const propertiesIn = ({ properties }: JsonSchema): Record<string, JsonSchema> =>
  isRecord(properties) ? (properties as Record<string, JsonSchema>) : {};
const requiredIn = ({ required }: JsonSchema): string[] => (Array.isArray(required) ? (required as string[]) : []);

/** What a reference within the same schema leads to: `#/$defs/hive`. */
function at(whole: JsonSchema, ref: string): unknown {
  if (ref === '#') return whole;
  if (!ref.startsWith('#/')) return undefined;
  return ref
    .slice(2)
    .split('/')
    .map((part) => decodeURIComponent(part).replaceAll('~1', '/').replaceAll('~0', '~'))
    .reduce<unknown>(
      (found, key) => (isRecord(found) || Array.isArray(found) ? (found as Record<string, unknown>)[key] : undefined),
      whole,
    );
}

/** A value with its properties renamed, by all the schemas it may be of. */
function renamed(value: unknown, schemas: readonly JsonSchema[], renames: Renames, to: 'own' | 'given'): unknown {
  const all = schemas.flatMap(alternativesOf);
  if (Array.isArray(value)) {
    const items = all.flatMap(({ items: each }) => (isRecord(each) ? [each as JsonSchema] : []));
    return items.length === 0 ? value : value.map((each) => renamed(each, items, renames, to));
  }
  if (!isRecord(value)) return value;
  return Object.fromEntries(
    Object.entries(value).map(([key, each]) => {
      let name = key;
      const inner: JsonSchema[] = [];
      for (const schema of all) {
        const names = renames.get(schema);
        const shown = to === 'own' ? key : ([...(names ?? [])].find(([, own]) => own === key)?.[0] ?? key);
        const property = propertiesIn(schema)[shown];
        if (property !== undefined) {
          name = to === 'own' ? (names?.get(key) ?? key) : shown;
          inner.push(property);
        } else if (isRecord(schema.additionalProperties)) inner.push(schema.additionalProperties as JsonSchema);
      }
      return [name, inner.length === 0 ? each : renamed(each, inner, renames, to)];
    }),
  );
}

const alternativesOf = (schema: JsonSchema): JsonSchema[] => [
  schema,
  ...(Array.isArray(schema.anyOf) ? (schema.anyOf as JsonSchema[]).flatMap(alternativesOf) : []),
];
