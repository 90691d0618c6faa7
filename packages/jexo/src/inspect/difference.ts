import { isRecord } from '../protocol/is-record.js';

/** One place where two JSON values differ. */
export interface Difference {
  /** As a person writes it: `hives[2].weight`; empty for the whole value. */
  readonly path: string;
  readonly kind: 'added' | 'removed' | 'changed';
  readonly before?: unknown;
  readonly after?: unknown;
}

/** Places told at most; beyond that two values have little in common. */
const most = 500;

/** Where two JSON values differ, in the order of the later one. Lists are compared by what their items have in common. */
export function differences(before: unknown, after: unknown): Difference[] {
  const found: Difference[] = [];
  walk(before, after, '', found);
  return found;
}

function walk(before: unknown, after: unknown, path: string, found: Difference[]): void {
  if (found.length >= most || same(before, after)) return;
  if (Array.isArray(before) && Array.isArray(after)) return walkLists(before, after, path, found);
  if (isRecord(before) && isRecord(after)) {
    for (const key of new Set([...Object.keys(after), ...Object.keys(before)])) {
      const step = path === '' ? key : `${path}.${key}`;
      if (!Object.hasOwn(before, key)) add(found, { path: step, kind: 'added', after: after[key] });
      else if (!Object.hasOwn(after, key)) add(found, { path: step, kind: 'removed', before: before[key] });
      else walk(before[key], after[key], step, found);
    }
    return;
  }
  add(found, { path, kind: 'changed', before, after });
}

/** Items that are alike at the start and at the end stay; what lies between is compared one by one. */
function walkLists(before: readonly unknown[], after: readonly unknown[], path: string, found: Difference[]): void {
  let start = 0;
  while (start < before.length && start < after.length && same(before[start], after[start])) start++;
  let end = 0;
  while (end < before.length - start && end < after.length - start && same(before[before.length - 1 - end], after[after.length - 1 - end]))
    end++;
  const [oldCount, newCount] = [before.length - end, after.length - end];
  for (let index = start; index < Math.max(oldCount, newCount); index++) {
    const step = `${path}[${index}]`;
    if (index >= oldCount) add(found, { path: step, kind: 'added', after: after[index] });
    else if (index >= newCount) add(found, { path: step, kind: 'removed', before: before[index] });
    else walk(before[index], after[index], step, found);
  }
}

function add(found: Difference[], difference: Difference): void {
  if (found.length < most) found.push(difference);
}

export function same(a: unknown, b: unknown): boolean {
  if (Object.is(a, b)) return true;
  if (Array.isArray(a)) return Array.isArray(b) && a.length === b.length && a.every((item, index) => same(item, b[index]));
  if (!isRecord(a) || !isRecord(b)) return false;
  const keys = Object.keys(a);
  return keys.length === Object.keys(b).length && keys.every((key) => Object.hasOwn(b, key) && same(a[key], b[key]));
}
