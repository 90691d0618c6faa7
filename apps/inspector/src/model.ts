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
}
export interface ShelfTool {
  readonly tool: Tool;
  readonly tokens: number;
}
export interface Omission {
  readonly name: string;
  readonly where: string;
  readonly why: string;
  readonly next: string;
}
export interface BenchState {
  readonly target: string;
  readonly status: 'connecting' | 'connected' | 'failed' | 'closed';
  readonly trouble?: Trouble;
  readonly server?: {
    readonly protocolVersion: string;
    readonly serverInfo: { readonly name: string; readonly title?: string; readonly version: string };
    readonly instructions?: string;
  };
  readonly handshakeMs?: number;
  readonly tools: readonly ShelfTool[];
  readonly omitted: readonly Omission[];
}
export interface ContentBlock {
  readonly type: string;
  readonly text?: string;
  readonly data?: string;
  readonly mimeType?: string;
  readonly uri?: string;
  readonly name?: string;
  readonly resource?: { readonly uri: string; readonly text?: string; readonly mimeType?: string };
}
export type Readable =
  | { readonly kind: 'fields'; readonly rows: readonly (readonly [string, string])[] }
  | { readonly kind: 'table'; readonly headings: readonly string[]; readonly rows: readonly (readonly string[])[] }
  | { readonly kind: 'text'; readonly text: string };
export type CallEvent =
  | { readonly kind: 'progress'; readonly progress: number; readonly total?: number; readonly message?: string }
  | { readonly kind: 'log'; readonly level: string; readonly data: unknown };
export interface CallSheet {
  readonly id: number;
  readonly tool: string;
  readonly input: Record<string, unknown>;
  readonly status: 'running' | 'answered' | 'failed' | 'cancelled';
  readonly startedAt: number;
  readonly tookMs?: number;
  readonly events: readonly CallEvent[];
  readonly result?: { readonly content: readonly ContentBlock[]; readonly structuredContent?: unknown; readonly isError?: boolean };
  readonly shown?: Readable;
  readonly trouble?: Trouble;
}
export interface StderrLine {
  readonly line: string;
  readonly at: number;
}
export interface WireEntry {
  readonly seq: number;
  readonly at: number;
  readonly way: 'sent' | 'received';
  readonly bytes: number;
  readonly message: unknown;
  readonly note?: string;
}
