import { Command, Option } from 'commander';
import type { Choice } from '../offers/choose.js';
import type { TargetKind } from '../targets/target-kind.js';
import { commandKind } from '../targets/kinds/command.js';
import { targetKinds } from '../targets/find-kind.js';
import type { Ability, AnyCommand, Cli, CliOption, ExitCode, Invocation, Opening } from './command.js';
import { choiceOf, choiceOptions } from './options.js';

/** @param words the words behind `--` @param done gets the exit code */
export function buildCommand(command: AnyCommand, cli: Cli, words: readonly string[] | undefined, done: (code: ExitCode) => void): Command {
  const { name, about, operands, options, takes = [], chooses = false, help } = command;
  const built = new Command(name).description(about);
  for (const operand of operands) {
    const [text, meaning] = typeof operand === 'string' ? [operand] : operand;
    built.argument(text, meaning);
  }
  const kindOptions = optionsOfKinds(cli.kinds, takes);
  for (const option of [...options, ...(chooses ? choiceOptions : []), ...kindOptions.map(({ option: each }) => each)])
    built.addOption(optionOf(option));
  const targets = takes.length === 0 ? '' : `\n${targetsHelp(cli.kinds, takes)}\n`;
  return built.addHelpText('after', `${targets}\n${help}`).action(async () => {
    const values = built.opts<Record<string, unknown>>();
    const operandWords = built.args;
    const opening = openingOf(values, chooses, kindOptions, cli);
    const given = new Set(Object.keys(values).filter((each) => built.getOptionValueSource(each) === 'cli'));
    const invocation = { operands: operandWords, command: words, options: { ...values, opening }, given } as unknown as Invocation<never>;
    done(await command.run(invocation, cli));
  });
}

/** The kinds of target that can do one of these things. */
export function kindsThat(kinds: readonly TargetKind[], abilities: readonly Ability[]): readonly TargetKind[] {
  return kinds.filter((kind) => abilities.some((ability) => kind[ability] !== undefined));
}

/** The lines that tell which targets there are. */
export function targetsHelp(kinds: readonly TargetKind[], abilities: readonly Ability[] = ['open', 'connect']): string {
  const all = [...kindsThat(kinds, abilities), commandKind as unknown as TargetKind].filter((kind) =>
    abilities.some((ability) => kind[ability] !== undefined),
  );
  const widest = Math.max(...all.map(({ example }) => example.length));
  return ['Targets:', ...all.map(({ example, about }) => `  ${example.padEnd(widest + 2)}${about}`)].join('\n');
}

/** Reads what stands behind `serve` on a command line, as far as it says what is served. */
export function readServeArguments(words: readonly string[]): { readonly operands: readonly string[]; readonly opening: Opening } {
  const own = optionsOfKinds(targetKinds, ['open']);
  const parser = new Command().argument('[targets...]').allowUnknownOption().exitOverride();
  for (const option of [...choiceOptions, ...own.map(({ option: each }) => each)]) parser.addOption(optionOf(option));
  parser.parse([...words], { from: 'user' });
  return { operands: parser.args, opening: openingOf(parser.opts(), true, own, { more: [] }) };
}

function optionsOfKinds(kinds: readonly TargetKind[], takes: readonly Ability[]) {
  return kindsThat(kinds, takes).flatMap((kind) =>
    (kind.options ?? []).map(({ name, flags, about, read }) => ({
      key: name,
      attribute: new Option(flags).attributeName(),
      option: { flags, about: `of ${kind.noun}: ${about}`, ...(read && { read }) } satisfies CliOption,
    })),
  );
}

function optionOf({ flags, about, choices, default: given, preset, isRequired, isHidden, read }: CliOption): Option {
  const option = new Option(flags, about);
  if (choices !== undefined) option.choices(choices);
  if (given !== undefined) option.default(given);
  if (preset !== undefined) option.preset(preset);
  if (read !== undefined) option.argParser(read as (text: string, before: unknown) => unknown);
  if (isRequired === true) option.makeOptionMandatory();
  if (isHidden === true) option.hideHelp();
  return option;
}

function openingOf(
  values: Readonly<Record<string, unknown>>,
  chooses: boolean,
  kindOptions: readonly { readonly key: string; readonly attribute: string }[],
  { more }: Pick<Cli, 'more'>,
): Opening {
  const choice = chooses ? choiceOf(values as Choice) : undefined;
  const own = kindOptions
    .filter(({ attribute }) => values[attribute] !== undefined)
    .map(({ key, attribute }) => [key, values[attribute]] as const);
  return {
    ...(choice && { choice }),
    ...(own.length > 0 && { options: Object.fromEntries(own) }),
    ...(more.length > 0 && { kinds: more }),
  };
}
