import type { Implementation } from '../protocol/types.js';
import type { Clock } from './clock.js';
import type { Channel } from './exchange.js';
import type { Peer } from './peer.js';

/** What a transport needs to open one session of a server. */
export interface SessionOptions {
  readonly outlet: Channel;
  readonly clock: Clock;
  /** An unguessable id, for transports that have sessions. */
  readonly sessionId?: string;
  /** Who is calling, as far as the transport could tell. */
  readonly caller?: Caller;
  /** Told of faults inside handlers, with the reference the client gets. Default: they are printed to stderr. */
  readonly onFault?: (error: unknown, reference: string) => void;
}

export interface Caller {
  /** How the call came: over stdio, HTTP or in memory. */
  readonly transport: 'stdio' | 'http' | 'memory';
  /** Who it is, where a sign-in has said so. */
  readonly identity?: string;
  /** The remote address, over HTTP. */
  readonly address?: string;
  /** Headers of the request that opened the session, over HTTP, in lower case. */
  readonly headers?: Readonly<Record<string, string>>;
}

/** A server as a value. A transport opens sessions on it; it starts nothing by itself. */
export interface Servable {
  readonly info: Implementation;
  /** Loads what the sources offer. Safe to call again; a failure is thrown to every caller. */
  ready(): Promise<void>;
  open(options: SessionOptions): Peer;
}
