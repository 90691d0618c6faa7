import { availableParallelism } from 'node:os';
import { resolve } from 'node:path';
import { readFile } from 'node:fs/promises';
import { diffLines } from 'diff';
import { JexoError, isJexoError } from '../../errors.js';
import type { Difference } from '../../inspect/difference.js';
import { readJsonLines } from '../../inspect/recorder.js';
import { callsFromWire } from '../../inspect/sheets/from-wire.js';
import { readCallSheet, type CallSheetFile } from '../../inspect/sheets/call-sheet.js';
import type { Wrong } from '../../inspect/sheets/judge-answer.js';
import { toJUnit } from '../../inspect/sheets/junit.js';
import { chooseCalls, replaySheet, type Replayed, type ReplayedCall } from '../../inspect/sheets/replay.js';
import { addCall, updateSheet } from '../../inspect/sheets/write-sheet.js';
import { connectTarget, showTarget, type TargetWords } from '../connect-target.js';
import { clientOptions, list, number } from '../options.js';
import type { CliCommand, ExitCode, Invocation } from '../command.js';
import { isCallSheet, readSheetFile, requireSheetName, targetFromSheet, targetOfSheet, writeSheet } from '../keep-call.js';
import { duration, note, onErr, onOut, print, printJson, symbols, width, wrap } from '../terminal.js';
import { stopOnInterrupt, wireTap, type ClientCommandOptions } from '../with-client.js';
import { counted } from '../../protocol/counted.js';

interface ReplayOptions extends ClientCommandOptions {
  readonly only?: string[];
  readonly update?: boolean;
  readonly junit?: string;
  readonly parallel?: number;
  readonly write?: string;
}

const usage = 'As in: jexo replay apiary.calls.yaml, or: jexo replay apiary.calls.yaml other.ts';

/** One sheet on one server. */
interface Run {
  readonly sheet: CallSheetFile;
  readonly target: TargetWords;
  readonly done?: Replayed;
  readonly error?: JexoError;
}

/** Replays call sheets, each on servers of its own, and fails when an answer is not what it must be. */
async function replay({ operands, command, options }: Invocation<ReplayOptions>): Promise<ExitCode> {
  const sheets = operands.filter(isCallSheet);
  const logs = operands.filter((each) => /\.jsonl$/i.test(each));
  const targets = operands.filter((each) => !sheets.includes(each) && !logs.includes(each));
  if (sheets.length + logs.length === 0)
    throw new JexoError('JEXO_USAGE', 'No call sheet was given: a file whose name ends in .calls.yaml, or a wire log (.jsonl).', {
      next: usage,
    });
  if (options.write !== undefined) return writeFromLogs(logs, options.write, targets[0], command);
  const read = await Promise.all([
    ...sheets.map(async (file) => readCallSheet(await readSheetFile(file), file)),
    ...logs.map(async (file) => readCallSheet(await sheetOfLog(file), file)),
  ]);
  for (const sheet of read)
    if (chooseCalls(sheet.calls, options.only).length === 0)
      throw new JexoError('JEXO_USAGE', `No call on ${sheet.file} is called ${options.only?.join(', ') ?? 'anything: it is empty'}.`, {
        where: sheet.file,
        next:
          sheet.calls.length === 0
            ? 'Keep a call on it: jexo call … --keep <sheet>'
            : `Its calls are: ${sheet.calls.map(({ name }) => name).join(', ')}`,
      });
  const runs = read.flatMap((sheet) => targetsOf(sheet, targets, command).map((target): Run => ({ sheet, target })));
  if (options.update && runs.length > read.length)
    throw new JexoError('JEXO_USAGE', 'A sheet can be updated from one server only.', { where: '--update' });
  const { signal, release } = stopOnInterrupt();
  const start = performance.now();
  const done: Run[] = [];
  try {
    let next = 0;
    const lane = async () => {
      for (let index = next++; index < runs.length && !signal.aborted; index = next++) {
        const result = await perform(runs[index]!, options, signal, runs.length === 1);
        done[index] = result;
        if (runs.length > 1 && !options.json) showRun(result);
      }
    };
    await Promise.all(Array.from({ length: Math.min(options.parallel ?? availableParallelism(), runs.length) }, lane));
  } finally {
    release();
  }
  signal.throwIfAborted();
  if (options.update) for (const run of done) await update(run, options.json ?? false);
  if (options.junit !== undefined) await writeSheet(options.junit, toJUnit(done.map(suiteOf)));
  const unreached = done.find(({ error }) => error !== undefined);
  const differing = done.flatMap((run) => run.done?.calls.filter(({ status }) => status === 'different') ?? []);
  if (options.json)
    printJson(
      JSON.stringify(
        {
          runs: done.map(({ sheet, target, done: result, error }) => ({
            sheet: sheet.file,
            target: showTarget(target),
            ...result,
            ...(error && { error }),
          })),
        },
        null,
        2,
      ),
    );
  else summary(done, performance.now() - start);
  if (unreached !== undefined) {
    if (runs.length === 1 && !options.json) throw unreached.error!;
    return 3;
  }
  return differing.length > 0 && !options.update ? 1 : 0;
}

function targetsOf(sheet: CallSheetFile, given: readonly string[], command: readonly string[] | undefined): TargetWords[] {
  const named: TargetWords[] = [
    ...given.map((text) => ({ text, command: undefined })),
    ...(command === undefined ? [] : [{ text: undefined, command }]),
  ];
  if (named.length > 0) return named;
  if (sheet.target === undefined)
    throw new JexoError('JEXO_USAGE', `${sheet.file} does not say which server it is for.`, {
      where: sheet.file,
      next: `Give one: jexo replay ${sheet.file} hives.ts`,
    });
  return [targetOfSheet(sheet.file, sheet.target)];
}

async function perform(run: Run, options: Invocation<ReplayOptions>['options'], signal: AbortSignal, live: boolean): Promise<Run> {
  const { sheet, target } = run;
  try {
    const done = await replaySheet(sheet, {
      async connect(answers) {
        const { client } = await connectTarget(target, {
          ...answers,
          ...wireTap(options),
          fresh: true,
          ...(options.timeout !== undefined && { timeoutMs: options.timeout * 1000 }),
          wireLog: options.wireLog,
          opening: options.opening,
        });
        return client;
      },
      env: process.env,
      signal,
      ...(options.only && { only: options.only }),
      onCall(call) {
        if (live && !options.json) showCall(sheet, call);
      },
    });
    return { ...run, done };
  } catch (error) {
    if (isJexoError(error)) return { ...run, error };
    throw error;
  }
}

async function sheetOfLog(file: string, into = file, target?: string | readonly string[]): Promise<string> {
  const calls = await callsFromWire(readJsonLines(await readSheetFile(file)));
  if (calls.length === 0)
    throw new JexoError('JEXO_USAGE', `${file} holds no call that was answered.`, {
      where: file,
      next: 'Record one: jexo call … --wire-log <file>',
    });
  return calls.reduce((text, call) => addCall(text, into, call, target), '');
}

/** A wire log becomes a sheet, and nothing is called. */
async function writeFromLogs(
  logs: readonly string[],
  into: string,
  target: string | undefined,
  command: readonly string[] | undefined,
): Promise<void> {
  requireSheetName(into);
  const [log, another] = logs;
  if (log === undefined || another !== undefined)
    throw new JexoError('JEXO_USAGE', '--write makes a call sheet of one wire log.', {
      next: 'As in: jexo replay session.jsonl --write session.calls.yaml',
    });
  const text = await sheetOfLog(log, into, targetFromSheet(into, target) ?? command);
  const { calls } = await readCallSheet(text, into);
  if ((await readFile(into, 'utf8').catch(() => undefined)) !== undefined)
    throw new JexoError('JEXO_USAGE', `${into} is there already.`, { where: into, next: 'Choose another name, or move it away first.' });
  await writeSheet(into, text);
  note(`${onErr('moss', symbols.ok)} ${into}: ${counted(calls.length, 'call')} from ${log}`);
}

async function update({ sheet, done }: Run, quiet: boolean): Promise<void> {
  if (done === undefined) return;
  if (!isCallSheet(sheet.file))
    throw new JexoError('JEXO_USAGE', `${sheet.file} is a wire log, which is not changed.`, {
      where: sheet.file,
      next: 'Make a sheet of it with --write.',
    });
  const { text, names } = updateSheet(sheet, done);
  if (names.length > 0) await writeSheet(resolve(sheet.file), text);
  if (!quiet)
    note(
      names.length === 0
        ? onErr('quiet', `${sheet.file} stays as it is.`)
        : `${onErr('moss', symbols.ok)} ${sheet.file}; updated: ${names.join(', ')}. Read the difference before you commit it.`,
    );
}

function suiteOf({ sheet, target, done, error }: Run): Parameters<typeof toJUnit>[0][number] {
  const name = `${sheet.file} on ${showTarget(target)}`;
  if (done === undefined)
    return {
      name,
      tookMs: 0,
      cases: [{ name: 'connect', file: sheet.file, line: 1, tookMs: 0, failure: error?.message ?? 'not reached' }],
    };
  return {
    name,
    tookMs: done.tookMs,
    cases: done.calls.map(({ name: own, line, tookMs, wrong }) => ({
      name: own,
      file: sheet.file,
      line,
      tookMs,
      ...(wrong.length > 0 && { failure: wrong.flatMap(plainLines).join('\n') }),
    })),
  };
}

function plainLines({ message, differences = [] }: Wrong): string[] {
  return [
    message,
    ...differences.map(
      ({ path, kind, before, after }) =>
        `${path || '(answer)'}: wanted ${kind === 'added' ? 'nothing' : JSON.stringify(before)}, got ${kind === 'removed' ? 'nothing' : JSON.stringify(after)}`,
    ),
  ];
}

function showRun({ sheet, target, done, error }: Run): void {
  print(onOut('bold', `${sheet.file} on ${showTarget(target)}`));
  if (error !== undefined) print(`${onOut('brick', symbols.failed)} ${error.message} ${onOut('quiet', `(${error.code})`)}`);
  for (const call of done?.calls ?? []) showCall(sheet, call);
}

function showCall(sheet: CallSheetFile, { name, subject, line, tookMs, status, wrong }: ReplayedCall): void {
  const beside = name === subject ? '' : `  ${subject}`;
  if (status === 'as kept') return print(`${onOut('moss', symbols.ok)} ${name}${onOut('quiet', `${beside}  ${duration(tookMs)}`)}`);
  print(
    `${onOut('brick', symbols.failed)} ${onOut('bold', name)}${onOut('quiet', `${beside}  ${duration(tookMs)}  ${sheet.file}:${line}`)}`,
  );
  for (const { message, differences = [] } of wrong) {
    for (const each of wrap(message, width() - 2)) print(`  ${each}`);
    for (const difference of differences) showDifference(difference);
  }
}

/** What was wanted on lines with a minus, what came on lines with a plus. */
function showDifference({ path, kind, before, after }: Difference): void {
  print(`    ${onOut('heather', path === '' ? 'the whole answer' : path)}`);
  if (typeof before === 'string' && typeof after === 'string' && /\n/.test(before + after)) {
    for (const { value, added, removed } of diffLines(before, after))
      for (const line of value.replace(/\n$/, '').split('\n'))
        print(added ? onOut('moss', `    + ${line}`) : removed ? onOut('brick', `    - ${line}`) : onOut('quiet', `      ${line}`));
    return;
  }
  const lines = (value: unknown) =>
    typeof value === 'object' && value !== null ? JSON.stringify(value, null, 2).split('\n') : [JSON.stringify(value)];
  if (kind !== 'added') for (const line of lines(before)) print(onOut('brick', `    - ${line}`));
  if (kind !== 'removed') for (const line of lines(after)) print(onOut('moss', `    + ${line}`));
}

function summary(done: readonly Run[], tookMs: number): void {
  const calls = done.flatMap((run) => run.done?.calls ?? []);
  const differing = calls.filter(({ status }) => status === 'different').length;
  const unreached = done.filter(({ error }) => error !== undefined).length;
  const parts = [
    `${calls.length - differing} of ${counted(calls.length, 'call')} answered as kept`,
    ...(unreached > 0 ? [`${unreached} of ${counted(done.length, 'server')} not reached`] : []),
  ];
  note(
    `${differing + unreached === 0 ? onErr('moss', symbols.ok) : onErr('brick', symbols.failed)} ${parts.join(', ')} ${onErr('quiet', `in ${duration(tookMs)}`)}`,
  );
}

export const command: CliCommand<ReplayOptions> = {
  name: 'replay',
  about: 'repeat the calls of a call sheet and report answers that differ',
  operands: [['[sheets and targets...]', 'call sheets (*.calls.yaml) or wire logs (*.jsonl); targets replace those in the sheets']],
  options: [
    { flags: '--only <names>', about: 'only these calls and those they depend on; patterns such as lots*', read: list },
    { flags: '--update', about: 'accept the new answers: write them to the sheet' },
    { flags: '--junit <file>', about: 'write a report for continuous integration' },
    {
      flags: '--parallel <n>',
      about: 'servers run at once (default: the number of processors)',
      read: number('--parallel', 1, 256),
    },
    { flags: '--write <sheet>', about: 'write a call sheet from a wire log, without calling' },
    ...clientOptions,
  ],
  takes: ['open', 'connect'],
  help: `Examples:
  jexo replay apiary.calls.yaml                          on the server the sheet names
  jexo replay apiary.calls.yaml http://127.0.0.1:4300/mcp
  jexo replay *.calls.yaml --junit report.xml            in continuous integration
  jexo replay apiary.calls.yaml --only 'syrup*' --update
  jexo replay session.jsonl --write session.calls.yaml   from a wire log

To add a call to a sheet: jexo call hives.ts mix_syrup colonies=12 --keep hives.calls.yaml
Exit codes: 0 all answers match, 1 some differ, 2 a sheet cannot be read, 3 a server could not be reached.`,
  run: replay,
};
