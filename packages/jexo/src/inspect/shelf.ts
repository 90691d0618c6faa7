import type { Client } from '../client/connect-link.js';
import type { Prompt, Resource, ResourceTemplate, Tool } from '../protocol/types.js';
import { same } from './difference.js';
import { estimateTokens } from '../models/tokens.js';

export type OfferKind = 'tool' | 'resource' | 'template' | 'prompt';

/** One thing on the shelf. */
export interface ShelfItem {
  readonly kind: OfferKind;
  /** Tells it from all others of its kind: a name, a URI, a template. */
  readonly key: string;
  readonly title?: string;
  readonly description?: string;
  /** About what a model pays for having it offered; only tools are put before a model. */
  readonly tokens: number;
  /** Where it came from, and what it is tagged with, as far as the server runs in this process. */
  readonly source?: string;
  readonly tags?: readonly string[];
  /** How it differs from what was there when a person last looked. */
  readonly mark?: 'added' | 'changed';
  readonly offer: Tool | Resource | ResourceTemplate | Prompt;
}

/** Where offers came from, by kind and key: `tool mix_syrup`. */
export type Origins = Readonly<Record<string, { readonly source: string; readonly tags?: readonly string[] }>>;

/** Lists everything a server offers. */
export async function listShelf(client: Client, origins: Origins): Promise<ShelfItem[]> {
  const { tools, resources, prompts } = client.server.capabilities;
  const [toolList, resourceList, templateList, promptList] = await Promise.all([
    tools === undefined ? [] : client.tools(),
    resources === undefined ? [] : client.resources(),
    resources === undefined ? [] : client.templates(),
    prompts === undefined ? [] : client.prompts(),
  ]);
  const item = (kind: OfferKind, key: string, offer: ShelfItem['offer'], tokens = 0): ShelfItem => {
    const { title, description } = offer as { title?: string; description?: string };
    return {
      kind,
      key,
      ...(title !== undefined && { title }),
      ...(description !== undefined && { description }),
      tokens,
      ...origins[`${kind} ${key}`],
      offer,
    };
  };
  return [
    ...toolList.map((tool) => {
      const { name, description, inputSchema } = tool;
      return item('tool', name, tool, estimateTokens({ name, description, inputSchema }));
    }),
    ...resourceList.map((each) => item('resource', each.uri, each)),
    ...templateList.map((each) => item('template', each.uriTemplate, each)),
    ...promptList.map((each) => item('prompt', each.name, each)),
  ];
}

/** Marks what is new or different since `before`; what was marked stays so until it is looked at. */
export function markChanges(
  before: readonly ShelfItem[] | undefined,
  now: readonly ShelfItem[],
): { items: ShelfItem[]; removed: string[] } {
  if (before === undefined) return { items: [...now], removed: [] };
  const id = ({ kind, key }: ShelfItem) => `${kind} ${key}`;
  const old = new Map(before.map((each) => [id(each), each]));
  const items = now.map((each): ShelfItem => {
    const earlier = old.get(id(each));
    if (earlier === undefined) return { ...each, mark: 'added' };
    return same(earlier.offer, each.offer)
      ? { ...each, ...(earlier.mark && { mark: earlier.mark }) }
      : { ...each, mark: earlier.mark ?? 'changed' };
  });
  const left = new Set(now.map(id));
  return { items, removed: before.filter((each) => !left.has(id(each))).map(({ key }) => key) };
}
