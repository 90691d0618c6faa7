import type { Params } from './json-rpc.js';
import type {
  CallToolResult,
  ClientCapabilities,
  Completion,
  CompletionRef,
  CreateMessageParams,
  CreateMessageResult,
  ElicitParams,
  ElicitResult,
  GetPromptResult,
  Implementation,
  InitializeResult,
  LogLevel,
  Prompt,
  ReadResourceResult,
  Resource,
  ResourceTemplate,
  Root,
  Task,
  Tool,
} from './types.js';

/** What every request may carry, and what its answer may. */
interface WithMeta {
  readonly _meta?: Params;
}
interface Page extends WithMeta {
  readonly cursor?: string;
}
interface Paged extends WithMeta {
  readonly nextCursor?: string;
}
type Empty = WithMeta;
/** Asks for a request to be run as a task (Tasks, 2025-11-25). */
interface AsTask {
  readonly task?: { readonly ttl?: number };
}
interface OfTask extends WithMeta {
  readonly taskId: string;
}

interface Method<P, R> {
  readonly params: P;
  readonly result: R;
}

interface TaskRequests {
  'tasks/get': Method<OfTask, Task>;
  'tasks/result': Method<OfTask, WithMeta>;
  'tasks/cancel': Method<OfTask, Task>;
  'tasks/list': Method<Page, Paged & { readonly tasks: readonly Task[] }>;
}

/** What a client asks of a server, by method. */
export interface ClientRequests extends TaskRequests {
  initialize: Method<
    WithMeta & { readonly protocolVersion: string; readonly capabilities: ClientCapabilities; readonly clientInfo: Implementation },
    InitializeResult
  >;
  ping: Method<Empty, Empty>;
  'tools/list': Method<Page, Paged & { readonly tools: readonly Tool[] }>;
  'tools/call': Method<
    WithMeta & AsTask & { readonly name: string; readonly arguments?: Readonly<Record<string, unknown>> },
    CallToolResult
  >;
  'resources/list': Method<Page, Paged & { readonly resources: readonly Resource[] }>;
  'resources/templates/list': Method<Page, Paged & { readonly resourceTemplates: readonly ResourceTemplate[] }>;
  'resources/read': Method<WithMeta & { readonly uri: string }, ReadResourceResult>;
  'resources/subscribe': Method<WithMeta & { readonly uri: string }, Empty>;
  'resources/unsubscribe': Method<WithMeta & { readonly uri: string }, Empty>;
  'prompts/list': Method<Page, Paged & { readonly prompts: readonly Prompt[] }>;
  'prompts/get': Method<WithMeta & { readonly name: string; readonly arguments?: Readonly<Record<string, string>> }, GetPromptResult>;
  'completion/complete': Method<
    WithMeta & {
      readonly ref: CompletionRef;
      readonly argument: { readonly name: string; readonly value: string };
      readonly context?: { readonly arguments?: Readonly<Record<string, string>> };
    },
    WithMeta & { readonly completion: Completion }
  >;
  'logging/setLevel': Method<WithMeta & { readonly level: LogLevel }, Empty>;
}

/** What a server asks of a client, by method. */
export interface ServerRequests extends TaskRequests {
  ping: Method<Empty, Empty>;
  'roots/list': Method<Empty, WithMeta & { readonly roots: readonly Root[] }>;
  'sampling/createMessage': Method<WithMeta & AsTask & CreateMessageParams, WithMeta & CreateMessageResult>;
  'elicitation/create': Method<WithMeta & AsTask & ElicitParams, WithMeta & ElicitResult>;
}

/** Every request, whoever sends it. */
export type Requests = ClientRequests & Omit<ServerRequests, keyof ClientRequests>;
export type RequestMethod = keyof Requests;
export type ParamsOf<M extends RequestMethod> = Requests[M]['params'];
export type ResultOf<M extends RequestMethod> = Requests[M]['result'];

/** The answer to `tools/call` that was sent as a task. */
export interface TaskStarted extends WithMeta {
  readonly task: Task;
}
