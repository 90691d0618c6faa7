import type { ErrorObject } from '../protocol/json-rpc.js';
import type { Revision } from '../protocol/revisions.js';
import type { ClientCapabilities, Implementation, LogLevel, ServerCapabilities, Task } from '../protocol/types.js';
import type { Caller } from './servable.js';

/** A value now, or later where it is kept elsewhere. What is kept in memory answers at once, so that no call waits a turn for it. */
export type MaybePromise<T> = T | Promise<T>;

/** What outlives the process of one session: enough to go on with it in another one. */
export interface SessionRecord {
  readonly id: string;
  readonly revision: Revision;
  readonly client: Implementation | undefined;
  readonly capabilities: ClientCapabilities;
  readonly caller: Caller;
  /** What the client was told the server can do. */
  readonly declared: ServerCapabilities | undefined;
  readonly logLevel: LogLevel;
  /** URIs of resources the client has subscribed to. */
  readonly subscriptions: readonly string[];
  /** Pages the person at the client was sent to and is not known to be done with. */
  readonly pages: readonly string[];
}

export interface SessionStore {
  /** Keeps the record, in place of an earlier one of the same id. */
  save(record: SessionRecord): MaybePromise<void>;
  load(id: string): MaybePromise<SessionRecord | undefined>;
  delete(id: string): MaybePromise<void>;
}

/** One event of a stream, as it was written. */
export interface KeptEvent {
  readonly stream: number;
  /** Counts up from 1 within its stream. */
  readonly seq: number;
  readonly text: string;
}

/** Events that a client may have missed (Transports, "Resumability and Redelivery"). A store forgets the oldest when there are too many. */
export interface EventStore {
  /** Says that a stream has been opened. */
  begin(session: string, stream: number): MaybePromise<void>;
  append(session: string, event: KeptEvent): MaybePromise<void>;
  /** Says that no further event will come on a stream. */
  end(session: string, stream: number): MaybePromise<void>;
  /** The events of a stream after `seq`; undefined when the stream is not known, or one of them has been forgotten. */
  since(session: string, stream: number, seq: number): MaybePromise<StreamRest | undefined>;
  /** Forgets all events of a session. */
  forget(session: string): MaybePromise<void>;
}
export interface StreamRest {
  readonly events: readonly KeptEvent[];
  readonly isEnded: boolean;
}

/** Carries messages to whoever has subscribed to their topic, in this process and in others. */
export interface Bus {
  /** Gives the number of subscribers that were reached. */
  publish(topic: string, message: string): MaybePromise<number>;
  /** Returns how to stop. */
  subscribe(topic: string, hear: (message: string) => void): () => void;
}

/** A task as it stands, with its outcome once it has one. */
export interface TaskRecord {
  readonly task: Task;
  /** Whom it belongs to. */
  readonly owner: string;
  readonly result?: object;
  readonly error?: ErrorObject;
}

export interface TaskStore {
  /** Keeps the record, in place of an earlier one of the same id. */
  save(record: TaskRecord): MaybePromise<void>;
  load(id: string): MaybePromise<TaskRecord | undefined>;
  /** In the order in which they were begun. */
  list(owner: string): MaybePromise<readonly TaskRecord[]>;
  delete(id: string): MaybePromise<void>;
}

/** Counts what may only be done so often. */
export interface LimitStore {
  /** Milliseconds to wait before `key` may go on; 0 when it may now, and has then been counted. */
  take(key: string, most: number, perMs: number): MaybePromise<number>;
}

/** Where a served server keeps what must outlive a request. One store may serve several processes. */
export interface Store {
  readonly sessions: SessionStore;
  readonly events: EventStore;
  readonly bus: Bus;
  readonly tasks: TaskStore;
  readonly limits: LimitStore;
  /** Lets go of connections. */
  close(): MaybePromise<void>;
}

/** Goes on with a value: at once when it is there, so that what is kept in memory costs no turn of the event loop. */
export function after<T, U>(value: MaybePromise<T>, use: (value: T) => MaybePromise<U>): MaybePromise<U> {
  return value instanceof Promise ? value.then(use) : use(value);
}
