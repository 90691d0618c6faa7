import type { CliCommand, ExitCode, Invocation } from '../command.js';
import { clientOptions, keepOptions, standIn } from '../options.js';
import { readFileSync } from 'node:fs';
import { readFile } from 'node:fs/promises';
import { text as readAll } from 'node:stream/consumers';
import { JexoError, messageOf } from '../../errors.js';
import { readPairs } from '../../inspect/input-text.js';
import { same } from '../../inspect/difference.js';
import { jsonIn, readable, type Readable } from '../../inspect/value-text.js';
import { nearest } from '../../offers/nearest.js';
import { compileSchema, describeIssues } from '../../offers/schema.js';
import type { CallToolResult, Tool } from '../../protocol/types.js';
import { askMissing, terminalAnswers } from '../ask.js';
import { showTarget, takeTarget, type TargetWords } from '../connect-target.js';
import { blockText, saveMedia } from '../blocks.js';
import { keepTool, notingReplies, printCopy, requireSheetName, type KeepOptions } from '../keep-call.js';
import { asInvalidInput, withClient, type ClientCommandOptions } from '../with-client.js';
import { duration, note, onErr, onOut, print, printJson, symbols, table } from '../terminal.js';

interface CallOptions extends ClientCommandOptions, KeepOptions {
  readonly input?: string;
  readonly timeout: number;
  readonly unchecked?: boolean;
  readonly out?: string;
  readonly yes?: boolean;
  readonly answer?: readonly string[];
}

const usage = 'As in: jexo call hives.ts mix_syrup colonies=12';

async function call({ operands, command, options }: Invocation<CallOptions>): Promise<ExitCode> {
  const { target, rest } = takeTarget(operands, command, usage);
  const [name, ...pairs] = rest;
  if (name === undefined)
    throw new JexoError('JEXO_USAGE', 'Which tool? No name was given.', {
      next: `${usage}. The tools are shown by: jexo list ${showTarget(target)}`,
    });
  if (options.keep !== undefined) requireSheetName(options.keep);
  const { answers, replies } = notingReplies(terminalAnswers(options.standIn ?? false, options));
  return withClient(target, { ...options, answers }, async ({ client, signal, onProgress, clearProgress }) => {
    const tools = await client.tools();
    const tool = tools.find((each) => each.name === name) ?? fail(unknownTool(name, tools, target));
    const given = { ...(await readInput(options.input)), ...readPairs(pairs, tool.inputSchema, (path, as) => readFileSync(path, as)) };
    const input = await askMissing(tool.inputSchema, given, signal);
    if (printCopy(target, { kind: 'tool', name, input, schema: tool.inputSchema }, options)) return;
    if (!options.unchecked) await checkInput(tool, input);
    const start = performance.now();
    const result = await client.call(name, input, { timeoutMs: options.timeout * 1000, signal, onProgress }).catch((error: unknown) => {
      throw asInvalidInput(error, name);
    });
    clearProgress();
    if (options.json) printJson(JSON.stringify(result, null, 2));
    else show(result);
    const isSaved = options.out === undefined || result.isError === true || (await saveMedia(result, options.out));
    if (options.keep !== undefined) await keepTool(options.keep, target, { subject: name, input, replies }, result);
    const took = duration(performance.now() - start);
    if (result.isError) {
      if (!options.json) note(onErr('quiet', `${name} failed after ${took}`));
      return 1;
    }
    if (!options.json) {
      const isWhole = result.structuredContent?._cut === undefined;
      note(
        `${isWhole ? onErr('moss', symbols.ok) : onErr('ochre', symbols.warn)} ${onErr('quiet', `${name} answered in ${took}${isWhole ? '' : ', in part'}`)}`,
      );
    }
    return isSaved ? 0 : 1;
  });
}

/** What the server would refuse is said before it is sent. @throws JexoError JEXO_INPUT_INVALID */
async function checkInput({ name, inputSchema }: Tool, input: Record<string, unknown>): Promise<void> {
  let checked;
  try {
    checked = await compileSchema(inputSchema, 'input', `tool ${name}`, { fillDefaults: false }).check(structuredClone(input));
  } catch {
    return; // a schema that cannot be used says nothing of the input; the server knows
  }
  if (checked.ok) return;
  throw new JexoError('JEXO_INPUT_INVALID', `The input for ${name} is not valid:\n${describeIssues(checked.issues)}`, {
    where: name,
    next: 'Correct these fields, or send them all the same with --unchecked.',
    data: { issues: checked.issues },
  });
}

function fail(error: JexoError): never {
  throw error;
}

function unknownTool(name: string, tools: readonly Tool[], target: TargetWords): JexoError {
  const names = tools.map((each) => each.name);
  const near = nearest(name, names);
  return new JexoError(
    'JEXO_TOOL_UNKNOWN',
    `${showTarget(target)} has no tool ${name}.${near === undefined ? '' : ` Did you mean ${near}?`}`,
    {
      where: name,
      next: `Its tools are: ${names.join(', ')}`,
    },
  );
}

async function readInput(given: string | undefined): Promise<Record<string, unknown>> {
  if (given === undefined) return {};
  let text = given;
  const where = given === '-' ? 'stdin' : given.startsWith('@') ? given.slice(1) : '--input';
  try {
    if (given === '-') text = await readAll(process.stdin);
    else if (given.startsWith('@')) text = await readFile(where, 'utf8');
  } catch (error) {
    throw new JexoError('JEXO_INPUT_INVALID', `The input cannot be read from ${where}: ${messageOf(error)}`, { where, cause: error });
  }
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch (error) {
    throw new JexoError('JEXO_INPUT_INVALID', `The input from ${where} is not JSON: ${messageOf(error)}`, { where, cause: error });
  }
  if (typeof value !== 'object' || value === null || Array.isArray(value))
    throw new JexoError('JEXO_INPUT_INVALID', `The input from ${where} must be one JSON object.`, { where });
  return value as Record<string, unknown>;
}

function show(result: CallToolResult): void {
  if (result.isError) {
    for (const block of result.content) note(`${onErr('brick', symbols.failed)} ${blockText(block)}`);
    return;
  }
  if (result.structuredContent === undefined) {
    for (const block of result.content) print(blockText(block));
    return;
  }
  const { _cut: _, ...shown } = result.structuredContent;
  showReadable(readable(shown));
  // What a block says beyond the structure, that an answer was cut for one, is no mirror of it.
  for (const block of result.content) if (!mirrors(block, shown)) note(`${onErr('ochre', symbols.warn)} ${blockText(block)}`);
}

/** True for the text in which clients that do not read structure find the same. */
function mirrors(block: CallToolResult['content'][number], structured: Readonly<Record<string, unknown>>): boolean {
  if (block.type !== 'text') return false;
  const { result } = structured;
  return (
    block.text === result ||
    [structured, result].some((value) => same(jsonIn(block.text) ?? block.text, value) || block.text === JSON.stringify(value))
  );
}

function showReadable(shown: Readable): void {
  switch (shown.kind) {
    case 'text':
      return print(shown.text);
    case 'table':
      return table(shown.headings, shown.rows).forEach(print);
    case 'parts':
      return shown.parts.forEach(({ name, shown: part }, index) => {
        if (index > 0) print('');
        if (name !== '') print(onOut('bold', name));
        showReadable(part);
      });
    case 'fields': {
      const widest = Math.max(...shown.rows.map(([key]) => key.length));
      for (const [key, value] of shown.rows) print(`${onOut('heather', key.padEnd(widest))}  ${value}`);
    }
  }
}

export const command: CliCommand<CallOptions> = {
  name: 'call',
  about: 'call a tool',
  operands: ['[target]', '[tool]', ['[key=value...]', 'arguments, with types from the tool’s schema']],
  options: [
    { flags: '--input <json>', about: 'the arguments as a JSON object; @file reads a file, - reads stdin' },
    { flags: '--unchecked', about: 'send the arguments without checking them against the tool’s schema first' },
    { flags: '--out <file>', about: 'save images, sounds and files of the answer; several are numbered' },
    {
      flags: '--answer <field=value>',
      about: 'answer a field that the server asks for; may be repeated',
      read: (text, before) => [...((before as string[] | undefined) ?? []), text],
    },
    { flags: '--yes', about: 'accept what the server asks to confirm' },
    standIn,
    ...keepOptions,
    ...clientOptions,
  ],
  takes: ['open', 'connect'],
  chooses: true,
  help: `Examples:
  jexo call hives.ts mix_syrup colonies=12 season=autumn
  jexo call hives.ts mix_syrup --input '{"colonies": 12}' --json
  jexo call http://127.0.0.1:4300/mcp mites_per_100 mites=9
  jexo call mites_per_100 mites=9 -- node server.mjs
  jexo call registry.ts book_inspection place.apiary=MR tags=calm tags=strong
  jexo call registry.ts add_photo hive=MR-03 photo=@hive.png
  jexo call apiary.ts move_hive hive=MR-03 --answer to=SM --yes

At a terminal, missing arguments and the server’s own questions are asked for. Ctrl-C cancels the call on the server.
Exit codes: 0 answered, 1 the tool failed, 2 wrong use or arguments, 3 the server could not be reached.`,
  run: call,
};
