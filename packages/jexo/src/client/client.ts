import type { Revision } from '../protocol/revisions.js';
import type { Deviation } from '../transports/link.js';
import type {
  CallToolResult,
  ClientCapabilities,
  Completion,
  CompletionRef,
  GetPromptResult,
  Implementation,
  InitializeResult,
  LogLevel,
  LogMessage,
  ProgressUpdate,
  Prompt,
  ReadResourceResult,
  Resource,
  ResourceTemplate,
  Root,
  Task,
  Tool,
} from '../protocol/types.js';
import type { ServerAnswers } from './answer-server.js';
import type { TaskHandle } from './task-handle.js';

/** What a client calls itself, does for the server, and is told. */
export interface ClientOptions extends ServerAnswers {
  /** What the client calls itself. */
  readonly info?: Implementation;
  /** The revision to ask for. Default: the newest. */
  readonly revision?: Revision;
  /** Milliseconds to wait for an answer, for every request that says nothing else. Default 60,000. */
  readonly timeoutMs?: number;
  /** Ends the attempt to connect when it fires, and closes what was opened. Later it does nothing. */
  readonly signal?: AbortSignal;
  /** Declared to the server beside what the handlers here are for: features that both sides have agreed on outside the standard. */
  readonly capabilities?: Pick<ClientCapabilities, 'experimental' | 'extensions'>;
  /** True declares that this client shows views (Extensions, "Interactive views"): servers then list them and link tools to them. Default false. */
  readonly views?: boolean;
  /** Milliseconds between pings; a server that does not answer one is taken for gone. Default: none are sent. */
  readonly pingEveryMs?: number;
  /** A log message of the server. */
  readonly onLog?: (message: LogMessage) => void;
  /** A list of the server has changed; listing again gives the new one. */
  readonly onToolsChanged?: () => void;
  /** The list of resources or templates has changed. */
  readonly onResourcesChanged?: () => void;
  /** The list of prompts has changed. */
  readonly onPromptsChanged?: () => void;
  /** A person is done with a page the server sent them to. */
  readonly onPageDone?: (id: string) => void;
  /** How a task stands; a courtesy of some servers, so do not rely on it. */
  readonly onTask?: (task: Task) => void;
  /** The server had forgotten the session, and a new one has been made; subscriptions have been renewed. */
  readonly onRenewed?: () => void;
  /** The server breaks a rule of the protocol, and the rest still works: what is wrong is ignored and reported here. */
  readonly onDeviation?: (deviation: Deviation) => void;
  /** The connection has ended; with an error when nobody asked for it. */
  readonly onClosed?: (error?: Error) => void;
}

/** How long a request may take, and how to give it up. */
export interface CallOptions {
  /** Milliseconds without an answer or a progress notice. */
  readonly timeoutMs?: number;
  /** Milliseconds at most, whatever the progress. */
  readonly maxTimeoutMs?: number;
  /** Cancels the request on the server when it fires. */
  readonly signal?: AbortSignal;
  /** Called with the server’s progress notices. */
  readonly onProgress?: (update: ProgressUpdate) => void;
  /** Members of `_meta` that the request carries (Base protocol, "_meta"): `{ traceparent: '00-…' }`. */
  readonly meta?: Readonly<Record<string, unknown>>;
}

/** A connection to one server. Every method throws RpcError when the server answers with an error, and JexoError otherwise. */
export interface Client {
  /** Where the server is, as a person writes it. */
  readonly address: string;
  /** What both sides agreed on: revision, the server's name, capabilities and instructions. */
  readonly server: InitializeResult;
  /** All tools, page after page. */
  tools(options?: CallOptions): Promise<readonly Tool[]>;
  /**
   * Calls a tool. A failure of the tool itself is a result with `isError: true`. A tool that must be run as a task is.
   * @throws JexoError JEXO_OUTPUT_INVALID when a structured answer does not fit the schema the server gave for it
   * @example
   * const { structuredContent } = await client.call('mix_syrup', { colonies: 12 });
   */
  call(name: string, input?: Record<string, unknown>, options?: CallOptions): Promise<CallToolResult>;
  /**
   * Starts a call as a task and gives its handle (Tasks, 2025-11-25).
   * @param options.ttlMs how long the server should keep it, in milliseconds
   * @throws JexoError JEXO_NOT_SUPPORTED
   */
  callAsTask(name: string, input?: Record<string, unknown>, options?: CallOptions & { readonly ttlMs?: number }): Promise<TaskHandle>;
  /** Takes up a task again by its id, after a reconnect for one. */
  task(id: string): TaskHandle;
  /** All tasks of this requester that the server keeps. */
  tasks(options?: CallOptions): Promise<readonly Task[]>;
  /** All resources, page after page. */
  resources(options?: CallOptions): Promise<readonly Resource[]>;
  /** All resource templates, page after page. */
  templates(options?: CallOptions): Promise<readonly ResourceTemplate[]>;
  /** Reads a resource. */
  read(uri: string, options?: CallOptions): Promise<ReadResourceResult>;
  /** Subscribes: `changed` is called with the URI whenever the resource, or one below it, has changed. Returns how to stop. */
  watch(uri: string, changed: (uri: string) => void): Promise<() => Promise<void>>;
  /** All prompts, page after page. */
  prompts(options?: CallOptions): Promise<readonly Prompt[]>;
  /** Renders a prompt. */
  prompt(name: string, input?: Record<string, string>, options?: CallOptions): Promise<GetPromptResult>;
  /** Suggestions for one argument of a prompt or one variable of a template; `known` are those already filled in. */
  complete(
    ref: CompletionRef,
    argument: { readonly name: string; readonly value: string },
    known?: Record<string, string>,
    options?: CallOptions,
  ): Promise<Completion>;
  /** Asks whether the server is there. */
  ping(options?: CallOptions): Promise<void>;
  /** Says which log messages the server should send. */
  setLogLevel(level: LogLevel): Promise<void>;
  /**
   * Names other roots, and tells the server.
   * @throws JexoError JEXO_NOT_SUPPORTED when no roots were given on connecting, JEXO_DEFINITION for a URI that is no file's
   */
  setRoots(roots: readonly Root[]): void;
  /** Ends the session and the connection. */
  close(): Promise<void>;
}
