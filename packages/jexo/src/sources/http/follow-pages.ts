import { itemsOf, nextOf, type Paging } from './pages.js';
import type { Received } from './http-call.js';

/** How the pages behind the first are had. */
export interface PageSource {
  readonly paging: Paging;
  /** What the paging parameter was for the first page. */
  readonly sent: unknown;
  /** Asks again with another value of that parameter. */
  again(value: string | number): Promise<Received>;
  /** Fetches a page by its address. */
  at(address: string): Promise<Received>;
  /** The JSON of an answer; undefined when it is none. */
  read(received: Received): { readonly value: unknown } | undefined;
}

/** Fetches the pages behind the first and puts their items together. What was fetched before a fault is not lost. */
export async function followPages(
  first: unknown,
  headers: Headers,
  { paging, sent, again, at, read }: PageSource,
  most: number,
  onPage: (pages: number, items: number) => void,
): Promise<{ value: unknown; note: string }> {
  const start = itemsOf(first);
  if (start === undefined) return { value: first, note: '' };
  const items = [...start.items];
  let [page, from, latest, parameter, note] = [first, headers, start, sent, ''];
  // An API that leads by address once does so to the end; one that counts ends with a page that is not full.
  let byAddress = false;
  for (let count = 1; count < most; count++) {
    const next = nextOf(byAddress ? { kind: 'link' } : paging, page, from, parameter, latest.items.length);
    if (next === undefined || (paging.kind !== 'cursor' && !('url' in next) && latest.items.length < start.items.length)) break;
    byAddress = 'url' in next;
    onPage(count, items.length);
    if ('set' in next) parameter = next.set;
    const following = 'url' in next ? await at(next.url) : await again(next.set);
    const json = following.status >= 400 ? undefined : read(following);
    const more = json === undefined ? undefined : itemsOf(json.value);
    if (more === undefined) {
      note = `Page ${count + 1} could not be fetched (HTTP ${following.status}); what came before it is here.`;
      break;
    }
    [page, from, latest] = [json!.value, following.headers, more];
    if (more.items.length === 0) break;
    items.push(...more.items);
  }
  return { value: latest.with(items), note };
}
