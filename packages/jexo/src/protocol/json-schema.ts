import { isRecord } from './is-record.js';
/** The kinds of JSON that a schema can name. */
export type JsonType = 'string' | 'number' | 'integer' | 'boolean' | 'null' | 'array' | 'object';

/**
 * A JSON Schema (2020-12, or draft-07 where `$schema` says so), as far as it is read here. What comes from outside may hold anything
 * under any keyword: it is checked by the dialect's own schema before it is used.
 */
export interface JsonSchema {
  readonly $schema?: string;
  readonly $id?: string;
  readonly $ref?: string;
  readonly $defs?: Readonly<Record<string, JsonSchema>>;
  readonly title?: string;
  readonly description?: string;
  readonly default?: unknown;
  readonly examples?: readonly unknown[];
  readonly deprecated?: boolean;
  readonly type?: JsonType | readonly JsonType[];
  readonly enum?: readonly unknown[];
  /** Names for the values of `enum`, one each (Client features, "Elicitation"). */
  readonly enumNames?: readonly string[];
  readonly const?: unknown;
  readonly properties?: Readonly<Record<string, JsonSchema>>;
  readonly patternProperties?: Readonly<Record<string, JsonSchema>>;
  readonly additionalProperties?: boolean | JsonSchema;
  readonly required?: readonly string[];
  readonly minProperties?: number;
  readonly maxProperties?: number;
  readonly items?: boolean | JsonSchema;
  readonly prefixItems?: readonly JsonSchema[];
  readonly minItems?: number;
  readonly maxItems?: number;
  readonly uniqueItems?: boolean;
  readonly anyOf?: readonly JsonSchema[];
  readonly oneOf?: readonly JsonSchema[];
  readonly allOf?: readonly JsonSchema[];
  readonly not?: JsonSchema;
  readonly format?: string;
  readonly pattern?: string;
  readonly contentEncoding?: string;
  readonly contentMediaType?: string;
  readonly minLength?: number;
  readonly maxLength?: number;
  readonly minimum?: number;
  readonly maximum?: number;
  readonly exclusiveMinimum?: number;
  readonly exclusiveMaximum?: number;
  readonly multipleOf?: number;
  readonly [keyword: string]: unknown;
}

const none: Readonly<Record<string, JsonSchema>> = Object.freeze({});

/** The properties a schema names. */
export function propertiesOf({ properties }: JsonSchema): Readonly<Record<string, JsonSchema>> {
  return properties ?? none;
}

/** The properties that must be given. */
export function requiredOf({ required }: JsonSchema): readonly string[] {
  return required ?? [];
}

/**
 * The schema that a reference within `root` leads to; undefined where it leads nowhere, or to another document. It follows one reference,
 * so a caller that goes on must bound it.
 */
export function resolveRef(ref: string, root: JsonSchema): JsonSchema | undefined {
  if (ref === '#') return root;
  if (!ref.startsWith('#/')) return undefined;
  let found: unknown = root;
  for (const step of ref.slice(2).split('/')) {
    const name = step.replaceAll('~1', '/').replaceAll('~0', '~');
    found = isRecord(found) && Object.hasOwn(found, name) ? found[name] : undefined;
  }
  return isRecord(found) ? (found as JsonSchema) : undefined;
}

/** The schemas that together describe a value: the schema itself, what it refers to, and each branch of its unions. Each comes once. */
export function branchesOf(schema: JsonSchema | undefined, root: JsonSchema): readonly JsonSchema[] {
  const seen = new Set<JsonSchema>();
  const waiting = [schema];
  // What is found on the way is looked at in its turn.
  for (const next of waiting) {
    if (!isRecord(next) || seen.has(next)) continue;
    seen.add(next);
    const { $ref, anyOf, oneOf, allOf } = next;
    if (typeof $ref === 'string') waiting.push(resolveRef($ref, root));
    for (const branches of [anyOf, oneOf, allOf]) if (Array.isArray(branches)) waiting.push(...(branches as JsonSchema[]));
  }
  return [...seen];
}
