import { messageOf } from '../errors.js';
import type { Prompt, ResourceTemplate, Root, Tool } from '../protocol/types.js';
import type { Bench, CallRequest, Reply } from './bench-state.js';
import type { ConnectionSpec } from './connection.js';
import { differences } from './difference.js';
import type { BenchSheets, Tell } from './bench-sheets.js';
import { copyCall, copyForms, type CopiedCall, type CopyForm } from './copy-call.js';
import { modelView, type Edits } from './model-view.js';
import { readJsonLines } from './recorder.js';
import { troubleOf, type Trouble } from './trouble.js';

/** What the page keeps between reloads and restarts: drafts of input, what was chosen. */
export interface Notes {
  load(): string;
  save(text: string): void;
}

export interface BenchApiOptions {
  /** Opens the page once. */
  readonly token: string;
  /** What every request carries from then on. */
  readonly key: string;
  readonly notes: Notes;
  readonly sheets: BenchSheets;
}

/**
 * The HTTP interface between the page and the bench, in web-standard requests and responses.
 *
 * - `POST /api/session` `{token}` gives `{key}`, once; every other request carries it as `Authorization: Bearer`.
 * - `GET  /api/bench` connections, calls so far, open questions, stderr and the page's own notes; `PUT /api/notes` keeps those.
 * - `POST /api/connections` a spec adds one; `PUT /api/connections/1` edits and connects, `POST …/connect` connects anew,
 *   `POST …/seen` takes the marks off its shelf, `PUT …/roots`, `PUT …/watch` `{uri, on}`, `DELETE …` removes it.
 * - `POST /api/calls` starts a call and gives its sheet; `DELETE /api/calls/7` cancels it; `GET /api/compare?before=6&after=7`.
 * - `POST /api/check` `{connection, tool, input}` what is wrong with an input; `POST /api/complete` suggestions.
 * - `POST /api/questions/3` answers what a server asked.
 * - `POST /api/model-view` `{connection, tools, edits}` what a model would be given.
 * - `POST /api/choose` `{connection, request, edits}` the tools the stand-in would choose; `POST /api/ask` what the model would do.
 * - `POST /api/copy` `{connection, kind, name, input, form}` a call as text to paste.
 * - `GET  /api/sheets` names; `GET /api/sheets/text?name=`, `PUT` writes it; `POST …/keep`, `POST …/from-trace`, `POST …/replay` and
 *   `POST …/rehearse` with `{connection, name}`, answered by a line of JSON for each step and one for the result.
 * - `GET  /api/events?after=12` a stream: `connection`, `gone`, `call`, `question`, `stderr`, and `wire` from message 13 on.
 * - `GET  /api/wire` the trace as JSON lines; `POST /api/wire?name=` puts a saved one on the bench.
 */
export function createBenchApi(bench: Bench, { key, notes, sheets, ...secrets }: BenchApiOptions): (request: Request) => Promise<Response> {
  let token: string | undefined = secrets.token;

  const api = async (request: Request, path: string, url: URL): Promise<Response> => {
    const [, , room, id, what] = path.split('/');
    const number = Number(id);
    const body = async <T>() => (await request.json()) as T;
    switch (`${request.method} ${room}${id === undefined ? '' : '/'}${what ?? ''}`) {
      case 'GET bench':
        return json({
          connections: bench.connections(),
          calls: bench.calls(),
          questions: bench.questions(),
          stderr: bench.stderr(),
          notes: notes.load(),
          ...(sheets.model !== undefined && { model: sheets.model }),
        });
      case 'PUT notes':
        notes.save(await request.text());
        return json({});
      case 'POST connections':
        return json(bench.add(requireSpec(await body())).state, 201);
      case 'PUT connections/':
        await bench.edit(number, requireSpec(await body()));
        return json(bench.connection(number).state);
      case 'DELETE connections/':
        await bench.remove(number);
        return json({});
      case 'POST connections/connect':
        await bench.connection(number).connect();
        return json({});
      case 'POST connections/seen':
        bench.connection(number).seen();
        return json({});
      case 'PUT connections/roots':
        bench.connection(number).setRoots(await body<Root[]>());
        return json({});
      case 'PUT connections/watch': {
        const { uri, on } = await body<{ uri: string; on: boolean }>();
        await bench.connection(number).watch(uri, on);
        return json({});
      }
      case 'POST calls':
        return json(bench.call(requireCall(await body())), 202);
      case 'DELETE calls/':
        return bench.cancel(number) ? json({}) : refuse(404, 'JEXO_USAGE', 'No such call is running.');
      case 'GET compare': {
        const [before, after] = ['before', 'after'].map((name) =>
          bench.calls().find((call) => call.id === Number(url.searchParams.get(name))),
        );
        if (before === undefined || after === undefined)
          return refuse(404, 'JEXO_USAGE', 'One of the two calls is not on the bench any more.');
        return json(differences(answerOf(before), answerOf(after)));
      }
      case 'POST check': {
        const { connection, tool, input } = await body<{ connection: number; tool: string; input: unknown }>();
        return json(await bench.check(connection, tool, input));
      }
      case 'POST complete': {
        const { connection, ref, argument, known } = await body<{
          connection: number;
          ref: { kind: 'prompt' | 'template'; key: string };
          argument: { name: string; value: string };
          known: Record<string, string>;
        }>();
        const { client } = bench.connection(connection);
        if (client?.server.capabilities.completions === undefined) return json({ values: [] });
        const reference =
          ref.kind === 'prompt' ? { type: 'ref/prompt' as const, name: ref.key } : { type: 'ref/resource' as const, uri: ref.key };
        return json(await client.complete(reference, argument, known));
      }
      case 'POST questions/':
        return bench.reply(number, await body<Reply>()) ? json({}) : refuse(404, 'JEXO_USAGE', 'This question is not open any more.');
      case 'POST model-view': {
        const { connection, tools, edits } = await body<{ connection: number; tools?: string[]; edits?: Edits }>();
        const all = toolsOf(bench, connection);
        return json(modelView(tools === undefined ? all : all.filter(({ name }) => tools.includes(name)), edits));
      }
      case 'POST copy': {
        const { connection: id, form, ...call } = await body<Omit<CopiedCall, 'target'> & { connection: number; form: CopyForm }>();
        if (!copyForms.includes(form)) return refuse(400, 'JEXO_USAGE', `A call can be copied as ${copyForms.join(', ')}.`);
        const { target, command } = bench.connection(id).state.spec;
        const schema = toolsOf(bench, id).find(({ name }) => call.kind === 'tool' && name === call.name)?.inputSchema;
        return json({ text: copyCall({ ...call, target: command ?? target, ...(schema && { schema }) }, form) });
      }
      case 'POST choose': {
        const { connection, request: words, edits = {} } = await body<{ connection: number; request: string; edits?: Edits }>();
        return json(sheets.choose(connection, words, edits));
      }
      case 'POST ask': {
        const { connection, request: words, edits = {} } = await body<{ connection: number; request: string; edits?: Edits }>();
        return json(await sheets.ask(connection, words, edits, request.signal));
      }
      case 'GET sheets':
        return json(await sheets.list());
      case 'GET sheets/':
        return json(await sheets.open(url.searchParams.get('name') ?? ''));
      case 'PUT sheets/':
        return json(await sheets.save(url.searchParams.get('name') ?? '', await request.text()));
      case 'POST sheets/': {
        const given = await body<{
          connection: number;
          call: number;
          name: string;
          label?: string;
          only?: string[];
          update?: boolean;
          edits?: Edits;
          byModel?: boolean;
        }>();
        const { connection, name, edits = {}, byModel = false } = given;
        const { signal } = request;
        if (id === 'keep') return json(await sheets.keep(given.call, name, given.label));
        if (id === 'from-trace') return json(await sheets.fromTrace(connection, name));
        if (id === 'replay')
          return inSteps((tell) =>
            sheets.replay(connection, name, {
              signal,
              tell,
              ...(given.only && { only: given.only }),
              ...(given.update && { update: true }),
            }),
          );
        if (id === 'rehearse') return inSteps((tell) => sheets.rehearse(connection, name, { edits, byModel, signal, tell }));
        return refuse(404, 'JEXO_USAGE', `There is nothing at ${path}.`);
      }
      case 'GET events':
        return events(bench, Number(url.searchParams.get('after') ?? 0) || 0, request.signal);
      case 'GET wire': {
        const connection = url.searchParams.get('connection');
        return new Response(bench.recorder.toJsonLines(connection === null ? undefined : Number(connection)), {
          headers: { 'content-type': 'application/jsonl', 'content-disposition': 'attachment; filename="trace.jsonl"' },
        });
      }
      case 'POST wire':
        return json(bench.importTrace(url.searchParams.get('name') ?? 'a saved trace', readJsonLines(await request.text())), 201);
      default:
        return refuse(404, 'JEXO_USAGE', `There is nothing at ${path}.`);
    }
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
        return json({ key });
      }
      if (request.headers.get('authorization') !== `Bearer ${key}`)
        return refuse(401, 'JEXO_LOCKED', 'The page has no key for this bench.', 'Open the address that jexo inspect printed.');
      return await api(request, path, url);
    } catch (error) {
      const trouble = troubleOf(error);
      return trouble.code === 'JEXO_INTERNAL'
        ? refuse(400, 'JEXO_USAGE', `The request could not be read: ${messageOf(error)}`)
        : json({ error: trouble }, 400);
    }
  };
}

function toolsOf(bench: Bench, connection: number): Tool[] {
  return bench
    .connection(connection)
    .state.shelf.filter(({ kind }) => kind === 'tool')
    .map(({ offer }) => offer as Exclude<typeof offer, ResourceTemplate | Prompt> as Tool);
}

/** What an answer is, without the envelope it came in. */
function answerOf({ result, contents, messages }: ReturnType<Bench['calls']>[number]): unknown {
  return result?.structuredContent ?? result?.content ?? contents ?? messages;
}

function requireSpec(value: unknown): ConnectionSpec {
  const { target = '', command, env, headers } = value as Partial<ConnectionSpec>;
  if (target === '' && (command === undefined || command.length === 0 || command[0] === ''))
    throw new TypeError('a connection needs a target or a command');
  return { target, ...(command && { command }), ...(env && { env }), ...(headers && { headers }) };
}

function requireCall(value: unknown): CallRequest {
  const { connection, kind, name, input } = value as Partial<CallRequest>;
  const isInput = typeof input === 'object' && input !== null && !Array.isArray(input);
  if (typeof connection !== 'number' || typeof name !== 'string' || !isInput || !['tool', 'resource', 'prompt'].includes(kind ?? ''))
    throw new TypeError('a call needs a connection, a kind, a name and an input object');
  return value as CallRequest;
}

function events(bench: Bench, after: number, signal: AbortSignal): Response {
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
function inSteps(work: (tell: Tell) => Promise<object>): Response {
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

function json(value: unknown, status = 200): Response {
  return new Response(JSON.stringify(value), { status, headers: { 'content-type': 'application/json', 'cache-control': 'no-store' } });
}

function refuse(status: number, code: string, message: string, next?: string): Response {
  const error: Trouble = { code, message, ...(next !== undefined && { next }) };
  return json({ error }, status);
}
