import type { Asker } from '../client/answer-server.js';
import { compileSchema } from '../offers/schema.js';
import { errorCodes, RpcError } from '../protocol/json-rpc.js';
import type { CreateMessageParams, CreateMessageResult, ElicitResult, ProgressUpdate, Task, Tool } from '../protocol/types.js';
import { parseTemplate } from '../protocol/uri-template.js';
import { createConnection, type Connection, type ConnectionSpec, type ConnectionState } from './connection.js';
import { createWireJudge } from './judge-wire.js';
import { createRecorder } from './recorder.js';
import type { ShelfItem } from './shelf.js';
import { standInModel } from './stand-in-model.js';
import { troubleOf } from './trouble.js';
import type { CallRequest, CallEvent, CallSheet, Question, Reply, StderrLine, BenchEvent, Bench, BenchOptions } from './bench-state.js';
import { maskSpec, unmaskSpec } from './mask-spec.js';
import { failedWith, settled, settledTool } from './settle-call.js';

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

  const sample = async (
    connection: number,
    request: CreateMessageParams,
    signal: AbortSignal,
    asker: Asker,
  ): Promise<CreateMessageResult> => {
    const [first] = [request.messages.at(-1)?.content ?? []].flat();
    const message = first?.type === 'text' ? first.text : 'The server wants the model’s answer.';
    const reply = await ask({ connection, kind: 'sampling', message, asker, request }, signal);
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
          form: async ({ message, requestedSchema, asker, signal }) =>
            toElicited(await ask({ connection: id, kind: 'form', message, asker, schema: requestedSchema }, signal)),
          url: async ({ message, url, warnings, asker, signal }) => {
            const { action } = toElicited(await ask({ connection: id, kind: 'page', message, asker, url, warnings }, signal));
            return { action };
          },
        },
        sampling: { create: (request, signal, asker) => sample(id, request, signal, asker) },
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
