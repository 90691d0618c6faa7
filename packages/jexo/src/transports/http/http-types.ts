/** The runtime's request, as far as the endpoint needs it. */
export interface HttpRequest {
  readonly method: string;
  /** A header by its lower-case name. */
  header(name: string): string | undefined;
  /** A parameter of the query, where the runtime tells the address. */
  query?(name: string): string | undefined;
  /** All headers by their lower-case names, where somebody asks for them. */
  headers(): Readonly<Record<string, string>>;
  readonly address?: string | undefined;
  /** How many Host headers it came with, where the runtime can tell: with two, what is checked need not be what is used. */
  readonly hostCount?: number;
}

/** A body that the app in front has parsed already. */
export class ParsedBody {
  constructor(readonly value: unknown) {}
}
/** The text of a body, empty for GET and DELETE; or its value. */
export type RequestBody = string | ParsedBody;

/** The runtime's way to answer. One of `reply` and `stream` is called, once. */
export interface Responder {
  reply(status: number, headers: Record<string, string>, body: string): void;
  stream(headers: Record<string, string>): EventStream;
  /** Runs `task` when the client is gone before it had its whole answer. */
  onGone(task: () => void): void;
}

export interface EventStream {
  write(text: string): void;
  end(): void;
  /** Cuts the connection without an end. */
  abort(): void;
  /** Bytes written that the other side has not taken yet. */
  unread(): number;
  onClose(task: () => void): void;
}
