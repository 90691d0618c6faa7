import type { Client } from '../client/connect-link.js';
import { isJexoError, JexoError, messageOf } from '../errors.js';
import { answer, type Answer } from '../offers/answer.js';
import type { Call } from '../offers/call.js';
import { tagsOf } from '../offers/catalogue.js';
import { choose, type Choice } from '../offers/choose.js';
import type { CompletionContext } from '../offers/completion.js';
import type { Offer, PromptOffer, ResourceOffer, TemplateOffer, ToolOffer } from '../offers/offer.js';
import type { CompiledSchema } from '../offers/schema.js';
import type { Omission, Source, SourceContents } from '../offers/source.js';
import { propertiesOf } from '../protocol/json-schema.js';
import type { CallToolResult, CompletionRef, JsonSchema, Prompt, Resource, ResourceTemplate, Tool } from '../protocol/types.js';
import { outgoingTrace } from '../offers/tracing.js';
import { parseTemplate } from '../protocol/uri-template.js';
import { createLegs, hearEverything, patienceMs, type Legs, type OpenUpstream } from './legs.js';
import { mainConnection } from './main-connection.js';

/** A change of one input of a tool. */
export interface BridgedInput {
  /** Always sent, and not asked for. */
  readonly fix?: unknown;
  /** Sent when the caller says nothing. */
  readonly default?: unknown;
  /** Another description for the caller. */
  readonly describe?: string;
}

/** How another server's offers are taken over. */
export interface WrapServerOptions extends Choice {
  /** Shown beside the offers. Default: what the server calls itself. */
  readonly name?: string;
  /** Changes of inputs, by `tool.input`, or `*.input` for all tools. */
  readonly inputs?: Readonly<Record<string, BridgedInput>>;
  /**
   * `each` opens a connection for each caller's session: what the server keeps of one is not seen by another. `shared` uses one for all,
   * for servers that keep nothing. Default `each`.
   */
  readonly sessions?: 'each' | 'shared';
  /** Sessions at once, where each has a connection. Default 100. */
  readonly maxSessions?: number;
  /** Opens connections only while they are used; list changes are not heard of in between. Default false. */
  readonly lazy?: boolean;
  /** Milliseconds without a call after which a connection is closed. Default: 10,000 when `lazy`, otherwise never. */
  readonly idleMs?: number;
  /** Throws when the server cannot be reached, instead of hiding its offers until it can. Default false. */
  readonly required?: boolean;
}

/** What a server offers, as it was listed. */
interface Listing {
  readonly server: string;
  readonly completes: boolean;
  readonly subscribes: boolean;
  readonly tools: readonly Tool[];
  readonly resources: readonly Resource[];
  readonly templates: readonly ResourceTemplate[];
  readonly prompts: readonly Prompt[];
}

/**
 * The offers of another server. Calls go there with progress, logs and cancellation; what it asks meanwhile goes to the caller.
 *
 * @param place the server, for messages
 */
export function bridgeSource(open: OpenUpstream, place: string, options: WrapServerOptions = {}): Source {
  return sourceOver(open, place, options, undefined);
}

function sourceOver(open: OpenUpstream, place: string, options: WrapServerOptions, frozen: Listing | undefined): Source {
  const { sessions = 'each', maxSessions = 100, lazy = false, idleMs = lazy ? 10_000 : undefined, required = false } = options;
  const name = options.name ?? place;
  const changed = new Set<() => void>();
  const tell = () => changed.forEach((each) => each());
  const main = mainConnection(open, () => (sessions === 'shared' ? legs.sharedOptions() : { timeoutMs: patienceMs }), tell);
  const legs: Legs = createLegs({
    open,
    shared: sessions === 'shared' ? () => main.client() : undefined,
    main: () => main.client(),
    onUnreached: () => main.suspect(),
    mostSessions: maxSessions,
    idleMs,
  });
  const list = async (signal: AbortSignal): Promise<Listing> => {
    const client = await main.client(signal);
    if (sessions === 'shared') await hearEverything(client);
    const listing = await listingOf(client, signal);
    if (lazy && sessions === 'each') await main.rest();
    return listing;
  };
  return {
    name,
    async read({ signal, progress }): Promise<SourceContents> {
      progress(0, undefined, `asking ${name} what it offers`);
      let listing: Listing;
      try {
        listing = frozen ?? (await list(signal));
      } catch (error) {
        signal.throwIfAborted();
        if (required) throw error;
        return { offers: [], omitted: [away(name, place, error)] };
      }
      const { offers, omitted } = offersOf(listing, legs, options, place);
      return choose({ offers, omitted }, options, name);
    },
    watch(task) {
      changed.add(task);
      return () => void changed.delete(task);
    },
    freeze: async ({ signal }) => list(signal),
    thaw: (value) => sourceOver(open, place, options, value as Listing),
    async close() {
      await Promise.all([main.close(), legs.closeAll()]);
    },
  };
}

const away = (name: string, place: string, error: unknown): Omission => ({
  name,
  what: 'server',
  where: place,
  why: `it cannot be reached: ${messageOf(error).replace(/\.$/, '')}`,
  next: 'Its offers come back when it does; it is tried again with growing pauses.',
  code: isJexoError(error) ? error.code : 'JEXO_CONNECT',
});

async function listingOf(client: Client, signal: AbortSignal): Promise<Listing> {
  const { capabilities, serverInfo } = client.server;
  const has = (capability: unknown) => typeof capability === 'object' && capability !== null;
  const [tools, resources, templates, prompts] = await Promise.all([
    has(capabilities.tools) ? client.tools({ signal }) : [],
    has(capabilities.resources) ? client.resources({ signal }) : [],
    // Older servers have no templates, and say so by an error.
    has(capabilities.resources) ? client.templates({ signal }).catch(() => []) : [],
    has(capabilities.prompts) ? client.prompts({ signal }) : [],
  ]);
  return {
    server: serverInfo.name,
    completes: has(capabilities.completions),
    subscribes: has(capabilities.resources) && capabilities.resources?.subscribe === true,
    tools,
    resources,
    templates,
    prompts,
  };
}

function offersOf(listing: Listing, legs: Legs, options: WrapServerOptions, place: string): { offers: Offer[]; omitted: Omission[] } {
  const inputs = new Inputs(options.inputs ?? {});
  const omitted: Omission[] = [];
  const templates = listing.templates.flatMap((each) => {
    try {
      return [templateOffer(each, listing, legs)];
    } catch (error) {
      const next = 'Report it to the makers of the server.';
      omitted.push({
        name: each.name,
        what: 'template',
        where: place,
        why: messageOf(error).replace(/\.$/, ''),
        next,
        code: 'JEXO_DEFINITION',
      });
      return [];
    }
  });
  const offers = [
    ...listing.tools.map((each) => toolOffer(each, legs, inputs)),
    ...listing.resources.map((each) => resourceOffer(each, listing, legs)),
    ...templates,
    ...listing.prompts.map((each) => promptOffer(each, listing, legs)),
  ];
  inputs.requireUsed();
  return { offers, omitted };
}

/** What is not ours to check: the server behind does, and says what is wrong in its own words. */
const unchecked = (json: JsonSchema): CompiledSchema => ({ json, check: (value) => ({ ok: true, value }) });

const described = ({ title, description, icons, _meta }: { title?: string; description?: string; icons?: never; _meta?: never }) => ({
  ...(title !== undefined && { title }),
  ...(description !== undefined && { description }),
  ...(icons !== undefined && { icons }),
  ...(_meta !== undefined && { meta: _meta }),
});

function toolOffer(tool: Tool, legs: Legs, inputs: Inputs): ToolOffer {
  const { name, inputSchema, outputSchema, annotations, execution } = tool;
  const tags = tagsOf(tool._meta);
  const { schema, complete } = inputs.for(name, inputSchema);
  const run = async (input: Record<string, unknown>, call: Call): Promise<Answer> => {
    const leg = await legs.of(call);
    const result = await leg.during(call, (client) => callThrough(client, name, complete(input), call));
    const { content, structuredContent, isError, _meta } = result;
    return answer({ content, ...(structuredContent && { structuredContent }), ...(isError && { isError }), ...(_meta && { meta: _meta }) });
  };
  return {
    kind: 'tool',
    name,
    ...described(tool as never),
    input: unchecked(schema),
    ...(outputSchema && { output: unchecked(outputSchema) }),
    ...(annotations && { annotations }),
    ...(tags.length > 0 && { tags }),
    ...(execution?.taskSupport && { taskSupport: execution.taskSupport }),
    run: run as ToolOffer['run'],
  };
}

async function callThrough(client: Client, name: string, input: Record<string, unknown>, call: Call): Promise<CallToolResult> {
  try {
    return await client.call(name, input, {
      signal: call.signal,
      timeoutMs: patienceMs,
      meta: outgoingTrace(),
      onProgress: ({ progress, total, message }) => call.progress(progress, total, message),
    });
  } catch (error) {
    // Whether an answer keeps its promise is for the caller to judge.
    const { result } = (isJexoError(error) && error.code === 'JEXO_OUTPUT_INVALID' ? error.data : {}) as { result?: CallToolResult };
    if (result === undefined) throw error;
    return result;
  }
}

/** Follows a resource of the server behind over the connection of whoever has subscribed first. */
function watching(legs: Legs, uri: string, changed: () => void): () => void {
  let stop: (() => Promise<void>) | undefined;
  let isOver = false;
  legs
    .any()
    .then(async (client) => {
      stop = await client.watch(uri, changed);
      if (isOver) await stop();
    })
    .catch(() => undefined); // a server that is away is reported when it is read, and subscribed to again by the client
  return () => {
    isOver = true;
    void stop?.().catch(() => undefined);
  };
}

const readThrough = (legs: Legs) => async (uri: string, call: Call) => {
  const leg = await legs.of(call);
  return leg.during(call, (client) => client.read(uri, { signal: call.signal, timeoutMs: patienceMs, meta: outgoingTrace() }));
};

function resourceOffer(resource: Resource, { subscribes }: Listing, legs: Legs): ResourceOffer {
  const { uri, name, mimeType, size, annotations } = resource;
  const read = readThrough(legs);
  return {
    kind: 'resource',
    uri,
    name,
    ...described(resource as never),
    ...(mimeType !== undefined && { mimeType }),
    ...(size !== undefined && { size }),
    ...(annotations && { annotations }),
    ...(subscribes && { watch: (changed: () => void) => watching(legs, uri, changed) }),
    run: ((_request: unknown, call: Call) => read(uri, call)) as ResourceOffer['run'],
  };
}

function templateOffer(template: ResourceTemplate, { subscribes, completes }: Listing, legs: Legs): TemplateOffer {
  const { uriTemplate, name, mimeType, annotations } = template;
  const parsed = parseTemplate(uriTemplate);
  const read = readThrough(legs);
  return {
    kind: 'template',
    template: parsed,
    name,
    ...described(template as never),
    ...(mimeType !== undefined && { mimeType }),
    ...(annotations && { annotations }),
    ...(completes && { complete: completers(legs, { type: 'ref/resource', uri: uriTemplate }, parsed.variables) }),
    ...(subscribes && { watch: (changed: () => void, uri: string) => watching(legs, uri, changed) }),
    run: ((_variables: unknown, call: Call, { uri }: { uri: string }) => read(uri, call)) as unknown as TemplateOffer['run'],
  };
}

function promptOffer(prompt: Prompt, { completes }: Listing, legs: Legs): PromptOffer {
  const { name, arguments: own = [] } = prompt;
  const run = async (input: Record<string, string>, call: Call) => {
    const leg = await legs.of(call);
    return leg.during(call, (client) => client.prompt(name, input, { signal: call.signal, timeoutMs: patienceMs, meta: outgoingTrace() }));
  };
  return {
    kind: 'prompt',
    name,
    ...described(prompt as never),
    arguments: own,
    ...(completes && {
      complete: completers(
        legs,
        { type: 'ref/prompt', name },
        own.map((each) => each.name),
      ),
    }),
    run: run as unknown as PromptOffer['run'],
  };
}

const completers = (legs: Legs, ref: CompletionRef, names: readonly string[]) =>
  Object.fromEntries(
    names.map((name) => [
      name,
      async (value: string, { arguments: known }: CompletionContext) => (await legs.any()).complete(ref, { name, value }, { ...known }),
    ]),
  );

/** Inputs that are fixed, defaulted or described for the caller. */
class Inputs {
  private readonly used = new Set<string>();
  constructor(private readonly changes: Readonly<Record<string, BridgedInput>>) {}

  for(
    tool: string,
    schema: JsonSchema,
  ): { readonly schema: JsonSchema; complete(input: Record<string, unknown>): Record<string, unknown> } {
    const fixed: Record<string, unknown> = {};
    const defaults: Record<string, unknown> = {};
    const properties: Record<string, JsonSchema> = { ...propertiesOf(schema) };
    let required = [...((schema.required as readonly string[] | undefined) ?? [])];
    for (const input of Object.keys(properties)) {
      const own = Object.hasOwn(this.changes, `${tool}.${input}`) ? `${tool}.${input}` : `*.${input}`;
      const change = Object.hasOwn(this.changes, own) ? this.changes[own]! : undefined;
      if (change === undefined) continue;
      this.used.add(own);
      if ('fix' in change) {
        fixed[input] = change.fix;
        delete properties[input];
        required = required.filter((each) => each !== input);
        continue;
      }
      if ('default' in change) {
        defaults[input] = change.default;
        required = required.filter((each) => each !== input);
      }
      properties[input] = {
        ...properties[input],
        ...('default' in change && { default: change.default as never }),
        ...(change.describe !== undefined && { description: change.describe }),
      };
    }
    const isSame = Object.keys(fixed).length === 0 && Object.keys(defaults).length === 0 && this.used.size === 0;
    return {
      schema: isSame ? schema : { ...schema, properties, ...(schema.required !== undefined && { required }) },
      complete: (input) => ({ ...defaults, ...input, ...fixed }),
    };
  }

  /** @throws JexoError JEXO_CHOICE for a change of an input that no tool has */
  requireUsed(): void {
    for (const key of Object.keys(this.changes))
      if (!this.used.has(key))
        throw new JexoError('JEXO_CHOICE', `inputs names ${key}, which is an input of no tool.`, {
          where: `inputs.${key}`,
          next: 'Write it as tool.input, or *.input for all tools.',
        });
  }
}
