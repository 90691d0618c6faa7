import { mayCall } from '../protocol/views.js';
import { isJexoError, JexoError } from '../errors.js';
import type { Model, Move } from '../models/model.js';
import type { Tool } from '../protocol/types.js';
import type { Bench, CallSheet } from './bench-state.js';
import { readRequestSheet } from './rehearsal/request-sheet.js';
import { rehearse, type Rehearsed } from './rehearsal/rehearse.js';
import { standInChooser, weigh } from '../models/stand-in-chooser.js';
import { promptAnswer, resourceAnswer, toolAnswer } from './sheets/answer-value.js';
import { withoutPassword } from '../protocol/without-password.js';
import { readCallSheet, type KeptReply } from './sheets/call-sheet.js';
import { callsFromWire } from './sheets/from-wire.js';
import { replaySheet, type Replayed } from './sheets/replay.js';
import type { SheetIssue } from './sheets/sheet-text.js';
import { addCall, updateSheet, type CallToKeep } from './sheets/write-sheet.js';
import { stableWords } from './sheets/judge-answer.js';
import { editTools, type Edits } from './model-view.js';

/** Where sheets lie. What opens files is handed in, so that this room stays free of Node. */
export interface SheetStore {
  /** Names of all sheets, as a person would type them. */
  list(): Promise<readonly string[]>;
  /** A sheet's text; empty when there is none of this name. */
  load(name: string): Promise<string>;
  save(name: string, text: string): Promise<void>;
  /** How a sheet names a target. */
  targetFrom(name: string, target: string): string;
  readonly env: Readonly<Record<string, string | undefined>>;
}

export interface OpenedSheet {
  readonly name: string;
  readonly kind: 'calls' | 'requests';
  readonly text: string;
  /** What is wrong with it, by line; nothing can be run until it is fixed. */
  readonly issues: readonly SheetIssue[];
  readonly calls: readonly { readonly name: string; readonly kind: string; readonly subject: string; readonly line: number }[];
  readonly requests: readonly { readonly say: string; readonly tools: readonly string[]; readonly line: number }[];
}

/** Called with each step of long work. */
export type Tell = (done: number, of: number) => void;

export interface BenchSheets {
  list(): Promise<readonly { readonly name: string; readonly kind: OpenedSheet['kind'] }[]>;
  open(name: string): Promise<OpenedSheet>;
  /** Writes a sheet as it is, also when something is wrong with it: nothing that was typed is lost. */
  save(name: string, text: string): Promise<OpenedSheet>;
  /** Puts a call of the bench, with its answer, on a sheet. */
  keep(call: number, name: string, label: string | undefined): Promise<OpenedSheet>;
  /** Makes a sheet of a connection's trace. */
  fromTrace(connection: number, name: string): Promise<OpenedSheet>;
  replay(
    connection: number,
    name: string,
    options: { readonly only?: readonly string[]; readonly update?: boolean; readonly signal: AbortSignal; readonly tell?: Tell },
  ): Promise<Replayed & { readonly updated: readonly string[] }>;
  rehearse(
    connection: number,
    name: string,
    options: { readonly edits: Edits; readonly byModel: boolean; readonly signal: AbortSignal; readonly tell?: Tell },
  ): Promise<Rehearsed>;
  /** The model that can be asked, by name; undefined when there is only the stand-in. */
  readonly model: string | undefined;
  /** What the model would do first about a request. */
  ask(connection: number, request: string, edits: Edits, signal: AbortSignal): Promise<Move>;
  /** The tools the stand-in would choose for a request, the likeliest first. */
  choose(connection: number, request: string, edits: Edits): ReturnType<typeof weigh>;
}

/** Call sheets and request sheets on the bench; `model` is asked where a person wants it rather than the stand-in. */
// eslint-disable-next-line max-lines-per-function -- the operations share one bench
export function createBenchSheets(bench: Bench, store: SheetStore, model?: Model): BenchSheets {
  const requireModel = (): Model => {
    if (model !== undefined) return model;
    throw new JexoError('JEXO_USAGE', 'This bench was given no model.', {
      next: 'Start it with one: jexo inspect … --model-url <url> --model <name>',
    });
  };
  const instructionsOf = (connection: number) => {
    const { instructions } = bench.connection(connection).state.server ?? {};
    return instructions === undefined ? {} : { instructions };
  };
  const tools = (connection: number, edits: Edits): Tool[] =>
    editTools(
      bench
        .connection(connection)
        .state.shelf.filter(({ kind, offer }) => kind === 'tool' && mayCall(offer._meta, 'model'))
        .map(({ offer }) => offer as Tool),
      edits,
    );
  const write = async (name: string, text: string): Promise<OpenedSheet> => {
    kindOf(name);
    await store.save(name, text);
    return read(name, text);
  };
  const targetOf = (connection: number, name: string) => {
    const { target, command } = bench.connection(connection).state.spec;
    return command?.map(withoutPassword) ?? store.targetFrom(name, target);
  };
  return {
    async list() {
      return (await store.list()).map((name) => ({ name, kind: kindOf(name) }));
    },
    open: async (name) => read(name, await store.load(name)),
    save: write,
    async keep(id, name, label) {
      const call = bench.calls().find((each) => each.id === id);
      if (call === undefined) throw new JexoError('JEXO_USAGE', 'This call is not on the bench any more.');
      const before = await store.load(name);
      if (before.trim() !== '') await readCallSheet(before, name);
      const kept = await toKeep(call);
      return write(
        name,
        addCall(before, name, { ...kept, ...(label !== undefined && label !== '' && { name: label }) }, targetOf(call.connection, name)),
      );
    },
    async fromTrace(connection, name) {
      const events = bench.recorder.since(0).filter((entry) => entry.connection === connection);
      const calls = await callsFromWire(events);
      if (calls.length === 0)
        throw new JexoError('JEXO_USAGE', 'No call of this trace was answered.', {
          next: 'Call something first, then make a sheet of it.',
        });
      if ((await store.load(name)) !== '')
        throw new JexoError('JEXO_USAGE', `${name} is there already.`, { where: name, next: 'Choose another name.' });
      const imported = bench.connections().some(({ id, status }) => id === connection && status === 'imported');
      const target = imported ? undefined : targetOf(connection, name);
      return write(
        name,
        calls.reduce((text, call) => addCall(text, name, call, target), ''),
      );
    },
    async replay(connection, name, { only, update = false, signal, tell }) {
      const sheet = await readCallSheet(await store.load(name), name);
      const done = await replaySheet(sheet, {
        connect: (answers) => bench.openAgain(connection, answers),
        env: store.env,
        signal,
        ...(only && { only }),
        ...(tell && { onCall: (_, done, of) => tell(done, of) }),
      });
      if (!update) return { ...done, updated: [] };
      const { text, names } = updateSheet(sheet, done);
      if (names.length > 0) await store.save(name, text);
      return { ...done, updated: names };
    },
    async rehearse(connection, name, { edits, byModel, signal, tell }) {
      return rehearse(await readRequestSheet(await store.load(name), name), {
        tools: tools(connection, edits),
        model: byModel ? requireModel() : standInChooser,
        signal,
        ...instructionsOf(connection),
        ...(tell && { onRequest: (_, done, of) => tell(done, of) }),
      });
    },
    model: model?.name,
    ask: (connection, request, edits, signal) =>
      requireModel().next(
        { tools: tools(connection, edits), talk: [{ role: 'user', text: request }], ...instructionsOf(connection) },
        signal,
      ),
    choose: (connection, request, edits) => weigh(request, tools(connection, edits)),
  };
}

function kindOf(name: string): OpenedSheet['kind'] {
  const [, kind] = /\.(calls|requests)\.(?:ya?ml|json)$/i.exec(name) ?? [];
  if (kind === undefined)
    throw new JexoError('JEXO_USAGE', `${name} is no name of a sheet.`, {
      where: name,
      next: 'Name it so that it ends in .calls.yaml or .requests.yaml.',
    });
  return kind.toLowerCase() as OpenedSheet['kind'];
}

async function read(name: string, text: string): Promise<OpenedSheet> {
  const kind = kindOf(name);
  const base = { name, kind, text, issues: [], calls: [], requests: [] };
  try {
    if (kind === 'requests') {
      const { requests } = await readRequestSheet(text, name);
      return { ...base, requests: requests.map(({ say, tools, line }) => ({ say, tools, line })) };
    }
    const { calls } = await readCallSheet(text, name);
    return { ...base, calls: calls.map(({ name: own, kind: what, subject, line }) => ({ name: own, kind: what, subject, line })) };
  } catch (error) {
    if (!isJexoError(error) || error.code !== 'JEXO_SHEET') throw error;
    return { ...base, issues: (error.data as { issues: SheetIssue[] }).issues };
  }
}

async function toKeep(call: CallSheet): Promise<CallToKeep> {
  const { kind, name: subject, item, input, result, contents, messages, trouble, events } = call;
  const base = { kind, subject, input: kind === 'resource' || item !== undefined ? {} : input };
  const replies = events.flatMap((event): (Partial<KeptReply> | KeptReply['action'])[] => {
    if (event.kind !== 'question' || event.question.state === 'open') return [];
    const { state, kind: asked, answer } = event.question;
    if (state !== 'answered') return [state === 'declined' ? 'decline' : 'cancel'];
    return asked === 'page'
      ? ['accept']
      : asked === 'sampling'
        ? [{ say: String(answer ?? '') }]
        : [{ with: (answer ?? {}) as Record<string, unknown> }];
  });
  const more = replies.length > 0 ? { replies } : {};
  if (contents !== undefined) return { ...base, must: { be: (await resourceAnswer({ contents })).value } };
  if (messages !== undefined) return { ...base, must: { be: (await promptAnswer({ messages })).value } };
  if (result !== undefined) {
    const { value, text } = await toolAnswer(result);
    return { ...base, ...more, must: result.isError ? { fail: stableWords(text) } : { be: value } };
  }
  if (call.status === 'running' || call.status === 'cancelled' || trouble === undefined)
    throw new JexoError('JEXO_USAGE', 'A call that was not answered cannot be kept.', { next: 'Wait for its answer, or call again.' });
  return { ...base, ...more, must: { fail: stableWords(trouble.message) } };
}
