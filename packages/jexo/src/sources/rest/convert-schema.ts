import type { JsonType } from '../../protocol/json-schema.js';
import { isRecord } from '../../protocol/is-record.js';
import type { JsonSchema } from '../../protocol/types.js';
import { discriminatorOf, findKinds, told, withKinds } from './discriminator.js';
import { cutText } from '../http/cut-text.js';
import type { RestDocument } from './read-document.js';
import { shareParts, type Origin } from './share-parts.js';

/** `input` omits what only the API may set, and keeps every limit; `output` omits what only callers set, and is lenient. */
export type Direction = 'input' | 'output';

export type Node = Readonly<Record<string, unknown>>;

/** Of these an API's answers are not held to: it may add values and omit fields, and its answer is still useful. */
export const limits: ReadonlySet<string> = new Set([
  'default',
  'enum',
  'const',
  'multipleOf',
  'maximum',
  'minimum',
  'maxLength',
  'minLength',
  'pattern',
  'maxItems',
  'minItems',
  'uniqueItems',
  'maxProperties',
  'minProperties',
  'exclusiveMaximum',
  'exclusiveMinimum',
  'format',
  'contentEncoding',
  'contentMediaType',
  'examples',
  'title',
  'deprecated',
]);
/** Keywords that carry over as they are. */
const kept = new Set([...limits, 'description', 'type']);
const numberFormats = new Set(['int32', 'int64', 'float', 'double', 'password', 'decimal']);
/** A description of a field longer than this is cut at a sentence. */
const longest = 240;
/** Parts a schema may have, and the depths it is cut at, one after the other, when it has more. */
const budgets: Record<Direction, number> = { input: 600, output: 200 };
const depths = [Infinity, 4, 2, 1];

/** Turns schemas of a document into plain JSON Schema of 2020-12 that stands by itself. */
export interface SchemaConverter {
  (schema: unknown, direction: Direction): JsonSchema;
}

/** What a conversion asks of its surroundings. */
export interface Converting {
  convert(value: unknown, depth: number): JsonSchema;
  /** What stands behind references; undefined when it is no object. */
  follow(value: unknown): Node | undefined;
  /** References to the schemas whose `allOf` names a schema. */
  kindsOf(base: Node): readonly string[];
}

/** Thrown often, so it is one, and carries no stack. */
const tooMany = Symbol('too many parts');

// eslint-disable-next-line max-lines-per-function -- the steps of one conversion share its budget
export function schemaConverter(document: RestDocument): SchemaConverter {
  const done = new Map<string, { readonly schema: JsonSchema; readonly parts: number }>();
  const origins = new WeakMap<object, Origin>();
  const from = (ref: string, part: JsonSchema, described: object): JsonSchema => {
    const placed = { ...part, ...described };
    origins.set(placed, { ref, part });
    return placed;
  };
  /** What is known to have too many parts by itself, by depth. */
  const tooLarge = new Set<string>();
  const follow = (value: unknown): Node | undefined => {
    let found = value;
    for (let step = 0; isRecord(found) && typeof found.$ref === 'string' && step < 50; step++) found = document.resolve(found.$ref);
    return isRecord(found) ? found : undefined;
  };

  let kinds: Map<Node, string[]> | undefined;
  const kindsOf = (base: Node): readonly string[] => {
    kinds ??= findKinds(document.root, follow);
    return kinds.get(base) ?? [];
  };

  /** @throws tooMany when the schema has more parts than allowed at this depth */
  const attempt = (schema: unknown, direction: Direction, deepest: number, most: number): JsonSchema => {
    const named = new Map<string, { readonly name: string; schema?: JsonSchema }>();
    const open = new Set<string>();
    let parts = 0;
    let uses = 0;
    const nameOf = (ref: string): string => {
      const base = decodeURIComponent(ref.slice(ref.lastIndexOf('/') + 1)).replaceAll(/\W+/g, '_') || 'Schema';
      const taken = new Set([...named.values()].map(({ name }) => name));
      let name = base;
      for (let count = 2; taken.has(name); count++) name = `${base}_${count}`;
      return name;
    };
    const count = (more: number) => {
      if ((parts += more) > most) throw tooMany;
    };
    const convert = (value: unknown, depth: number): JsonSchema => {
      if (value === true || !isRecord(value)) return value === false ? { not: {} } : {};
      count(1);
      if (depth > deepest) return outline(follow(value) ?? {});
      if (typeof value.$ref !== 'string') return convertNode(value, direction, depth, { convert, follow, kindsOf });
      const { $ref: ref, ...beside } = value;
      const described = typeof beside.description === 'string' ? { description: cutText(beside.description, longest) } : {};
      // One that leads back to itself is named, and referred to.
      if (open.has(ref)) {
        if (!named.has(ref)) named.set(ref, { name: nameOf(ref) });
        uses++;
        return { $ref: `#/$defs/${named.get(ref)!.name}`, ...described };
      }
      const key = `${direction} ${ref}`;
      const known = deepest === Infinity ? done.get(key) : undefined;
      if (known !== undefined) {
        count(known.parts);
        return from(ref, known.schema, described);
      }
      const sized = `${key} ${deepest - depth}`;
      if (tooLarge.has(sized)) throw tooMany;
      const [partsBefore, usesBefore] = [parts, uses];
      open.add(ref);
      let made: JsonSchema;
      try {
        made = convert(document.resolve(ref), depth);
      } catch (error) {
        if (error === tooMany && parts - partsBefore > most) tooLarge.add(sized);
        throw error;
      }
      open.delete(ref);
      const own = named.get(ref);
      if (own !== undefined) {
        own.schema = made;
        return { $ref: `#/$defs/${own.name}`, ...described };
      }
      if (deepest === Infinity && uses === usesBefore) done.set(key, { schema: made, parts: parts - partsBefore });
      return deepest === Infinity && uses === usesBefore ? from(ref, made, described) : { ...made, ...described };
    };
    const made = convert(schema, 0);
    const shared = shareParts(made, origins, (ref) => {
      const name = nameOf(ref);
      named.set(ref, { name });
      return name;
    });
    const recursive = [...named.values()].flatMap(({ name, schema: part }) => (part === undefined ? [] : [[name, part] as const]));
    const defs = { ...Object.fromEntries(recursive), ...shared.defs };
    return Object.keys(defs).length === 0 ? made : { ...shared.schema, $defs: defs };
  };

  return (schema, direction) => {
    for (const deepest of depths) {
      try {
        return attempt(schema, direction, deepest, deepest === depths.at(-1) ? Infinity : budgets[direction]);
      } catch (error) {
        if (error !== tooMany) throw error;
      }
    }
    return {};
  };
}

/** What is left of a schema below the depth it is cut at. */
function outline({ type, description, title }: Node): JsonSchema {
  const about = typeof description === 'string' ? description : typeof title === 'string' ? title : undefined;
  const kind = [type].flat().every((each) => typeof each === 'string') ? (type as JsonType | readonly JsonType[]) : undefined;
  return { ...(kind !== undefined && { type: kind }), ...(about !== undefined && { description: cutText(about, 80) }) };
}

function convertNode(given: Node, direction: Direction, depth: number, { convert: convertAt, follow, kindsOf }: Converting): JsonSchema {
  const loose = direction === 'output';
  const node = loose ? merged(given, follow, 0) : withKinds(merged(given, follow, 0), given, { follow, kindsOf });
  const discriminator = discriminatorOf(node);
  const convert = (value: unknown) => convertAt(value, depth + 1);
  const made: Record<string, unknown> = {};
  for (const [key, value] of Object.entries(node)) if (kept.has(key) && !(loose && limits.has(key))) made[key] = value;
  if (typeof made.description === 'string') made.description = cutText(made.description, longest);
  // 3.0 and 2.0 write an exclusive limit as a flag beside it.
  for (const [flag, limit] of [
    ['exclusiveMinimum', 'minimum'],
    ['exclusiveMaximum', 'maximum'],
  ] as const) {
    if (typeof made[flag] !== 'boolean') continue;
    if (made[flag] === true && made[limit] !== undefined) {
      made[flag] = made[limit];
      delete made[limit];
    } else delete made[flag];
  }
  if (!loose && node.example !== undefined && made.examples === undefined) made.examples = [node.example];
  if (made.examples !== undefined && !Array.isArray(made.examples)) made.examples = Object.values(made.examples as object);
  if (typeof made.pattern === 'string' && !isPattern(made.pattern)) delete made.pattern;
  if (typeof made.format === 'string') {
    if (numberFormats.has(made.format)) delete made.format;
    else if (made.format === 'binary' || made.format === 'byte') {
      delete made.format;
      made.contentEncoding = 'base64';
    }
  }
  const properties = propertiesOf(node, direction, convert, follow);
  if (properties !== undefined) {
    made.properties = properties;
    const required = (Array.isArray(node.required) ? node.required : []).filter((name) => typeof name === 'string' && name in properties);
    if (required.length > 0 && !loose) made.required = required;
    made.type ??= 'object';
  }
  if (node.additionalProperties === false && !loose) made.additionalProperties = false;
  else if (isRecord(node.additionalProperties) && Object.keys(node.additionalProperties).length > 0)
    made.additionalProperties = convert(node.additionalProperties);
  if (node.items !== undefined) made.items = Array.isArray(node.items) ? {} : convert(node.items);
  if (node.items !== undefined) made.type ??= 'array';
  if (Array.isArray(node.prefixItems)) made.prefixItems = node.prefixItems.map(convert);
  for (const key of ['oneOf', 'anyOf'] as const)
    if (Array.isArray(node[key])) {
      const branches = (node[key] as unknown[]).map((branch) => (loose ? convert(branch) : told(convert(branch), branch, discriminator)));
      // Branches that are lenient fit alike: one of them is enough.
      made[loose ? 'anyOf' : key] = branches;
    }
  if (isRecord(node.not) && !loose) made.not = convert(node.not);
  const isNullable = node.nullable === true || node['x-nullable'] === true;
  return isNullable || (loose && made.type !== undefined) ? nullable(made) : made;
}

/** JSON Schema reads patterns as Unicode ones; many documents hold others, which only the API can apply. */
function isPattern(pattern: string): boolean {
  try {
    new RegExp(pattern, 'u');
    return true;
  } catch {
    return false;
  }
}

function propertiesOf(
  node: Node,
  direction: Direction,
  convert: (value: unknown) => JsonSchema,
  follow: Converting['follow'],
): Record<string, JsonSchema> | undefined {
  if (!isRecord(node.properties)) return undefined;
  const hidden = direction === 'input' ? 'readOnly' : 'writeOnly';
  return Object.fromEntries(
    Object.entries(node.properties).flatMap(([name, schema]) => {
      const isHidden =
        isRecord(schema) && (schema[hidden] === true || (typeof schema.$ref === 'string' && follow(schema)?.[hidden] === true));
      return isHidden ? [] : [[name, convert(schema)]];
    }),
  );
}

/** `allOf` of plain objects becomes one object; anything else in it stays. */
function merged(node: Node, follow: Converting['follow'], level: number): Node {
  if (!Array.isArray(node.allOf) || level > 20) return node;
  const { allOf, ...own } = node;
  const whole: Record<string, unknown> = {};
  const required = new Set<unknown>();
  for (const part of [...(allOf as unknown[]).map((each) => follow(each) ?? {}), own]) {
    for (const [key, value] of Object.entries(merged(part, follow, level + 1))) {
      if (key === 'properties') whole.properties = { ...(whole.properties as object), ...(value as object) };
      else if (key === 'required' && Array.isArray(value)) value.forEach((name) => required.add(name));
      else if (key === 'description' && whole.description !== undefined && part !== own) continue;
      else if (key === 'discriminator' && part !== own) continue;
      else if ((key === 'oneOf' || key === 'anyOf') && whole[key] !== undefined) continue;
      else whole[key] = value;
    }
  }
  return { ...whole, ...(required.size > 0 && { required: [...required] }) };
}

function nullable(schema: Record<string, unknown>): JsonSchema {
  const { type, enum: values } = schema;
  if (typeof type === 'string' || Array.isArray(type)) {
    const types = [...new Set([...[type].flat(), 'null'])];
    return { ...schema, type: types, ...(Array.isArray(values) && !values.includes(null) && { enum: [...(values as unknown[]), null] }) };
  }
  return Object.keys(schema).length === 0 ? {} : { anyOf: [schema, { type: 'null' }] };
}
