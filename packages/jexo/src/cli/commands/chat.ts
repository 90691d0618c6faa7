import { appendFileSync, readFileSync } from 'node:fs';
import { writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import type { Clients } from '../../client/clients.js';
import { approvals, type ApprovalRules } from '../../conversation/approvals.js';
import { converse, type ConverseContext } from '../../conversation/converse.js';
import { memory as passingMemory, type Memory } from '../../conversation/memory.js';
import type { Outcome } from '../../conversation/steps.js';
import { JexoError, messageOf } from '../../errors.js';
import { approvalFile, readRules } from '../../hosts/approval-file.js';
import { fileMemory } from '../../hosts/memory-file.js';
import { conversationTrace } from '../../inspect/conversation-trace.js';
import type { Model } from '../../models/model.js';
import { standIn } from '../../models/stand-in.js';
import { cacheFolder } from '../../own-folder.js';
import { connectAll, type TargetWithOptions } from '../../targets/connect-all.js';
import { findKind } from '../../targets/find-kind.js';
import { hostsKind } from '../../targets/kinds/hosts.js';
import type { ConnectTarget } from '../../targets/connect.js';
import { askLine, closeTerminal, isSomebodyThere, terminalAnswers, useHistory, type GivenAnswers } from '../ask.js';
import { askApproval, askConsent } from '../chat/person.js';
import { saveConversation, type HeldRequest } from '../chat/saved.js';
import { createScreen, showTrace } from '../chat/screen.js';
import type { CliCommand, ExitCode, Invocation, Opening } from '../command.js';
import { reportFault } from '../connect-target.js';
import { modelOf, type ModelOptions } from '../model-options.js';
import { optionsFor } from '../open-connection.js';
import { collect, json, modelOptions, number } from '../options.js';
import { reportError } from '../report-error.js';
import { keepStdoutForResults, note, onErr, print, printJson, symbols, table } from '../terminal.js';
import { terminalAuth } from '../terminal-sign-in.js';
import { progressLine } from '../with-client.js';
import { counted } from '../../protocol/counted.js';

interface ChatOptions extends ModelOptions, GivenAnswers {
  readonly json?: boolean;
  readonly images?: boolean;
  readonly rules?: string;
  readonly yesReadOnly?: boolean;
  readonly yesAll?: boolean;
  readonly memory?: string;
  readonly trace?: string;
  readonly instructions?: string;
  readonly context?: readonly string[];
  readonly summarise?: boolean;
  readonly steps: number;
  readonly calls: number;
  readonly minutes: number;
  readonly tokens: number;
  readonly timeout: number;
}

async function chat({ operands, command, options }: Invocation<ChatOptions>): Promise<ExitCode> {
  const targets: (string | readonly string[])[] = [...operands, ...(command === undefined ? [] : [command])];
  if (targets.length === 0 || command?.length === 0)
    throw new JexoError('JEXO_USAGE', 'Which servers? No target was given.', { next: 'As in: jexo chat hives.ts scales.sqlite' });
  const isLive = isSomebodyThere() && !options.json;
  const model =
    modelOf(options, { stream: process.stdout.isTTY === true && !options.json, ...(options.images && { images: true }) }) ?? standIn;
  const rules = options.rules === undefined ? {} : await readRules(options.rules);
  keepStdoutForResults();
  const clients = await connectAll(await withOptions(targets, options.opening), {
    timeoutMs: options.timeout * 1000,
    onFault: reportFault,
    inherit: 'all',
    auth: terminalAuth(),
    onState: ({ name, state, error, reconnects }) => {
      if (state === 'waiting' || state === 'failed') note(`${onErr('ochre', symbols.warn)} ${name} is not there: ${messageOf(error)}`);
      else if (state === 'ready' && reconnects > 0) note(`${onErr('moss', symbols.ok)} ${name} is back.`);
    },
  });
  try {
    const ready = clients.servers().filter(({ state }) => state === 'ready');
    if (ready.length === 0) throw clients.servers()[0]!.error!;
    const session = new ChatSession(clients, model, rules, options);
    return isLive ? await session.talk() : await session.readAll();
  } finally {
    closeTerminal();
    await clients.close();
  }
}

/** Each target with those of the options that its kind takes. */
async function withOptions(targets: readonly (string | readonly string[])[], opening: Opening): Promise<(TargetWithOptions | string)[]> {
  const { kinds, choice } = opening;
  const all: (TargetWithOptions | string)[] = [];
  for (const target of targets) {
    const found = await findKind(target, kinds);
    if (found.kind === hostsKind) all.push(target as string);
    else {
      const own = optionsFor(found, opening);
      all.push({
        target: target as ConnectTarget,
        ...(Object.keys(own).length > 0 && { options: own }),
        ...(kinds && { kinds }),
        ...(choice && found.kind.open !== undefined && { choice }),
      });
    }
  }
  return all;
}

/** The requests of one run of the command, over the same servers. */
class ChatSession {
  private readonly memory: Memory;
  private readonly held: HeldRequest[] = [];
  private readonly progress = progressLine();
  private readonly approve;
  private context: ConverseContext[];
  /** Stops the request that is being worked on. */
  private stop: AbortController | undefined;

  constructor(
    private readonly clients: Clients,
    private readonly model: Model,
    rules: ApprovalRules,
    private readonly options: ChatOptions,
  ) {
    this.memory = options.memory === undefined ? passingMemory() : fileMemory(options.memory);
    this.context = (options.context ?? []).map((uri) => ({ uri }));
    const allow = [...(rules.allow ?? []), ...(options.yesReadOnly ? ['read-only'] : []), ...(options.yesAll ? ['*'] : [])];
    this.approve = approvals({
      ...rules,
      allow,
      store: approvalFile(join(cacheFolder(), 'approvals.json')),
      ...(isSomebodyThere() && {
        person: (request) => {
          this.progress.clear();
          return askApproval(request);
        },
      }),
    });
  }

  /** A conversation with the person at the terminal. */
  async talk(): Promise<ExitCode> {
    const tools = await this.clients.tools();
    const there = this.clients.servers().filter(({ state }) => state === 'ready').length;
    note(
      `${onErr('moss', symbols.ok)} ${there === 1 ? 'One server' : `${there} servers`} with ${counted(tools.length, 'tool')}. ${onErr('quiet', 'Type a request, or /help.')}`,
    );
    if (this.model.isStandIn)
      note(
        onErr(
          'quiet',
          '  The stand-in chooses tools by the words they share with you. It is not a model: give one with --model-url and --model.',
        ),
      );
    const before = await this.memory.entries();
    if (before.length > 0) note(onErr('quiet', `  Going on with ${counted(before.length, 'entry', 'entries')} of ${this.options.memory}.`));
    const historyFile = join(cacheFolder(), 'chat-history.json');
    const history = useHistory(readHistory(historyFile));
    const onInterrupt = () => {
      if (this.stop === undefined) closeTerminal();
      else this.stop.abort();
    };
    process.on('SIGINT', onInterrupt);
    try {
      for (;;) {
        const line = (await askLine(`\n${onErr('lake', symbols.prompt)} `))?.trim();
        if (line === undefined || /^\/(?:quit|exit)$/.test(line)) return 0;
        // From here on Ctrl-C stops what was asked for, and not the conversation.
        this.stop = new AbortController();
        await writeFile(historyFile, JSON.stringify(history.current().slice(0, 200)), { mode: 0o600 }).catch(() => undefined); // a cache only
        try {
          if (line.startsWith('/')) await this.obey(line.slice(1));
          else if (line !== '') await this.hold(line);
        } catch (error) {
          reportError(error, false);
        } finally {
          this.stop = undefined;
        }
      }
    } finally {
      process.off('SIGINT', onInterrupt);
    }
  }

  /** The requests of a pipe, a line each. */
  async readAll(): Promise<ExitCode> {
    if (process.stdin.isTTY)
      throw new JexoError('JEXO_USAGE', 'A request is read from stdin here.', {
        next: 'As in: echo "which hives are light?" | jexo chat hives.ts --json',
      });
    let text = '';
    for await (const chunk of process.stdin.setEncoding('utf8')) text += chunk as string;
    const requests = text.split('\n').filter((line) => line.trim() !== '');
    if (requests.length === 0) throw new JexoError('JEXO_USAGE', 'No request came on stdin.', { next: 'Give one a line.' });
    const onInterrupt = () => this.stop?.abort();
    process.on('SIGINT', onInterrupt);
    let code = 0;
    try {
      for (const request of requests) {
        const outcome = await this.hold(request);
        if (outcome.ended !== 'answered') code = outcome.ended === 'failed' ? 3 : 1;
        if (outcome.ended === 'cancelled') break;
      }
    } finally {
      process.off('SIGINT', onInterrupt);
    }
    return code;
  }

  private async hold(request: string): Promise<Outcome> {
    const { options, model, clients, context } = this;
    const { elicitation } = terminalAnswers(false, options);
    const { onStep } = createScreen(this.progress, process.stdout.isTTY === true);
    const stop = (this.stop ??= new AbortController());
    const startedAt = Date.now();
    const quietly =
      <T, R>(ask: (question: T) => R) =>
      (question: T): R => {
        this.progress.clear();
        return ask(question);
      };
    const outcome = await converse({
      clients,
      request,
      model,
      memory: this.memory,
      approve: this.approve,
      limits: {
        steps: options.steps,
        calls: options.calls,
        ms: options.minutes * 60_000,
        tokens: options.tokens,
        callMs: options.timeout * 1000,
      },
      signal: stop.signal,
      context,
      ...(!options.json && { onStep }),
      ...(options.instructions !== undefined && { instructions: options.instructions }),
      ...(options.summarise && { longAnswers: 'summarise' as const }),
      ...(elicitation?.form && { onQuestion: quietly(elicitation.form) }),
      ...(elicitation?.url && { onPage: quietly(elicitation.url) }),
      consent: (asked, server) => {
        this.progress.clear();
        return askConsent(asked, server);
      },
    }).finally(() => {
      this.stop = undefined;
      this.progress.clear();
    });
    this.context = [];
    this.held.push({ startedAt, steps: outcome.steps });
    if (options.trace !== undefined) writeTrace(options.trace, startedAt, outcome, this.held.length);
    if (options.json) printJson(JSON.stringify({ request, model: model.name, isStandIn: model.isStandIn, ...plain(outcome) }));
    if (outcome.error !== undefined && !options.json) reportError(outcome.error, false);
    return outcome;
  }

  private async obey(line: string): Promise<void> {
    const [name = '', ...words] = line.split(/\s+/);
    const command = Object.hasOwn(slashCommands, name) ? slashCommands[name] : undefined;
    if (command === undefined) throw new JexoError('JEXO_USAGE', `There is no /${name}.`, { next: 'See what there is with /help.' });
    await command.run(this.slash, words);
  }

  private readonly slash: Slash = {
    clients: () => this.clients,
    held: () => this.held,
    forget: () => this.memory.clear(),
    add: (uri) => void this.context.push({ uri }),
  };
}

/** What the commands of a conversation work on. */
interface Slash {
  clients(): Clients;
  held(): readonly HeldRequest[];
  forget(): unknown;
  add(uri: string): void;
}

const need = (word: string | undefined, what: string, example: string): string => {
  if (word !== undefined) return word;
  throw new JexoError('JEXO_USAGE', `${what} is missing.`, { next: `As in: ${example}` });
};

const slashCommands: Readonly<Record<string, { readonly about: string; run(slash: Slash, words: readonly string[]): unknown }>> = {
  help: {
    about: 'what you can type',
    run: () =>
      table(
        ['command', 'what it does'],
        [
          ...Object.entries(slashCommands).map(([name, { about }]) => [`/${name}`, about]),
          ['/quit', 'ends the conversation; Ctrl-D does too'],
        ],
      ).forEach(print),
  },
  tools: {
    about: 'the tools in play',
    async run({ clients }) {
      const tools = await clients().tools();
      table(
        ['tool', 'server', 'description'],
        tools.map(({ name, server, description = '' }) => [name, server, description.split('\n')[0]!]),
      ).forEach(print);
    },
  },
  servers: {
    about: 'the servers, as they stand',
    run({ clients }) {
      const chosen = clients().chosen();
      const rows = clients()
        .servers()
        .map(({ name, state, address, error }) => [
          name,
          chosen[name] === false ? 'off' : state,
          error === undefined ? address : messageOf(error),
        ]);
      table(['server', 'state', 'where'], rows).forEach(print);
    },
  },
  off: {
    about: '/off <server> takes its tools out of play',
    run: ({ clients }, [name]) => clients().choose({ [need(name, 'The server', '/off hives')]: false }),
  },
  on: {
    about: '/on <server> puts them back',
    run: ({ clients }, [name]) => clients().choose({ [need(name, 'The server', '/on hives')]: {} }),
  },
  context: {
    about: '/context <uri> puts a resource before your next request; without a URI it lists them',
    async run({ clients, add }, [uri]) {
      if (uri !== undefined) return add(uri);
      const resources = await clients().resources();
      table(
        ['resource', 'server', 'name'],
        resources.map(({ uri: each, server, title, ownName }) => [each, server, title ?? ownName]),
      ).forEach(print);
    },
  },
  trace: {
    about: 'what happened in the last request; /trace <file> writes all of it as a wire log, which the inspector opens',
    run({ held }, [file]) {
      const last = held().at(-1);
      if (last === undefined) throw new JexoError('JEXO_USAGE', 'Nothing has happened yet.');
      if (file === undefined) return showTrace(last.steps);
      held().forEach(({ startedAt, steps }, index) => writeTrace(file, startedAt, { steps }, index + 1));
      note(`${onErr('moss', symbols.ok)} Written to ${file}.`);
    },
  },
  save: {
    about: '/save <name>.calls.yaml writes the calls as a call sheet, which jexo replay replays',
    async run({ held, clients }, [file]) {
      const sheets = await saveConversation(need(file, 'The call sheet', '/save today.calls.yaml'), held(), clients());
      for (const sheet of sheets)
        note(
          `${onErr('moss', symbols.ok)} ${counted(sheet.calls, 'call')} on ${sheet.file}. ${onErr('quiet', `Replay them with: jexo replay ${sheet.file}`)}`,
        );
    },
  },
  forget: {
    about: 'forgets what was said',
    async run({ forget }) {
      await forget();
      note(`${onErr('moss', symbols.ok)} What was said is forgotten.`);
    },
  },
};

/** @throws JexoError JEXO_USAGE when the file cannot be written */
function writeTrace(file: string, startedAt: number, { steps }: Pick<Outcome, 'steps'>, request: number): void {
  try {
    appendFileSync(file, conversationTrace(steps, startedAt, request), { mode: 0o600 });
  } catch (error) {
    throw new JexoError('JEXO_USAGE', `The trace cannot be written: ${messageOf(error)}`, { where: file, cause: error });
  }
}

function plain({ error, tookMs, ...outcome }: Outcome): object {
  const { code, message, next } = (error ?? {}) as Partial<JexoError>;
  return { ...outcome, tookMs: Math.round(tookMs), ...(error !== undefined && { error: { code, message, next } }) };
}

function readHistory(file: string): readonly string[] {
  try {
    const kept: unknown = JSON.parse(readFileSync(file, 'utf8'));
    return Array.isArray(kept) ? kept.filter((each): each is string => typeof each === 'string') : [];
  } catch {
    return []; // no history yet, or a spoilt one: it is a comfort only
  }
}

export const command: CliCommand<ChatOptions> = {
  name: 'chat',
  about: 'hold a conversation over servers, with your approval of each call',
  operands: [['[targets...]', 'one server each; a host application’s configuration stands for all its entries']],
  options: [
    ...modelOptions,
    { flags: '--images', about: 'the model takes images' },
    { flags: '--instructions <text>', about: 'told to the model before all else' },
    { flags: '--rules <file>', about: 'rules for approvals: a file of YAML with allow, ask and refuse' },
    { flags: '--yes-read-only', about: 'call tools that say they only read, without asking' },
    { flags: '--yes-all', about: 'call any tool without asking, but those that a rule refuses or always asks for' },
    { flags: '--memory <file>', about: 'keep the conversation in this file, and go on with it' },
    { flags: '--context <uri>', about: 'put this resource before the first request; may be repeated', read: collect },
    { flags: '--summarise', about: 'have the model sum up long answers, rather than cut them' },
    { flags: '--trace <file>', about: 'write all calls and questions as a wire log, which the inspector opens' },
    { flags: '--answer <field=value>', about: 'answer a field that a server asks for; may be repeated', read: collect },
    { flags: '--yes', about: 'accept what servers ask to confirm' },
    { flags: '--steps <n>', about: 'times the model is asked for one request', default: 20, read: number('--steps', 1, 1000) },
    { flags: '--calls <n>', about: 'calls for one request', default: 50, read: number('--calls', 1, 10_000) },
    { flags: '--minutes <n>', about: 'time for one request', default: 10, read: number('--minutes', 1, 1440) },
    { flags: '--tokens <n>', about: 'tokens for one request', default: 500_000, read: number('--tokens', 1000, 1_000_000_000) },
    {
      flags: '--timeout <seconds>',
      about: 'give up a call after this many seconds without an answer',
      default: 60,
      read: number('--timeout', 1, 86_400),
    },
    json,
  ],
  takes: ['open', 'connect'],
  chooses: true,
  help: `Examples:
  jexo chat hives.ts scales.sqlite
  jexo chat hosts.json --model-url http://127.0.0.1:8080/v1 --model small
  jexo chat apiary.ts --rules chat.rules.yaml --memory talk.jsonl
  echo "how much syrup for 12 colonies in autumn?" | jexo chat hives.ts --yes-read-only --json

Without --model-url a stand-in chooses. It is not a model: it weighs the words a request and a tool share.
At a terminal, each call is asked for unless a rule allows it. In a pipe, each line is a request, and what no rule allows is not called.
Type /help in a conversation to see its commands. Ctrl-C stops a request.
Exit codes: 0 answered, 1 ended without an answer, 2 wrong use, 3 no server or model could be reached.`,
  run: chat,
};
