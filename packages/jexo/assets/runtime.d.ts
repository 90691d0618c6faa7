// What every runtime has and the language's own libraries do not describe. Used when a project has no @types/node.
interface EventTarget {
  addEventListener(type: string, listener: (event: Event) => void, options?: unknown): void;
  removeEventListener(type: string, listener: (event: Event) => void): void;
  dispatchEvent(event: Event): boolean;
}
interface Event {
  readonly type: string;
  readonly target: EventTarget | null;
}
interface AbortSignal extends EventTarget {
  readonly aborted: boolean;
  readonly reason: any;
  throwIfAborted(): void;
}
declare var AbortSignal: {
  prototype: AbortSignal;
  abort(reason?: any): AbortSignal;
  timeout(ms: number): AbortSignal;
  any(signals: AbortSignal[]): AbortSignal;
};
interface AbortController {
  readonly signal: AbortSignal;
  abort(reason?: any): void;
}
declare var AbortController: { prototype: AbortController; new (): AbortController };
interface URLSearchParams {
  get(name: string): string | null;
  getAll(name: string): string[];
  has(name: string): boolean;
  set(name: string, value: string): void;
  append(name: string, value: string): void;
  delete(name: string): void;
  toString(): string;
  [Symbol.iterator](): IterableIterator<[string, string]>;
}
declare var URLSearchParams: { prototype: URLSearchParams; new (init?: string | Record<string, string> | string[][]): URLSearchParams };
interface URL {
  href: string;
  readonly origin: string;
  protocol: string;
  username: string;
  password: string;
  host: string;
  hostname: string;
  port: string;
  pathname: string;
  search: string;
  readonly searchParams: URLSearchParams;
  hash: string;
  toString(): string;
  toJSON(): string;
}
declare var URL: { prototype: URL; new (url: string | URL, base?: string | URL): URL; canParse(url: string, base?: string): boolean };
interface Blob {
  readonly size: number;
  readonly type: string;
  arrayBuffer(): Promise<ArrayBuffer>;
  text(): Promise<string>;
  slice(start?: number, end?: number, type?: string): Blob;
}
declare var Blob: { prototype: Blob; new (parts?: unknown[], options?: { type?: string }): Blob };
interface File extends Blob {
  readonly name: string;
  readonly lastModified: number;
}
declare var File: { prototype: File; new (parts: unknown[], name: string, options?: { type?: string }): File };
interface Headers {
  get(name: string): string | null;
  has(name: string): boolean;
  set(name: string, value: string): void;
  append(name: string, value: string): void;
  [Symbol.iterator](): IterableIterator<[string, string]>;
}
declare var Headers: { prototype: Headers; new (init?: Record<string, string> | [string, string][]): Headers };
interface Response {
  readonly ok: boolean;
  readonly status: number;
  readonly statusText: string;
  readonly headers: Headers;
  readonly url: string;
  readonly body: ReadableStream | null;
  json(): Promise<any>;
  text(): Promise<string>;
  arrayBuffer(): Promise<ArrayBuffer>;
  blob(): Promise<Blob>;
}
declare var Response: { prototype: Response; new (body?: unknown, init?: unknown): Response };
interface Request {
  readonly url: string;
  readonly method: string;
  readonly headers: Headers;
  readonly signal: AbortSignal;
  json(): Promise<any>;
  text(): Promise<string>;
}
declare var Request: { prototype: Request; new (input: string | URL | Request, init?: unknown): Request };
interface ReadableStream<R = any> {
  readonly locked: boolean;
  cancel(reason?: any): Promise<void>;
  getReader(): any;
  [Symbol.asyncIterator](): AsyncIterableIterator<R>;
}
declare var ReadableStream: { prototype: ReadableStream; new <R = any>(source?: unknown): ReadableStream<R> };
declare function fetch(
  input: string | URL | Request,
  init?: { method?: string; headers?: Record<string, string> | Headers; body?: unknown; signal?: AbortSignal | null; redirect?: string },
): Promise<Response>;
declare function setTimeout(task: (...args: any[]) => void, ms?: number, ...args: any[]): any;
declare function clearTimeout(timer: any): void;
declare function setInterval(task: (...args: any[]) => void, ms?: number, ...args: any[]): any;
declare function clearInterval(timer: any): void;
declare function setImmediate(task: (...args: any[]) => void, ...args: any[]): any;
declare function queueMicrotask(task: () => void): void;
declare function structuredClone<T>(value: T): T;
declare function atob(text: string): string;
declare function btoa(text: string): string;
declare var console: {
  [method in 'log' | 'info' | 'warn' | 'error' | 'debug' | 'table' | 'trace' | 'time' | 'timeEnd']: (...args: any[]) => void;
};
declare var performance: { now(): number };
declare var crypto: { randomUUID(): string; getRandomValues<T>(array: T): T; subtle: any };
declare class TextEncoder {
  encode(text?: string): Uint8Array;
}
declare class TextDecoder {
  constructor(label?: string);
  decode(bytes?: ArrayBufferView | ArrayBuffer, options?: { stream?: boolean }): string;
}
declare var process: {
  env: Record<string, string | undefined>;
  argv: string[];
  cwd(): string;
  platform: string;
  exit(code?: number): never;
  stdout: { write(text: string): boolean };
  stderr: { write(text: string): boolean };
};
interface ImportMeta {
  url: string;
  dirname: string;
  filename: string;
}
