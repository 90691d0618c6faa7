import type { Client } from '../client/connect-link.js';
import { describeFault } from '../engine/faults.js';
import { JexoError } from '../errors.js';
import { quoteForShell } from '../inspect/input-text.js';
import type { Server } from '../offers/define-server.js';
import { missingSettings, type NeededSetting, type Omission } from '../offers/source.js';
import { withoutPassword } from '../protocol/without-password.js';
import { connectTarget as reach, type ConnectOptions } from '../targets/connect.js';
import type { Target } from '../targets/target-kind.js';
import type { Opening } from './command.js';
import { keepStdoutForResults, note, onErr, symbols } from './terminal.js';
import { terminalAuth } from './terminal-sign-in.js';
import { openWireLog } from './wire-log.js';

/** Where a command's target stands: in its operands, or behind `--` as a command to start. */
export interface TargetWords {
  /** The target as text; undefined when it is a command. */
  readonly text: string | undefined;
  readonly command: readonly string[] | undefined;
}

/** The target for people: a password in it is not shown. */
export function showTarget({ text, command }: TargetWords): string {
  return text === undefined ? `-- ${command!.map(withoutPassword).map(quoteForShell).join(' ')}` : withoutPassword(text);
}

export function targetOf({ text, command }: TargetWords): Target {
  return command ?? text!;
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
  if (text === undefined) throw new JexoError('JEXO_USAGE', 'Which server? No target was given.', { next: usage });
  return { target: { text, command: undefined }, rest };
}

export interface CliConnectOptions extends ConnectOptions {
  /** A file that every message is written to. */
  readonly wireLog?: string | undefined;
  readonly opening?: Opening | undefined;
}

export async function connectTarget(
  words: TargetWords,
  { wireLog, opening, ...given }: CliConnectOptions,
): Promise<{ client: Client; omitted: readonly Omission[]; server?: Server }> {
  const log = wireLog === undefined ? undefined : openWireLog(wireLog);
  const logged = log === undefined ? given : { ...given, tap: tapBoth(log.tap, given.tap) };
  keepStdoutForResults();
  const { client, server } = await reach(targetOf(words), {
    auth: terminalAuth(),
    // What is for views alone is shown to whoever makes it.
    views: true,
    ...logged,
    ...opening,
    onFault: reportFault,
    // A command that was typed here has what stands here.
    ...(words.command !== undefined && { inherit: 'all' as const, onStderr: showServerLine }),
  });
  const omitted = server === undefined ? [] : (await server.catalogue()).omitted;
  return { client, omitted, ...(server && { server }) };
}

/** A line that a started server wrote to stderr. */
function showServerLine(line: string): void {
  note(onErr('quiet', line));
}

function tapBoth(first: NonNullable<ConnectOptions['tap']>, second: ConnectOptions['tap']): NonNullable<ConnectOptions['tap']> {
  return (event) => {
    first(event);
    second?.(event);
  };
}

export function reportFault(error: unknown, reference: string): void {
  note(`${onErr('brick', symbols.failed)} fault ${reference}: ${describeFault(error)}`);
}

export function reportOmitted(omitted: readonly Omission[]): void {
  const parts = omitted.filter(({ partial }) => partial);
  const all = parts.length > fewParts ? omitted.filter(({ partial }) => !partial) : omitted;
  for (const { name, where, why, next, code } of all)
    note(`${onErr('ochre', symbols.warn)} ${name} is omitted: ${where}: ${why}. ${next} ${onErr('quiet', `(${code})`)}`);
  if (parts.length > fewParts)
    note(
      `${onErr('ochre', symbols.warn)} ${parts.length} optional parts are omitted, as ${parts[0]!.name}: ${parts[0]!.why}. See all with --json.`,
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
