import { messageOf } from '../errors.js';
import type { Bench, Trouble } from './bench.js';

/**
 * The HTTP interface between the page and the bench, in web-standard requests and responses.
 *
 * - `POST /api/session` `{token}` gives `{key}`, once; every other request carries it as `Authorization: Bearer`.
 * - `GET  /api/bench` the state, the calls so far, stderr and the trace's last number.
 * - `POST /api/connect` connects anew.
 * - `POST /api/calls` `{tool, input}` starts a call and gives its sheet; `DELETE /api/calls/7` cancels it.
 * - `GET  /api/events?after=12` a stream: `state`, `call` and `stderr` as they change, and `wire` from message 13 on.
 * - `GET  /api/wire` the whole trace as JSON lines.
 */
export function createBenchApi(
  bench: Bench,
  secrets: { readonly token: string; readonly key: string },
): (request: Request) => Promise<Response> {
  let token: string | undefined = secrets.token;
  const encoder = new TextEncoder();

  const events = (after: number, signal: AbortSignal): Response => {
    let stop = () => {};
    const body = new ReadableStream<Uint8Array>(
      {
        start(controller) {
          const send = (kind: string, data: unknown) =>
            controller.enqueue(encoder.encode(`event: ${kind}\ndata: ${JSON.stringify(data)}\n\n`));
          send('state', bench.state());
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
            if (event.kind === 'state') send('state', event.state);
            else if (event.kind === 'call') send('call', event.call);
            else send('stderr', { line: event.line, at: event.at });
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
  };

  const api = async (request: Request, path: string, url: URL): Promise<Response> => {
    const route = `${request.method} ${path}`;
    switch (route) {
      case 'GET /api/bench':
        return json({ state: bench.state(), calls: bench.calls(), stderr: bench.stderr() });
      case 'POST /api/connect':
        await bench.connect();
        return json({ state: bench.state() });
      case 'POST /api/calls': {
        const { tool, input } = (await request.json()) as { tool?: unknown; input?: unknown };
        if (typeof tool !== 'string' || typeof input !== 'object' || input === null || Array.isArray(input))
          return refuse(400, 'JEXO_USAGE', 'A call needs the name of a tool and an input object.');
        return json(bench.call(tool, input as Record<string, unknown>), 202);
      }
      case 'GET /api/events':
        return events(Number(url.searchParams.get('after') ?? 0) || 0, request.signal);
      case 'GET /api/wire':
        return new Response(bench.recorder.toJsonLines(), {
          headers: { 'content-type': 'application/jsonl', 'content-disposition': 'attachment; filename="trace.jsonl"' },
        });
    }
    const call = /^DELETE \/api\/calls\/(\d+)$/.exec(route);
    if (call !== null) return bench.cancel(Number(call[1])) ? json({}) : refuse(404, 'JEXO_USAGE', 'No such call is running.');
    return refuse(404, 'JEXO_USAGE', `There is nothing at ${path}.`);
  };

  return async (request) => {
    const url = new URL(request.url);
    const path = url.pathname;
    try {
      if (request.method === 'POST' && path === '/api/session') {
        const given = ((await request.json()) as { token?: unknown }).token;
        if (token === undefined || given !== token) {
          return refuse(
            403,
            'JEXO_USAGE',
            'This address has been used already, or was not copied whole.',
            'Run jexo inspect again and open the address it prints.',
          );
        }
        token = undefined;
        return json({ key: secrets.key });
      }
      if (request.headers.get('authorization') !== `Bearer ${secrets.key}`)
        return refuse(401, 'JEXO_USAGE', 'The page has no key for this bench.', 'Open the address that jexo inspect printed.');
      return await api(request, path, url);
    } catch (error) {
      return refuse(400, 'JEXO_USAGE', `The request could not be read: ${messageOf(error)}`);
    }
  };
}

function json(value: unknown, status = 200): Response {
  return new Response(JSON.stringify(value), { status, headers: { 'content-type': 'application/json', 'cache-control': 'no-store' } });
}

function refuse(status: number, code: string, message: string, next?: string): Response {
  const error: Trouble = { code, message, ...(next !== undefined && { next }) };
  return json({ error }, status);
}
