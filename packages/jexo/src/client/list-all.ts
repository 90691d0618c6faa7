import { isRecord } from '../protocol/is-record.js';
import type { Params } from '../protocol/json-rpc.js';
import type { ClientRequests } from '../protocol/methods.js';
import type { CallOptions } from './client.js';
import type { ClientSession } from './session.js';
import { counted } from '../protocol/counted.js';

/** More than any real list has; a server that never stops is cut off here (Server utilities, "Pagination"). */
const maxPages = 20_000;
const maxEntries = 1_000_000;

/** The lists that come in pages, with the key of their entries, and what an entry cannot do without. */
const lists = {
  'tools/list': { key: 'tools', needs: 'name' },
  'resources/list': { key: 'resources', needs: 'uri' },
  'resources/templates/list': { key: 'resourceTemplates', needs: 'uriTemplate' },
  'prompts/list': { key: 'prompts', needs: 'name' },
  'tasks/list': { key: 'tasks', needs: 'taskId' },
} as const;
type Lists = typeof lists;
type EntryOf<M extends keyof Lists> = ClientRequests[M]['result'][Lists[M]['key'] &
  keyof ClientRequests[M]['result']] extends readonly (infer E)[]
  ? E
  : never;

/** All entries of a list, page after page. Invalid entries are dropped and reported. */
export async function listAll<M extends keyof Lists>(session: ClientSession, method: M, call?: CallOptions): Promise<EntryOf<M>[]> {
  const { key, needs } = lists[method];
  const found: EntryOf<M>[] = [];
  const seen = new Set<string>();
  let cursor: string | undefined;
  let odd = 0;
  for (let page = 0; ; page++) {
    const result: Params = await session.ask(method, cursor === undefined ? undefined : { cursor }, call);
    for (const entry of result[key] as unknown[]) {
      if (isRecord(entry) && typeof entry[needs] === 'string') found.push(entry as EntryOf<M>);
      else odd++;
    }
    const next: unknown = result.nextCursor;
    const stopped =
      typeof next === 'string' && seen.has(next)
        ? `gave the cursor ${JSON.stringify(next.slice(0, 80))} a second time`
        : page + 1 >= maxPages || found.length > maxEntries
          ? `did not end after ${counted(page + 1, 'page')} and ${counted(found.length, 'entry', 'entries')}`
          : undefined;
    if (stopped !== undefined) session.deviates(`${method} ${stopped}; what came until then is used.`);
    if (typeof next !== 'string' || stopped !== undefined) break;
    seen.add(next);
    cursor = next;
  }
  if (odd > 0) session.deviates(`${method} gave ${counted(odd, 'entry', 'entries')} without a name or an address; they are omitted.`);
  return found;
}
