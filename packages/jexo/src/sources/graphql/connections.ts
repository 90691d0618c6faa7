import type { FragmentDefinitionNode, OperationDefinitionNode, SelectionSetNode } from 'graphql';
import { isRecord } from '../../protocol/is-record.js';
import type { GraphQL } from './library.js';

/** A list in the answer that can be followed page by page. */
export interface Connection {
  /** The response keys that lead to it. */
  readonly path: readonly string[];
  /** The variable that says behind what the next page begins. */
  readonly variable: string;
  /** The response keys of its page information, and of the lists in it. */
  readonly info: string;
  readonly hasNext: string;
  readonly endCursor: string;
  readonly lists: readonly string[];
}

/** The first connection of an operation that can be followed: it selects `pageInfo { hasNextPage endCursor }`, and `after` is a variable. */
export function connectionOf(
  g: GraphQL,
  operation: OperationDefinitionNode,
  fragments: ReadonlyMap<string, FragmentDefinitionNode>,
): Connection | undefined {
  if (operation.operation !== 'query') return undefined;
  const look = (set: SelectionSetNode, path: readonly string[]): Connection | undefined => {
    for (const field of fieldsOf(set, fragments)) {
      const key = field.alias?.value ?? field.name.value;
      const own = field.selectionSet;
      if (own === undefined) continue;
      const after = field.arguments?.find(({ name, value }) => name.value === 'after' && value.kind === g.Kind.VARIABLE);
      const inner = fieldsOf(own, fragments);
      const info = inner.find(({ name }) => name.value === 'pageInfo');
      const parts = info?.selectionSet === undefined ? [] : fieldsOf(info.selectionSet, fragments);
      const keyOf = (name: string) => {
        const found = parts.find((part) => part.name.value === name);
        return found && (found.alias?.value ?? name);
      };
      const [hasNext, endCursor] = [keyOf('hasNextPage'), keyOf('endCursor')];
      const lists = inner
        .filter(({ name }) => name.value === 'edges' || name.value === 'nodes')
        .map((each) => each.alias?.value ?? each.name.value);
      if (after?.value.kind === g.Kind.VARIABLE && info !== undefined && hasNext && endCursor && lists.length > 0)
        return { path: [...path, key], variable: after.value.name.value, info: info.alias?.value ?? 'pageInfo', hasNext, endCursor, lists };
      const deeper = look(own, [...path, key]);
      if (deeper !== undefined) return deeper;
    }
    return undefined;
  };
  return look(operation.selectionSet, []);
}

function fieldsOf({ selections }: SelectionSetNode, fragments: ReadonlyMap<string, FragmentDefinitionNode>, seen = new Set<string>()) {
  return selections.flatMap((selection): Extract<typeof selection, { kind: 'Field' }>[] => {
    if (selection.kind === 'Field') return [selection];
    if (selection.kind === 'InlineFragment') return fieldsOf(selection.selectionSet, fragments, seen);
    const fragment = fragments.get(selection.name.value);
    if (fragment === undefined || seen.has(selection.name.value)) return [];
    return fieldsOf(fragment.selectionSet, fragments, new Set([...seen, selection.name.value]));
  });
}

const at = (value: unknown, path: readonly string[]): Record<string, unknown> | undefined => {
  let found = value;
  for (const step of path) found = isRecord(found) ? found[step] : undefined;
  return isRecord(found) ? found : undefined;
};

/** Where the next page begins; undefined on the last. */
export function nextCursor(data: unknown, { path, info, hasNext, endCursor }: Connection): string | undefined {
  const page = at(data, path)?.[info];
  if (!isRecord(page) || page[hasNext] !== true) return undefined;
  return typeof page[endCursor] === 'string' ? page[endCursor] : undefined;
}

/** The first page with the items of another at its end, and that one's page information; undefined when the other has none. */
export function withPage(
  data: unknown,
  more: unknown,
  { path, info, lists }: Connection,
): { readonly data: unknown; readonly added: number } | undefined {
  const own = at(data, path);
  const other = at(more, path);
  if (own === undefined || other === undefined) return undefined;
  let added = 0;
  const merged: Record<string, unknown> = { ...own, [info]: other[info] };
  for (const key of lists)
    if (Array.isArray(own[key]) && Array.isArray(other[key])) {
      merged[key] = [...(own[key] as unknown[]), ...(other[key] as unknown[])];
      added = Math.max(added, other[key].length);
    }
  const put = (value: unknown, steps: readonly string[]): unknown =>
    steps.length === 0
      ? merged
      : { ...(value as Record<string, unknown>), [steps[0]!]: put((value as Record<string, unknown>)[steps[0]!], steps.slice(1)) };
  return { data: put(data, path), added };
}
