import { isRecord } from '../../protocol/is-record.js';
import type { JsonSchema } from '../../protocol/types.js';

/** What a part of a converted schema was made of: the reference, and the part without words of the place it stands in. */
export interface Origin {
  readonly ref: string;
  readonly part: JsonSchema;
}

/** Parts shorter than this in JSON are cheaper for a model to read twice than to look up. */
const worthSharing = 160;

/**
 * Writes parts that stand in a schema more than once under `$defs`, with references in their places.
 *
 * @param nameOf gives a name that is free in `$defs` for a reference of the document
 */
export function shareParts(
  schema: JsonSchema,
  origins: WeakMap<object, Origin>,
  nameOf: (ref: string) => string,
): { readonly schema: JsonSchema; readonly defs: Readonly<Record<string, JsonSchema>> } {
  const uses = new Map<string, { readonly part: JsonSchema; count: number }>();
  const count = (value: unknown): void => {
    if (Array.isArray(value)) return value.forEach(count);
    if (!isRecord(value)) return;
    const origin = origins.get(value);
    if (origin !== undefined) {
      const use = uses.get(origin.ref);
      if (use !== undefined) {
        use.count++;
        return; // what it holds has been counted, and is written once
      }
      uses.set(origin.ref, { part: origin.part, count: 1 });
    }
    Object.values(value).forEach(count);
  };
  count(schema);
  const shared = new Map<string, string>();
  for (const [ref, use] of uses) if (use.count > 1 && JSON.stringify(use.part).length >= worthSharing) shared.set(ref, nameOf(ref));
  if (shared.size === 0) return { schema, defs: {} };
  const refer = (value: unknown, isDefinition = false): unknown => {
    if (Array.isArray(value)) return value.map((item) => refer(item));
    if (!isRecord(value)) return value;
    const origin = isDefinition ? undefined : origins.get(value);
    const name = origin === undefined ? undefined : shared.get(origin.ref);
    if (name === undefined) return Object.fromEntries(Object.entries(value).map(([key, item]) => [key, refer(item)]));
    const own = value.description !== origin!.part.description && value.description !== undefined;
    return { $ref: `#/$defs/${name}`, ...(own && { description: value.description }) };
  };
  return {
    schema: refer(schema, origins.get(schema) !== undefined) as JsonSchema,
    defs: Object.fromEntries([...shared].map(([ref, name]) => [name, refer(uses.get(ref)!.part, true) as JsonSchema])),
  };
}
