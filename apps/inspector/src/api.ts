import { createParser } from 'eventsource-parser';
import type {
  CallRequest,
  Candidate,
  CopyForm,
  OpenedSheet,
  Rehearsed,
  Replayed,
  SheetName,
  CallSheet,
  ConnectionSpec,
  ConnectionState,
  Difference,
  Issue,
  ModelView,
  Move,
  Question,
  Root,
  StderrLine,
  Trouble,
  WireEntry,
} from './model';

/** An error of the bench, in words for a person. */
export class BenchTrouble extends Error {
  constructor(readonly trouble: Trouble) {
    super(trouble.message);
  }
}

/** What a person is told when the bench itself did not do what it was asked. */
export function troubleOf(error: unknown): Trouble {
  if (error instanceof BenchTrouble) return error.trouble;
  if (error instanceof TypeError)
    return { code: 'JEXO_CONNECT', message: 'The bench does not answer.', next: 'Check that jexo inspect is still running.' };
  return { code: 'JEXO_INTERNAL', message: error instanceof Error ? error.message : String(error) };
}

const storeName = 'jexo-key';

/** Trades the token in the address for a key, once; the key lasts as long as the tab. */
export async function unlock(): Promise<void> {
  const token = location.hash.slice(1);
  if (token === '') {
    if (sessionStorage.getItem(storeName) !== null) return;
    throw new BenchTrouble({
      code: 'JEXO_LOCKED',
      message: 'This page has no key for the bench.',
      next: 'Press Enter in the terminal where jexo inspect runs: it prints a new address, with a key that works once.',
    });
  }
  history.replaceState(null, '', location.pathname);
  const response = await fetch('/api/session', {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ token }),
  });
  const answer = (await response.json()) as { key?: string; error?: Trouble };
  if (answer.key === undefined)
    throw new BenchTrouble({ code: 'JEXO_LOCKED', message: `The bench answered with HTTP ${response.status}.`, ...answer.error });
  sessionStorage.setItem(storeName, answer.key);
}

async function request(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<Response> {
  const text = body === undefined || typeof body === 'string' ? body : JSON.stringify(body);
  const response = await fetch(path, {
    method,
    headers: {
      authorization: `Bearer ${sessionStorage.getItem(storeName) ?? ''}`,
      ...(body !== undefined && { 'content-type': 'application/json' }),
    },
    ...(text !== undefined && { body: text }),
    // Outlives the page that is left; browsers take no more than 64 kB so.
    keepalive: path === '/api/notes' && text !== undefined && text.length < 30_000,
    ...(signal && { signal }),
  });
  if (response.ok) return response;
  const { error } = (await response.json().catch(() => ({}))) as { error?: Trouble };
  throw new BenchTrouble(error ?? { code: 'JEXO_INTERNAL', message: `The bench answered with HTTP ${response.status}.` });
}
const get = async <T>(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<T> =>
  (await request(method, path, body, signal)).json();

export interface Step {
  readonly done: number;
  readonly of: number;
}
type Following = [signal: AbortSignal, onStep: (step: Step) => void];
/** A long work of the bench: each line is a step, the last one the result or what went wrong. */
async function inSteps<T>(path: string, body: object, ...[signal, onStep]: Following): Promise<T> {
  const response = await request('POST', path, body, signal);
  const reader = response.body!.pipeThrough(new TextDecoderStream()).getReader();
  for (let rest = ''; ;) {
    const { done, value = '' } = await reader.read();
    const lines = (rest + value).split('\n');
    rest = lines.pop()!;
    for (const line of lines) {
      const said = JSON.parse(line) as Step | { result: T } | { error: Trouble };
      if ('result' in said) return said.result;
      if ('error' in said) throw new BenchTrouble(said.error);
      onStep(said);
    }
    if (done) throw new TypeError('The bench ended before the work did.');
  }
}

export interface Loaded {
  readonly connections: ConnectionState[];
  readonly calls: CallSheet[];
  readonly questions: Question[];
  readonly stderr: StderrLine[];
  readonly notes: string;
  /** The model that can be asked, beside the stand-in. */
  readonly model?: string;
  /** Where views are shown. */
  readonly sandbox?: string;
}
export const loadBench = () => get<Loaded>('GET', '/api/bench');
export const saveNotes = (notes: string) => request('PUT', '/api/notes', notes);
export const addConnection = (spec: ConnectionSpec) => get<ConnectionState>('POST', '/api/connections', spec);
export const editConnection = (id: number, spec: ConnectionSpec) => request('PUT', `/api/connections/${id}`, spec);
export const reconnect = (id: number) => request('POST', `/api/connections/${id}/connect`);
export const removeConnection = (id: number) => request('DELETE', `/api/connections/${id}`);
export const markSeen = (id: number) => request('POST', `/api/connections/${id}/seen`);
export const setRoots = (id: number, roots: readonly Root[]) => request('PUT', `/api/connections/${id}/roots`, roots);
export const setWatched = (id: number, uri: string, on: boolean) => request('PUT', `/api/connections/${id}/watch`, { uri, on });
export const startCall = (call: CallRequest) => get<CallSheet>('POST', '/api/calls', call);
export const cancelCall = (id: number) => request('DELETE', `/api/calls/${id}`);
export const compare = (before: number, after: number) => get<Difference[]>('GET', `/api/compare?before=${before}&after=${after}`);
export const checkInput = (connection: number, tool: string, input: unknown, signal: AbortSignal) =>
  get<Issue[]>('POST', '/api/check', { connection, tool, input }, signal);
export const complete = (
  connection: number,
  ref: { kind: 'prompt' | 'template'; key: string },
  argument: { name: string; value: string },
  known: Record<string, string>,
  signal: AbortSignal,
) => get<{ values: string[] }>('POST', '/api/complete', { connection, ref, argument, known }, signal);
export const reply = (id: number, answer: unknown) => get<{ issues: Issue[] }>('POST', `/api/questions/${id}`, answer);
export const modelView = (connection: number, tools: readonly string[], edits: object, signal: AbortSignal) =>
  get<ModelView>('POST', '/api/model-view', { connection, tools, edits }, signal);
export const copyCall = (call: { connection: number; kind: string; name: string; input: object; form: CopyForm }) =>
  get<{ text: string }>('POST', '/api/copy', call);
export const chooseTools = (connection: number, words: string, edits: object, signal: AbortSignal) =>
  get<Candidate[]>('POST', '/api/choose', { connection, request: words, edits }, signal);
export const listSheets = () => get<SheetName[]>('GET', '/api/sheets');
export const openSheet = (name: string) => get<OpenedSheet>('GET', `/api/sheets/text?name=${encodeURIComponent(name)}`);
export const saveSheet = (name: string, text: string) => get<OpenedSheet>('PUT', `/api/sheets/text?name=${encodeURIComponent(name)}`, text);
export const keepCall = (call: number, name: string, label: string) => get<OpenedSheet>('POST', '/api/sheets/keep', { call, name, label });
export const sheetFromTrace = (connection: number, name: string) =>
  get<OpenedSheet>('POST', '/api/sheets/from-trace', { connection, name });
export const replaySheet = (connection: number, name: string, more: { only?: string[]; update?: boolean }, ...how: Following) =>
  inSteps<Replayed>('/api/sheets/replay', { connection, name, ...more }, ...how);
export const rehearseSheet = (connection: number, name: string, more: { edits: object; byModel: boolean }, ...how: Following) =>
  inSteps<Rehearsed>('/api/sheets/rehearse', { connection, name, ...more }, ...how);
export const askModel = (connection: number, request: string, edits: object, signal: AbortSignal) =>
  get<Move>('POST', '/api/ask', { connection, request, edits }, signal);
export const importTrace = (name: string, text: string) => get<ConnectionState>('POST', `/api/wire?name=${encodeURIComponent(name)}`, text);
export const traceFile = async (connection: number): Promise<Blob> => (await request('GET', `/api/wire?connection=${connection}`)).blob();

export const readViewPage = (connection: number, uri: string) => get<{ contents: object[] }>('POST', '/api/view-page', { connection, uri });
export const readForView = (connection: number, uri: string, signal: AbortSignal) =>
  get<object>('POST', '/api/view-read', { connection, uri }, signal);
/** @throws Error with what went wrong, for the view */
export async function callFromView(connection: number, name: string, input: object, signal: AbortSignal): Promise<object> {
  const { result, error } = await get<{ result?: object; error?: Trouble }>('POST', '/api/view-call', { connection, name, input }, signal);
  if (result === undefined) throw new Error(error?.message ?? 'The call came to nothing.');
  return result;
}
export const sendViewMessages = (connection: number, messages: readonly object[]) =>
  request('POST', '/api/view-messages', { connection, messages });

export interface BenchListener {
  connection(state: ConnectionState): void;
  gone(id: number): void;
  call(call: CallSheet): void;
  question(question: Question): void;
  updated(changed: { readonly connection: number; readonly uri: string }): void;
  stderr(line: StderrLine): void;
  wire(entries: WireEntry[]): void;
}

/** Follows the bench until it ends. */
export async function follow(after: number, listener: BenchListener, signal: AbortSignal): Promise<void> {
  const response = await request('GET', `/api/events?after=${after}`, undefined, signal);
  const parser = createParser({
    onEvent({ event, data }) {
      if (event !== undefined && event in listener) listener[event as keyof BenchListener](JSON.parse(data) as never);
    },
  });
  const reader = response.body!.pipeThrough(new TextDecoderStream()).getReader();
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    parser.feed(value);
  }
}
