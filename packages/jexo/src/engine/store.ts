import type { ErrorObject } from '../protocol/json-rpc.js';
import type { Revision } from '../protocol/revisions.js';
import type { Params } from '../protocol/json-rpc.js';
import type { ClientCapabilities, Implementation, LogLevel, ServerCapabilities, Task } from '../protocol/types.js';
import type { Caller } from './servable.js';

/** A value now, or later where it is kept elsewhere. What is kept in memory answers at once, so that no call waits a turn for it. */
export type MaybePromise<T> = T | Promise<T>;

/** What outlives the process of one session: enough to go on with it in another one. */
export interface SessionRecord {
  /** The session’s id, which is a secret. */
  readonly id: string;
  /** The revision both sides agreed on. */
  readonly revision: Revision;
  /** What the client calls itself. */
  readonly client: Implementation | undefined;
  /** What the client declared. */
  readonly capabilities: ClientCapabilities;
  /** Who began the session. */
  readonly caller: Caller;
  /** What the client was told the server can do. */
  readonly declared: ServerCapabilities | undefined;
  /** The least level of log messages the client wants. */
  readonly logLevel: LogLevel;
  /** URIs of resources the client has subscribed to. */
  readonly subscriptions: readonly string[];
  /** Pages the person at the client was sent to and is not known to be done with. */
  readonly pages: readonly string[];
}

/** Keeps sessions, so that one may go on in another process. */
export interface SessionStore {
  /** Keeps the record, in place of an earlier one of the same id. */
  save(record: SessionRecord): MaybePromise<void>;
  /** Undefined for a session that has ended or never was. */
  load(id: string): MaybePromise<SessionRecord | undefined>;
  /** Forgets a session that has ended. */
  delete(id: string): MaybePromise<void>;
  /** Says that a session is still used, where those that are not are forgotten. */
  touch?(id: string): MaybePromise<void>;
}

/** Who writes a stream, and what it answers: when that process dies, another one says so to the client. */
export interface StreamHolder {
  /** The process, as it is known to `Processes`. */
  readonly process: string;
  /** Ids of the requests that are answered on the stream. */
  readonly requests: readonly (string | number)[];
}

/** Which processes share the store and live. */
export interface Processes {
  /** How this process is known to others. */
  readonly self: string;
  /** Says from now on that a process lives. Gives how to stop. */
  join(id: string): MaybePromise<() => void>;
  /** False for one that has not been heard from. */
  isAlive(id: string): MaybePromise<boolean>;
}

/** What handlers keep of a session, as JSON. */
export interface StateStore {
  /** The value and its version; 0 and undefined when there is none. */
  read(session: string): MaybePromise<{ readonly version: number; readonly value: unknown }>;
  /** Replaces the value if the version is still the one that was read. False when another one came first. */
  swap(session: string, version: number, value: unknown): MaybePromise<boolean>;
  /** Forgets it. */
  delete(session: string): MaybePromise<void>;
}

/** One event of a stream, as it was written. */
export interface KeptEvent {
  /** The number of its stream within the session. */
  readonly stream: number;
  /** Counts up from 1 within its stream. */
  readonly seq: number;
  /** The event as it stands on the wire, its id included. */
  readonly text: string;
}

/** Events that a client may have missed (Transports, "Resumability and Redelivery"). A store forgets the oldest when there are too many. */
export interface EventStore {
  /** Says that a stream has been opened. */
  begin(session: string, stream: number, holder?: StreamHolder): MaybePromise<void>;
  /** Keeps an event of a stream that has been begun. */
  append(session: string, event: KeptEvent): MaybePromise<void>;
  /** Says that no further event will come on a stream. */
  end(session: string, stream: number): MaybePromise<void>;
  /** The events of a stream after `seq`; undefined when the stream is not known, or one of them has been forgotten. */
  since(session: string, stream: number, seq: number): MaybePromise<StreamRest | undefined>;
  /** Makes another process the holder of a stream; true for the one that does it first. Only where several processes share the store. */
  takeOver?(session: string, stream: number, from: string, to: string): MaybePromise<boolean>;
  /** Forgets all events of a session. */
  forget(session: string): MaybePromise<void>;
}
/** What is left of a stream for a client that comes back. */
export interface StreamRest {
  /** In the order in which they were written. */
  readonly events: readonly KeptEvent[];
  /** True when nothing more will come. */
  readonly isEnded: boolean;
  /** Who writes it, where several processes share the store. */
  readonly holder?: StreamHolder;
}

/** Carries messages to whoever has subscribed to their topic, in this process and in others. */
export interface Bus {
  /** Gives the number of subscribers that were reached. */
  publish(topic: string, message: string): MaybePromise<number>;
  /** Returns how to stop. */
  subscribe(topic: string, hear: (message: string) => void): () => void;
  /** Called when messages may have been lost, because the connection was. Returns how to stop. */
  onGap?(hear: () => void): () => void;
}

/** A task as it stands, with its outcome once it has one. */
export interface TaskRecord {
  /** The task as requesters see it. */
  readonly task: Task;
  /** Whom it belongs to. */
  readonly owner: string;
  /** The result of one that is completed. */
  readonly result?: object;
  /** The error of one that failed or was cancelled. */
  readonly error?: ErrorObject;
  /** The process that works on it, as it is known to `Processes`. */
  readonly process?: string;
  /** True where a queue sees to it that somebody works on it, so that the end of one process is not its end. */
  readonly isQueued?: boolean;
  /** Counts the workers that have begun it. What an earlier one still saves is refused. */
  readonly run?: number;
}

/** A call that waits for a worker. */
export interface TaskJob {
  /** The task’s id. */
  readonly taskId: string;
  /** The session it was called in, as it stood then. */
  readonly session: SessionRecord;
  /** The params of `tools/call`. */
  readonly params: Params;
  /** Who called. */
  readonly caller: Caller;
  /** How often its handler has thrown so far. */
  readonly throws: number;
}

/** What becomes of a job: it is done, or it is worked once more after so many milliseconds. */
export type JobEnd = 'done' | { readonly againInMs: number; readonly hasThrown?: boolean };

/** Jobs of one server. Each is given to one worker at a time; that of a worker which has died is given to another one. */
export interface TaskQueue {
  /** Puts a job at the end. */
  add(job: TaskJob): MaybePromise<void>;
  /** Takes a job out that nobody works on. */
  remove(taskId: string): MaybePromise<void>;
  /**
   * Works on jobs, so many at once, until the returned function is called. It resolves when those under way have ended.
   * @param work gets the number of the run, which counts up for each job, and a signal that fires when the job was given to another worker
   */
  work(work: (job: TaskJob, run: number, signal: AbortSignal) => Promise<JobEnd>, most: number): MaybePromise<() => Promise<void>>;
}

/** Keeps tasks, so that another process may be asked for them. */
export interface TaskStore {
  /**
   * Keeps the record, in place of an earlier one of the same id; one that has an outcome, or a higher `run`, stays as it is.
   * @returns false when it stayed
   */
  save(record: TaskRecord): MaybePromise<boolean | void>;
  /** Undefined for a task that is not known or has expired. */
  load(id: string): MaybePromise<TaskRecord | undefined>;
  /** In the order in which they were begun. */
  list(owner: string): MaybePromise<readonly TaskRecord[]>;
  /** Forgets a task whose time has run out. */
  delete(id: string): MaybePromise<void>;
}

/** Counts what may only be done so often. */
export interface LimitStore {
  /** Milliseconds to wait before `key` may go on; 0 when it may now, and has then been counted. */
  take(key: string, most: number, perMs: number): MaybePromise<number>;
}

/** Where a served server keeps what must outlive a request. One store may serve several processes. */
export interface Store {
  /** Sessions of HTTP clients. */
  readonly sessions: SessionStore;
  /** Events that a client may have missed. */
  readonly events: EventStore;
  /** Messages between processes. */
  readonly bus: Bus;
  /** Tasks, running and done. */
  readonly tasks: TaskStore;
  /** Counts of what may only be done so often. */
  readonly limits: LimitStore;
  /** What handlers keep of sessions. Default: in the memory of each process. */
  readonly state?: StateStore;
  /** Which processes share the store. Absent where one process has it for itself. */
  readonly processes?: Processes;
  /** Tasks that wait for workers, by the server’s name. Absent where the store has no queue. */
  readonly queue?: (server: string) => TaskQueue;
  /** False while the store cannot be used: no new session is begun then. Default true. */
  readonly isReachable?: boolean;
  /** Releases connections. */
  close(): MaybePromise<void>;
}

/** Goes on with a value: at once when it is there, so that what is kept in memory costs no turn of the event loop. */
export function after<T, U>(value: MaybePromise<T>, use: (value: T) => MaybePromise<U>): MaybePromise<U> {
  return value instanceof Promise ? value.then(use) : use(value);
}
