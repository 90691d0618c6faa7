import { isRecord } from '../../protocol/is-record.js';

/** One place where something was left away. */
export interface Cut {
  readonly path: string;
  readonly kept: number;
  readonly of: number;
  readonly what: 'items' | 'characters';
}

const sizeOf = (value: unknown) => JSON.stringify(value)?.length ?? 0;

/** A value made small enough, its shape kept: lists and texts are cut, the largest first. */
export function cutValue(
  value: unknown,
  most: number,
  path = '',
  cuts: Cut[] = [],
): { readonly value: unknown; readonly cuts: readonly Cut[] } {
  if (sizeOf(value) <= most) return { value, cuts };
  if (typeof value === 'string') {
    const kept = Math.max(0, most - 8);
    cuts.push({ path, kept, of: value.length, what: 'characters' });
    return { value: `${value.slice(0, kept)}…`, cuts };
  }
  if (Array.isArray(value)) {
    const items: unknown[] = [];
    let left = most - 2;
    for (const item of value as unknown[]) {
      const size = sizeOf(item) + 1;
      if (size > left) {
        // One item that is too large by itself is shown in part rather than not at all.
        if (items.length === 0) items.push(cutValue(item, left - 1, `${path}[0]`, cuts).value);
        break;
      }
      items.push(item);
      left -= size;
    }
    if (items.length < value.length) cuts.push({ path, kept: items.length, of: value.length, what: 'items' });
    return { value: items, cuts };
  }
  if (!isRecord(value)) return { value, cuts };
  const entries = Object.entries(value).map(([key, item]) => ({ key, item, size: sizeOf(item) + key.length + 4 }));
  let left = most - 2;
  const made = new Map<string, unknown>();
  // Small fields are kept whole; the large ones share what is left.
  [...entries]
    .sort((a, b) => a.size - b.size)
    .forEach(({ key, item, size }, index, all) => {
      const share = Math.max(8, Math.floor(left / (all.length - index)));
      if (size <= share) {
        made.set(key, item);
        left -= size;
      } else {
        const { value: part } = cutValue(item, share - key.length - 4, path === '' ? key : `${path}.${key}`, cuts);
        made.set(key, part);
        left -= sizeOf(part) + key.length + 4;
      }
    });
  return { value: Object.fromEntries(entries.map(({ key }) => [key, made.get(key)])), cuts };
}
