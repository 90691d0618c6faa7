import type { Client, ClientOptions } from '../client/connect-link.js';
import type { Omission } from '../offers/source.js';
import type { InitializeResult, Root } from '../protocol/types.js';
import type { WireEvent, WireTap } from '../transports/link.js';
import { viewCapability } from '../protocol/views.js';
import { createWireJudge } from './judge-wire.js';
import { listShelf, markChanges, type Origins, type ShelfItem } from './shelf.js';
import { troubleOf, type Trouble } from './trouble.js';

/** What a connection is opened to, as a person may edit it. */
export interface ConnectionSpec {
  /** A module, a package or a URL; empty when it is a command. */
  readonly target: string;
  readonly command?: readonly string[];
  readonly env?: Readonly<Record<string, string>>;
  readonly headers?: Readonly<Record<string, string>>;
}

export interface ConnectionState {
  readonly id: number;
  /** The target as a person would type it. */
  readonly shown: string;
  readonly spec: ConnectionSpec;
  readonly status: 'connecting' | 'connected' | 'failed' | 'closed' | 'imported';
  readonly trouble?: Trouble;
  readonly server?: InitializeResult;
  /** What we declared to the server. */
  readonly clientCapabilities: object;
  /** Milliseconds from the start to the end of the handshake, and of the latest listing. */
  readonly handshakeMs?: number;
  readonly listMs?: number;
  readonly shelf: readonly ShelfItem[];
  /** Names of what was there at the last look and is gone. */
  readonly removed: readonly string[];
  readonly omitted: readonly Omission[];
  readonly roots: readonly Root[];
  /** URIs that are watched. */
  readonly watched: readonly string[];
  /** Deviations from the protocol that were tolerated. */
  readonly deviations: readonly string[];
}

export interface Opened {
  readonly client: Client;
  readonly omitted: readonly Omission[];
  /** Where offers come from, as it is now: a module that was read again may have others. */
  readonly origins?: () => Promise<Origins>;
  /** Ends whatever was begun for this connection beside the client. */
  readonly end?: () => void;
}

export type OpenOptions = ClientOptions & {
  /** A module is loaded as if for the first time, and not watched. */
  readonly fresh?: boolean;
  readonly tap: WireTap;
  readonly onStderr: (line: string) => void;
  /** Told when a module that is watched was read again, or could not be. */
  readonly onReloaded: (reloaded: { readonly omitted: readonly Omission[] } | { readonly trouble: Trouble }) => void;
};

export interface ConnectionListener {
  state(state: ConnectionState): void;
  wire(event: WireEvent, wrong: string | undefined): void;
  stderr(line: string): void;
  log(message: Parameters<NonNullable<ClientOptions['onLog']>>[0]): void;
  updated(uri: string): void;
}

export interface Connection {
  readonly state: ConnectionState;
  readonly client: Client | undefined;
  connect(): Promise<void>;
  edit(spec: ConnectionSpec, shown: string): void;
  /** What is on the shelf has been looked at. */
  seen(): void;
  setRoots(roots: readonly Root[]): void;
  watch(uri: string, on: boolean): Promise<void>;
  close(): Promise<void>;
}

type Open = (spec: ConnectionSpec, options: OpenOptions) => Promise<Opened>;

/** One connection of the bench: it lives on while it is closed and opened again. */
export function createConnection(
  first: Pick<ConnectionState, 'id' | 'shown' | 'spec'>,
  open: Open,
  answers: Pick<ClientOptions, 'elicitation' | 'sampling'>,
  listener: ConnectionListener,
): Connection {
  return new BenchConnection(first, open, answers, listener);
}

class BenchConnection implements Connection {
  client: Client | undefined;
  state: ConnectionState;
  private end: (() => void) | undefined;
  private origins: Opened['origins'];
  /** Counts the attempts to connect: what an earlier one brings comes too late. */
  private generation = 0;
  /** The shelf as a person last saw it. */
  private looked: readonly ShelfItem[] | undefined;
  /** A save that could not be loaded is told beside the shelf, which stays. */
  private lastTrouble: Trouble | undefined;
  private readonly watches = new Map<string, () => Promise<void>>();

  constructor(
    first: Pick<ConnectionState, 'id' | 'shown' | 'spec'>,
    private readonly open: Open,
    private readonly answers: Pick<ClientOptions, 'elicitation' | 'sampling'>,
    private readonly listener: ConnectionListener,
  ) {
    this.state = {
      ...first,
      status: 'closed',
      clientCapabilities: { extensions: viewCapability, elicitation: { form: {}, url: {} }, sampling: {}, roots: { listChanged: true } },
      shelf: [],
      removed: [],
      omitted: [],
      roots: [],
      watched: [],
      deviations: [],
    };
  }

  async connect(): Promise<void> {
    const mine = ++this.generation;
    this.end?.();
    await this.client?.close();
    this.client = undefined;
    this.watches.clear();
    this.lastTrouble = undefined;
    this.become({ status: 'connecting', watched: [], deviations: [] });
    const start = performance.now();
    try {
      const opened = await this.open(this.state.spec, this.optionsFor(mine));
      if (mine !== this.generation) {
        opened.end?.();
        return await opened.client.close();
      }
      this.client = opened.client;
      this.end = opened.end;
      this.origins = opened.origins;
      this.become({ server: opened.client.server, handshakeMs: performance.now() - start, omitted: opened.omitted });
      await this.list(mine);
    } catch (error) {
      if (mine === this.generation) this.become({ status: 'failed', trouble: troubleOf(error) });
    }
  }

  edit(spec: ConnectionSpec, shown: string): void {
    this.become({ spec, shown });
  }

  seen(): void {
    const { shelf, trouble } = this.state;
    this.looked = shelf.map(({ mark: _, ...item }) => item);
    this.become({ shelf: this.looked, removed: [], ...(trouble && { trouble }) });
  }

  setRoots(roots: readonly Root[]): void {
    this.client?.setRoots(roots);
    this.become({ roots });
  }

  async watch(uri: string, on: boolean): Promise<void> {
    const { client, watches } = this;
    if (on && client !== undefined && !watches.has(uri))
      watches.set(uri, await client.watch(uri, (changed) => this.listener.updated(changed)));
    else if (!on) {
      const stop = watches.get(uri);
      watches.delete(uri);
      await stop?.();
    }
    this.become({ watched: [...watches.keys()] });
  }

  async close(): Promise<void> {
    this.generation++;
    this.end?.();
    this.end = undefined;
    await this.client?.close();
    this.client = undefined;
    this.become({ status: 'closed' });
  }

  private become(next: Partial<ConnectionState>): void {
    const { trouble: _, ...kept } = this.state;
    this.state = { ...kept, ...next };
    this.listener.state(this.state);
  }

  private optionsFor(mine: number): OpenOptions {
    const { listener } = this;
    const judge = createWireJudge();
    const isCurrent = () => mine === this.generation;
    const listAgain = () => void this.list(mine);
    return {
      ...this.answers,
      roots: this.state.roots,
      views: true,
      tap: (event) => listener.wire(event, judge(event)),
      onStderr: (line) => listener.stderr(line),
      onLog: (message) => listener.log(message),
      onToolsChanged: listAgain,
      onResourcesChanged: listAgain,
      onPromptsChanged: listAgain,
      onDeviation: ({ account }) => isCurrent() && this.become({ deviations: [...this.state.deviations, account].slice(-50) }),
      onReloaded: (reloaded) => {
        if (!isCurrent()) return;
        this.lastTrouble = 'trouble' in reloaded ? reloaded.trouble : undefined;
        this.become(reloaded);
      },
      onClosed: (error) => {
        if (isCurrent() && this.state.status === 'connected')
          this.become(error === undefined ? { status: 'closed' } : { status: 'failed', trouble: troubleOf(error) });
      },
    };
  }

  private async list(mine: number): Promise<void> {
    const start = performance.now();
    try {
      const shelf = await listShelf(this.client!, (await this.origins?.()) ?? {});
      if (mine !== this.generation) return;
      const marked = markChanges(this.looked, shelf);
      this.looked ??= shelf;
      this.become({
        status: 'connected',
        shelf: marked.items,
        removed: marked.removed,
        listMs: performance.now() - start,
        ...(this.lastTrouble && { trouble: this.lastTrouble }),
      });
    } catch (error) {
      if (mine === this.generation) this.become({ status: 'failed', trouble: troubleOf(error) });
    }
  }
}
