import type { Bench } from './bench-state.js';
import type { Tell } from './bench-sheets.js';
import { troubleOf, type Trouble } from './trouble.js';

export function json(value: unknown, status = 200): Response {
  return new Response(JSON.stringify(value), { status, headers: { 'content-type': 'application/json', 'cache-control': 'no-store' } });
}

export function refuse(status: number, code: string, message: string, next?: string): Response {
  const error: Trouble = { code, message, ...(next !== undefined && { next }) };
  return json({ error }, status);
}

/** Everything that happens at the bench from now on, as an event stream. @param after the number of the last message the page has */
export function events(bench: Bench, after: number, signal: AbortSignal): Response {
  const encoder = new TextEncoder();
  let stop = () => {};
  const body = new ReadableStream<Uint8Array>(
    {
      start(controller) {
        const send = (kind: string, data: unknown) =>
          controller.enqueue(encoder.encode(`event: ${kind}\ndata: ${JSON.stringify(data)}\n\n`));
        for (const state of bench.connections()) send('connection', state);
        const missed = bench.recorder.since(after);
        if (missed.length > 0) send('wire', missed);
        // Messages come in bursts; the page gets each burst as one list.
        let burst: unknown[] = [];
        const flush = () => {
          if (burst.length > 0) send('wire', burst);
          burst = [];
        };
        const unwire = bench.recorder.subscribe((entry) => {
          if (burst.push(entry) === 1) queueMicrotask(flush);
        });
        const unlisten = bench.subscribe((event) => {
          flush();
          if (event.kind === 'connection') send('connection', event.state);
          else if (event.kind === 'gone') send('gone', event.id);
          else if (event.kind === 'updated') send('updated', { connection: event.connection, uri: event.uri });
          else if (event.kind === 'call') send('call', event.call);
          else if (event.kind === 'question') send('question', event.question);
          else send('stderr', event.line);
        });
        stop = () => {
          unwire();
          unlisten();
          stop = () => {};
        };
        signal.addEventListener('abort', () => stop());
      },
      cancel: () => stop(),
    },
    { highWaterMark: 1000 },
  );
  return new Response(body, { headers: { 'content-type': 'text/event-stream', 'cache-control': 'no-cache' } });
}

/** A long work: a line of JSON for each step, then one with the result, or with what went wrong. */
export function inSteps(work: (tell: Tell) => Promise<object>): Response {
  const encoder = new TextEncoder();
  let isOpen = true;
  const body = new ReadableStream<Uint8Array>({
    async start(controller) {
      const line = (value: object) => {
        if (isOpen) controller.enqueue(encoder.encode(`${JSON.stringify(value)}\n`));
      };
      try {
        line({ result: await work((done, of) => line({ done, of })) });
      } catch (error) {
        line({ error: troubleOf(error) });
      }
      if (isOpen) controller.close();
    },
    cancel: () => void (isOpen = false),
  });
  return new Response(body, { headers: { 'content-type': 'application/jsonl', 'cache-control': 'no-store' } });
}
