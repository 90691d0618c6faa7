import { systemClock, type Clock } from '../engine/clock.js';
import { isJexoError, JexoError, messageOf, type JexoErrorCode } from '../errors.js';
import type { Prompt, Resource, ResourceTemplate, Tool } from '../protocol/types.js';
import type { CallOptions, Client, ClientOptions } from './client.js';
import { tell } from './listeners.js';

/**
 * How a server is reached: `connecting` for the first time, `ready`, `waiting` for the next try after it was lost or could not be
 * reached, `failed` for a reason that trying again does not change, `closed`.
 */
export type ServerState = 'connecting' | 'ready' | 'waiting' | 'failed' | 'closed';

/** One of many servers, as it stands. */
export interface ServerStatus {
  /** What it is called here: its name in the configuration. */
  readonly name: string;
  /** Where it is, as a person writes it. */
  readonly address: string;
  /** How it is reached. */
  readonly state: ServerState;
  /** Why it is not ready. */
  readonly error?: Error;
  /** Tries that failed since it was last ready. */
  readonly failures: number;
  /** Milliseconds until the next try, when it waits for one. */
  readonly nextTryMs?: number;
  /** Times it was connected again. */
  readonly reconnects: number;
}

/** What a server offers, as it was last listed. */
export interface Listings {
  readonly tools: readonly Tool[];
  readonly resources: readonly Resource[];
  readonly templates: readonly ResourceTemplate[];
  readonly prompts: readonly Prompt[];
}
export type Listed = keyof Listings;

/** Failures that may be over the next time. */
const passing = new Set<JexoErrorCode>([
  'JEXO_CONNECT',
  'JEXO_CLOSED',
  'JEXO_SERVER_EXITED',
  'JEXO_SESSION_LOST',
  'JEXO_TIMEOUT',
  'JEXO_UNAVAILABLE',
  'JEXO_TOO_MANY',
]);

export interface KeptConnectionOptions {
  readonly name: string;
  readonly address: string;
  open(options: ClientOptions): Promise<Client>;
  readonly client: ClientOptions;
  /** Milliseconds before the first new try; each further one waits twice as long. */
  readonly backOffMs: number;
  readonly longestBackOffMs: number;
  readonly clock?: Clock;
  onState(status: ServerStatus): void;
  onChanged(what: Listed): void;
}

/** A connection to one server that is opened again when it is lost, with what the server offers. */
export interface KeptConnection {
  readonly name: string;
  status(): ServerStatus;
  /** The connection. @throws JexoError JEXO_UNAVAILABLE while there is none */
  client(): Client;
  /** Resolves when the first try has ended, however. */
  settled(): Promise<void>;
  /** What it offers of one kind, asked for when it is not known; the last listing while it is away. */
  list<K extends Listed>(what: K, options?: CallOptions): Promise<Listings[K]>;
  /** Of the last listing, without asking. */
  known<K extends Listed>(what: K): Listings[K];
  /** Drops the connection, if there is one, and tries at once. Resolves when that try has ended. */
  reconnect(): Promise<void>;
  close(): Promise<void>;
}

export function keepConnection(options: KeptConnectionOptions): KeptConnection {
  return new Kept(options);
}

const nothing: Listings = { tools: [], resources: [], templates: [], prompts: [] };

class Kept implements KeptConnection {
  readonly name: string;
  private readonly clock: Clock;
  private state: ServerState = 'connecting';
  private error: Error | undefined;
  private failures = 0;
  private reconnects = 0;
  private wasReady = false;
  private open: Client | undefined;
  private timer: unknown;
  private nextTryAt: number | undefined;
  private trying: Promise<void>;
  /** Ends the try that is being made. */
  private stop = new AbortController();
  /** Raised when the connection is given up: what a former one still reports is not heard. */
  private round = 0;
  private readonly listed = new Map<Listed, Promise<readonly unknown[]>>();
  private last: Listings = nothing;

  constructor(private readonly options: KeptConnectionOptions) {
    this.name = options.name;
    this.clock = options.clock ?? systemClock;
    const { signal } = options.client;
    signal?.addEventListener('abort', () => this.stop.abort(signal.reason), { once: true });
    this.trying = this.try();
  }

  status(): ServerStatus {
    const { name, state, error, failures, reconnects, nextTryAt } = this;
    return {
      name,
      address: this.options.address,
      state,
      failures,
      reconnects,
      ...(error !== undefined && { error }),
      ...(nextTryAt !== undefined && { nextTryMs: Math.max(0, Math.round(nextTryAt - this.clock.now())) }),
    };
  }

  client(): Client {
    if (this.open !== undefined) return this.open;
    const { state, nextTryMs } = this.status();
    const why = this.error === undefined ? 'it is being connected' : messageOf(this.error).replace(/\.$/, '');
    throw new JexoError(
      'JEXO_UNAVAILABLE',
      state === 'closed' ? `The connection to ${this.name} was closed.` : `The server ${this.name} is not there: ${why}.`,
      {
        where: this.options.address,
        ...(nextTryMs !== undefined && { next: `It is tried again in ${Math.ceil(nextTryMs / 1000)} s.` }),
        ...(state === 'failed' && { next: 'Fix that, then connect it again.' }),
        cause: this.error,
      },
    );
  }

  settled(): Promise<void> {
    return this.trying;
  }

  async list<K extends Listed>(what: K, options?: CallOptions): Promise<Listings[K]> {
    const { open } = this;
    if (open === undefined) return this.last[what];
    const known = this.listed.get(what);
    if (known !== undefined) return (await known) as unknown as Listings[K];
    const { tools, resources, prompts } = open.server.capabilities;
    const offered = { tools, resources, templates: resources, prompts }[what];
    // Older servers have no templates, and say so by an error.
    const asked: Promise<readonly unknown[]> =
      typeof offered !== 'object' || offered === null
        ? Promise.resolve([])
        : what === 'templates'
          ? open.templates(options).catch(() => [])
          : open[what](options);
    this.listed.set(what, asked);
    try {
      const found = (await asked) as unknown as Listings[K];
      // A change that came meanwhile has dropped this listing: it is right no longer, and better than none.
      this.last = { ...this.last, [what]: found };
      return found;
    } catch (error) {
      if (this.listed.get(what) === asked) this.listed.delete(what);
      throw error;
    }
  }

  known<K extends Listed>(what: K): Listings[K] {
    return this.last[what];
  }

  async reconnect(): Promise<void> {
    if (this.state === 'closed') throw new JexoError('JEXO_CLOSED', `The connection to ${this.name} was closed.`);
    await this.drop();
    this.failures = 0;
    this.trying = this.try();
    await this.trying;
  }

  async close(): Promise<void> {
    await this.drop();
    this.become('closed', undefined);
  }

  private async drop(): Promise<void> {
    this.round++;
    this.clock.cancel(this.timer);
    this.nextTryAt = undefined;
    this.stop.abort(new JexoError('JEXO_CANCELLED', `Connecting to ${this.name} was stopped.`));
    const { open } = this;
    this.open = undefined;
    await open?.close().catch(() => undefined); // it is gone already
    await this.trying;
  }

  /** One try; never rejects. */
  private async try(): Promise<void> {
    const round = ++this.round;
    const isMine = () => round === this.round;
    this.stop = new AbortController();
    const { signal } = this.options.client;
    if (signal?.aborted) this.stop.abort(signal.reason);
    this.nextTryAt = undefined;
    this.become('connecting', this.error);
    try {
      const client = await this.options.open(this.clientOptions(isMine));
      if (!isMine()) return await client.close().catch(() => undefined);
      this.open = client;
      this.failures = 0;
      this.listed.clear();
      if (this.wasReady) this.reconnects++;
      this.become('ready', undefined);
      // What it offered before may be another thing now.
      if (this.wasReady) for (const what of ['tools', 'resources', 'prompts'] as const) tell(() => this.options.onChanged(what));
      this.wasReady = true;
    } catch (error) {
      if (isMine()) this.failed(error as Error);
    }
  }

  private failed(error: Error): void {
    this.failures++;
    this.open = undefined;
    this.listed.clear();
    if (!isPassing(error)) return this.become('failed', error);
    const { backOffMs, longestBackOffMs } = this.options;
    // Spread, so that many clients of a server that was restarted do not come at once.
    const wait = Math.min(longestBackOffMs, backOffMs * 2 ** (this.failures - 1)) * (0.75 + 0.5 * Math.random());
    this.nextTryAt = this.clock.now() + wait;
    this.timer = this.clock.after(wait, () => (this.trying = this.try()));
    this.become('waiting', error);
  }

  private become(state: ServerState, error: Error | undefined): void {
    this.state = state;
    this.error = error;
    tell(() => this.options.onState(this.status()));
  }

  private clientOptions(isMine: () => boolean): ClientOptions {
    const { client } = this.options;
    const changed = (what: Listed, more?: Listed) => {
      if (!isMine()) return;
      this.listed.delete(what);
      if (more !== undefined) this.listed.delete(more);
      tell(() => this.options.onChanged(what));
    };
    return {
      ...client,
      signal: this.stop.signal,
      onToolsChanged: () => changed('tools'),
      onResourcesChanged: () => changed('resources', 'templates'),
      onPromptsChanged: () => changed('prompts'),
      onClosed: (error) => {
        client.onClosed?.(error);
        if (isMine()) this.failed(error ?? new JexoError('JEXO_CLOSED', 'The server has closed the connection.'));
      },
    };
  }
}

function isPassing(error: Error): boolean {
  if (!isJexoError(error)) return true;
  const status = (error.data as { status?: unknown } | undefined)?.status;
  if (typeof status === 'number') return status === 408 || status === 429 || status >= 500;
  return passing.has(error.code);
}
