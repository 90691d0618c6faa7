import { JexoError, messageOf } from '../errors.js';
import { tagsOf } from '../offers/catalogue.js';
import { glob } from '../offers/choose.js';
import { nearest } from '../offers/nearest.js';
import type { Selection } from '../offers/selection.js';
import { parseTemplate } from '../protocol/uri-template.js';
import type {
  CallToolResult,
  Completion,
  CompletionRef,
  GetPromptResult,
  LogMessage,
  Prompt,
  ReadResourceResult,
  Resource,
  ResourceTemplate,
  Tool,
} from '../protocol/types.js';
import { attendance, type Attendant } from './attendance.js';
import type { CallOptions, Client, ClientOptions } from './client.js';
import { keepConnection, type KeptConnection, type Listed, type Listings, type ServerStatus } from './kept-connection.js';
import { tell } from './listeners.js';

export type { Attendant } from './attendance.js';
export type { ServerState, ServerStatus } from './kept-connection.js';

/** Where something comes from that several servers offer together. */
export interface Served {
  /** The server, as it is called here. */
  readonly server: string;
  /** Where that server is. */
  readonly address: string;
  /** Its own name there. */
  readonly ownName: string;
  /** For a person: `hives › Move a hive`. */
  readonly label: string;
}

/** How many servers are reached, and what the client does for them. */
export interface ClientsOptions extends Omit<
  ClientOptions,
  'onClosed' | 'onToolsChanged' | 'onResourcesChanged' | 'onPromptsChanged' | 'onLog' | 'onRenewed'
> {
  /** Names of tools and prompts get their server's name in front: where two servers have the same name, or all of them. Default `clashes`. */
  readonly prefix?: 'clashes' | 'always';
  /** Which tools are in play, by the name of the server; `false` switches all of a server's off. Patterns as in `only` and `except` of a server. */
  readonly choose?: Readonly<Record<string, Selection | false>>;
  /**
   * Declares to servers that their questions (elicitation) and requests for a model (sampling) can be answered: by whoever attends, see
   * `attend`; `converse` does. While nobody does, and no handler is given here, they are declined. Default true.
   */
  readonly attended?: boolean;
  /** Servers that must be there at first: `connectAll` rejects when one of them cannot be reached. `true` means all. Default: none. */
  readonly required?: boolean | readonly string[];
  /** Milliseconds before a server that was lost is tried again; each further try waits twice as long. Default 500. */
  readonly backOffMs?: number;
  /** Milliseconds between two tries at most. Default 30,000. */
  readonly longestBackOffMs?: number;
  /** Called whenever the state of a server changes: connected, lost, tried again, given up. */
  readonly onState?: (server: ServerStatus) => void;
  /** Called when a server's list of tools, resources or prompts has changed; listing again gives the new one. */
  readonly onListChanged?: (what: 'tools' | 'resources' | 'prompts', server: string) => void;
  /** A log message, and the server it is from. */
  readonly onLog?: (message: LogMessage, server: string) => void;
}

/** Many servers at once. Names are looked up over all of them. */
export interface Clients {
  /** All servers as they stand, in the order they were given. */
  servers(): readonly ServerStatus[];
  /**
   * The tools in play of all servers that are there. A name that two servers have gets the server's name in front.
   * A server that fails to list its tools is omitted; `onListFailed` of the attendants is called with it.
   */
  tools(options?: CallOptions): Promise<readonly (Tool & Served)[]>;
  /**
   * Calls a tool by the name that `tools` gives.
   * @throws JexoError JEXO_TOOL_UNKNOWN, JEXO_UNAVAILABLE when its server is away
   */
  call(name: string, input?: Record<string, unknown>, options?: CallOptions): Promise<CallToolResult>;
  /** The resources of all servers that are there. */
  resources(options?: CallOptions): Promise<readonly (Resource & Served)[]>;
  /** The resource templates of all servers that are there. */
  templates(options?: CallOptions): Promise<readonly (ResourceTemplate & Served)[]>;
  /**
   * Reads a resource from the server that lists it, or has a template for it. Where several do, `server` says which.
   * @throws JexoError JEXO_USAGE when no server has it, or several have and none was named
   */
  read(uri: string, options?: CallOptions & { readonly server?: string }): Promise<ReadResourceResult>;
  /** Subscribes to a resource, as `read` finds it. Returns how to stop. */
  watch(uri: string, changed: (uri: string) => void, options?: { readonly server?: string }): Promise<() => Promise<void>>;
  /** The prompts of all servers that are there. */
  prompts(options?: CallOptions): Promise<readonly (Prompt & Served)[]>;
  /** Renders a prompt by the name that `prompts` gives. */
  prompt(name: string, input?: Record<string, string>, options?: CallOptions): Promise<GetPromptResult>;
  /** Suggestions for an argument of a prompt, by the name that `prompts` gives, or a variable of a template. */
  complete(
    ref: CompletionRef,
    argument: { readonly name: string; readonly value: string },
    known?: Record<string, string>,
    options?: CallOptions,
  ): Promise<Completion>;
  /** Changes which tools are in play; servers that are not named stay as they are. Listeners of list changes are told. */
  choose(selections: Readonly<Record<string, Selection | false>>): void;
  /** Which tools are in play, for each server that is not offered whole. */
  chosen(): Readonly<Record<string, Selection | false>>;
  /** Pings all servers that are connected; milliseconds for each that answered. */
  health(options?: CallOptions): Promise<readonly (ServerStatus & { readonly pingMs?: number })[]>;
  /** Connects a server again at once, whatever its state. Resolves when that has worked or failed; its state says which. */
  reconnect(server: string): Promise<void>;
  /** The connection to one server. @throws JexoError JEXO_USAGE for an unknown name, JEXO_UNAVAILABLE while it is away */
  client(server: string): Client;
  /** Answers what servers ask (elicitation, sampling) until it is released. With several, the one whose call is running is asked. */
  attend(attendant: Attendant): () => void;
  /** Called whenever a server's state or one of its lists changes. Returns how to stop. */
  listen(listener: (server: string) => void): () => void;
  /** Ends all sessions and connections. */
  close(): Promise<void>;
}

/** One of the servers to connect: its name, where it is, and how a connection is opened. */
export interface ServerToConnect {
  readonly name: string;
  readonly address: string;
  open(options: ClientOptions): Promise<Client>;
}

/**
 * Connects many servers at the same time, and keeps them connected.
 * @throws JexoError JEXO_DEFINITION for two of one name; what a `required` server failed with
 */
export async function connectServers(servers: readonly ServerToConnect[], options: ClientsOptions = {}): Promise<Clients> {
  const doubled = servers.find(({ name }, index) => servers.findIndex((each) => each.name === name) !== index);
  if (doubled !== undefined)
    throw new JexoError('JEXO_DEFINITION', `Two servers are called ${doubled.name}.`, { next: 'Give each a name of its own.' });
  const all = new Many(servers, options);
  await all.settled();
  const { required = [] } = options;
  const missing = all
    .servers()
    .find(({ name, state }) => state !== 'ready' && (required === true || (Array.isArray(required) && required.includes(name))));
  if (missing === undefined && options.signal?.aborted !== true) return all;
  await all.close();
  options.signal?.throwIfAborted();
  throw missing!.error!;
}

class Many implements Clients {
  private readonly kept: readonly KeptConnection[];
  private readonly attendance;
  private readonly listeners = new Set<(server: string) => void>();
  private selections: Readonly<Record<string, Selection | false>>;

  constructor(
    servers: readonly ServerToConnect[],
    private readonly options: ClientsOptions,
  ) {
    const {
      prefix: _,
      choose,
      required: __,
      backOffMs = 500,
      longestBackOffMs = 30_000,
      onState,
      onListChanged,
      onLog,
      ...client
    } = options;
    this.selections = choose ?? {};
    this.attendance = attendance(client);
    this.requireKnown(
      Object.keys(this.selections),
      servers.map(({ name }) => name),
    );
    this.kept = servers.map(({ name, address, open }) =>
      keepConnection({
        name,
        address,
        open,
        client: {
          ...client,
          ...this.attendance.answersFor(name),
          ...(onLog && { onLog: (message: LogMessage) => onLog(message, name) }),
        },
        backOffMs,
        longestBackOffMs,
        onState: (status) => {
          onState?.(status);
          this.tell(name);
        },
        onChanged: (what) => {
          if (what !== 'templates') onListChanged?.(what, name);
          this.tell(name);
        },
      }),
    );
  }

  async settled(): Promise<void> {
    await Promise.all(this.kept.map((each) => each.settled()));
  }

  servers = () => this.kept.map((each) => each.status());

  async tools(options?: CallOptions): Promise<readonly (Tool & Served)[]> {
    const listed = await this.listed('tools', options);
    return listed.filter(({ server, ownName, _meta }) => this.isInPlay(server, ownName, tagsOf(_meta)));
  }

  async call(name: string, input?: Record<string, unknown>, options?: CallOptions): Promise<CallToolResult> {
    const { server, ownName, isOff } = await this.find('tools', name, options);
    if (isOff)
      throw new JexoError('JEXO_TOOL_UNKNOWN', `The tool ${ownName} of ${server} is switched off.`, {
        where: name,
        next: 'Switch it on again with choose().',
      });
    return this.client(server).call(ownName, input, options);
  }

  resources = (options?: CallOptions) => this.listed('resources', options);
  templates = (options?: CallOptions) => this.listed('templates', options);
  prompts = (options?: CallOptions) => this.listed('prompts', options);

  async read(uri: string, { server, ...options }: CallOptions & { readonly server?: string } = {}): Promise<ReadResourceResult> {
    return this.client(server ?? (await this.holderOf(uri, options))).read(uri, options);
  }

  async watch(uri: string, changed: (uri: string) => void, { server }: { readonly server?: string } = {}) {
    return this.client(server ?? (await this.holderOf(uri))).watch(uri, changed);
  }

  async prompt(name: string, input?: Record<string, string>, options?: CallOptions): Promise<GetPromptResult> {
    const { server, ownName } = await this.find('prompts', name, options);
    return this.client(server).prompt(ownName, input, options);
  }

  async complete(
    ref: CompletionRef,
    argument: { readonly name: string; readonly value: string },
    known?: Record<string, string>,
    options?: CallOptions,
  ): Promise<Completion> {
    if (ref.type === 'ref/prompt') {
      const { server, ownName } = await this.find('prompts', ref.name, options);
      return this.client(server).complete({ ...ref, name: ownName }, argument, known, options);
    }
    const holder = (await this.templates(options)).find(({ uriTemplate }) => uriTemplate === ref.uri);
    const server = holder?.server ?? (await this.holderOf(ref.uri, options));
    return this.client(server).complete(ref, argument, known, options);
  }

  choose(selections: Readonly<Record<string, Selection | false>>): void {
    this.requireKnown(
      Object.keys(selections),
      this.kept.map(({ name }) => name),
    );
    this.selections = { ...this.selections, ...selections };
    for (const name of Object.keys(selections)) {
      this.options.onListChanged?.('tools', name);
      this.tell(name);
    }
  }

  chosen = () => this.selections;

  health(options?: CallOptions): Promise<readonly (ServerStatus & { readonly pingMs?: number })[]> {
    return Promise.all(
      this.kept.map(async (each) => {
        const status = each.status();
        if (status.state !== 'ready') return status;
        const start = performance.now();
        try {
          await each.client().ping({ timeoutMs: 5000, ...options });
          return { ...each.status(), pingMs: performance.now() - start };
        } catch (error) {
          options?.signal?.throwIfAborted();
          return { ...each.status(), error: error as Error };
        }
      }),
    );
  }

  reconnect = (server: string) => this.connection(server).reconnect();
  client = (server: string) => this.connection(server).client();
  attend = (attendant: Attendant) => this.attendance.attend(attendant);

  listen(listener: (server: string) => void): () => void {
    this.listeners.add(listener);
    return () => void this.listeners.delete(listener);
  }

  async close(): Promise<void> {
    await Promise.all(this.kept.map((each) => each.close()));
    this.listeners.clear();
  }

  private tell(server: string): void {
    for (const listener of this.listeners) tell(() => listener(server));
  }

  private requireKnown(wanted: readonly string[], names: readonly string[]): void {
    for (const name of wanted)
      if (!names.includes(name)) {
        const near = nearest(name, names);
        throw new JexoError('JEXO_USAGE', `There is no server called ${name}.`, {
          where: name,
          next: near === undefined ? `The servers are: ${names.join(', ')}.` : `Did you mean ${near}?`,
        });
      }
  }

  private connection(server: string): KeptConnection {
    const found = this.kept.find(({ name }) => name === server);
    if (found !== undefined) return found;
    this.requireKnown(
      [server],
      this.kept.map(({ name }) => name),
    );
    throw new JexoError('JEXO_USAGE', `There is no server called ${server}.`);
  }

  private isInPlay(server: string, name: string, tags: readonly string[]): boolean {
    const selection = this.selections[server];
    if (selection === undefined) return true;
    if (selection === false) return false;
    const matches = (pattern: string) => (pattern.startsWith('tag:') ? tags.includes(pattern.slice(4)) : glob(pattern).test(name));
    return (selection.only === undefined || selection.only.some(matches)) && !(selection.except ?? []).some(matches);
  }

  /** One kind of offer over all servers that are there, each with its name here. A server that fails to list counts as away. */
  private async listed<K extends Listed>(what: K, options?: CallOptions): Promise<readonly (Listings[K][number] & Served)[]> {
    const found = await Promise.all(
      this.kept.map(async (each) => {
        if (each.status().state !== 'ready') return [];
        try {
          return await each.list(what, options);
        } catch (error) {
          options?.signal?.throwIfAborted();
          this.attendance.failed(each.name, `its ${what} could not be listed: ${messageOf(error)}`);
          return [];
        }
      }),
    );
    const taken = new Set<string>();
    return this.kept.flatMap((each, index) =>
      found[index]!.map((item) => {
        const named = this.named(each.status(), what, item);
        if (what !== 'tools' && what !== 'prompts') return named;
        let free = named.name;
        for (let count = 2; taken.has(free); count++) free = `${named.name}_${count}`;
        taken.add(free);
        return { ...named, name: free };
      }),
    );
  }

  private named<T extends Listings[Listed][number]>({ name: server, address }: ServerStatus, what: Listed, item: T): T & Served {
    const { name: ownName, title } = item;
    const isNamed = what === 'tools' || what === 'prompts';
    const name = isNamed && this.needsPrefix(server, what, ownName) ? qualified(server, ownName) : ownName;
    return Object.assign({}, item, { name, server, address, ownName, label: `${server} › ${title ?? ownName}` });
  }

  /** By what every server last offered, so that names stay as they are while one is away. */
  private needsPrefix(server: string, what: 'tools' | 'prompts', name: string): boolean {
    if (this.options.prefix === 'always') return true;
    return this.kept.some((each) => {
      const names = (each.known(what) as readonly { readonly name: string }[]).map((item) => item.name);
      // Or another server’s own name is what this one would be called behind its prefix.
      return each.name !== server && names.includes(name);
    });
  }

  private async find(
    what: 'tools' | 'prompts',
    name: string,
    options?: CallOptions,
  ): Promise<{ readonly server: string; readonly ownName: string; readonly isOff: boolean }> {
    const all = await this.listed(what, options);
    const found = all.find((each) => each.name === name);
    if (found !== undefined) {
      const { server, ownName, _meta } = found;
      return { server, ownName, isOff: what === 'tools' && !this.isInPlay(server, ownName, tagsOf(_meta)) };
    }
    const sameName = all.filter((each) => each.ownName === name);
    const noun = what === 'tools' ? 'tool' : 'prompt';
    if (sameName.length > 0)
      throw new JexoError('JEXO_TOOL_UNKNOWN', `Several servers have a ${noun} ${name}.`, {
        where: name,
        next: `Say which: ${sameName.map((each) => each.name).join(' or ')}.`,
      });
    // A server that is away may have it.
    const away = this.kept.find(
      (each) =>
        each.status().state !== 'ready' &&
        (each.known(what) as readonly { readonly name: string }[]).some(
          (item) => item.name === name || qualified(each.name, item.name) === name,
        ),
    );
    away?.client();
    const near = nearest(
      name,
      all.map((each) => each.name),
    );
    throw new JexoError('JEXO_TOOL_UNKNOWN', `None of the servers has a ${noun} ${name}.`, {
      where: name,
      ...(near !== undefined && { next: `Did you mean ${near}?` }),
    });
  }

  private async holderOf(uri: string, options?: CallOptions): Promise<string> {
    const listing = (await this.resources(options)).filter((each) => each.uri === uri).map(({ server }) => server);
    const holders =
      listing.length > 0
        ? listing
        : (await this.templates(options)).flatMap(({ uriTemplate, server }) => (fits(uriTemplate, uri) ? [server] : []));
    const [first, ...others] = [...new Set(holders)];
    if (first !== undefined && others.length === 0) return first;
    const ready = this.servers().filter(({ state }) => state === 'ready');
    // One server alone may know more than it lists.
    if (first === undefined && ready.length === 1) return ready[0]!.name;
    throw new JexoError(
      'JEXO_USAGE',
      first === undefined ? `None of the servers lists ${uri}.` : `Several servers have ${uri}: ${[first, ...others].join(', ')}.`,
      { where: uri, next: `Say which server: one of ${ready.map(({ name }) => name).join(', ')}.` },
    );
  }
}

const qualified = (server: string, name: string) => `${server.replaceAll(/[^A-Za-z0-9_-]+/g, '_')}_${name}`;

function fits(uriTemplate: string, uri: string): boolean {
  try {
    return parseTemplate(uriTemplate).match(uri) !== undefined;
  } catch {
    return false; // the other side’s template breaks the rules
  }
}
