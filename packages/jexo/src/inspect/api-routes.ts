import type { Prompt, ResourceTemplate, Root, Tool } from '../protocol/types.js';
import { events, inSteps, json, refuse } from './api-answers.js';
import type { BenchSheets } from './bench-sheets.js';
import type { Client } from '../client/connect-link.js';
import { JexoError } from '../errors.js';
import type { Bench, CallRequest, CallSheet, Reply } from './bench-state.js';
import type { ConnectionSpec } from './connection.js';
import { copyCall, copyForms, type CopiedCall, type CopyForm } from './copy-call.js';
import { differences } from './difference.js';
import { mayCall } from '../protocol/views.js';
import { modelView, type Edits } from './model-view.js';
import { readJsonLines } from './recorder.js';

/** What the page keeps between reloads and restarts: drafts of input, what was chosen. */
export interface Notes {
  load(): string;
  save(text: string): void;
}

/** What the routes work on. */
export interface Served {
  readonly bench: Bench;
  readonly notes: Notes;
  readonly sheets: BenchSheets;
  /** Where views are shown: a page on an origin of its own. Without one, none are. */
  readonly sandbox?: string;
}

/** A request, with what stands in its path: `POST /api/connections/1/watch`. */
export interface Asked {
  readonly request: Request;
  readonly url: URL;
  /** What stands behind the room: `1`; for sheets, the action. */
  readonly id: string | undefined;
  readonly number: number;
  body<T>(): Promise<T>;
}

type Route = (asked: Asked) => Response | Promise<Response>;
/** By method, room, and what follows an id: `PUT connections/watch`. */
export type Routes = Readonly<Record<string, Route>>;

export function routesOf(served: Served): Routes {
  return {
    ...benchRoutes(served),
    ...connectionRoutes(served),
    ...callRoutes(served),
    ...viewRoutes(served),
    ...modelRoutes(served),
    ...sheetRoutes(served),
  };
}

function benchRoutes({ bench, notes, sheets, sandbox }: Served): Routes {
  return {
    'GET bench': () =>
      json({
        connections: bench.connections(),
        calls: bench.calls(),
        questions: bench.questions(),
        stderr: bench.stderr(),
        notes: notes.load(),
        ...(sheets.model !== undefined && { model: sheets.model }),
        ...(sandbox !== undefined && { sandbox }),
      }),
    'PUT notes': async ({ request }) => {
      notes.save(await request.text());
      return json({});
    },
    'GET events': ({ url, request }) => events(bench, Number(url.searchParams.get('after') ?? 0) || 0, request.signal),
    'GET wire': ({ url }) => {
      const connection = url.searchParams.get('connection');
      return new Response(bench.recorder.toJsonLines(connection === null ? undefined : Number(connection)), {
        headers: { 'content-type': 'application/jsonl', 'content-disposition': 'attachment; filename="trace.jsonl"' },
      });
    },
    'POST wire': async ({ url, request }) =>
      json(bench.importTrace(url.searchParams.get('name') ?? 'a saved trace', readJsonLines(await request.text())), 201),
  };
}

function connectionRoutes({ bench }: Served): Routes {
  return {
    'POST connections': async ({ body }) => json(bench.add(requireSpec(await body())).state, 201),
    'PUT connections/': async ({ number, body }) => {
      await bench.edit(number, requireSpec(await body()));
      return json(bench.connection(number).state);
    },
    'DELETE connections/': async ({ number }) => {
      await bench.remove(number);
      return json({});
    },
    'POST connections/connect': async ({ number }) => {
      await bench.connection(number).connect();
      return json({});
    },
    'POST connections/seen': ({ number }) => {
      bench.connection(number).seen();
      return json({});
    },
    'PUT connections/roots': async ({ number, body }) => {
      bench.connection(number).setRoots(await body<Root[]>());
      return json({});
    },
    'PUT connections/watch': async ({ number, body }) => {
      const { uri, on } = await body<{ uri: string; on: boolean }>();
      await bench.connection(number).watch(uri, on);
      return json({});
    },
  };
}

function callRoutes({ bench }: Served): Routes {
  return {
    'POST calls': async ({ body }) => json(bench.call(requireCall(await body())), 202),
    'DELETE calls/': ({ number }) => (bench.cancel(number) ? json({}) : refuse(404, 'JEXO_USAGE', 'No such call is running.')),
    'GET compare': ({ url }) => {
      const find = (name: string) => bench.calls().find((call) => call.id === Number(url.searchParams.get(name)));
      const [before, after] = [find('before'), find('after')];
      if (before === undefined || after === undefined)
        return refuse(404, 'JEXO_USAGE', 'One of the two calls is not on the bench any more.');
      return json(differences(answerOf(before), answerOf(after)));
    },
    'POST check': async ({ body }) => {
      const { connection, tool, input } = await body<{ connection: number; tool: string; input: unknown }>();
      return json(await bench.check(connection, tool, input));
    },
    'POST complete': async ({ body }) => {
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
    },
    'POST questions/': async ({ number, body }) => {
      const issues = await bench.reply(number, await body<Reply>());
      return issues === undefined ? refuse(404, 'JEXO_USAGE', 'This question is not open any more.') : json({ issues });
    },
    'POST copy': async ({ body }) => {
      const { connection, form, ...call } = await body<Omit<CopiedCall, 'target'> & { connection: number; form: CopyForm }>();
      if (!copyForms.includes(form)) return refuse(400, 'JEXO_USAGE', `A call can be copied as ${copyForms.join(', ')}.`);
      const { target, command } = bench.connection(connection).state.spec;
      const schema = toolsOf(bench, connection).find(({ name }) => call.kind === 'tool' && name === call.name)?.inputSchema;
      return json({ text: copyCall({ ...call, target: command ?? target, ...(schema && { schema }) }, form) });
    },
  };
}

/** What views that are shown on the page want of their server. */
function viewRoutes({ bench }: Served): Routes {
  const need = (connection: number): Client => {
    const { client } = bench.connection(connection);
    if (client === undefined) throw new JexoError('JEXO_CONNECT', 'There is no connection: connect first.');
    return client;
  };
  return {
    'POST view-page': async ({ body }) => {
      const { connection, uri } = await body<{ connection: number; uri: string }>();
      return json(await need(connection).read(uri));
    },
    'POST view-read': async ({ body, request }) => {
      const { connection, uri } = await body<{ connection: number; uri: string }>();
      return json(await need(connection).read(uri, { signal: request.signal }));
    },
    'POST view-call': async ({ body, request }) => {
      const { connection, name, input } = await body<{ connection: number; name: string; input: Record<string, unknown> }>();
      const { id } = bench.call({ connection, kind: 'tool', name, input, by: 'view' });
      request.signal.addEventListener('abort', () => bench.cancel(id), { once: true });
      const { result, trouble } = await ended(bench, id);
      if (result !== undefined) return json({ result });
      return json({ error: trouble ?? { code: 'JEXO_CANCELLED', message: 'The call was cancelled.' } });
    },
    'POST view-messages': async ({ body }) => {
      const { connection, messages } = await body<{ connection: number; messages: readonly ViewMessage[] }>();
      for (const { at, way, message, refused } of messages)
        bench.recorder.record(
          connection,
          { at, way: way === 'out' ? 'sent' : 'received', bytes: JSON.stringify(message).length, message, note: 'view' },
          refused,
        );
      return json({});
    },
  };
}

/** A message between a view and the page that shows it. */
interface ViewMessage {
  /** Milliseconds since the epoch. */
  readonly at: number;
  readonly way: 'in' | 'out';
  readonly message: object;
  readonly refused?: string;
}

function ended(bench: Bench, id: number): Promise<CallSheet> {
  return new Promise((resolve) => {
    const stop = bench.subscribe((event) => {
      if (event.kind !== 'call' || event.call.id !== id || event.call.status === 'running') return;
      stop();
      resolve(event.call);
    });
  });
}

interface AskedOfModel {
  readonly connection: number;
  readonly request: string;
  readonly edits?: Edits;
}

function modelRoutes({ bench, sheets }: Served): Routes {
  return {
    'POST model-view': async ({ body }) => {
      const { connection, tools, edits } = await body<{ connection: number; tools?: string[]; edits?: Edits }>();
      const all = toolsOf(bench, connection).filter(({ _meta }) => mayCall(_meta, 'model'));
      return json(modelView(tools === undefined ? all : all.filter(({ name }) => tools.includes(name)), edits));
    },
    'POST choose': async ({ body }) => {
      const { connection, request, edits = {} } = await body<AskedOfModel>();
      return json(sheets.choose(connection, request, edits));
    },
    'POST ask': async ({ body, request: { signal } }) => {
      const { connection, request, edits = {} } = await body<AskedOfModel>();
      return json(await sheets.ask(connection, request, edits, signal));
    },
  };
}

interface AskedOfSheet {
  readonly connection: number;
  readonly call: number;
  readonly name: string;
  readonly label?: string;
  readonly only?: string[];
  readonly update?: boolean;
  readonly edits?: Edits;
  readonly byModel?: boolean;
}

function sheetRoutes({ sheets }: Served): Routes {
  return {
    'GET sheets': async () => json(await sheets.list()),
    'GET sheets/': async ({ url }) => json(await sheets.open(url.searchParams.get('name') ?? '')),
    'PUT sheets/': async ({ url, request }) => json(await sheets.save(url.searchParams.get('name') ?? '', await request.text())),
    'POST sheets/': async ({ id, url, body, request: { signal } }) => {
      const given = await body<AskedOfSheet>();
      const { connection, name, edits = {}, byModel = false, only, update } = given;
      switch (id) {
        case 'keep':
          return json(await sheets.keep(given.call, name, given.label));
        case 'from-trace':
          return json(await sheets.fromTrace(connection, name));
        case 'replay':
          return inSteps((tell) =>
            sheets.replay(connection, name, { signal, tell, ...(only && { only }), ...(update && { update: true }) }),
          );
        case 'rehearse':
          return inSteps((tell) => sheets.rehearse(connection, name, { edits, byModel, signal, tell }));
        default:
          return refuse(404, 'JEXO_USAGE', `There is nothing at ${url.pathname}.`);
      }
    },
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
