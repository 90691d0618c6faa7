import type { Client } from '../client/connect-link.js';
import type { LogMessage, ProgressUpdate, Task } from '../protocol/types.js';
import { parseTemplate } from '../protocol/uri-template.js';
import type { BenchEvent, CallEvent, CallRequest, CallSheet, Question } from './bench-state.js';
import { failedWith, settled, settledTool } from './settle-call.js';
import { troubleOf } from './trouble.js';

const keptEvents = 1000;
const mostRuns = 1000;

/** The calls made at the bench, each on a sheet of its own. */
export interface BenchCalls {
  all(): readonly CallSheet[];
  call(request: CallRequest): CallSheet;
  /** False when no such call is running. */
  cancel(id: number): boolean;
  cancelAll(): void;
  /** Ids of the calls that run on a connection. */
  runningOn(connection: number): readonly number[];
  showQuestion(id: number, question: Question): void;
  /** A log message names no call: it is shown on each that is running. */
  logged(connection: number, message: LogMessage): void;
  /** Reads a resource that has changed again, onto the sheet it was last read on. */
  updated(connection: number, uri: string): void;
}

/** The message of our own progress over several runs. */
const runsMessage = 'runs';

/** @param clientOf the client of a connection; undefined while it is not connected @throws RangeError for an unknown one */
// eslint-disable-next-line max-lines-per-function -- the operations share the sheets
export function createBenchCalls(
  maxCalls: number,
  clientOf: (connection: number) => Client | undefined,
  emit: (event: BenchEvent) => void,
): BenchCalls {
  const sheets = new Map<number, CallSheet>();
  const running = new Map<number, AbortController>();
  let last = 0;
  const update = (id: number, change: Partial<CallSheet>) => {
    const sheet = { ...sheets.get(id)!, ...change };
    sheets.set(id, sheet);
    emit({ kind: 'call', call: sheet });
  };
  const addEvent = (id: number, event: CallEvent) => update(id, { events: [...sheets.get(id)!.events, event].slice(-keptEvents) });
  const runningOn = (connection: number) => [...running.keys()].filter((id) => sheets.get(id)!.connection === connection);

  const perform = async (request: CallRequest, id: number, signal: AbortSignal): Promise<Partial<CallSheet>> => {
    const client = clientOf(request.connection);
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

  /** Makes the call as often as was asked for; the sheet shows the last answer, and how long each run took. */
  const performAll = async (request: CallRequest, id: number, times: number, signal: AbortSignal): Promise<void> => {
    const start = performance.now();
    const runs: number[] = [];
    let change: Partial<CallSheet> = {};
    try {
      for (let run = 0; run < times; run++) {
        const began = performance.now();
        change = await perform(request, id, signal);
        runs.push(performance.now() - began);
        if (times > 1 && run + 1 < times && (run < 5 || run % 10 === 0))
          update(id, { events: [{ kind: 'progress', progress: run + 1, total: times, message: runsMessage }] });
      }
    } catch (error) {
      change = failedWith(error, signal.aborted);
    }
    running.delete(id);
    const tookMs = times > 1 && runs.length > 0 ? runs.at(-1)! : performance.now() - start;
    // The runs themselves say how many there were.
    const events = sheets.get(id)!.events.filter((event) => event.kind !== 'progress' || event.message !== runsMessage);
    update(id, { ...change, tookMs, ...(times > 1 && { runs, events }) });
  };

  const readAgain = async (id: number, uri: string): Promise<void> => {
    const client = clientOf(sheets.get(id)!.connection);
    if (client === undefined) return;
    addEvent(id, { kind: 'updated', uri });
    try {
      update(id, settled(await client.read(uri)));
    } catch (error) {
      update(id, { trouble: troubleOf(error) });
    }
  };

  return {
    all: () => [...sheets.values()],
    call(given) {
      const id = ++last;
      const { item } = given;
      const request = item === undefined ? given : { ...given, name: parseTemplate(item).expand(given.input as Record<string, string>) };
      const stop = new AbortController();
      const times = Math.min(Math.max(1, Math.floor(request.times ?? 1)), mostRuns);
      sheets.set(id, { ...request, id, status: 'running', startedAt: Date.now(), events: [] });
      for (const old of sheets.keys()) if (sheets.size > maxCalls && !running.has(old)) sheets.delete(old);
      running.set(id, stop);
      emit({ kind: 'call', call: sheets.get(id)! });
      void performAll(request, id, times, stop.signal);
      return sheets.get(id)!;
    },
    cancel(id) {
      running.get(id)?.abort();
      return running.has(id);
    },
    cancelAll() {
      for (const stop of running.values()) stop.abort();
    },
    runningOn,
    showQuestion(id, question) {
      const { events } = sheets.get(id)!;
      const isOwn = (event: CallEvent) => event.kind === 'question' && event.question.id === question.id;
      if (!events.some(isOwn)) addEvent(id, { kind: 'question', question });
      else update(id, { events: events.map((event) => (isOwn(event) ? { kind: 'question', question } : event)) });
    },
    logged: (connection, message) => runningOn(connection).forEach((id) => addEvent(id, { kind: 'log', ...message })),
    updated(connection, uri) {
      const isOwn = (sheet: CallSheet) => sheet.connection === connection && sheet.kind === 'resource' && sheet.name === uri;
      const sheet = [...sheets.values()].findLast(isOwn);
      if (sheet !== undefined && !running.has(sheet.id)) void readAgain(sheet.id, uri);
    },
  };
}
