import type { Caller } from '../engine/servable.js';
import { JexoError } from '../errors.js';
import { errorCodes, RawJson, RpcError } from '../protocol/json-rpc.js';
import { shapePrompt, shapeResource, shapeTool } from '../protocol/shape-down.js';
import type { Revision } from '../protocol/revisions.js';
import type { Prompt, Resource, ResourceTemplate, Tool } from '../protocol/types.js';
import type { Offer, PromptOffer, ResourceOffer, TemplateOffer, ToolOffer } from './offer.js';
import type { Sees } from './sight.js';
import { isSource, readParts, type NeededSetting, type Omission, type ReadContext, type Remark, type Source } from './source.js';

/** One offer with the source it came from. */
export interface Entry<O extends Offer = Offer> {
  /** The offer itself. */
  readonly offer: O;
  /** The name of its source; `server` for one written in place. */
  readonly source: string;
}

/** One page of a list, serialised. */
export type Page = (revision: Revision, cursor: unknown) => RawJson;

/** All that a server offers at one moment. It never changes: a reload makes a new one. */
export interface Catalogue {
  /** By name. */
  readonly tools: ReadonlyMap<string, Entry<ToolOffer>>;
  /** By URI. */
  readonly resources: ReadonlyMap<string, Entry<ResourceOffer>>;
  /** By template text. */
  readonly templates: ReadonlyMap<string, Entry<TemplateOffer>>;
  /** By name. */
  readonly prompts: ReadonlyMap<string, Entry<PromptOffer>>;
  /** What could not be offered. */
  readonly omitted: readonly Omission[];
  /** Names of offers that were excluded by a choice. */
  readonly excluded: readonly string[];
  /** What a person who serves it should know. */
  readonly notes: readonly string[];
  /** What `jexo check` reports of the sources. */
  readonly remarks: readonly Remark[];
  /** Variables of the environment that what is offered needs, each once. */
  readonly settings: readonly NeededSetting[];
  /** Paths of the local files the sources were read from. */
  readonly files: readonly string[];
  /** What to do when the list of tools is too long for a model; undefined when no source says it. */
  readonly whenTooMany: string | undefined;
  /** One page of each listing, serialised once per revision. */
  readonly pages: { readonly tools: Page; readonly templates: Page; readonly prompts: Page };
  /** Resources may be named by templates as they are asked for, so their list is not kept when there are such templates. */
  resourcesPage(revision: Revision, cursor: unknown): RawJson | Promise<RawJson>;
  /** True when some offer is for callers with a scope only. */
  readonly hasScopes: boolean;
  /** What a caller may see of it, found out once for each caller. */
  seenBy(caller: Caller, sees: Sees): Catalogue;
  /** Only what is switched on. */
  switched(isOn: (offer: Offer) => boolean): Catalogue;
  /** What a client sees that shows no views: none of them, no link to one, and no tool that is for views alone. */
  readonly withoutViews: Catalogue;
  /** Every offer of it. */
  all(): Iterable<Offer>;
}

/** Offers written in place form a source of their own. */
export const inPlace = 'server';

const keyOf = (offer: Offer): string =>
  offer.kind === 'resource' ? offer.uri : offer.kind === 'template' ? offer.template.text : offer.name;

/**
 * Reads every source and puts the offers together.
 * @throws JexoError JEXO_NAME_CLASH when two offers share a name, with both places
 */
export async function collect(parts: readonly (Offer | Source)[], pageSize: number, context: ReadContext): Promise<Catalogue> {
  const found = {
    tool: new Map<string, Entry>(),
    resource: new Map<string, Entry>(),
    template: new Map<string, Entry>(),
    prompt: new Map<string, Entry>(),
  };
  const omitted: Omission[] = [];
  const add = (offer: Offer, source: string) => {
    const kept = found[offer.kind];
    const key = keyOf(offer);
    const earlier = kept.get(key);
    if (earlier !== undefined) {
      throw new JexoError(
        'JEXO_NAME_CLASH',
        `Two ${offer.kind}s are called ${key}: one from ${place(earlier)}, one from ${place({ offer, source })}.`,
        { where: offer.where ?? source },
      );
    }
    kept.set(key, { offer, source });
  };
  const read = await readParts(parts, context);
  read.forEach((contents, index) => {
    const part = parts[index]!;
    const source = isSource(part) ? part.name : inPlace;
    for (const offer of contents.offers) {
      // The view of several tools, or one that is offered by itself too, is one.
      if (offer.kind === 'resource' && found.resource.get(offer.uri)?.offer === offer) continue;
      add(offer, source);
      const view = offer.kind === 'tool' ? offer.view : undefined;
      if (typeof view === 'object' && found.resource.get(view.uri)?.offer !== view) add(view, source);
    }
    omitted.push(...(contents.omitted ?? []));
  });
  return catalogueOf(
    {
      tools: found.tool as Map<string, Entry<ToolOffer>>,
      resources: found.resource as Map<string, Entry<ResourceOffer>>,
      templates: found.template as Map<string, Entry<TemplateOffer>>,
      prompts: found.prompt as Map<string, Entry<PromptOffer>>,
      omitted,
      excluded: read.flatMap((contents) => contents.excluded ?? []),
      notes: read.flatMap((contents) => contents.notes ?? []),
      remarks: read.flatMap((contents) => contents.remarks ?? []),
      settings: [
        ...new Map(read.flatMap(({ settings = [] }) => settings).map((each) => [`${each.variable} ${each.sentTo ?? ''}`, each])).values(),
      ],
      files: [...new Set(read.flatMap(({ files = [] }) => files))],
      whenTooMany: read.find(({ whenTooMany }) => whenTooMany !== undefined)?.whenTooMany,
    },
    pageSize,
  );
}

type Gathered = Omit<Catalogue, 'pages' | 'resourcesPage' | 'seenBy' | 'switched' | 'all' | 'hasScopes' | 'withoutViews'>;

/** What so many kinds of caller see is kept; others find it out again. */
const mostSights = 1000;

function catalogueOf(gathered: Gathered, pageSize: number): Catalogue {
  const { tools, resources, templates, prompts } = gathered;
  const listing = [...templates.values()].filter(({ offer }) => offer.list !== undefined);
  const fixed = [...resources.values()].map(({ offer }) => resourceOf(offer));
  const fixedPage = pager('resources', pageSize, fixed, shapeResource);
  const seen = new WeakMap<Caller, Catalogue>();
  /** Most callers see the same: what they see is kept once, by the offers that are in it. */
  const seenAlike = new Map<string, WeakRef<Catalogue>>();
  const every = [...tools.values(), ...resources.values(), ...templates.values(), ...prompts.values()].map(({ offer }) => offer);
  const narrowed = (isKept: (offer: Offer) => boolean): Catalogue => {
    const pick = every.map(isKept);
    if (!pick.includes(false)) return self;
    const key = pick.map(Number).join('');
    const alike = seenAlike.get(key)?.deref();
    if (alike !== undefined) return alike;
    const isIn = new Set(every.filter((_, index) => pick[index]));
    const only = <O extends Offer>(all: ReadonlyMap<string, Entry<O>>) => new Map([...all].filter(([, { offer }]) => isIn.has(offer)));
    const kept = { tools: only(tools), resources: only(resources), templates: only(templates), prompts: only(prompts) };
    const made = catalogueOf({ ...gathered, ...kept }, pageSize);
    if (seenAlike.size >= mostSights) seenAlike.clear();
    seenAlike.set(key, new WeakRef(made));
    return made;
  };
  let plain: Catalogue | undefined;
  const self: Catalogue = {
    ...gathered,
    get withoutViews() {
      return (plain ??= withoutViews(gathered, self, pageSize));
    },
    hasScopes: every.some(({ scope }) => scope !== undefined),
    all: () => every,
    switched: narrowed,
    pages: {
      tools: pager('tools', pageSize, [...tools.values()], ({ offer }, revision) => shapeTool(toolOf(offer), revision)),
      templates: pager('resourceTemplates', pageSize, [...templates.values()], ({ offer }, revision) =>
        shapeResource(templateOf(offer), revision),
      ),
      prompts: pager('prompts', pageSize, [...prompts.values()], ({ offer }, revision) => shapePrompt(promptOf(offer), revision)),
    },
    async resourcesPage(revision, cursor) {
      if (listing.length === 0) return fixedPage(revision, cursor);
      const listed = await Promise.all(listing.map(({ offer }) => offer.list!()));
      const all = new Map([...fixed, ...listed.flat()].map((each) => [each.uri, each]));
      return pageOf('resources', pageSize, [...all.values()], (each) => shapeResource(each, revision), cursor);
    },
    seenBy(caller, sees) {
      let own = seen.get(caller);
      if (own === undefined) seen.set(caller, (own = narrowed((offer) => sees(offer, caller))));
      return own;
    },
  };
  return self;
}

function withoutViews(gathered: Gathered, whole: Catalogue, pageSize: number): Catalogue {
  const { tools, resources } = gathered;
  const isView = ({ offer }: Entry<ResourceOffer>) => offer.uri.startsWith('ui://');
  const isPlain = ({ offer }: Entry<ToolOffer>) => offer.view === undefined && offer.visibleTo === undefined;
  if (![...resources.values()].some(isView) && [...tools.values()].every(isPlain)) return whole;
  const kept = [...tools].flatMap(([name, entry]) => {
    const { view: _view, visibleTo, ...offer } = entry.offer;
    if (visibleTo !== undefined && !visibleTo.includes('model')) return [];
    return [[name, isPlain(entry) ? entry : { ...entry, offer: offer as ToolOffer }] as const];
  });
  return catalogueOf(
    { ...gathered, tools: new Map(kept), resources: new Map([...resources].filter(([, entry]) => !isView(entry))) },
    pageSize,
  );
}

function place({ offer, source }: Entry): string {
  return offer.where === undefined ? source : `${source} (${offer.where})`;
}

/** Where a tool's tags travel in its `_meta` (Base protocol, "_meta"). */
export const tagsKey = 'jexo/tags';

/** The tags of a listed tool, where its server is one of ours. */
export function tagsOf(meta: Readonly<Record<string, unknown>> | undefined): readonly string[] {
  const tags = meta?.[tagsKey];
  return Array.isArray(tags) ? tags.filter((each): each is string => typeof each === 'string') : [];
}

/** Drops what was not given, so that nothing is sent as undefined. */
function given<T extends object>(members: T): T {
  return Object.fromEntries(Object.entries(members).filter(([, value]) => value !== undefined)) as T;
}

export function toolOf(offer: ToolOffer): Tool {
  const { name, title, description, annotations, icons, meta, taskSupport, output, ask, tags = [], view, visibleTo } = offer;
  const ui = given({ resourceUri: typeof view === 'object' ? view.uri : view, visibility: visibleTo });
  const shown = Object.keys(ui).length === 0 ? meta : { ...meta, ui };
  return given({
    name,
    title,
    description,
    inputSchema: ask === undefined ? offer.input.json : withoutRequired(offer.input.json, Object.keys(ask)),
    outputSchema: output?.json,
    annotations,
    icons,
    execution: taskSupport === undefined ? undefined : { taskSupport },
    // Hosts that choose tools by tags, and bridges, read them here; models are not given `_meta`.
    _meta: tags.length === 0 ? shown : { ...shown, [tagsKey]: tags },
  }) as Tool;
}

/** What a person can be asked for need not be given by the model. */
function withoutRequired(schema: Tool['inputSchema'], names: readonly string[]): Tool['inputSchema'] {
  const { required, ...rest } = schema;
  const left = ((required ?? []) as string[]).filter((name) => !names.includes(name));
  return left.length === 0 ? rest : { ...rest, required: left };
}

function resourceOf({ uri, name, title, description, mimeType, size, annotations, icons, meta }: ResourceOffer): Resource {
  return given({ uri, name, title, description, mimeType, size, annotations, icons, _meta: meta }) as Resource;
}

function templateOf({ template, name, title, description, mimeType, annotations, icons, meta }: TemplateOffer): ResourceTemplate {
  return given({ uriTemplate: template.text, name, title, description, mimeType, annotations, icons, _meta: meta }) as ResourceTemplate;
}

function promptOf({ name, title, description, icons, meta, ...offer }: PromptOffer): Prompt {
  return given({
    name,
    title,
    description,
    arguments: offer.arguments.length > 0 ? offer.arguments : undefined,
    icons,
    _meta: meta,
  }) as Prompt;
}

/** Pages of a listing that does not change, each written once. */
function pager<T>(key: string, pageSize: number, items: readonly T[], shape: (item: T, revision: Revision) => object): Page {
  const written = new Map<string, RawJson>();
  return (revision, cursor) => {
    const cacheKey = cursor === undefined ? revision : `${revision} ${JSON.stringify(cursor)}`;
    const known = written.get(cacheKey);
    if (known !== undefined) return known;
    const page = pageOf(key, pageSize, items, (item) => shape(item, revision), cursor);
    written.set(cacheKey, page);
    return page;
  };
}

/** One page. A cursor is where it starts; clients must not look into it (Server utilities, "Pagination"). */
function pageOf<T>(key: string, pageSize: number, items: readonly T[], shape: (item: T) => object, cursor: unknown): RawJson {
  const start = cursor === undefined ? 0 : readCursor(key, cursor);
  if (start === undefined || (cursor !== undefined && (start <= 0 || start >= items.length || start % pageSize !== 0))) {
    throw new RpcError(errorCodes.invalidParams, `Invalid cursor: ${JSON.stringify(cursor)} is not one this list has given`);
  }
  const end = start + pageSize;
  return new RawJson(
    JSON.stringify({
      [key]: items.slice(start, end).map((item) => shape(item)),
      ...(end < items.length && { nextCursor: `${key}.${end.toString(36)}` }),
    }),
  );
}

function readCursor(key: string, cursor: unknown): number | undefined {
  const found = typeof cursor === 'string' && cursor.startsWith(`${key}.`) ? cursor.slice(key.length + 1) : '';
  return /^[0-9a-z]{1,8}$/.test(found) ? Number.parseInt(found, 36) : undefined;
}
