import { mayCall } from '../../protocol/views.js';
import type { Client } from '../../client/connect-link.js';
import type { Candidate, Model, TalkEntry, ToolCall } from '../../models/model.js';
import { JexoError, messageOf } from '../../errors.js';
import { noTool, readRequestSheet, type RequestSheetFile } from '../../inspect/rehearsal/request-sheet.js';
import { rehearse as rehearseSheet, type Confusion, type Rehearsed, type RehearsedRequest } from '../../inspect/rehearsal/rehearse.js';
import {
  readQuestionSheet,
  rehearseQuestions,
  type QuestionSheetFile,
  type RehearsedQuestion,
  type RehearsedWay,
  type RehearsedQuestions,
} from '../../inspect/rehearsal/rehearse-questions.js';
import { standIn as standInForConversations } from '../../models/stand-in.js';
import { standInChooser } from '../../models/stand-in-chooser.js';
import { rehearseConversation } from '../../inspect/rehearsal/rehearse-conversation.js';
import { createScript } from '../../inspect/sheets/script.js';
import { toolAnswer } from '../../inspect/sheets/answer-value.js';
import { toJUnit } from '../../inspect/sheets/junit.js';
import { askYesNo, isSomebodyThere } from '../ask.js';
import { showTarget, takeTarget, type TargetWords } from '../connect-target.js';
import type { CliCommand, ExitCode, Invocation } from '../command.js';
import { clientOptions, modelOptions, number, standIn } from '../options.js';
import { modelOf, type ModelOptions } from '../model-options.js';
import { isQuestionSheet, isRequestSheet, readSheetFile, targetOfSheet, writeSheet } from '../keep-call.js';
import { duration, note, onErr, onOut, print, printJson, symbols, table, width, wrap } from '../terminal.js';
import { withClient, type ClientCommandOptions } from '../with-client.js';
import { counted } from '../../protocol/counted.js';

interface RehearseCommandOptions extends ClientCommandOptions, ModelOptions {
  readonly failUnder: number;
  readonly junit?: string;
  readonly run?: boolean;
  readonly yes?: boolean;
  /** Rounds of calls a model may make for one request. */
  readonly rounds: number;
}

const usage = 'As in: jexo rehearse apiary.ts apiary.requests.yaml, or: jexo rehearse apiary.ts "how much sugar for 12 colonies"';

/** Says which tool a request leads to: one in plain words, or all of a request sheet. */
async function rehearse({ operands, command, options }: Invocation<RehearseCommandOptions>): Promise<ExitCode> {
  const model = modelOf(options) ?? standInChooser;
  const questions = operands.find(isQuestionSheet);
  if (questions !== undefined) {
    if (options.run || options.modelUrl !== undefined)
      throw new JexoError('JEXO_USAGE', 'A question sheet asks the search itself: --run and the options of a model have no part in it.', {
        where: questions,
      });
    const sheet = await readQuestionSheet(await readSheetFile(questions), questions);
    return onQuestions(
      sheet,
      targetOf(
        sheet,
        operands.filter((each) => each !== questions),
        command,
      ),
      options,
    );
  }
  const file = operands.find(isRequestSheet);
  const others = operands.filter((each) => each !== file);
  if (file !== undefined) {
    const sheet = await readRequestSheet(await readSheetFile(file), file);
    return onSheet(sheet, targetOf(sheet, others, command), model, options);
  }
  const { target, rest } = takeTarget(others, command, usage);
  if (rest.length === 0)
    throw new JexoError('JEXO_USAGE', 'No request was given: write one in plain words, or give a request sheet.', { next: usage });
  return onWords(rest.join(' '), target, model, options);
}

function targetOf(
  sheet: Pick<RequestSheetFile, 'file' | 'target'>,
  given: readonly string[],
  command: readonly string[] | undefined,
): TargetWords {
  if (given.length > 0 || command !== undefined || sheet.target === undefined) return takeTarget(given, command, usage).target;
  return targetOfSheet(sheet.file, sheet.target);
}

async function toolsOf(client: Client, target: TargetWords) {
  const all = client.server.capabilities.tools === undefined ? [] : await client.tools();
  const tools = all.filter(({ _meta }) => mayCall(_meta, 'model'));
  if (tools.length === 0)
    throw new JexoError('JEXO_NOTHING_OFFERED', `${showTarget(target)} offers no tools to choose from.`, {
      next: 'Give a server that has tools.',
    });
  const { instructions } = client.server;
  return { tools, ...(instructions !== undefined && { instructions }) };
}

async function onSheet(sheet: RequestSheetFile, target: TargetWords, model: Model, options: RehearseCommandOptions): Promise<ExitCode> {
  // Questions of the server are answered from the sheet, where a conversation has replies.
  const script = createScript();
  const isHeld = sheet.requests.some(({ conversation }) => conversation !== undefined);
  return withClient(
    target,
    isHeld ? { ...options, answers: script.answers } : options,
    async ({ client, signal, onProgress, clearProgress }) => {
      const offered = await toolsOf(client, target);
      const done = await rehearseSheet(sheet, {
        ...offered,
        model,
        signal,
        hold: (conversation) =>
          rehearseConversation(conversation, {
            client,
            script,
            model: options.modelUrl === undefined ? standInForConversations : model,
            limits: { steps: options.rounds },
            signal,
          }),
        onRequest(request, progress, total) {
          if (!model.isStandIn) onProgress({ progress, total, message: request.say });
        },
      });
      clearProgress();
      if (options.junit !== undefined) await writeSheet(options.junit, toJUnit([suiteOf(done, target)]));
      const percent = done.requests.length === 0 ? 100 : (100 * done.hits) / done.requests.length;
      const wrongInputs = done.requests.filter(({ wrongInput }) => wrongInput.length > 0).length;
      if (options.json) printJson(JSON.stringify({ target: showTarget(target), ...done }, null, 2));
      else showSheet(done);
      return percent < options.failUnder || wrongInputs > 0 ? 1 : 0;
    },
  );
}

async function onQuestions(sheet: QuestionSheetFile, target: TargetWords, options: RehearseCommandOptions): Promise<ExitCode> {
  return withClient(target, options, async ({ client, signal, onProgress, clearProgress }) => {
    const { tools } = await toolsOf(client, target);
    const began = performance.now();
    const done = await rehearseQuestions(sheet, {
      client,
      tools,
      ...(signal && { signal }),
      // A search takes milliseconds: only a long sheet is worth a word.
      onQuestion: (progress, total, message) => progress % 200 === 199 && onProgress({ progress, total, message }),
    });
    clearProgress();
    if (options.junit !== undefined)
      await writeSheet(options.junit, toJUnit([suiteOfQuestions(done, target, Math.round(performance.now() - began))]));
    if (options.json) printJson(JSON.stringify({ target: showTarget(target), ...done }, null, 2));
    else showQuestions(done);
    return 100 * done.recallAt5 < options.failUnder ? 1 : 0;
  });
}

function showQuestions({ file, tool, questions, recallAt5, mrr, ways }: RehearsedQuestions): void {
  const missed = questions.filter(isMissed);
  for (const question of missed) {
    print(`${onOut('brick', symbols.failed)} ${question.ask} ${onOut('quiet', `(${file}:${question.line})`)}`);
    for (const line of accountOfQuestion(question)) print(onOut('quiet', `  ${line}`));
  }
  const hits = questions.length - missed.length;
  print(
    `${onOut(missed.length === 0 ? 'moss' : 'ochre', missed.length === 0 ? symbols.ok : symbols.warn)} ${tool}: ${hits} of ${questions.length} questions are answered by one of the first five sections`,
  );
  if (ways.length === 1) print(`  recall@5 ${recallAt5.toFixed(2)}, mean reciprocal rank ${mrr.toFixed(2)}`);
  else showWays(ways);
}

/** Every way side by side, with the questions they differ on. */
function showWays(ways: readonly RehearsedWay[]): void {
  print('');
  for (const line of table(
    ['found by', 'recall@5', 'mean reciprocal rank', 'missed'],
    ways.map(({ by = '', questions, recallAt5, mrr }) => [
      by,
      recallAt5.toFixed(2),
      mrr.toFixed(2),
      String(questions.filter(isMissed).length),
    ]),
  ))
    print(line);
  const differing = ways[0]!.questions.filter((_, at) => new Set(ways.map(({ questions }) => isMissed(questions[at]!))).size > 1);
  if (differing.length === 0) return;
  print('');
  for (const line of table(
    ['place of the first answer', ...ways.map(({ by = '' }) => by)],
    differing.map(({ ask, line: at }) => [
      ask,
      ...ways.map(({ questions }) => String(questions.find(({ line }) => line === at)?.rank ?? symbols.dot)),
    ]),
  ))
    print(line);
}

const isMissed = ({ rank }: RehearsedQuestion) => rank === undefined || rank > 5;

const accountOfQuestion = ({ pages, rank, found }: RehearsedQuestion) => [
  `wanted ${pages.join(' or ')}; ${rank === undefined ? 'not found' : `found in place ${rank}`}`,
  ...(found.length > 0 ? [`found ${found.slice(0, 3).join(', ')}`] : []),
];

function suiteOfQuestions(
  { file, questions }: RehearsedQuestions,
  target: TargetWords,
  tookMs: number,
): Parameters<typeof toJUnit>[0][number] {
  return {
    name: `${file} on ${showTarget(target)}`,
    tookMs,
    cases: questions.map((question) => ({
      name: question.ask,
      file,
      line: question.line,
      tookMs: 0,
      ...(isMissed(question) && { failure: accountOfQuestion(question).join('\n') }),
    })),
  };
}

function suiteOf({ file, model, requests, tookMs }: Rehearsed, target: TargetWords): Parameters<typeof toJUnit>[0][number] {
  return {
    name: `${file} on ${showTarget(target)}, by ${model}`,
    tookMs,
    cases: requests.map((request) => ({
      name: request.say,
      file,
      line: request.line,
      tookMs: request.tookMs,
      ...((!request.hit || request.wrongInput.length > 0) && { failure: accountOf(request).join('\n') }),
    })),
  };
}

function accountOf({ hit, fault, wanted, chosen = noTool, wrongInput, helpful, conversation }: RehearsedRequest): string[] {
  if (conversation !== undefined) return [...conversation.wrong];
  if (fault !== undefined) return [`The model gave no answer: ${fault}`];
  const words = wanted.length === 0 ? noTool : wanted.join(' or ');
  return [
    ...(hit ? [] : [`It should lead to ${words}; it led to ${chosen}.`]),
    ...wrongInput.map(
      ({ path, before, after }) =>
        `${path} should be ${JSON.stringify(before)}; it was ${after === undefined ? 'missing' : JSON.stringify(after)}.`,
    ),
    ...(helpful === undefined ? [] : [`It would have led there with ${list(helpful.words)} in the description of ${helpful.tool}.`]),
  ];
}

const list = (words: readonly string[]) => words.map((word) => `“${word}”`).join(', ');

function showSheet({ requests, hits, confusion, tookMs, model, isStandIn }: Rehearsed): void {
  const room = width() - 2;
  for (const request of requests) {
    const { say, chosen = noTool, hit, narrow, candidates, conversation } = request;
    const sign = !hit
      ? onOut('brick', symbols.failed)
      : request.wrongInput.length > 0 || narrow
        ? onOut('ochre', symbols.warn)
        : onOut('moss', symbols.ok);
    print(`${sign} ${say}`);
    print(
      `  ${onOut(hit ? 'heather' : 'bold', conversation === undefined ? chosen : conversation.called.join(', then ') || noTool)}${onOut('quiet', candidates[1] === undefined ? '' : `  then ${candidates[1].tool} at ${Math.round(100 * candidates[1].share)} %`)}`,
    );
    for (const line of accountOf(request)) for (const each of wrap(line, room)) print(`  ${each}`);
    if (narrow)
      print(
        `  ${onOut('quiet', hit ? 'Narrow: the next edit of a description may turn it.' : 'Nearly: the right tool came close behind.')}`,
      );
    if (!hit) for (const each of candidates.slice(0, 2)) print(`  ${onOut('quiet', because(each))}`);
  }
  const missed = requests.filter(({ hit }) => !hit);
  const confused = missed.filter(({ conversation }) => conversation === undefined);
  if (confused.length > 0) {
    print('');
    showMatrix(confusion);
  }
  const narrow = requests.filter((each) => each.hit && each.narrow).length;
  note(
    `${missed.length === 0 ? onErr('moss', symbols.ok) : onErr('brick', symbols.failed)} ${hits} of ${counted(requests.length, 'request')} led to the right tool${narrow > 0 ? `, ${narrow} of them narrowly` : ''} ${onErr('quiet', `in ${duration(tookMs)}`)}`,
  );
  note(
    onErr(
      'quiet',
      isStandIn
        ? 'Chosen by the stand-in, which is no model: it weighs the words they share. Try a real one with --model-url.'
        : `Chosen by ${model}.`,
    ),
  );
}

function because({ tool, words, share }: Candidate): string {
  return `${tool} ${Math.round(100 * share)} %: ${words.map(({ word, where }) => `${word} (${where.join(', ')})`).join(', ')}`;
}

/** Rows are what was wanted, columns what was chosen, numbered; only what was confused is shown. */
function showMatrix({ tools, rows }: Confusion): void {
  const involved = tools.flatMap((_, index) =>
    rows[index]!.some((count, column) => column !== index && count > 0) || rows.some((row, at) => at !== index && row[index]! > 0)
      ? [index]
      : [],
  );
  const headings = ['', 'wanted', ...involved.map((_, at) => `#${at + 1}`)];
  for (const line of table(
    headings,
    involved.map((row, at) => [
      `#${at + 1}`,
      tools[row]!,
      ...involved.map((column) => (rows[row]![column] === 0 ? symbols.dot : String(rows[row]![column]))),
    ]),
  ))
    print(line);
}

async function onWords(text: string, target: TargetWords, model: Model, options: RehearseCommandOptions): Promise<void> {
  await withClient(target, options, async ({ client, signal, onProgress, clearProgress }) => {
    const offered = await toolsOf(client, target);
    const talk: TalkEntry[] = [{ role: 'user', text }];
    const steps: object[] = [];
    for (let step = 1; ; step++) {
      if (step > options.rounds)
        throw new JexoError('JEXO_MODEL', `The model has called tools ${options.rounds} times in a row and has not come to an end.`, {
          next: 'Let it go on longer with --rounds.',
        });
      const move = await model.next({ ...offered, talk }, signal);
      clearProgress();
      steps.push(move);
      if (!options.json) showMove(move, step, offered.tools);
      talk.push({ role: 'assistant', calls: move.calls, ...(move.text !== undefined && { text: move.text }) });
      if (!options.run || move.calls.length === 0) break;
      for (const call of move.calls) {
        const result =
          call.broken !== undefined
            ? { text: call.broken, failed: true }
            : await runCall(client, call, { signal, onProgress, yes: options.yes ?? false });
        clearProgress();
        if (result === undefined) return;
        steps.push({ call, ...result });
        if (!options.json)
          for (const line of wrap(result.text, width() - 4))
            print(`  ${result.failed ? onOut('brick', symbols.failed) : onOut('moss', symbols.in)} ${line}`);
        talk.push({ role: 'tool', id: call.id, name: call.name, ...result });
      }
    }
    if (options.json)
      printJson(JSON.stringify({ target: showTarget(target), model: model.name, isStandIn: model.isStandIn, steps }, null, 2));
    else
      note(
        onErr(
          'quiet',
          model.isStandIn ? 'Chosen by the stand-in, which is no model: it weighs the words they share.' : `Chosen by ${model.name}.`,
        ),
      );
  });
}

function showMove(
  { calls, text, candidates = [] }: Awaited<ReturnType<Model['next']>>,
  step: number,
  tools: readonly { name: string }[],
): void {
  if (text !== undefined) for (const line of wrap(text, width())) print(line);
  for (const { name, input } of calls) print(`${onOut('lake', symbols.out)} ${onOut('bold', name)} ${JSON.stringify(input)}`);
  if (step > 1 || candidates.length === 0) return;
  print('');
  for (const line of table(
    ['tool', 'share', 'missing', 'because of'],
    candidates
      .slice(0, 5)
      .map(({ tool, share, words, missing }) => [
        tool,
        `${Math.round(100 * share)} %`,
        missing.join(', ') || symbols.dot,
        words.map(({ word, where }) => `${word} (${where.join(', ')})`).join(', '),
      ]),
  ))
    print(line);
  const more = tools.length - candidates.length;
  if (more > 0) print(onOut('quiet', `${more} of ${tools.length} tools have too few of these words.`));
}

/** Calls a tool after the person has agreed; undefined when they have not. */
async function runCall(
  client: Client,
  { name, input }: ToolCall,
  { yes, ...options }: { yes: boolean } & Pick<Parameters<Client['call']>[2] & object, 'signal' | 'onProgress'>,
): Promise<{ text: string; failed: boolean } | undefined> {
  if (!yes) {
    if (!isSomebodyThere())
      throw new JexoError('JEXO_USAGE', `Nobody is there to agree to calling ${name}.`, { next: 'Agree beforehand with --yes.' });
    if (!(await askYesNo(`Call ${name} with ${JSON.stringify(input)}?`, options.signal))) return undefined;
  }
  try {
    const result = await client.call(name, { ...input }, options);
    return { text: (await toolAnswer(result)).text, failed: result.isError === true };
  } catch (error) {
    options.signal?.throwIfAborted();
    return { text: messageOf(error), failed: true };
  }
}

export const command: CliCommand<RehearseCommandOptions> = {
  name: 'rehearse',
  about: 'show which tool a request in plain words leads to, and why; or run a request sheet',
  operands: [
    '[target]',
    ['[sheet or request...]', 'a request sheet (*.requests.yaml), a question sheet (*.questions.yaml), or a request in plain words'],
  ],
  options: [
    { flags: '--run', about: 'call the chosen tool, step by step, with your confirmation' },
    { flags: '--yes', about: 'confirm every step' },
    {
      flags: '--rounds <n>',
      about: 'rounds of calls the model may make, with --run and in conversations of a sheet',
      default: 10,
      read: number('--rounds', 1, 1000),
    },
    ...modelOptions,
    {
      flags: '--fail-under <percent>',
      about: 'exit with 1 if fewer requests lead to the right tool',
      default: 100,
      read: number('--fail-under', 0, 100),
    },
    { flags: '--junit <file>', about: 'write a report for continuous integration' },
    standIn,
    ...clientOptions,
  ],
  takes: ['open', 'connect'],
  chooses: true,
  help: `Examples:
  jexo rehearse hives.ts "how much sugar for 12 colonies this autumn?"
  jexo rehearse hives.ts "how much sugar for 12 colonies?" --run
  jexo rehearse apiary.ts apiary.requests.yaml
  jexo rehearse ./handbook handbook.questions.yaml       how well the search of a folder answers questions
  jexo rehearse apiary.ts apiary.requests.yaml --model-url http://127.0.0.1:8080/v1 --model small

A request with steps in a sheet is a whole conversation: its tools are called, and no others.
Without --model-url a stand-in chooses. It is not a model: it weighs the words a request and a tool share.
Exit codes: 0 enough were right, 1 too few were, 2 the sheet cannot be read, 3 the server or the model could not be reached.`,
  run: rehearse,
};
