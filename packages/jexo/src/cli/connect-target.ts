import { connect, type ConnectOptions } from '../client/connect.js';
import { memoryLink } from '../transports/memory.js';
import { connectLink, type Client } from '../client/connect-link.js';
import { JexoError } from '../errors.js';
import { quoteForShell } from '../inspect/input-text.js';
import type { Choice } from '../offers/choose.js';
import type { Server } from '../offers/define-server.js';
import { isServerUrl, parseTarget } from '../targets/target.js';
import { openTarget, type OpenOptions } from '../targets/open-target.js';
import { isOfModule, missingSettings, type NeededSetting, type Omission } from '../offers/offer.js';
import { atRightPath } from './right-path.js';
import { openWireLog } from './wire-log.js';
import { keepStdoutForResults, note, onErr, symbols } from './terminal.js';

/** How a document's API is offered. */
export type RestChoice = NonNullable<OpenOptions['rest']>;

/** Where a command's target stands: in its operands, or behind `--` as a command to start. */
export interface TargetWords {
  /** The target as text; undefined when it is a command. */
  readonly text: string | undefined;
  readonly command: readonly string[] | undefined;
}

export function showTarget({ text, command }: TargetWords): string {
  return text ?? `-- ${command!.map(quoteForShell).join(' ')}`;
}

/** Takes the target from the operands, unless a command was given behind `--`. */
export function takeTarget(
  operands: readonly string[],
  command: readonly string[] | undefined,
  usage: string,
): { target: TargetWords; rest: readonly string[] } {
  if (command !== undefined) {
    if (command.length === 0) throw new JexoError('JEXO_USAGE', 'There is no command behind --.', { next: usage });
    return { target: { text: undefined, command }, rest: operands };
  }
  const [text, ...rest] = operands;
  if (text === undefined) throw new JexoError('JEXO_USAGE', 'Say which server is meant.', { next: usage });
  return { target: { text, command: undefined }, rest };
}

export interface CliConnectOptions extends ConnectOptions {
  /** A file that every message is written to. */
  readonly wireLog?: string | undefined;
  readonly choice?: Choice | undefined;
  readonly rest?: RestChoice | undefined;
  /** A module is loaded as if for the first time, with a state of its own. */
  readonly fresh?: boolean;
}

export async function connectTarget(
  { text, command }: TargetWords,
  { wireLog, choice, rest, fresh = false, ...given }: CliConnectOptions,
): Promise<{ client: Client; omitted: readonly Omission[]; server?: Server }> {
  const log = wireLog === undefined ? undefined : openWireLog(wireLog);
  const options: ConnectOptions = log === undefined ? given : { ...given, tap: (event) => (log.tap(event), given.tap?.(event)) };
  const isEntry = command === undefined && parseTarget(text!).kind === 'entry';
  if (isEntry) return { client: await connect(text!, options), omitted: [] };
  if (command !== undefined || isServerUrl(text!)) {
    if (choice !== undefined || rest !== undefined)
      throw new JexoError(
        'JEXO_USAGE',
        'A running server offers what it offers: a choice can be made of modules, packages and documents only.',
        {
          next: 'Leave out --only, --except, --rename, --describe, --prefix and --base, or give the module.',
        },
      );
    // A command that was typed here has what stands here.
    const open = () => connect(command ?? text!, { ...options, inherit: 'all' });
    return { client: command === undefined ? await atRightPath(text!, options.headers, open) : await open(), omitted: [] };
  }
  keepStdoutForResults();
  const server = await openTarget(text!, { fresh, ...(choice && { choice }), ...(rest && { rest }) });
  const { omitted } = await server.catalogue();
  const client = await connectLink(memoryLink(server, { ...options, onFault: reportFault }), options);
  return { client, omitted, server };
}

export function reportFault(error: unknown, reference: string): void {
  const text = error instanceof Error ? (error.stack ?? error.message) : String(error);
  note(`${onErr('brick', symbols.failed)} fault ${reference}: ${text}`);
}

export function reportOmitted(omitted: readonly Omission[]): void {
  const parts = omitted.filter(({ partial }) => partial);
  const all = parts.length > fewParts ? omitted.filter(({ partial }) => !partial) : omitted;
  for (const omission of all) {
    const { name, where, why, next } = omission;
    const code = isOfModule(omission) ? 'JEXO_TYPE_UNREADABLE' : 'JEXO_DOCUMENT';
    note(`${onErr('ochre', symbols.warn)} ${name} is left out: ${where}: ${why}. ${next} ${onErr('quiet', `(${code})`)}`);
  }
  if (parts.length > fewParts)
    note(
      `${onErr('ochre', symbols.warn)} ${parts.length} optional parts are left out, as ${parts[0]!.name}: ${parts[0]!.why}. See all with --json.`,
    );
}

/** Variables that what is offered needs, and that this environment lacks; and which host gets which secret. */
export function reportSettings(settings: readonly NeededSetting[]): void {
  for (const { variable, purpose } of missingSettings(settings, process.env))
    note(`${onErr('ochre', symbols.warn)} ${variable} is not set: ${purpose} is read from it. Calls that need it will fail.`);
  for (const { variable, sentTo } of settings)
    if (sentTo !== undefined && process.env[variable]) note(`  ${variable} is sent to ${sentTo}.`);
}

/** Optional parts that are worth a line each. */
const fewParts = 5;
