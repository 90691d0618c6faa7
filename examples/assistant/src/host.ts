import type { CallToolResult, ReadResourceResult, Served, Tool } from 'jexo';
import {
  approvals,
  chatCompletions,
  connectAll,
  converse,
  standIn,
  type ApprovalRequest,
  type Clients,
  type FormQuestion,
  type Model,
  type PageQuestion,
  type PersonSays,
  type ServerStatus,
  type Step,
} from 'jexo';
import { browserApprovals, browserMemory, load, save } from './storage.js';

/** A server by its name here. */
export interface ServerEntry {
  readonly name: string;
  readonly url: string;
  readonly isOff?: boolean;
}

export interface ModelSettings {
  readonly url: string;
  readonly model: string;
  /** Never kept: it is typed again after a reload. */
  readonly key: string;
}

/** Something that waits for the person. */
export type Waiting =
  | { readonly kind: 'approval'; readonly request: ApprovalRequest; answer(said: PersonSays): void }
  | { readonly kind: 'form'; readonly question: FormQuestion; answer(content: Record<string, unknown> | 'decline' | 'cancel'): void }
  | { readonly kind: 'page'; readonly question: PageQuestion; answer(action: 'accept' | 'decline' | 'cancel'): void }
  | { readonly kind: 'consent'; readonly server: string; readonly text: string; answer(agreed: boolean): void };

/** One request and what came of it. */
export interface Exchange {
  readonly id: number;
  readonly request: string;
  readonly steps: readonly Step[];
  /** What the model is writing. */
  readonly writing: string;
  readonly ended?: string;
  readonly error?: string;
  /** The tool whose page has said it, and not the person. */
  readonly by?: string;
}

export interface HostState {
  readonly servers: readonly (ServerStatus & { readonly isOff: boolean; readonly tools: number })[];
  readonly exchanges: readonly Exchange[];
  readonly waiting: readonly Waiting[];
  readonly isBusy: boolean;
  readonly model: ModelSettings;
  readonly trouble?: string;
}

type ServedTool = Tool & Served;
const textOf = (content: readonly object[]) => content.map((each) => ('text' in each ? String(each.text) : '')).join(' ');
const isList = Array.isArray;
const noModel: ModelSettings = { url: '', model: '', key: '' };

/** The application’s own half of the work: servers, conversations, and what waits for the person. The page shows it. */
export class Host {
  private clients: Clients | undefined;
  private entries: readonly ServerEntry[];
  private listeners = new Set<() => void>();
  private stopping: AbortController | undefined;
  private refreshes = 0;
  private listed: readonly ServedTool[] = [];
  private readonly known = new Map<string, string>();
  private readonly approve = approvals({
    allow: ['read-only'],
    ask: ['destructive'],
    store: browserApprovals,
    person: (request) => this.wait((answer) => ({ kind: 'approval', request, answer }), request.signal, 'no' as const),
  });
  state: HostState;

  constructor(named: readonly ServerEntry[]) {
    // Servers in the address come first: the demo names its own there.
    this.entries = named.length > 0 ? named : load<readonly ServerEntry[]>('servers', [], isList);
    const { url = '', model = '' } = load<Partial<ModelSettings>>('model', {});
    this.state = {
      servers: [],
      exchanges: load<readonly Exchange[]>('exchanges', [], isList),
      waiting: [],
      isBusy: false,
      model: { ...noModel, url, model },
    };
    void this.connect();
  }

  subscribe = (listener: () => void): (() => void) => {
    this.listeners.add(listener);
    return () => void this.listeners.delete(listener);
  };
  snapshot = () => this.state;

  async add(entry: ServerEntry): Promise<void> {
    this.entries = [...this.entries.filter(({ name }) => name !== entry.name), entry];
    await this.connect();
  }

  async remove(name: string): Promise<void> {
    this.entries = this.entries.filter((each) => each.name !== name);
    await this.connect();
  }

  toggle(name: string, isOff: boolean): void {
    this.entries = this.entries.map((each) => (each.name === name ? { ...each, isOff } : each));
    save('servers', this.entries);
    this.clients?.choose({ [name]: isOff ? false : {} });
    void this.refresh();
  }

  reconnect(name: string): void {
    void this.clients?.reconnect(name);
  }

  useModel(model: ModelSettings): void {
    save('model', { url: model.url, model: model.model });
    this.set({ model });
  }

  forget(): void {
    void browserMemory.clear();
    save('exchanges', []);
    this.set({ exchanges: [] });
  }

  stop(): void {
    this.stopping?.abort();
  }

  /** A tool as it was listed last. */
  tool = (name: string): ServedTool | undefined => this.listed.find((each) => each.name === name);

  /** The tools that its page may know of: those of the same server, by their own names. */
  toolsBeside = ({ server }: ServedTool): readonly Tool[] =>
    this.listed.flatMap((each) => (each.server === server ? [{ ...each, name: each.ownName }] : []));

  /** Calls a tool for a page. The person has done it there: neither the model nor its approvals have a part in it. */
  async callFor({ server }: ServedTool, name: string, input: Record<string, unknown>, signal: AbortSignal): Promise<CallToolResult> {
    const found = this.listed.find((each) => each.server === server && each.ownName === name);
    if (this.clients === undefined || found === undefined) throw new Error(`${server} is not there now.`);
    return this.clients.call(found.name, input, { signal });
  }

  async readFor({ server }: ServedTool, uri: string, signal?: AbortSignal): Promise<ReadResourceResult> {
    if (this.clients === undefined) throw new Error(`${server} is not there now.`);
    return this.clients.read(uri, { server, ...(signal && { signal }) });
  }

  /** What a page says goes into the conversation, where it is seen to come from it. While the model works it is refused. */
  say({ title, name }: ServedTool, content: readonly object[]): boolean {
    if (this.state.isBusy) return false;
    void this.ask(textOf(content), title ?? name);
    return true;
  }

  /** What pages want the model to know, each the last word of its own. */
  remember({ title, name }: ServedTool, content: readonly object[]): void {
    this.known.set(title ?? name, textOf(content));
  }

  async ask(request: string, by?: string): Promise<void> {
    const { clients } = this;
    if (clients === undefined || this.state.isBusy) return;
    const id = Date.now();
    const stop = (this.stopping = new AbortController());
    this.set({
      isBusy: true,
      exchanges: [...this.state.exchanges, { id, request, steps: [], writing: '', ...(by !== undefined && { by }) }],
    });
    const change = (make: (exchange: Exchange) => Partial<Exchange>) =>
      this.set({ exchanges: this.state.exchanges.map((each) => (each.id === id ? { ...each, ...make(each) } : each)) });
    try {
      const outcome = await converse({
        clients,
        request,
        model: this.model(),
        memory: browserMemory,
        ...(this.known.size > 0 && { instructions: [...this.known].map(([page, text]) => `From the page of ${page}: ${text}`).join('\n') }),
        approve: this.approve,
        signal: stop.signal,
        onStep: (step) =>
          change(({ steps, writing }) =>
            step.kind === 'text' ? { writing: writing + step.part } : { steps: [...steps, step], writing: '' },
          ),
        onQuestion: async (question) => {
          const said = await this.wait<Record<string, unknown> | 'decline' | 'cancel'>(
            (answer) => ({ kind: 'form', question, answer }),
            question.signal,
            'cancel',
          );
          return typeof said === 'string' ? { action: said } : { action: 'accept', content: said as never };
        },
        onPage: async (question) => ({
          action: await this.wait<'accept' | 'decline' | 'cancel'>(
            (answer) => ({ kind: 'page', question, answer }),
            question.signal,
            'cancel',
          ),
        }),
        consent: ({ messages }, server) => {
          const text = messages
            .flatMap(({ content }) => [content].flat().flatMap((block) => (block.type === 'text' ? [block.text] : [])))
            .join('\n');
          return this.wait<boolean>((answer) => ({ kind: 'consent', server, text, answer }), stop.signal, false);
        },
      });
      change(() => ({ ended: outcome.ended, ...(outcome.error && { error: outcome.error.message }) }));
    } catch (error) {
      change(() => ({ ended: 'failed', error: (error as Error).message }));
    } finally {
      this.set({ isBusy: false, waiting: [] });
      save('exchanges', this.state.exchanges.slice(-30));
    }
  }

  private model(): Model {
    const { url, model, key } = this.state.model;
    return url === '' ? standIn : chatCompletions({ baseUrl: url, model, stream: true, ...(key !== '' && { key }) });
  }

  /** Shows something to the person and waits for what they say; `otherwise` when nobody waits any more. */
  private wait<T>(make: (answer: (said: T) => void) => Waiting, signal: AbortSignal, otherwise: T): Promise<T> {
    return new Promise((resolve) => {
      const settle = (said: T) => {
        signal.removeEventListener('abort', onAbort);
        this.set({ waiting: this.state.waiting.filter((each) => each !== shown) });
        resolve(said);
      };
      const onAbort = () => settle(otherwise);
      const shown = make(settle);
      this.set({ waiting: [...this.state.waiting, shown] });
      if (signal.aborted) onAbort();
      else signal.addEventListener('abort', onAbort, { once: true });
    });
  }

  private async connect(): Promise<void> {
    save('servers', this.entries);
    const before = this.clients;
    this.clients = undefined;
    await before?.close();
    const off = this.entries.filter(({ isOff }) => isOff).map(({ name }) => [name, false] as const);
    try {
      const clients = await connectAll(Object.fromEntries(this.entries.map(({ name, url }) => [name, url])), {
        info: { name: 'assistant', title: 'Assistant', version: '0.1.0' },
        views: true,
        // A server that has gone is noticed before it is needed.
        pingEveryMs: 3000,
        choose: Object.fromEntries(off),
        onState: () => void this.refresh(),
      });
      this.clients = clients;
      clients.listen(() => void this.refresh());
      this.set({ trouble: '' });
    } catch (error) {
      this.set({ trouble: (error as Error).message });
    }
    await this.refresh();
  }

  private async refresh(): Promise<void> {
    const { clients } = this;
    const turn = ++this.refreshes;
    const tools = (await clients?.tools().catch(() => [])) ?? [];
    if (turn !== this.refreshes) return;
    this.listed = tools;
    const chosen = clients?.chosen() ?? {};
    this.set({
      servers: (clients?.servers() ?? []).map((each) => ({
        ...each,
        isOff: chosen[each.name] === false,
        tools: tools.filter(({ server }) => server === each.name).length,
      })),
    });
  }

  private set(change: Partial<HostState>): void {
    this.state = { ...this.state, ...change };
    for (const listener of this.listeners) listener();
  }
}
