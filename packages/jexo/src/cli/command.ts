import type { Choice } from '../offers/choose.js';
import type { TargetKind } from '../targets/target-kind.js';

/** What a target of some kind must be able to do for a command. */
export type Ability = 'open' | 'bridge' | 'connect' | 'pack' | 'hostEntry';

/** One option, as the help shows it. Its value is found under its long name in camel case. */
export interface CliOption {
  /** `--port <port>`; `<…>` wants a value, `[…]` takes one, neither makes a flag. */
  readonly flags: string;
  readonly about: string;
  readonly choices?: readonly string[];
  readonly default?: unknown;
  /** The value of an option that takes one and stands alone. */
  readonly preset?: unknown;
  readonly isRequired?: boolean;
  readonly isHidden?: boolean;
  /** Reads the text of a value; `before` is what an earlier one of the same option gave. @throws JexoError JEXO_USAGE */
  readonly read?: (text: string, before: unknown) => unknown;
}

/** What a command line says about how its targets are opened. */
export interface Opening {
  readonly choice?: Choice;
  /** Options of the targets' kinds. */
  readonly options?: Readonly<Record<string, unknown>>;
  readonly kinds?: readonly TargetKind[];
}

/** One call of a command. */
export interface Invocation<O> {
  readonly operands: readonly string[];
  /** The words behind `--`; undefined when there are none. */
  readonly command: readonly string[] | undefined;
  readonly options: O & { readonly opening: Opening };
  /** Attributes of the options that were given, rather than left at what is usual. */
  readonly given: ReadonlySet<string>;
}

/** An exit code; 0 when a command gives none. */
export type ExitCode = number | void;

/** One command: its words, options and examples, and what it does. */
export interface CliCommand<O = never> {
  readonly name: string;
  readonly about: string;
  /** As `[target]` or `[key=value...]`, with a word on what it is where that needs one. */
  readonly operands: readonly (string | readonly [operand: string, about: string])[];
  readonly options: readonly CliOption[];
  /** What its targets must be able to do, one of these: the options of such kinds are shown with the command's own. */
  readonly takes?: readonly Ability[];
  /** True when one may choose among what its targets offer: `--only`, `--rename` and the like. */
  readonly chooses?: boolean;
  /** Examples, and what else there is to say, a line each. */
  readonly help: string;
  run(invocation: Invocation<O>, cli: Cli): Promise<ExitCode>;
}

/** A command of whatever options: what a table of commands holds. */
export type AnyCommand = CliCommand<never>;

/** Loads a command when it is called, so that the others cost nothing. */
export type LoadCommand = () => Promise<{ readonly command: AnyCommand }>;

/** What the command line consists of. */
export interface Cli {
  readonly commands: Readonly<Record<string, LoadCommand>>;
  /** Kinds of target, those that ship and others. */
  readonly kinds: readonly TargetKind[];
  /** The kinds beside those that ship. */
  readonly more: readonly TargetKind[];
}
