import { Command, CommanderError } from 'commander';
import { JexoError } from '../errors.js';
import { nearest } from '../offers/nearest.js';
import { targetKinds } from '../targets/find-kind.js';
import type { TargetKind } from '../targets/target-kind.js';
import { buildCommand, targetsHelp } from './build-program.js';
import type { Cli, ExitCode, LoadCommand } from './command.js';
import { adoptEnvFile } from './env-file.js';
import { reportError } from './report-error.js';
import { print } from './terminal.js';

export interface CliParts {
  readonly commands: Readonly<Record<string, LoadCommand>>;
  /** Kinds of target beside those that ship. */
  readonly kinds?: readonly TargetKind[];
}

const about = 'Turn functions and REST APIs you already have into a Model Context Protocol server: serve it, call it, inspect it, pack it.';
const examples = `Examples:
  jexo list hives.ts
  jexo call hives.ts mix_syrup colonies=12 season=autumn
  jexo serve hives.ts --http 4300
  jexo inspect hives.ts
  jexo pack hives.ts --as file --out dist/`;

/**
 * Runs one command line: loads the command that is called, and no other, and turns what it gives into an exit code.
 *
 * @param all the words after the program's name
 * @returns the exit code
 */
export async function runCli(all: readonly string[], { commands, kinds: more = [] }: CliParts): Promise<number> {
  const cli: Cli = { commands, kinds: [...more, ...targetKinds], more };
  // What stands behind `--` is a command that starts a server; commander never sees it.
  const dashes = all.indexOf('--');
  const behind = dashes < 0 ? undefined : all.slice(dashes + 1);
  const words = dashes < 0 ? all : all.slice(0, dashes);
  let code: ExitCode = 0;
  try {
    await adoptEnvFile();
    const [name] = words;
    const program = await programFor(name, cli, behind, (given) => (code = given));
    if (name === undefined) {
      print(`${program.helpInformation()}\nStart with: jexo list hives.ts   (any file that exports functions)`);
      return 0;
    }
    await program.parseAsync([...words], { from: 'user' });
    return code ?? 0;
  } catch (error) {
    const isHelp = error instanceof CommanderError && error.exitCode === 0;
    return isHelp ? 0 : reportError(usageError(error), words.includes('--json'));
  }
}

/** The whole program, with every command loaded: for help and completion. */
export async function wholeProgram(cli: Cli): Promise<Command> {
  return programFor(undefined, cli, undefined, () => undefined);
}

async function programFor(
  name: string | undefined,
  cli: Cli,
  behind: readonly string[] | undefined,
  done: (code: ExitCode) => void,
): Promise<Command> {
  const program = new Command('jexo')
    .description(about)
    .version(process.env.JEXO_VERSION ?? '0.0.0', '--version', 'print the version')
    .helpCommand(false)
    .addHelpText('after', `\n${targetsHelp(cli.kinds)}\n\n${examples}`);
  const called = name !== undefined && Object.hasOwn(cli.commands, name) ? [name] : Object.keys(cli.commands);
  if (name !== undefined && !name.startsWith('-') && called.length > 1) throw unknownCommand(name, called);
  const loaded = await Promise.all(called.map(async (each) => (await cli.commands[each]!()).command));
  for (const command of loaded) program.addCommand(quiet(buildCommand(command, cli, behind, done)));
  return quiet(program);
}

/** Errors are ours to print, and nothing but us ends the process. */
function quiet(command: Command): Command {
  return command
    .showSuggestionAfterError(true)
    .exitOverride()
    .configureOutput({ writeOut: (text) => print(text.trimEnd()), writeErr: () => undefined, outputError: () => undefined });
}

function unknownCommand(name: string, names: readonly string[]): JexoError {
  const near = nearest(name, names);
  return new JexoError('JEXO_USAGE', `There is no command ${name}.${near === undefined ? '' : ` Did you mean ${near}?`}`, {
    where: name,
    next: `The commands are: ${names.join(', ')}.`,
  });
}

function usageError(error: unknown): unknown {
  return error instanceof CommanderError ? new JexoError('JEXO_USAGE', error.message.replace(/^error: /, '')) : error;
}
