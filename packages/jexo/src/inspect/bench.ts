import type { Client, ClientOptions } from '../client/connect-link.js';
import { isJexoError, messageOf } from '../errors.js';
import type { Omission } from '../offers/offer.js';
import { RpcError } from '../protocol/json-rpc.js';
import type { CallToolResult, InitializeResult, LogMessage, ProgressUpdate, Tool } from '../protocol/types.js';
import type { WireTap } from '../transports/link.js';
import { createRecorder, type Recorder } from './recorder.js';
import { readable, type Readable } from './value-text.js';
import { estimateTokens } from './tokens.js';

/** An error as the page shows it: what happened, where, what to do next. */
export interface Trouble {
  readonly code: string;
  readonly message: string;
  readonly where?: string;
  readonly next?: string;
}

export interface ShelfTool {
  readonly tool: Tool;
  /** About what a model pays for having it offered. */
  readonly tokens: number;
}

export interface BenchState {
  readonly target: string;
  readonly status: 'connecting' | 'connected' | 'failed' | 'closed';
  readonly trouble?: Trouble;
  readonly server?: InitializeResult;
  /** Milliseconds from the start to the end of the handshake. */
  readonly handshakeMs?: number;
  readonly tools: readonly ShelfTool[];
  readonly omitted: readonly Omission[];
}

/** One call on the bench, from its input to its answer. */
export interface CallSheet {
  readonly id: number;
  readonly tool: string;
  readonly input: Record<string, unknown>;
  readonly status: 'running' | 'answered' | 'failed' | 'cancelled';
  /** Milliseconds since the epoch. */
  readonly startedAt: number;
  readonly tookMs?: number;
  /** Progress and log lines, in the order they came. */
  readonly events: readonly (({ readonly kind: 'progress' } & ProgressUpdate) | ({ readonly kind: 'log' } & LogMessage))[];
  readonly result?: CallToolResult;
  /** The structured answer as people read it. */
  readonly shown?: Readable;
  readonly trouble?: Trouble;
}

export type BenchEvent =
  | { readonly kind: 'state'; readonly state: BenchState }
  | { readonly kind: 'call'; readonly call: CallSheet }
  | { readonly kind: 'stderr'; readonly line: string; readonly at: number };

export interface Bench {
  readonly recorder: Recorder;
  state(): BenchState;
  calls(): readonly CallSheet[];
  stderr(): readonly { readonly line: string; readonly at: number }[];
  connect(): Promise<void>;
  /** Starts a call and gives its sheet; what becomes of it comes as events. */
  call(tool: string, input: Record<string, unknown>): CallSheet;
  /** False when no such call is running. */
  cancel(id: number): boolean;
  subscribe(task: (event: BenchEvent) => void): () => void;
  close(): Promise<void>;
}

export interface BenchOptions {
  /** The target as the user wrote it. */
  readonly target: string;
  /** Opens a connection; the bench adds its tap and its listeners. */
  readonly open: (
    options: ClientOptions & { tap: WireTap; onStderr: (line: string) => void },
  ) => Promise<{ client: Client; omitted: readonly Omission[] }>;
  /** Sheets kept. Default 200. */
  readonly maxCalls?: number;
}

export function troubleOf(error: unknown): Trouble {
  if (isJexoError(error))
    return { code: error.code, message: error.message, next: error.next, ...(error.where !== undefined && { where: error.where }) };
  if (error instanceof RpcError) return { code: String(error.code), message: error.message };
  return { code: 'JEXO_INTERNAL', message: messageOf(error) };
}

/** The computation behind the inspector page: one connection, its shelf, its calls and their trace. */
export function createBench({ target, open, maxCalls = 200 }: BenchOptions): Bench {
  const recorder = createRecorder();
  const subscribers = new Set<(event: BenchEvent) => void>();
  const sheets = new Map<number, CallSheet>();
  const running = new Map<number, AbortController>();
  let lines: { line: string; at: number }[] = [];
  let client: Client | undefined;
  let state: BenchState = { target, status: 'closed', tools: [], omitted: [] };
  let lastCall = 0;
  let generation = 0;

  const emit = (event: BenchEvent) => subscribers.forEach((task) => task(event));
  const become = (next: Partial<BenchState> & Pick<BenchState, 'status'>) => {
    const { trouble: _, ...kept } = state;
    state = { ...kept, ...next };
    emit({ kind: 'state', state });
  };
  const update = (id: number, change: Partial<CallSheet>) => {
    const sheet = { ...sheets.get(id)!, ...change };
    sheets.set(id, sheet);
    emit({ kind: 'call', call: sheet });
  };
  const addEvent = (id: number, event: CallSheet['events'][number]) =>
    update(id, { events: [...sheets.get(id)!.events, event].slice(-1000) });
  const listTools = async () =>
    (await client!.tools()).map((tool): ShelfTool => ({
      tool,
      tokens: estimateTokens({ name: tool.name, description: tool.description, inputSchema: tool.inputSchema }),
    }));

  return {
    recorder,
    state: () => state,
    calls: () => [...sheets.values()],
    stderr: () => lines,
    async connect() {
      const mine = ++generation;
      await client?.close();
      client = undefined;
      become({ status: 'connecting', tools: [], omitted: [] });
      const start = performance.now();
      try {
        const opened = await open({
          tap: (event) => recorder.record(event),
          onStderr(line) {
            const entry = { line, at: Date.now() };
            lines = [...lines, entry].slice(-2000);
            emit({ kind: 'stderr', ...entry });
          },
          // A log message names no call: it is shown on each that is running.
          onLog: (message) => running.forEach((_, id) => addEvent(id, { kind: 'log', ...message })),
          onToolsChanged() {
            listTools().then(
              (tools) => mine === generation && become({ status: 'connected', tools }),
              (error) => mine === generation && become({ status: 'failed', trouble: troubleOf(error) }),
            );
          },
          onClosed(error) {
            if (mine === generation && state.status !== 'connecting')
              become(error === undefined ? { status: 'closed' } : { status: 'failed', trouble: troubleOf(error) });
          },
        });
        if (mine !== generation) return await opened.client.close();
        client = opened.client;
        const handshakeMs = performance.now() - start;
        become({ status: 'connected', server: client.server, handshakeMs, tools: await listTools(), omitted: opened.omitted });
      } catch (error) {
        if (mine === generation) become({ status: 'failed', trouble: troubleOf(error) });
      }
    },
    call(tool, input) {
      const id = ++lastCall;
      const stop = new AbortController();
      const startedAt = Date.now();
      const start = performance.now();
      sheets.set(id, { id, tool, input, status: 'running', startedAt, events: [] });
      for (const old of sheets.keys()) if (sheets.size > maxCalls && !running.has(old)) sheets.delete(old);
      running.set(id, stop);
      emit({ kind: 'call', call: sheets.get(id)! });
      const call =
        client?.call(tool, input, { signal: stop.signal, onProgress: (progress) => addEvent(id, { kind: 'progress', ...progress }) }) ??
        Promise.reject(new Error('There is no connection: connect first.'));
      call
        .then(
          (result): Partial<CallSheet> => ({
            status: result.isError ? 'failed' : 'answered',
            result,
            ...(result.structuredContent !== undefined && { shown: readable(result.structuredContent) }),
          }),
          (error: unknown): Partial<CallSheet> => ({ status: stop.signal.aborted ? 'cancelled' : 'failed', trouble: troubleOf(error) }),
        )
        .then((change) => {
          running.delete(id);
          update(id, { ...change, tookMs: performance.now() - start });
        });
      return sheets.get(id)!;
    },
    cancel(id) {
      running.get(id)?.abort();
      return running.has(id);
    },
    subscribe(task) {
      subscribers.add(task);
      return () => subscribers.delete(task);
    },
    async close() {
      generation++;
      for (const stop of running.values()) stop.abort();
      await client?.close();
      client = undefined;
    },
  };
}
