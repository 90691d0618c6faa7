import type { Asker, ServerAnswers } from '../client/answer-server.js';
import type { Client } from '../client/connect-link.js';
import type { Issue } from '../offers/schema.js';
import type {
  CallToolResult,
  CreateMessageParams,
  GetPromptResult,
  JsonSchema,
  LogMessage,
  ProgressUpdate,
  ReadResourceResult,
  Task,
} from '../protocol/types.js';
import type { WireEvent } from '../transports/link.js';
import type { Connection, ConnectionSpec, ConnectionState, OpenOptions, Opened } from './connection.js';
import type { Recorder } from './recorder.js';
import type { Series } from './series.js';
import type { Trouble } from './trouble.js';
import type { Readable } from './value-text.js';

export type CallKind = 'tool' | 'resource' | 'prompt';

/** What to call: a tool by its name, a resource by its URI, a prompt by its name. */
export interface CallRequest {
  readonly connection: number;
  readonly kind: CallKind;
  readonly name: string;
  readonly input: Record<string, unknown>;
  /** The template a resource is named by; its variables are the input, and the name is made of them. */
  readonly item?: string;
  /** Runs a tool as a task. */
  readonly asTask?: boolean;
  /** Runs it so many times, one after the other, and keeps the times. Default 1. */
  readonly times?: number;
  /** Set when a view made the call, and not the person. */
  readonly by?: 'view';
}

export type CallEvent =
  | ({ readonly kind: 'progress' } & ProgressUpdate)
  | ({ readonly kind: 'log' } & LogMessage)
  | { readonly kind: 'task'; readonly task: Task }
  | { readonly kind: 'question'; readonly question: Question }
  | { readonly kind: 'updated'; readonly uri: string };

/** One call on the bench, from its input to its answer. */
export interface CallSheet extends CallRequest {
  readonly id: number;
  readonly status: 'running' | 'answered' | 'failed' | 'cancelled';
  /** Milliseconds since the epoch. */
  readonly startedAt: number;
  readonly tookMs?: number;
  /** Milliseconds each run took, when there were several. */
  readonly runs?: readonly number[];
  /** Progress, log lines, questions and the task's states, in the order they came. */
  readonly events: readonly CallEvent[];
  readonly result?: CallToolResult;
  readonly contents?: ReadResourceResult['contents'];
  readonly messages?: GetPromptResult['messages'];
  /** The structured answer as people read it, and what of it can be drawn. */
  readonly shown?: Readable;
  readonly series?: Series;
  /** Where the answer does not fit the schema that was promised for it. */
  readonly mismatch?: readonly Issue[];
  readonly bytes?: number;
  readonly tokens?: number;
  readonly trouble?: Trouble;
}

/** Something the server asks of the person or of the model behind the client. */
export interface Question {
  readonly id: number;
  readonly connection: number;
  readonly kind: 'form' | 'page' | 'sampling';
  readonly message: string;
  readonly asker: Asker;
  readonly schema?: JsonSchema;
  readonly url?: string;
  /** What a person should know of the address. */
  readonly warnings?: readonly string[];
  readonly request?: CreateMessageParams;
  readonly state: 'open' | 'answered' | 'declined' | 'withdrawn';
  readonly answer?: unknown;
}
export type Reply =
  | { readonly action: 'accept'; readonly content?: Record<string, unknown>; readonly text?: string; readonly standIn?: boolean }
  | { readonly action: 'decline' | 'cancel' };

export interface StderrLine {
  readonly connection: number;
  readonly line: string;
  readonly at: number;
}

export type BenchEvent =
  | { readonly kind: 'connection'; readonly state: ConnectionState }
  | { readonly kind: 'gone'; readonly id: number }
  | { readonly kind: 'updated'; readonly connection: number; readonly uri: string }
  | { readonly kind: 'call'; readonly call: CallSheet }
  | { readonly kind: 'question'; readonly question: Question }
  | { readonly kind: 'stderr'; readonly line: StderrLine };

export interface Bench {
  readonly recorder: Recorder;
  connections(): readonly ConnectionState[];
  calls(): readonly CallSheet[];
  questions(): readonly Question[];
  stderr(): readonly StderrLine[];
  /** Adds a connection and begins to connect. */
  add(spec: ConnectionSpec): { readonly state: ConnectionState; readonly connected: Promise<void> };
  /** @throws RangeError when there is no such connection */
  connection(id: number): Connection;
  /** Opens a connection's target once more, as if for the first time; what passes is on the same trace. */
  openAgain(id: number, answers: ServerAnswers): Promise<Client>;
  edit(id: number, spec: ConnectionSpec): Promise<void>;
  remove(id: number): Promise<void>;
  /** A trace that was saved, to be looked at beside the living ones. */
  importTrace(name: string, events: readonly WireEvent[]): ConnectionState;
  /** Starts a call and gives its sheet; what becomes of it comes as events. */
  call(request: CallRequest): CallSheet;
  /** False when no such call is running. */
  cancel(id: number): boolean;
  /** What the question's schema does not allow in the answer: then nothing is sent. Undefined when no such question is open. */
  reply(id: number, reply: Reply): Promise<readonly Issue[] | undefined>;
  /** What is wrong with an input, by the tool's own schema. */
  check(connection: number, tool: string, input: unknown): Promise<readonly Issue[]>;
  subscribe(task: (event: BenchEvent) => void): () => void;
  close(): Promise<void>;
}

export interface BenchOptions {
  readonly open: (spec: ConnectionSpec, options: OpenOptions) => Promise<Opened>;
  /** How a person would type the target. */
  readonly show: (spec: ConnectionSpec) => string;
  /** Sheets kept. Default 200. */
  readonly maxCalls?: number;
}
