import type { ServerAnswers } from '../client/answer-server.js';
import type { Client } from '../client/connect-link.js';
import { compileSchema, type Issue } from '../offers/schema.js';
import { isJexoError } from '../errors.js';
import { errorCodes, RpcError } from '../protocol/json-rpc.js';
import type {
  CallToolResult,
  CreateMessageParams,
  CreateMessageResult,
  ElicitResult,
  GetPromptResult,
  JsonSchema,
  LogMessage,
  ProgressUpdate,
  ReadResourceResult,
  Task,
  Tool,
} from '../protocol/types.js';
import { parseTemplate } from '../protocol/uri-template.js';
import type { WireEvent } from '../transports/link.js';
import {
  createConnection,
  type Connection,
  type ConnectionSpec,
  type ConnectionState,
  type OpenOptions,
  type Opened,
} from './connection.js';
import { createWireJudge } from './judge-wire.js';
import { createRecorder, maskSecrets, type Recorder } from './recorder.js';
import { seriesOf, type Series } from './series.js';
import type { ShelfItem } from './shelf.js';
import { standInModel } from './stand-in-model.js';
import { estimateTokens } from './tokens.js';
import { troubleOf, type Trouble } from './trouble.js';
import { readable, type Readable } from './value-text.js';

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
  readonly schema?: JsonSchema;
  readonly url?: string;
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
  /** False when no such question is open. */
  reply(id: number, reply: Reply): boolean;
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

const keptLines = 2000;
const keptEvents = 1000;
const mostRuns = 1000;

/** The computation behind the inspector page: its connections, their shelves, the calls and the trace. */
export function createBench({ open, show, maxCalls = 200 }: BenchOptions): Bench {
  const recorder = createRecorder();
  const subscribers = new Set<(event: BenchEvent) => void>();
  const connections = new Map<number, Connection>();
  const imported = new Map<number, ConnectionState>();
  const sheets = new Map<number, CallSheet>();
  const running = new Map<number, AbortController>();
  const questions = new Map<number, { question: Question; settle: (reply: Reply | undefined) => void }>();
  const checks = new Map<string, ReturnType<typeof compileSchema>>();
  let lines: StderrLine[] = [];
  let lastConnection = 0;
  let lastCall = 0;
  let lastQuestion = 0;

  const emit = (event: BenchEvent) => subscribers.forEach((task) => task(event));
  const update = (id: number, change: Partial<CallSheet>) => {
    const sheet = { ...sheets.get(id)!, ...change };
    sheets.set(id, sheet);
    emit({ kind: 'call', call: sheet });
  };
  const addEvent = (id: number, event: CallEvent) => update(id, { events: [...sheets.get(id)!.events, event].slice(-keptEvents) });
  const runningOn = (connection: number) => [...running.keys()].filter((id) => sheets.get(id)!.connection === connection);

  /** Puts a question before the person, on the sheet of the call it most likely belongs to, and waits. */
  const ask = (asked: Omit<Question, 'id' | 'state'>, signal: AbortSignal): Promise<Reply | undefined> =>
    new Promise((resolve) => {
      const id = ++lastQuestion;
      const sheet = runningOn(asked.connection).at(-1);
      const tell = (change: Partial<Question>) => {
        const question = { ...questions.get(id)!.question, ...change };
        questions.get(id)!.question = question;
        emit({ kind: 'question', question });
        if (sheet === undefined) return;
        const events = sheets.get(sheet)!.events;
        const known = events.some((event) => event.kind === 'question' && event.question.id === id);
        if (!known) addEvent(sheet, { kind: 'question', question });
        else
          update(sheet, {
            events: events.map((event) => (event.kind === 'question' && event.question.id === id ? { kind: 'question', question } : event)),
          });
      };
      const settle = (reply: Reply | undefined) => {
        if (questions.get(id)!.question.state !== 'open') return;
        tell({
          state: reply === undefined ? 'withdrawn' : reply.action === 'accept' ? 'answered' : 'declined',
          ...(reply?.action === 'accept' && { answer: reply.content ?? reply.text }),
        });
        resolve(reply);
      };
      questions.set(id, { question: { ...asked, id, state: 'open' }, settle });
      signal.addEventListener('abort', () => settle(undefined), { once: true });
      tell({});
    });

  const toElicited = (reply: Reply | undefined): ElicitResult =>
    reply === undefined
      ? { action: 'cancel' }
      : reply.action === 'accept'
        ? { action: 'accept', content: reply.content ?? {} }
        : { action: reply.action };

  const sample = async (connection: number, request: CreateMessageParams, signal: AbortSignal): Promise<CreateMessageResult> => {
    const [first] = [request.messages.at(-1)?.content ?? []].flat();
    const message = first?.type === 'text' ? first.text : 'The server wants the model’s answer.';
    const reply = await ask({ connection, kind: 'sampling', message, request }, signal);
    if (reply?.action !== 'accept') throw new RpcError(errorCodes.userRejected, 'The person refused the request');
    if (reply.standIn) return standInModel(request);
    return { role: 'assistant', content: { type: 'text', text: reply.text ?? '' }, model: 'a person at the bench', stopReason: 'endTurn' };
  };

  const make = (id: number, spec: ConnectionSpec): Connection =>
    createConnection(
      { id, spec, shown: show(spec) },
      open,
      {
        elicitation: {
          form: async ({ message, requestedSchema, signal }) =>
            toElicited(await ask({ connection: id, kind: 'form', message, schema: requestedSchema }, signal)),
          url: async ({ message, url, signal }) => {
            const { action } = toElicited(await ask({ connection: id, kind: 'page', message, url }, signal));
            return { action };
          },
        },
        sampling: { create: (request, signal) => sample(id, request, signal) },
      },
      {
        state(state) {
          for (const key of checks.keys()) if (key.startsWith(`${id} `)) checks.delete(key);
          emit({ kind: 'connection', state: { ...state, spec: maskSpec(state.spec) } });
        },
        wire: (event, wrong) => recorder.record(id, event, wrong),
        stderr(text) {
          const line = { connection: id, line: text, at: Date.now() };
          lines = [...lines, line].slice(-keptLines);
          emit({ kind: 'stderr', line });
        },
        // A log message names no call: it is shown on each that is running.
        log: (message) => runningOn(id).forEach((call) => addEvent(call, { kind: 'log', ...message })),
        updated(uri) {
          const sheet = [...sheets.values()].findLast((each) => each.connection === id && each.kind === 'resource' && each.name === uri);
          if (sheet !== undefined && !running.has(sheet.id)) void read(sheet.id, uri);
        },
      },
    );

  /** A resource that has changed is read again onto the sheet it was last read on. */
  const read = async (id: number, uri: string) => {
    const { client } = connections.get(sheets.get(id)!.connection) ?? {};
    if (client === undefined) return;
    addEvent(id, { kind: 'updated', uri });
    try {
      update(id, settled(await client.read(uri)));
    } catch (error) {
      update(id, { trouble: troubleOf(error) });
    }
  };

  const perform = async (request: CallRequest, id: number, signal: AbortSignal): Promise<Partial<CallSheet>> => {
    const { client } = need(request.connection);
    if (client === undefined) throw new Error('There is no connection: connect first.');
    const options = { signal, onProgress: (progress: ProgressUpdate) => addEvent(id, { kind: 'progress', ...progress }) };
    if (request.kind === 'resource') return settled(await client.read(request.name, options));
    if (request.kind === 'prompt') return settled(await client.prompt(request.name, request.input as Record<string, string>, options));
    if (!request.asTask) return settledTool(await client.call(request.name, request.input, options));
    const task = await client.callAsTask(request.name, request.input, options);
    const stop = () => void task.cancel().catch(() => undefined); // one that has ended meanwhile cannot be cancelled
    signal.addEventListener('abort', stop, { once: true });
    const told = (state: Task) => addEvent(id, { kind: 'task', task: state });
    const [result] = await Promise.all([task.result({ signal }), task.poll(told, { signal }).catch(() => undefined)]);
    return settledTool(result);
  };

  const need = (id: number): Connection => {
    const found = connections.get(id);
    if (found === undefined) throw new RangeError(`There is no connection ${id}.`);
    return found;
  };

  return {
    recorder,
    connections: () => [...[...connections.values()].map(({ state }) => ({ ...state, spec: maskSpec(state.spec) })), ...imported.values()],
    calls: () => [...sheets.values()],
    questions: () => [...questions.values()].map(({ question }) => question).filter(({ state }) => state === 'open'),
    stderr: () => lines,
    add(spec) {
      const id = ++lastConnection;
      const connection = make(id, spec);
      connections.set(id, connection);
      const connected = connection.connect();
      return { state: connection.state, connected };
    },
    connection: need,
    async openAgain(id, answers) {
      const { spec } = need(id).state;
      const judge = createWireJudge();
      const { client } = await open(spec, {
        ...answers,
        fresh: true,
        tap: (event) => recorder.record(id, event, judge(event)),
        onStderr: () => undefined,
        onReloaded: () => undefined,
      });
      return client;
    },
    async edit(id, spec) {
      const connection = need(id);
      const full = unmaskSpec(spec, connection.state.spec);
      connection.edit(full, show(full));
      await connection.connect();
    },
    async remove(id) {
      imported.delete(id);
      await connections.get(id)?.close();
      connections.delete(id);
      emit({ kind: 'gone', id });
    },
    importTrace(name, events) {
      const id = ++lastConnection;
      const judge = createWireJudge();
      for (const event of events) recorder.record(id, event, judge(event));
      const state: ConnectionState = {
        id,
        shown: name,
        spec: { target: name },
        status: 'imported',
        clientCapabilities: {},
        shelf: [],
        removed: [],
        omitted: [],
        roots: [],
        watched: [],
        deviations: [],
      };
      imported.set(id, state);
      emit({ kind: 'connection', state });
      return state;
    },
    call(given) {
      const id = ++lastCall;
      const { item } = given;
      const request = item === undefined ? given : { ...given, name: parseTemplate(item).expand(given.input as Record<string, string>) };
      const stop = new AbortController();
      const start = performance.now();
      const times = Math.min(Math.max(1, Math.floor(request.times ?? 1)), mostRuns);
      sheets.set(id, { ...request, id, status: 'running', startedAt: Date.now(), events: [] });
      for (const old of sheets.keys()) if (sheets.size > maxCalls && !running.has(old)) sheets.delete(old);
      running.set(id, stop);
      emit({ kind: 'call', call: sheets.get(id)! });
      const runs: number[] = [];
      const all = async () => {
        let last: Partial<CallSheet> = {};
        for (let run = 0; run < times; run++) {
          const began = performance.now();
          last = await perform(request, id, stop.signal);
          runs.push(performance.now() - began);
          if (times > 1 && run + 1 < times && (run < 5 || run % 10 === 0))
            update(id, { events: [{ kind: 'progress', progress: run + 1, total: times, message: 'runs' }] });
        }
        return last;
      };
      all()
        .catch((error: unknown): Partial<CallSheet> => failedWith(error, stop.signal.aborted))
        .then((change) => {
          running.delete(id);
          update(id, {
            ...change,
            tookMs: times > 1 && runs.length > 0 ? runs.at(-1)! : performance.now() - start,
            ...(times > 1 && { runs }),
          });
        });
      return sheets.get(id)!;
    },
    cancel(id) {
      running.get(id)?.abort();
      return running.has(id);
    },
    reply(id, reply) {
      const found = questions.get(id);
      if (found === undefined || found.question.state !== 'open') return false;
      found.settle(reply);
      return true;
    },
    async check(connection, tool, input) {
      const key = `${connection} ${tool}`;
      let compiled = checks.get(key);
      if (compiled === undefined) {
        const found = need(connection).state.shelf.find((item: ShelfItem) => item.kind === 'tool' && item.key === tool);
        if (found === undefined) return [];
        compiled = compileSchema((found.offer as Tool).inputSchema, 'input', `tool ${tool}`);
        checks.set(key, compiled);
      }
      // Checking fills in defaults; the person's own input stays as it is.
      const checked = await compiled.check(structuredClone(input));
      return checked.ok ? [] : checked.issues;
    },
    subscribe(task) {
      subscribers.add(task);
      return () => subscribers.delete(task);
    },
    async close() {
      for (const stop of running.values()) stop.abort();
      for (const { settle } of questions.values()) settle(undefined);
      await Promise.all([...connections.values()].map((connection) => connection.close()));
    },
  };
}

function settledTool(result: CallToolResult): Partial<CallSheet> {
  const { structuredContent } = result;
  const only = result.content.length === 1 && result.content[0]?.type === 'text' ? result.content[0].text : undefined;
  // Servers of older revisions put JSON into a text.
  const value = structuredContent ?? (only === undefined ? undefined : parsed(only));
  const series = value === undefined ? undefined : seriesOf(value);
  return {
    status: result.isError ? 'failed' : 'answered',
    result,
    ...(value !== undefined && { shown: readable(value) }),
    ...(series && { series }),
    ...sizeOf(result),
  };
}

function parsed(text: string): unknown {
  if (!/^\s*[[{]/.test(text)) return undefined;
  try {
    return JSON.parse(text);
  } catch {
    return undefined; // a text that only begins like JSON
  }
}

function settled(answer: ReadResourceResult | GetPromptResult): Partial<CallSheet> {
  return {
    status: 'answered',
    ...('contents' in answer ? { contents: answer.contents } : { messages: answer.messages }),
    ...sizeOf(answer),
  };
}

function sizeOf(answer: object): { bytes: number; tokens: number } {
  const text = JSON.stringify(answer);
  return { bytes: new TextEncoder().encode(text).length, tokens: estimateTokens(text) };
}

function failedWith(error: unknown, aborted: boolean): Partial<CallSheet> {
  if (aborted) return { status: 'cancelled', trouble: troubleOf(error) };
  // An answer that does not fit what was promised is shown all the same.
  const data =
    isJexoError(error) && error.code === 'JEXO_OUTPUT_INVALID' ? (error.data as { result: CallToolResult; issues: Issue[] }) : undefined;
  return { ...(data && { ...settledTool(data.result), mismatch: data.issues }), status: 'failed', trouble: troubleOf(error) };
}

const hidden = '(masked)';

/** Secrets of a connection stay on the bench: the page sees that there is one. */
function maskSpec(spec: ConnectionSpec): ConnectionSpec {
  const env =
    spec.env &&
    Object.fromEntries(Object.entries(spec.env).map(([key, value]) => [key, /key|token|secret|password/i.test(key) ? hidden : value]));
  return { ...spec, ...(env && { env }), ...(spec.headers && { headers: maskSecrets(spec.headers) as Record<string, string> }) };
}

/** What came back masked is what it was. */
function unmaskSpec(spec: ConnectionSpec, before: ConnectionSpec): ConnectionSpec {
  const restore = (now?: Readonly<Record<string, string>>, old?: Readonly<Record<string, string>>) =>
    now && Object.fromEntries(Object.entries(now).map(([key, value]) => [key, value === hidden ? (old?.[key] ?? '') : value]));
  const env = restore(spec.env, before.env);
  const headers = restore(spec.headers, before.headers);
  return { ...spec, ...(env && { env }), ...(headers && { headers }) };
}
