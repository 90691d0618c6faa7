import { isRecord } from '../protocol/is-record.js';

/** A JSON value as people read it: fields in lines, lists of like objects as tables. */
export type Readable =
  | { readonly kind: 'fields'; readonly rows: readonly (readonly [string, string])[] }
  | { readonly kind: 'table'; readonly headings: readonly string[]; readonly rows: readonly (readonly string[])[] }
  /** An object of such parts, each under its name. */
  | { readonly kind: 'parts'; readonly parts: readonly { readonly name: string; readonly shown: Readable }[] }
  | { readonly kind: 'text'; readonly text: string };

function isScalar(value: unknown): boolean {
  return typeof value !== 'object' || value === null;
}
function scalar(value: unknown): string {
  return typeof value === 'string' ? value : String(value);
}

/** How a value is best shown to a person. */
export function readable(value: unknown): Readable {
  if (isScalar(value)) return { kind: 'text', text: scalar(value) };
  if (Array.isArray(value) && value.length > 0 && value.every((item) => isRecord(item) && Object.values(item).every(isScalar))) {
    const headings = [...new Set(value.flatMap((item) => Object.keys(item as object)))];
    return {
      kind: 'table',
      headings,
      rows: value.map((item: Record<string, unknown>) => headings.map((key) => (item[key] === undefined ? '' : scalar(item[key])))),
    };
  }
  if (isRecord(value)) {
    const keys = Object.keys(value);
    if (keys.length === 1 && keys[0] === 'result') return readable(value.result);
    if (Object.values(value).every(isScalar) && keys.length > 0)
      return { kind: 'fields', rows: keys.map((key) => [key, scalar(value[key])] as const) };
    const tables = keys.filter((key) => readable(value[key]).kind === 'table');
    if (tables.length > 0 && keys.every((key) => isScalar(value[key]) || tables.includes(key))) {
      const plain = keys.filter((key) => isScalar(value[key]));
      const own = { name: '', shown: { kind: 'fields', rows: plain.map((key) => [key, scalar(value[key])] as const) } } as const;
      return {
        kind: 'parts',
        parts: [...(plain.length > 0 ? [own] : []), ...tables.map((name) => ({ name, shown: readable(value[name]) }))],
      };
    }
  }
  return { kind: 'text', text: JSON.stringify(value, null, 2) };
}

/** The list or object that a text is, as servers of older revisions put JSON into a text; undefined when it is prose. */
export function jsonIn(text: string): unknown {
  if (!/^\s*[[{]/.test(text)) return undefined;
  try {
    return JSON.parse(text);
  } catch {
    return undefined; // a text that only begins like JSON
  }
}
