import { createBenchCalls } from './bench-calls.js';
import { createBenchChecks } from './bench-checks.js';
import { createBenchQuestions } from './bench-questions.js';
import type { Bench, BenchEvent, BenchOptions, StderrLine } from './bench-state.js';
import { createConnection, type Connection, type ConnectionListener, type ConnectionSpec, type ConnectionState } from './connection.js';
import { createWireJudge } from './judge-wire.js';
import { maskSpec, unmaskSpec } from './mask-spec.js';
import { createRecorder } from './recorder.js';

const keptLines = 2000;

/** The computation behind the inspector page: its connections, their shelves, the calls and the trace. */
// eslint-disable-next-line max-lines-per-function -- the operations share the connections
export function createBench({ open, show, maxCalls = 200 }: BenchOptions): Bench {
  const recorder = createRecorder();
  const subscribers = new Set<(event: BenchEvent) => void>();
  const emit = (event: BenchEvent) => subscribers.forEach((task) => task(event));
  const connections = new Map<number, Connection>();
  const imported = new Map<number, ConnectionState>();
  let lines: StderrLine[] = [];
  let last = 0;
  const need = (id: number): Connection => {
    const found = connections.get(id);
    if (found === undefined) throw new RangeError(`There is no connection ${id}.`);
    return found;
  };
  const calls = createBenchCalls(maxCalls, (id) => need(id).client, emit);
  const questions = createBenchQuestions(calls, emit);
  const checks = createBenchChecks((id) => need(id).state.shelf);

  const listenerOf = (id: number): ConnectionListener => ({
    state(state) {
      checks.forget(id);
      emit({ kind: 'connection', state: { ...state, spec: maskSpec(state.spec) } });
    },
    wire: (event, wrong) => recorder.record(id, event, wrong),
    stderr(text) {
      const line = { connection: id, line: text, at: Date.now() };
      lines = [...lines, line].slice(-keptLines);
      emit({ kind: 'stderr', line });
    },
    log: (message) => calls.logged(id, message),
    updated(uri) {
      calls.updated(id, uri);
      emit({ kind: 'updated', connection: id, uri });
    },
  });
  const make = (id: number, spec: ConnectionSpec): Connection =>
    createConnection({ id, spec, shown: show(spec) }, open, questions.answersFor(id), listenerOf(id));

  return {
    recorder,
    connections: () => [...[...connections.values()].map(({ state }) => ({ ...state, spec: maskSpec(state.spec) })), ...imported.values()],
    calls: calls.all,
    questions: questions.open,
    stderr: () => lines,
    add(spec) {
      const id = ++last;
      const connection = make(id, spec);
      connections.set(id, connection);
      const connected = connection.connect();
      return { state: connection.state, connected };
    },
    connection: need,
    async openAgain(id, answers) {
      const judge = createWireJudge();
      const { client } = await open(need(id).state.spec, {
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
      const id = ++last;
      const judge = createWireJudge();
      for (const event of events) recorder.record(id, event, judge(event));
      const state = importedState(id, name);
      imported.set(id, state);
      emit({ kind: 'connection', state });
      return state;
    },
    call: calls.call,
    cancel: calls.cancel,
    reply: questions.reply,
    check: checks.check,
    subscribe(task) {
      subscribers.add(task);
      return () => subscribers.delete(task);
    },
    async close() {
      calls.cancelAll();
      questions.withdrawAll();
      await Promise.all([...connections.values()].map((connection) => connection.close()));
    },
  };
}

/** A saved trace stands beside the connections, and has nothing but its messages. */
function importedState(id: number, name: string): ConnectionState {
  return {
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
}
