import { createParser } from 'eventsource-parser';
import type { BenchState, CallSheet, StderrLine, Trouble, WireEntry } from './model';

/** An error of the bench, in words for a person. */
export class BenchTrouble extends Error {
  constructor(readonly trouble: Trouble) {
    super(trouble.message);
  }
}

const storeName = 'jexo-key';

/** Trades the token in the address for a key, once; the key lasts as long as the tab. */
export async function unlock(): Promise<void> {
  const token = location.hash.slice(1);
  if (token === '') {
    if (sessionStorage.getItem(storeName) !== null) return;
    throw new BenchTrouble({
      code: 'JEXO_USAGE',
      message: 'This page has no key for the bench.',
      next: 'Open the address that jexo inspect printed: it holds a key that works once.',
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
    throw new BenchTrouble(answer.error ?? { code: 'JEXO_INTERNAL', message: `The bench answered with HTTP ${response.status}.` });
  sessionStorage.setItem(storeName, answer.key);
}

async function request(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<Response> {
  const response = await fetch(path, {
    method,
    headers: {
      authorization: `Bearer ${sessionStorage.getItem(storeName) ?? ''}`,
      ...(body !== undefined && { 'content-type': 'application/json' }),
    },
    ...(body !== undefined && { body: JSON.stringify(body) }),
    ...(signal && { signal }),
  });
  if (response.ok) return response;
  const { error } = (await response.json().catch(() => ({}))) as { error?: Trouble };
  throw new BenchTrouble(error ?? { code: 'JEXO_INTERNAL', message: `The bench answered with HTTP ${response.status}.` });
}

export async function loadBench(): Promise<{ state: BenchState; calls: CallSheet[]; stderr: StderrLine[] }> {
  return (await request('GET', '/api/bench')).json();
}
export async function startCall(tool: string, input: Record<string, unknown>): Promise<CallSheet> {
  return (await request('POST', '/api/calls', { tool, input })).json();
}
export async function cancelCall(id: number): Promise<void> {
  await request('DELETE', `/api/calls/${id}`);
}
export async function reconnect(): Promise<void> {
  await request('POST', '/api/connect');
}
export async function traceFile(): Promise<Blob> {
  return (await request('GET', '/api/wire')).blob();
}

export interface BenchListener {
  state(state: BenchState): void;
  call(call: CallSheet): void;
  stderr(line: StderrLine): void;
  wire(entries: WireEntry[]): void;
}

/** Follows the bench until it ends. */
export async function follow(after: number, listener: BenchListener, signal: AbortSignal): Promise<void> {
  const response = await request('GET', `/api/events?after=${after}`, undefined, signal);
  const parser = createParser({
    onEvent({ event, data }) {
      const value = JSON.parse(data);
      if (event === 'state' || event === 'call' || event === 'stderr' || event === 'wire') listener[event](value);
    },
  });
  const reader = response.body!.pipeThrough(new TextDecoderStream()).getReader();
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    parser.feed(value);
  }
}
