import { propertiesOf, requiredOf } from '../protocol/json-schema.js';
import { createInterface, type Interface } from 'node:readline';
import type { Asker, FormQuestion, PageQuestion, ServerAnswers } from '../client/answer-server.js';
import { readField } from '../inspect/input-text.js';
import { standInModel } from '../models/stand-in-model.js';
import type { ElicitResult, JsonSchema } from '../protocol/types.js';
import { note, onErr, presentable, symbols, width, wrap } from './terminal.js';

/** True when a person sits at both ends: what is asked on stderr can be answered on stdin. */
export function isSomebodyThere(): boolean {
  return process.stdin.isTTY === true && process.stderr.isTTY === true;
}

/** Nobody waits for an answer any more, or the person has closed the input. */
class Withdrawn extends Error {}

interface Waiting {
  readonly resolve: (line: string) => void;
  readonly reject: (error: Withdrawn) => void;
}
interface Reader {
  readonly terminal: Interface;
  readonly lines: string[];
  waiting: Waiting | undefined;
  ended: boolean;
}
/** One reader for the whole command: lines that come before they are asked for are kept. */
let reader: Reader | undefined;

function openReader(): Reader {
  if (reader !== undefined) return reader;
  const terminal = createInterface({ input: process.stdin, output: process.stderr });
  const own: Reader = { terminal, lines: [], waiting: undefined, ended: false };
  terminal.on('line', (line) => {
    const { waiting } = own;
    own.waiting = undefined;
    if (waiting === undefined) own.lines.push(line);
    else waiting.resolve(line);
  });
  // Ctrl-C stops the whole call, not only the question.
  terminal.on('SIGINT', () => process.kill(process.pid, 'SIGINT'));
  terminal.on('close', () => {
    own.ended = true;
    own.waiting?.reject(new Withdrawn('the input was closed'));
  });
  return (reader = own);
}

/** Lets the terminal go: without this the command would wait for more lines for ever. */
export function closeTerminal(): void {
  reader?.terminal.close();
  reader = undefined;
}

/** Resolves when nobody asks any more: calls that run side by side may have questions at the same time. */
let lastQuestion: Promise<unknown> = Promise.resolve();

function atTerminal<T>(signal: AbortSignal | undefined, use: (line: (prompt: string) => Promise<string>) => Promise<T>): Promise<T> {
  const asked = lastQuestion.then(() => askNow(signal, use));
  lastQuestion = asked.catch(() => undefined);
  return asked;
}

async function askNow<T>(signal: AbortSignal | undefined, use: (line: (prompt: string) => Promise<string>) => Promise<T>): Promise<T> {
  const own = openReader();
  const withdrawn = () => own.waiting?.reject(new Withdrawn('nobody waits for the answer any more'));
  signal?.addEventListener('abort', withdrawn, { once: true });
  try {
    return await use((prompt) => {
      own.terminal.setPrompt(presentable(prompt));
      own.terminal.prompt();
      const ready = own.lines.shift();
      if (ready !== undefined) return Promise.resolve(ready);
      if (own.ended || signal?.aborted) return Promise.reject(new Withdrawn('the input was closed'));
      return new Promise((resolve, reject) => (own.waiting = { resolve, reject }));
    });
  } finally {
    own.waiting = undefined;
    signal?.removeEventListener('abort', withdrawn);
  }
}

/** Asks for one value until it is of the right kind; undefined if it is optional and skipped. */
async function askField(line: (prompt: string) => Promise<string>, name: string, schema: JsonSchema, required: boolean): Promise<unknown> {
  const values = choicesOf(schema);
  const about = [schema.title, schema.description].filter(Boolean).join('. ');
  if (about !== '') for (const text of wrap(about, width(process.stderr))) note(`  ${onErr('quiet', text)}`);
  const numbered = values.map(({ words }, index) => `${index + 1} ${words}`);
  const onOne = numbered.join('   ');
  // A choice broken over two lines is hard to read: each has its own where they do not fit on one.
  for (const text of values.length === 0 ? [] : onOne.length <= width(process.stderr) - 2 ? [onOne] : numbered)
    note(`  ${onErr('quiet', text)}`);
  const given = schema.default;
  const hint = given !== undefined ? ` [${typeof given === 'string' ? given : JSON.stringify(given)}]` : required ? '' : ' [optional]';
  for (;;) {
    const text = (await line(`  ${onErr('lake', name)}${onErr('quiet', hint)} `)).trim();
    if (text === '') {
      if (given !== undefined) return given;
      if (!required) return undefined;
      note(`  ${onErr('brick', symbols.failed)} ${name} is needed.`);
      continue;
    }
    const picked = values[Number(text) - 1];
    if (picked !== undefined) return picked.value;
    const read = readField(name, text, schema);
    const wrong =
      values.length > 0 && !values.some(({ value }) => value === read)
        ? `one of ${values.map(({ words }) => words).join(', ')}`
        : kindWanted(read, schema);
    if (wrong === undefined) return read;
    note(`  ${onErr('brick', symbols.failed)} expected ${wrong}; got ${JSON.stringify(text)}`);
  }
}

function choicesOf(schema: JsonSchema): { value: unknown; words: string }[] {
  const show = (value: unknown) => (typeof value === 'string' ? value : JSON.stringify(value));
  if (Array.isArray(schema.enum)) {
    const names = schema.enumNames as string[] | undefined;
    return (schema.enum as unknown[]).map((value, index) => ({ value, words: names?.[index] ?? show(value) }));
  }
  const listed = schema.oneOf as JsonSchema[] | undefined;
  return Array.isArray(listed) && listed.every((each) => each.const !== undefined)
    ? listed.map(({ const: value, title }) => ({ value, words: typeof title === 'string' ? title : show(value) }))
    : [];
}

/** What was wanted, when a value is of another kind; the server checks the rest. */
function kindWanted(value: unknown, { type }: JsonSchema): string | undefined {
  const wanted = [type].flat() as (string | undefined)[];
  if (wanted[0] === undefined) return undefined;
  const kind = value === null ? 'null' : Array.isArray(value) ? 'array' : typeof value;
  const fits = wanted.some((each) => each === kind || (each === 'integer' && Number.isInteger(value)));
  return fits ? undefined : wanted.join(' or ');
}

/** Asks for what a tool needs and was not given. */
export async function askMissing(
  schema: JsonSchema,
  input: Record<string, unknown>,
  signal?: AbortSignal,
): Promise<Record<string, unknown>> {
  const properties = propertiesOf(schema);
  const missing = requiredOf(schema).filter((name) => input[name] === undefined && properties[name] !== undefined);
  if (missing.length === 0 || !isSomebodyThere()) return input;
  return atTerminal(signal, async (line) => {
    const complete = { ...input };
    for (const name of missing) complete[name] = await askField(line, name, properties[name]!, true);
    return complete;
  });
}

/** One of several, by number or name. */
export async function askChoice<K extends string>(question: string, choices: Readonly<Record<K, string>>): Promise<K> {
  note(question);
  const schema: JsonSchema = {
    oneOf: Object.entries(choices).map(([value, words]) => ({ const: value, title: `${value} (${words as string})` })),
    default: Object.keys(choices)[0],
  };
  return atTerminal(undefined, async (line) => (await askField(line, 'from', schema, true)) as K);
}

export async function askText(question: string): Promise<string> {
  return atTerminal(undefined, async (line) => String(await askField(line, question, { type: 'string' }, true)));
}

/** A line of the person's; undefined when the input is closed, or nobody waits for it any more. */
export async function askLine(prompt: string, signal?: AbortSignal): Promise<string | undefined> {
  try {
    return await atTerminal(signal, (line) => line(prompt));
  } catch (error) {
    if (error instanceof Withdrawn) return undefined;
    throw error;
  }
}

/** Lines that the person can go back to with the arrow keys, newest first. */
export function useHistory(lines: readonly string[]): { current(): readonly string[] } {
  const { terminal } = openReader();
  const own = terminal as Interface & { history?: string[] };
  own.history?.push(...lines);
  return { current: () => own.history ?? [] };
}

/** True when the person says yes; an empty line is a yes. */
export async function askYesNo(question: string, signal?: AbortSignal): Promise<boolean> {
  try {
    return await atTerminal(signal, async (line) =>
      /^(y|yes|)$/i.test((await line(`${question} ${onErr('quiet', '[y]es, [n]o')} `)).trim()),
    );
  } catch (error) {
    if (error instanceof Withdrawn) return false;
    throw error;
  }
}

/** Answers to a server's questions that were given on the command line. */
export interface GivenAnswers {
  /** `field=value`, for forms. */
  readonly answer?: readonly string[];
  /** Accepts confirmations: forms without a field that is still missing. */
  readonly yes?: boolean;
}

/**
 * Answers what a server asks: with what was given beforehand, then at the terminal. With neither, nothing is declared, so that servers
 * do without.
 */
export function terminalAnswers(useStandIn: boolean, given: GivenAnswers = {}): ServerAnswers {
  const isGiven = given.yes === true || (given.answer?.length ?? 0) > 0;
  const form = isGiven ? (question: FormQuestion) => answerAsGiven(question, given) : answerForm;
  return {
    ...((isGiven || isSomebodyThere()) && { elicitation: { form, ...(isSomebodyThere() && { url: answerPage }) } }),
    ...(useStandIn && {
      sampling: {
        create(request) {
          note(onErr('quiet', 'The server asked for a model’s answer; the stand-in, which is no model, gave one.'));
          return standInModel(request);
        },
      },
    }),
  };
}

/** Who asks, as a person reads it. */
function nameOf({ server, tool }: Asker): string {
  return tool === undefined ? server : `${server} (${tool})`;
}

/** What was given answers a form as far as it goes; the person is asked for the rest. */
async function answerAsGiven(question: FormQuestion, { answer = [], yes = false }: GivenAnswers): Promise<ElicitResult> {
  const { requestedSchema, message, asker } = question;
  const properties = propertiesOf(requestedSchema);
  const content: Record<string, unknown> = {};
  for (const [name, schema] of Object.entries(properties)) {
    const said = answer.findLast((each) => each.startsWith(`${name}=`));
    if (said !== undefined) content[name] = readField(name, said.slice(name.length + 1), schema);
    else if (schema.default !== undefined) content[name] = schema.default;
  }
  const missing = requiredOf(requestedSchema).filter((name) => content[name] === undefined);
  const isAnswered = yes || Object.keys(properties).some((name) => answer.some((each) => each.startsWith(`${name}=`)));
  if (missing.length === 0 && isAnswered) {
    const shown = Object.keys(content).length === 0 ? 'yes' : JSON.stringify(content);
    note(`${onErr('heather', symbols.in)} ${onErr('bold', `${nameOf(asker)} asks:`)} ${message} ${onErr('quiet', shown)}`);
    return { action: 'accept', content };
  }
  if (isSomebodyThere()) return answerForm(question);
  const options = missing.length === 0 ? '--yes' : missing.map((name) => `--answer ${name}=…`).join(' ');
  note(`${onErr('ochre', symbols.warn)} ${nameOf(asker)} asks: ${message} To answer, add ${options}`);
  return { action: 'cancel' };
}

async function answerForm({ message, requestedSchema, asker, signal }: FormQuestion): Promise<ElicitResult> {
  note(`\n${onErr('heather', symbols.in)} ${onErr('bold', `${nameOf(asker)} asks:`)} ${message}`);
  const properties = Object.entries(propertiesOf(requestedSchema));
  const required = new Set(requiredOf(requestedSchema));
  try {
    return await atTerminal(signal, async (line): Promise<ElicitResult> => {
      const content: Record<string, unknown> = {};
      for (const [name, schema] of properties) {
        const value = await askField(line, name, schema, required.has(name));
        if (value !== undefined) content[name] = value;
      }
      const words = properties.length === 0 ? 'Yes or no?' : 'Send this?';
      const said = (await line(`  ${words} ${onErr('quiet', '[y]es, [n]o, [c]lose')} `)).trim().toLowerCase();
      if (said === '' || said.startsWith('y')) return { action: 'accept', content };
      return { action: said.startsWith('c') ? 'cancel' : 'decline' };
    });
  } catch (error) {
    if (error instanceof Withdrawn) return { action: 'cancel' };
    throw error;
  }
}

/** The whole address is shown; opening it is the person's own doing. */
async function answerPage({ message, url, warnings, asker, signal }: PageQuestion): Promise<Pick<ElicitResult, 'action'>> {
  note(`\n${onErr('heather', symbols.in)} ${onErr('bold', `${nameOf(asker)} sends you to a page:`)} ${message}\n  ${onErr('lake', url)}`);
  for (const warning of warnings) note(`  ${onErr('ochre', symbols.warn)} ${warning}`);
  try {
    return await atTerminal(signal, async (line) => {
      const said = (await line(`  Will you visit it? ${onErr('quiet', '[y]es, [n]o, [c]lose')} `)).trim().toLowerCase();
      return { action: said.startsWith('y') ? 'accept' : said.startsWith('c') ? 'cancel' : 'decline' };
    });
  } catch (error) {
    if (error instanceof Withdrawn) return { action: 'cancel' };
    throw error;
  }
}
