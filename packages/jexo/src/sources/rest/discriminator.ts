import { propertiesOf, requiredOf } from '../../protocol/json-schema.js';
import { isRecord } from '../../protocol/is-record.js';
import type { JsonSchema } from '../../protocol/types.js';
import type { Converting, Node } from './convert-schema.js';

/** `discriminator` as of 3.x, or its property's name as of 2.0. */
export interface Discriminator {
  readonly propertyName: string;
  readonly mapping: Readonly<Record<string, unknown>>;
}
/** What a schema says of its kinds; undefined when it says nothing. */
export function discriminatorOf({ discriminator }: Node): Discriminator | undefined {
  if (typeof discriminator === 'string') return { propertyName: discriminator, mapping: {} };
  if (!isRecord(discriminator) || typeof discriminator.propertyName !== 'string') return undefined;
  return { propertyName: discriminator.propertyName, mapping: isRecord(discriminator.mapping) ? discriminator.mapping : {} };
}

/** More kinds than this that nothing but their `allOf` names are left to the API. */
const mostKinds = 12;

/**
 * A base stands for the kinds that build on it, with the fields they add (OpenAPI, "Discriminator Object"): one of those its
 * mapping names; where there is none, any of those whose `allOf` names it, or the base alone.
 */
export function withKinds(node: Node, given: Node, { follow, kindsOf }: Pick<Converting, 'follow' | 'kindsOf'>): Node {
  const discriminator = discriminatorOf(node);
  if (discriminator === undefined || Array.isArray(node.oneOf) || Array.isArray(node.anyOf)) return node;
  const { discriminator: _, ...base } = given;
  const targets = Object.values(discriminator.mapping).filter((each) => typeof each === 'string');
  const isMapped = targets.length > 0;
  const refs = isMapped ? new Set(targets.map((each) => (/[/#]/.test(each) ? each : `#/components/schemas/${each}`))) : kindsOf(given);
  const kinds = [...refs].flatMap(($ref): Node[] => {
    const found = safely(() => follow({ $ref }));
    return found === undefined ? [] : [found === given ? { ...base, [named]: $ref } : { $ref }];
  });
  if (kinds.length === 0 || (!isMapped && kinds.length > mostKinds)) return node;
  const { description } = node;
  return {
    ...(description !== undefined && { description }),
    ...(node.nullable !== undefined && { nullable: node.nullable }),
    discriminator: node.discriminator,
    ...(isMapped ? { oneOf: kinds } : { anyOf: [...kinds, base] }),
  };
}

/** The name of a schema that stands in its own place. */
const named = Symbol('named');

/** Says in a branch which value of the discriminator leads to it. */
export function told(schema: JsonSchema, branch: unknown, discriminator: Discriminator | undefined): JsonSchema {
  if (discriminator === undefined || !isRecord(branch)) return schema;
  const ref = branch.$ref ?? (branch as { [named]?: unknown })[named];
  if (typeof ref !== 'string' || (schema.$ref === undefined && !isRecord(schema.properties))) return schema;
  const { propertyName, mapping } = discriminator;
  const name = lastStep(ref);
  const mapped = Object.entries(mapping)
    .filter(([, target]) => typeof target === 'string' && lastStep(target) === name)
    .map(([value]) => value);
  const values = mapped.length > 0 ? mapped : [name];
  const own = propertiesOf(schema)[propertyName];
  const { enum: allowed, default: _, examples: __, ...rest } = own ?? {};
  // Some documents write other values than the standard has them mean: what the field itself allows is right then.
  const isDenied = rest.const !== undefined || (Array.isArray(allowed) && !values.some((value) => allowed.includes(value)));
  const property: JsonSchema | undefined = isDenied
    ? own
    : { ...rest, type: 'string', ...(values.length === 1 ? { const: values[0] } : { enum: values }) };
  return {
    ...schema,
    properties: { ...schema.properties, ...(property !== undefined && { [propertyName]: property }) },
    required: [...new Set([...requiredOf(schema), propertyName])],
  };
}
function lastStep(ref: string): string {
  const step = ref.slice(Math.max(ref.lastIndexOf('/'), ref.lastIndexOf('#')) + 1);
  return safely(() => decodeURIComponent(step)) ?? step;
}

/** Which schemas of a document build on which, by `allOf`. */
export function findKinds({ components, definitions }: Node, follow: Converting['follow']): Map<Node, string[]> {
  const found = new Map<Node, string[]>();
  const places = [
    ['#/components/schemas/', isRecord(components) ? components.schemas : undefined],
    ['#/definitions/', definitions],
  ] as const;
  for (const [place, schemas] of places)
    for (const [name, schema] of Object.entries(isRecord(schemas) ? schemas : {}))
      for (const part of isRecord(schema) && Array.isArray(schema.allOf) ? (schema.allOf as unknown[]) : []) {
        if (!isRecord(part) || typeof part.$ref !== 'string') continue;
        const base = safely(() => follow(part));
        if (base !== undefined) found.set(base, [...(found.get(base) ?? []), place + name.replaceAll('~', '~0').replaceAll('/', '~1')]);
      }
  return found;
}

/** What a reference leads to. A broken one is reported where it is needed. */
function safely<T>(read: () => T): T | undefined {
  try {
    return read();
  } catch {
    return undefined;
  }
}
