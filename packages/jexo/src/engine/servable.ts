import { JexoError } from '../errors.js';
import type { Implementation } from '../protocol/types.js';
import type { Clock } from './clock.js';
import type { JobEnd, SessionRecord, Store, TaskJob } from './store.js';
import type { Channel } from './exchange.js';
import type { Peer } from './peer.js';

/** What a transport needs to open one session of a server. */
export interface SessionOptions {
  /** The way out for messages that belong to no request. */
  readonly outlet: Channel;
  /** Where the session takes its time from. */
  readonly clock: Clock;
  /** An unguessable id, for transports that have sessions. */
  readonly sessionId?: string;
  /** Who is calling, as far as the transport could tell. */
  readonly caller?: Caller;
  /** Called with faults inside handlers, and the reference the client gets. Default: they are printed to stderr. */
  readonly onFault?: (error: unknown, reference: string) => void;
  /** Where tasks and limits are kept. Default: in the server's own memory. */
  readonly store?: Store;
  /** True when tasks wait for workers in the store’s queue, and are not worked on in this process. */
  readonly queueTasks?: boolean;
  /** Put before the ids of requests to the client, where several processes carry one session. */
  readonly idPrefix?: string;
  /** Gets what takes up changes of the session's record that other processes have made. */
  readonly follow?: (refresh: (record: SessionRecord) => void) => void;
  /** A session that was begun elsewhere, to go on here. */
  readonly resume?: SessionRecord;
  /** Called after the handshake, and whenever something changes that a session needs to go on elsewhere. */
  readonly onState?: (record: SessionRecord) => void;
}

/** Who is calling, as far as the transport and `auth` can tell. */
export interface Caller {
  /** How the call came: over stdio, HTTP or in memory. */
  readonly transport: 'stdio' | 'http' | 'memory';
  /** Who it is, where `auth` has said so. A session belongs to the identity that began it. */
  readonly identity?: string;
  /** What `auth` lets the caller do. */
  readonly scopes?: readonly string[];
  /** What else `auth` knows of the caller. */
  readonly claims?: Readonly<Record<string, unknown>>;
  /** The remote address, over HTTP. */
  readonly address?: string;
  /** Tags that the client asked to be narrowed to, by the query of the address: it sees only offers with one of them. */
  readonly narrowedTo?: readonly string[];
  /** Headers of the request, over HTTP, in lower case. Those that carry credentials are excluded. */
  readonly headers?: Readonly<Record<string, string>>;
}

/** A server as a value. A transport opens sessions on it; it starts nothing by itself. */
export interface Servable {
  /** What the server calls itself. */
  readonly info: Implementation;
  /** Reads what the sources offer. Safe to call again; a failure is thrown to every caller. */
  ready(options?: ReadyOptions): Promise<void>;
  /**
   * Scopes that the caller lacks for what messages ask for, and could be given: over HTTP it is told by 403. Absent, or none, when everything that
   * it can see may be used.
   */
  missingScopes?(messages: readonly unknown[], caller: Caller): readonly string[];
  /**
   * Shares what concerns all processes with those of a store: resources that have changed, switches.
   * @returns how to leave
   */
  join?(store: Store): () => void;
  /**
   * Works on a task that waits in the store’s queue.
   * @param peer a session of its caller that was opened with that store
   */
  workOnTask?(peer: Peer, job: TaskJob, run: number, signal: AbortSignal): Promise<JobEnd>;
  /** Opens a session. */
  open(options: SessionOptions): Peer;
  /**
   * Ends all sessions and tasks, and closes the sources. It may be served again: the sources are read again then.
   * @throws the first error of a source that could not be closed; everything else is closed all the same
   */
  close(): Promise<void>;
}

/** How the sources are read for the first time. */
export interface ReadyOptions {
  /** Where sources look up their settings. Default: the environment of the process. */
  readonly settings?: Readonly<Record<string, string | undefined>>;
  /** Gives the wait up when it fires. */
  readonly signal?: AbortSignal;
  /** How far a long read is. */
  readonly progress?: (done: number, total?: number, message?: string) => void;
}

/** What a value is, for an error: `undefined`, `a text`, `a promise`, `an object`. */
export function kindOf(value: unknown): string {
  if (value === null || value === undefined) return String(value);
  if (typeof value === 'string') return 'a text';
  if (typeof value !== 'object') return `a ${typeof value}`;
  if (Array.isArray(value)) return 'a list';
  return 'then' in value ? 'a promise' : 'an object';
}

/** How many are serving each server. */
const holders = new WeakMap<Servable, number>();

/**
 * Holds a server for as long as it is served somewhere. The last one to let go closes it.
 *
 * @throws JexoError JEXO_DEFINITION for what is no server: a module, a promise, nothing
 */
export function hold(server: Servable): () => Promise<void> {
  if (typeof (server as Partial<Servable> | null | undefined)?.open !== 'function')
    throw new JexoError('JEXO_DEFINITION', `What is to be served is no server: ${kindOf(server)} was given.`, {
      where: 'server',
      next: 'Give what defineServer returns, or await openTarget for a file, a folder or an address.',
    });
  holders.set(server, (holders.get(server) ?? 0) + 1);
  let isHeld = true;
  return async () => {
    if (!isHeld) return;
    isHeld = false;
    const left = holders.get(server)! - 1;
    holders.set(server, left);
    if (left === 0) await server.close();
  };
}
