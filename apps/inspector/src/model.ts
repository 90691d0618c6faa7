/** What the bench's HTTP interface sends; see bench-api.ts of the library. */
export type JsonSchema = { readonly [keyword: string]: unknown };
export interface Trouble {
  readonly code: string;
  readonly message: string;
  readonly where?: string;
  readonly next?: string;
}
export interface Tool {
  readonly name: string;
  readonly title?: string;
  readonly description?: string;
  readonly inputSchema: JsonSchema;
  readonly outputSchema?: JsonSchema;
  readonly annotations?: Readonly<Record<string, unknown>>;
  readonly _meta?: Readonly<Record<string, unknown>>;
  readonly execution?: { readonly taskSupport?: 'optional' | 'required' | 'forbidden' };
}
export interface Resource {
  readonly uri: string;
  readonly name: string;
  readonly mimeType?: string;
}
export interface Template {
  readonly uriTemplate: string;
  readonly name: string;
}
export interface Prompt {
  readonly name: string;
  readonly arguments?: readonly { readonly name: string; readonly description?: string; readonly required?: boolean }[];
}
export type OfferKind = 'tool' | 'resource' | 'template' | 'prompt';
export interface ShelfItem {
  readonly kind: OfferKind;
  readonly key: string;
  readonly title?: string;
  readonly description?: string;
  readonly tokens: number;
  readonly source?: string;
  readonly tags?: readonly string[];
  readonly mark?: 'added' | 'changed';
  readonly offer: Tool & Resource & Template & Prompt;
}
export interface Omission {
  readonly name: string;
  readonly where: string;
  readonly why: string;
  readonly next: string;
}
export interface ConnectionSpec {
  readonly target: string;
  readonly command?: readonly string[];
  readonly env?: Readonly<Record<string, string>>;
  readonly headers?: Readonly<Record<string, string>>;
}
export interface Root {
  readonly uri: string;
  readonly name?: string;
}
export interface ConnectionState {
  readonly id: number;
  readonly shown: string;
  readonly spec: ConnectionSpec;
  readonly status: 'connecting' | 'connected' | 'failed' | 'closed' | 'imported';
  readonly trouble?: Trouble;
  readonly server?: {
    readonly protocolVersion: string;
    readonly capabilities: object & { readonly resources?: { readonly subscribe?: boolean } };
    readonly serverInfo: { readonly name: string; readonly title?: string; readonly version: string };
    readonly instructions?: string;
  };
  readonly clientCapabilities: object;
  readonly handshakeMs?: number;
  readonly listMs?: number;
  readonly shelf: readonly ShelfItem[];
  readonly removed: readonly string[];
  readonly omitted: readonly Omission[];
  readonly roots: readonly Root[];
  readonly watched: readonly string[];
  readonly deviations: readonly string[];
}
export interface Contents {
  readonly uri: string;
  readonly mimeType?: string;
  readonly text?: string;
  readonly blob?: string;
}
export interface ContentBlock {
  readonly type: string;
  readonly text?: string;
  readonly data?: string;
  readonly mimeType?: string;
  readonly uri?: string;
  readonly name?: string;
  readonly title?: string;
  readonly resource?: Contents;
}
export type Readable =
  | { readonly kind: 'fields'; readonly rows: readonly (readonly [string, string])[] }
  | { readonly kind: 'table'; readonly headings: readonly string[]; readonly rows: readonly (readonly string[])[] }
  | { readonly kind: 'parts'; readonly parts: readonly { readonly name: string; readonly shown: Readable }[] }
  | { readonly kind: 'text'; readonly text: string };
export interface Series {
  readonly axis: string;
  readonly x: readonly number[];
  readonly isTime: boolean;
  readonly labels?: readonly string[];
  readonly lines: readonly { readonly name: string; readonly y: readonly (number | null)[] }[];
}
export interface Message {
  readonly role: string;
  readonly content: ContentBlock | readonly ContentBlock[];
}
export interface Question {
  readonly id: number;
  readonly connection: number;
  readonly kind: 'form' | 'page' | 'sampling';
  readonly message: string;
  readonly asker: { readonly server: string; readonly tool?: string; readonly task?: string };
  readonly schema?: JsonSchema;
  readonly url?: string;
  readonly warnings?: readonly string[];
  readonly request?: { readonly messages: readonly Message[]; readonly systemPrompt?: string; readonly maxTokens: number };
  readonly state: 'open' | 'answered' | 'declined' | 'withdrawn';
  readonly answer?: unknown;
}
export type CallEvent =
  | { readonly kind: 'progress'; readonly progress: number; readonly total?: number; readonly message?: string }
  | { readonly kind: 'log'; readonly level: string; readonly logger?: string; readonly data: unknown }
  | { readonly kind: 'task'; readonly task: { readonly taskId: string; readonly status: string; readonly statusMessage?: string } }
  | { readonly kind: 'question'; readonly question: Question }
  | { readonly kind: 'updated'; readonly uri: string };
export interface Issue {
  readonly path: string;
  readonly expected: string;
  readonly got: string;
}
export type CallKind = 'tool' | 'resource' | 'prompt';
export interface CallRequest {
  readonly connection: number;
  readonly kind: CallKind;
  readonly name: string;
  readonly input: Record<string, unknown>;
  readonly item?: string;
  readonly asTask?: boolean;
  readonly times?: number;
  readonly by?: 'view';
}
export interface CallSheet extends CallRequest {
  readonly id: number;
  readonly status: 'running' | 'answered' | 'failed' | 'cancelled';
  readonly startedAt: number;
  readonly tookMs?: number;
  readonly runs?: readonly number[];
  readonly events: readonly CallEvent[];
  readonly result?: { readonly content: readonly ContentBlock[]; readonly structuredContent?: unknown; readonly isError?: boolean };
  readonly contents?: readonly Contents[];
  readonly messages?: readonly Message[];
  readonly shown?: Readable;
  readonly series?: Series;
  readonly mismatch?: readonly Issue[];
  readonly bytes?: number;
  readonly tokens?: number;
  readonly trouble?: Trouble;
}
export interface StderrLine {
  readonly connection: number;
  readonly line: string;
  readonly at: number;
}
export interface WireEntry {
  readonly seq: number;
  readonly connection: number;
  readonly at: number;
  readonly way: 'sent' | 'received';
  readonly bytes: number;
  readonly message: unknown;
  readonly note?: string;
  readonly wrong?: string;
  readonly http?: { readonly method?: string; readonly status?: number; readonly headers: Readonly<Record<string, string>> };
}
export interface Difference {
  readonly path: string;
  readonly kind: 'added' | 'removed' | 'changed';
  readonly before?: unknown;
  readonly after?: unknown;
}
export interface ModelView {
  readonly text: string;
  readonly functions: string;
  readonly tokens: number;
  readonly tools: readonly {
    readonly name: string;
    readonly tokens: number;
    readonly descriptionTokens: number;
    readonly schemaTokens: number;
    readonly trims: readonly { readonly what: string; readonly saves: number }[];
    readonly edited: boolean;
  }[];
}
export type CopyForm = 'command' | 'typescript' | 'http';
export interface SheetName {
  readonly name: string;
  readonly kind: 'calls' | 'requests';
}
export interface OpenedSheet extends SheetName {
  readonly text: string;
  readonly issues: readonly { readonly line: number; readonly message: string }[];
  readonly calls: readonly { readonly name: string; readonly kind: string; readonly subject: string; readonly line: number }[];
  readonly requests: readonly { readonly say: string; readonly tools: readonly string[]; readonly line: number }[];
}
export interface ReplayedCall {
  readonly name: string;
  readonly line: number;
  readonly subject: string;
  readonly status: 'as kept' | 'different';
  readonly tookMs: number;
  readonly wrong: readonly { readonly message: string; readonly differences?: readonly Difference[] }[];
}
export interface Replayed {
  readonly calls: readonly ReplayedCall[];
  readonly tookMs: number;
  readonly updated: readonly string[];
}
export interface Candidate {
  readonly tool: string;
  readonly share: number;
  readonly words: readonly { readonly word: string; readonly where: readonly string[] }[];
  readonly input: Readonly<Record<string, unknown>>;
  readonly missing: readonly string[];
}
/** What a model does about a request: calls, or words. */
export interface Move {
  readonly calls: readonly { readonly name: string; readonly input: Readonly<Record<string, unknown>> }[];
  readonly text?: string;
}
export interface RehearsedRequest {
  readonly say: string;
  readonly line: number;
  readonly wanted: readonly string[];
  readonly chosen?: string;
  readonly input?: Readonly<Record<string, unknown>>;
  readonly hit: boolean;
  readonly narrow: boolean;
  readonly wrongInput: readonly Difference[];
  readonly candidates: readonly Candidate[];
  readonly helpful?: { readonly tool: string; readonly words: readonly string[] };
}
export interface Rehearsed {
  readonly model: string;
  readonly isStandIn: boolean;
  readonly requests: readonly RehearsedRequest[];
  readonly hits: number;
  readonly confusion: { readonly tools: readonly string[]; readonly rows: readonly (readonly number[])[] };
}
