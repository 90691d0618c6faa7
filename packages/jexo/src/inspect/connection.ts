import type { Client, ClientOptions } from '../client/connect-link.js';
import type { Omission } from '../offers/source.js';
import type { InitializeResult, Root } from '../protocol/types.js';
import type { WireEvent, WireTap } from '../transports/link.js';
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
  /** Departures from the protocol that were tolerated. */
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
  let client: Client | undefined;
  let end: (() => void) | undefined;
  let origins: Opened['origins'];
  let generation = 0;
  /** The shelf as a person last saw it. */
  let looked: readonly ShelfItem[] | undefined;
  const watches = new Map<string, () => Promise<void>>();
  let state: ConnectionState = {
    ...first,
    status: 'closed',
    clientCapabilities: { elicitation: { form: {}, url: {} }, sampling: {}, roots: { listChanged: true } },
    shelf: [],
    removed: [],
    omitted: [],
    roots: [],
    watched: [],
    deviations: [],
  };
  const become = (next: Partial<ConnectionState>) => {
    const { trouble: _, ...kept } = state;
    state = { ...kept, ...next };
    listener.state(state);
  };
  const list = async (mine: number) => {
    const start = performance.now();
    try {
      const shelf = await listShelf(client!, (await origins?.()) ?? {});
      if (mine !== generation) return;
      const marked = markChanges(looked, shelf);
      looked ??= shelf;
      become({
        status: 'connected',
        shelf: marked.items,
        removed: marked.removed,
        listMs: performance.now() - start,
        ...(lastTrouble && { trouble: lastTrouble }),
      });
    } catch (error) {
      if (mine === generation) become({ status: 'failed', trouble: troubleOf(error) });
    }
  };
  /** A save that could not be loaded is told beside the shelf, which stays. */
  let lastTrouble: Trouble | undefined;

  const self: Connection = {
    get state() {
      return state;
    },
    get client() {
      return client;
    },
    async connect() {
      const mine = ++generation;
      end?.();
      await client?.close();
      client = undefined;
      watches.clear();
      lastTrouble = undefined;
      become({ status: 'connecting', watched: [], deviations: [] });
      const start = performance.now();
      const judge = createWireJudge();
      const current = () => mine === generation;
      try {
        const opened = await open(state.spec, {
          ...answers,
          roots: state.roots,
          tap: (event) => listener.wire(event, judge(event)),
          onStderr: (line) => listener.stderr(line),
          onLog: (message) => listener.log(message),
          onToolsChanged: () => void list(mine),
          onResourcesChanged: () => void list(mine),
          onPromptsChanged: () => void list(mine),
          onDeviation: (account) => current() && become({ deviations: [...state.deviations, account].slice(-50) }),
          onReloaded(reloaded) {
            if (!current()) return;
            lastTrouble = 'trouble' in reloaded ? reloaded.trouble : undefined;
            become(reloaded);
          },
          onClosed(error) {
            if (current() && state.status === 'connected')
              become(error === undefined ? { status: 'closed' } : { status: 'failed', trouble: troubleOf(error) });
          },
        });
        if (!current()) {
          opened.end?.();
          return await opened.client.close();
        }
        client = opened.client;
        end = opened.end;
        origins = opened.origins;
        become({ server: client.server, handshakeMs: performance.now() - start, omitted: opened.omitted });
        await list(mine);
      } catch (error) {
        if (current()) become({ status: 'failed', trouble: troubleOf(error) });
      }
    },
    edit(spec, shown) {
      become({ spec, shown });
    },
    seen() {
      looked = state.shelf.map(({ mark: _, ...item }) => item);
      become({ shelf: looked, removed: [], ...(state.trouble && { trouble: state.trouble }) });
    },
    setRoots(roots) {
      client?.setRoots(roots);
      become({ roots });
    },
    async watch(uri, on) {
      if (on && client !== undefined && !watches.has(uri))
        watches.set(uri, await client.watch(uri, (changed) => listener.updated(changed)));
      else if (!on) {
        const stop = watches.get(uri);
        watches.delete(uri);
        await stop?.();
      }
      become({ watched: [...watches.keys()] });
    },
    async close() {
      generation++;
      end?.();
      end = undefined;
      await client?.close();
      client = undefined;
      become({ status: 'closed' });
    },
  };
  return self;
}
