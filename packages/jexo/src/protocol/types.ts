/** The shapes of the newest revision; `shape-down.ts` takes from them what an older peer does not know. */
import type { JsonSchema } from './json-schema.js';
import type { Revision } from './revisions.js';

export type { JsonSchema } from './json-schema.js';

/** The `_meta` of a message (Base protocol, "_meta"). */
export type Meta = Record<string, unknown>;

/** A picture for people; its address is https: or data:. */
export interface Icon {
  /** An `https:` or `data:` URI. */
  readonly src: string;
  readonly mimeType?: string;
  /** `"48x48"`, or `"any"`. */
  readonly sizes?: readonly string[];
  readonly theme?: 'light' | 'dark';
}
/** What a client or a server calls itself (Lifecycle, "Initialization"). */
export interface Implementation {
  readonly name: string;
  readonly version: string;
  readonly title?: string;
  readonly description?: string;
  readonly icons?: readonly Icon[];
  readonly websiteUrl?: string;
}

/** What a client declares (Lifecycle, "Capability Negotiation"). */
export interface ClientCapabilities {
  readonly experimental?: Record<string, object>;
  readonly roots?: { readonly listChanged?: boolean };
  readonly sampling?: { readonly context?: object; readonly tools?: object };
  readonly elicitation?: { readonly form?: object; readonly url?: object };
  readonly tasks?: {
    readonly list?: object;
    readonly cancel?: object;
    readonly requests?: { readonly sampling?: { readonly createMessage?: object }; readonly elicitation?: { readonly create?: object } };
  };
  readonly extensions?: Record<string, object>;
}
/** What a server declares (Lifecycle, "Capability Negotiation"). */
export interface ServerCapabilities {
  readonly experimental?: Record<string, object>;
  readonly logging?: object;
  readonly completions?: object;
  readonly prompts?: { readonly listChanged?: boolean };
  readonly resources?: { readonly subscribe?: boolean; readonly listChanged?: boolean };
  readonly tools?: { readonly listChanged?: boolean };
  readonly tasks?: {
    readonly list?: object;
    readonly cancel?: object;
    readonly requests?: { readonly tools?: { readonly call?: object } };
  };
  readonly extensions?: Record<string, object>;
}
/** What a server says of itself (Lifecycle, "Initialization"). */
export interface InitializeResult {
  readonly protocolVersion: Revision;
  readonly capabilities: ServerCapabilities;
  readonly serverInfo: Implementation;
  readonly instructions?: string;
}

/** For whom content is meant, and how important it is (Server features, "Resources"). */
export interface Annotations {
  readonly audience?: readonly ('user' | 'assistant')[];
  /** 0 to 1; 1 is effectively required. */
  readonly priority?: number;
  /** ISO 8601. */
  readonly lastModified?: string;
}
/** Hints on what a tool does; a server may be wrong about them (Server features, "Tools"). */
export interface ToolAnnotations {
  readonly title?: string;
  readonly readOnlyHint?: boolean;
  readonly destructiveHint?: boolean;
  readonly idempotentHint?: boolean;
  readonly openWorldHint?: boolean;
}
/** Whether a tool may or must run as a task. */
export type TaskSupport = 'forbidden' | 'optional' | 'required';
/** A tool as it is listed (Server features, "Tools"). */
export interface Tool {
  readonly name: string;
  readonly title?: string;
  readonly description?: string;
  readonly inputSchema: JsonSchema;
  readonly outputSchema?: JsonSchema;
  readonly annotations?: ToolAnnotations;
  readonly icons?: readonly Icon[];
  readonly execution?: { readonly taskSupport?: TaskSupport };
  readonly _meta?: Meta;
}

interface Block {
  readonly annotations?: Annotations;
  readonly _meta?: Meta;
}
/** A text (Server features, "Tools"). */
export interface TextContent extends Block {
  readonly type: 'text';
  readonly text: string;
}
/** A picture, in base64 (Server features, "Tools"). */
export interface ImageContent extends Block {
  readonly type: 'image';
  /** Base64. */
  readonly data: string;
  readonly mimeType: string;
}
/** A sound, in base64 (Server features, "Tools"). */
export interface AudioContent extends Block {
  readonly type: 'audio';
  /** Base64. */
  readonly data: string;
  readonly mimeType: string;
}
/** A text of a resource. */
export interface TextResourceContents {
  readonly uri: string;
  readonly mimeType?: string;
  readonly text: string;
  readonly _meta?: Meta;
}
/** Bytes of a resource, in base64. */
export interface BlobResourceContents {
  readonly uri: string;
  readonly mimeType?: string;
  /** Base64. */
  readonly blob: string;
  readonly _meta?: Meta;
}
/** A text, or bytes in base64. */
export type ResourceContents = TextResourceContents | BlobResourceContents;
/** A resource inside an answer (Server features, "Tools"). */
export interface EmbeddedResource extends Block {
  readonly type: 'resource';
  readonly resource: ResourceContents;
}
/** A resource as it is listed (Server features, "Resources"). */
export interface Resource {
  readonly uri: string;
  readonly name: string;
  readonly title?: string;
  readonly description?: string;
  readonly mimeType?: string;
  /** Bytes, before base64. */
  readonly size?: number;
  readonly annotations?: Annotations;
  readonly icons?: readonly Icon[];
  readonly _meta?: Meta;
}
/** A link to a resource that can be read (Server features, "Tools"). */
export interface ResourceLink extends Resource {
  readonly type: 'resource_link';
}
/** A piece of content: text, image, audio, a resource or a link to one. */
export type ContentBlock = TextContent | ImageContent | AudioContent | EmbeddedResource | ResourceLink;
export const contentTypes: readonly string[] = ['text', 'image', 'audio', 'resource', 'resource_link'];

/** A resource template as it is listed (Server features, "Resources"). */
export interface ResourceTemplate {
  readonly uriTemplate: string;
  readonly name: string;
  readonly title?: string;
  readonly description?: string;
  readonly mimeType?: string;
  readonly annotations?: Annotations;
  readonly icons?: readonly Icon[];
  readonly _meta?: Meta;
}
/** One argument of a prompt; its value is a text. */
export interface PromptArgument {
  readonly name: string;
  readonly title?: string;
  readonly description?: string;
  readonly required?: boolean;
}
/** A prompt as it is listed (Server features, "Prompts"). */
export interface Prompt {
  readonly name: string;
  readonly title?: string;
  readonly description?: string;
  readonly arguments?: readonly PromptArgument[];
  readonly icons?: readonly Icon[];
  readonly _meta?: Meta;
}
/** One message of a rendered prompt. */
export interface PromptMessage {
  readonly role: 'user' | 'assistant';
  readonly content: ContentBlock;
}
/** A rendered prompt (Server features, "Prompts"). */
export interface GetPromptResult {
  readonly description?: string;
  readonly messages: readonly PromptMessage[];
  readonly _meta?: Meta;
}
/** What a tool answered (Server features, "Tools"). */
export interface CallToolResult {
  readonly content: readonly ContentBlock[];
  readonly structuredContent?: Record<string, unknown>;
  readonly isError?: boolean;
  readonly _meta?: Meta;
}
/** The contents of a resource (Server features, "Resources"). */
export interface ReadResourceResult {
  readonly contents: readonly ResourceContents[];
  readonly _meta?: Meta;
}

export const logLevels = ['debug', 'info', 'notice', 'warning', 'error', 'critical', 'alert', 'emergency'] as const;
/** How severe a log message is (Server utilities, "Logging"). */
export type LogLevel = (typeof logLevels)[number];
/** A log message of a server (Server utilities, "Logging"). */
export interface LogMessage {
  readonly level: LogLevel;
  readonly logger?: string;
  readonly data: unknown;
}
/** How far a request is (Base protocol, "Progress"). */
export interface ProgressUpdate {
  readonly progress: number;
  readonly total?: number;
  readonly message?: string;
}

/** A folder a client works in (Client features, "Roots"). */
export interface Root {
  /** A `file://` URI. */
  readonly uri: string;
  readonly name?: string;
  readonly _meta?: Meta;
}
export interface ElicitParams {
  readonly mode?: 'form' | 'url';
  readonly message: string;
  readonly requestedSchema?: JsonSchema;
  readonly url?: string;
  readonly elicitationId?: string;
}
/** What a person answered (Client features, "Elicitation"). */
export interface ElicitResult {
  readonly action: 'accept' | 'decline' | 'cancel';
  readonly content?: Record<string, unknown>;
}
/** A model wants to call a tool (Client features, "Sampling with tools"). */
export interface ToolUseContent {
  readonly type: 'tool_use';
  readonly id: string;
  readonly name: string;
  readonly input: Record<string, unknown>;
}
/** What a tool answered, for the model (Client features, "Sampling with tools"). */
export interface ToolResultContent {
  readonly type: 'tool_result';
  readonly toolUseId: string;
  readonly content: readonly ContentBlock[];
  readonly structuredContent?: Record<string, unknown>;
  readonly isError?: boolean;
}
/** What a message of such a talk holds. */
export type SamplingContent = TextContent | ImageContent | AudioContent | ToolUseContent | ToolResultContent;
/** A message of a talk with a model. */
export interface SamplingMessage {
  readonly role: 'user' | 'assistant';
  readonly content: SamplingContent | readonly SamplingContent[];
  readonly _meta?: Meta;
}
/** A request for a model’s answer (Client features, "Sampling"). */
export interface CreateMessageParams {
  readonly messages: readonly SamplingMessage[];
  readonly modelPreferences?: {
    readonly hints?: readonly { readonly name?: string }[];
    readonly costPriority?: number;
    readonly speedPriority?: number;
    readonly intelligencePriority?: number;
  };
  readonly systemPrompt?: string;
  readonly includeContext?: 'none' | 'thisServer' | 'allServers';
  readonly temperature?: number;
  readonly maxTokens: number;
  readonly stopSequences?: readonly string[];
  readonly metadata?: object;
  readonly tools?: readonly Tool[];
  readonly toolChoice?: { readonly mode?: 'auto' | 'required' | 'none' };
}
/** A model’s answer (Client features, "Sampling"). */
export interface CreateMessageResult {
  readonly role: 'user' | 'assistant';
  readonly content: SamplingContent | readonly SamplingContent[];
  readonly model: string;
  readonly stopReason?: string;
}
/** Suggested values (Utilities, "Completion"). */
export interface Completion {
  readonly values: readonly string[];
  readonly total?: number;
  readonly hasMore?: boolean;
}
/** What is completed: an argument of a prompt, or a variable of a template. */
export type CompletionRef =
  { readonly type: 'ref/prompt'; readonly name: string } | { readonly type: 'ref/resource'; readonly uri: string };
/** How a task stands (Utilities, "Tasks"). */
export type TaskStatus = 'working' | 'input_required' | 'completed' | 'failed' | 'cancelled';
/** A task as it stands (Tasks, 2025-11-25). */
export interface Task {
  readonly taskId: string;
  readonly status: TaskStatus;
  readonly statusMessage?: string;
  readonly createdAt: string;
  readonly lastUpdatedAt: string;
  /** Milliseconds; null means unlimited. */
  readonly ttl: number | null;
  /** Milliseconds. */
  readonly pollInterval?: number;
}
