import { isRecord } from '../../protocol/is-record.js';

/** How an operation gives long lists: by a parameter that counts pages or items, by one that carries a mark, or by Link headers alone. */
export type Paging = { readonly kind: 'page' | 'offset' | 'cursor'; readonly parameter: string } | { readonly kind: 'link' };

const names = {
  cursor: /^(?:cursor|page_?token|next_?token|continuation(?:_?token)?|after|starting_?after|marker|next)$/i,
  page: /^(?:page|page_?number|page_?no|p)$/i,
  offset: /^(?:offset|start|skip|start_?index|from_?index)$/i,
};
/** Where the list is in an answer that is an object. */
const lists = ['items', 'data', 'results', 'values', 'entries', 'records', 'content', 'list'];
const marks = [
  'next_cursor',
  'nextCursor',
  'next_page_token',
  'nextPageToken',
  'nextToken',
  'next_token',
  'cursor',
  'next',
  'continuation',
  'after',
  'endCursor',
];
const inside = ['meta', 'pagination', 'paging', 'page_info', 'pageInfo', 'links', '_links', 'response_metadata'];

/** @param queries names of the query parameters */
export function pagingOf(queries: readonly string[], hasLink: boolean): Paging | undefined {
  for (const kind of ['cursor', 'page', 'offset'] as const) {
    const found = queries.find((name) => names[kind].test(name));
    if (found !== undefined) return { kind, parameter: found };
  }
  return hasLink ? { kind: 'link' } : undefined;
}

/** The items of a page, and the page with other items in their place. */
export function itemsOf(
  value: unknown,
): { readonly items: readonly unknown[]; readonly with: (items: readonly unknown[]) => unknown } | undefined {
  if (Array.isArray(value)) return { items: value, with: (items) => items };
  if (!isRecord(value)) return undefined;
  const held = Object.keys(value).filter((key) => Array.isArray(value[key]));
  const key = lists.find((each) => held.includes(each)) ?? (held.length === 1 ? held[0] : undefined);
  return key === undefined ? undefined : { items: value[key] as unknown[], with: (items) => ({ ...value, [key]: items }) };
}

export type Next = { readonly url: string } | { readonly set: string | number } | undefined;

/** What leads from one page to the next; undefined at the end. `sent` is what the parameter was. */
export function nextOf(paging: Paging, value: unknown, headers: Headers, sent: unknown, count: number): Next {
  const link = linkNext(headers.get('link') ?? '');
  if (link !== undefined) return { url: link };
  const mark = markOf(value);
  if (typeof mark === 'string' && /^(?:https?:)?\/\/?\S/.test(mark)) return { url: mark };
  if (paging.kind === 'link') return undefined;
  if (paging.kind === 'cursor')
    return typeof mark === 'string' && mark !== '' ? { set: mark } : typeof mark === 'number' ? { set: mark } : undefined;
  if (mark === null || count === 0) return undefined;
  const from = Number(sent ?? (paging.kind === 'page' ? 1 : 0));
  return { set: paging.kind === 'page' ? from + 1 : from + count };
}

/** The mark of the next page; null when the answer says that there is none. */
function markOf(value: unknown): unknown {
  if (!isRecord(value)) return undefined;
  for (const place of [value, ...inside.map((key) => value[key])]) {
    if (!isRecord(place)) continue;
    for (const key of marks) {
      if (!(key in place)) continue;
      const found = place[key];
      return isRecord(found) && typeof found.href === 'string' ? found.href : found === '' || found === false ? null : found;
    }
  }
  return undefined;
}

/** `<https://…>; rel="next"` (RFC 8288). */
function linkNext(header: string): string | undefined {
  for (const [, url, parameters] of header.matchAll(/<([^>]*)>((?:\s*;\s*[^\s=;,]+(?:\s*=\s*(?:"[^"]*"|[^",;\s]*))?)*)/g))
    if (/;\s*rel\s*=\s*(?:"[^"]*\bnext\b[^"]*"|next\b)/i.test(parameters!)) return url;
  return undefined;
}
