import type { OptionalPackage } from '../optional-package.js';
import type { Client } from '../client/connect-link.js';
import type { HostEntry } from '../hosts/host-entry.js';
import type { Choice } from '../offers/choose.js';
import type { Server } from '../offers/define-server.js';
import type { NeededSetting } from '../offers/source.js';
import type { ProjectFiles, ProjectInfo } from '../projects/project-files.js';
import type { ConnectOptions } from './connect.js';
import type { ServeDefaults } from '../plans/serve-settings.js';
import type { Peek } from './peek.js';

/** A target as it is given: a text, or the words of a command that starts a server. */
export type Target = string | readonly string[];

/** One option that targets of a kind take, at the terminal and in code. */
export interface TargetOption {
  /** The key of its value: `baseUrl`. */
  readonly name: string;
  /** As it stands at the terminal: `--base-url <url>`. */
  readonly flags: string;
  /** What it does, for help texts. */
  readonly about: string;
  /** Reads a value that was given at the terminal; `before` is what an earlier one gave. Default: the text itself. */
  readonly read?: (text: string, before: unknown) => unknown;
}

/** How a target is opened. */
export interface OpenHow {
  /** Which offers are kept, for a kind that `choosesItself`. */
  readonly choice: Choice;
  /** Values of the kind's own options, by their names. */
  readonly options: Readonly<Record<string, unknown>>;
  /** Takes modules that have changed again. */
  readonly again: boolean;
  /** Takes modules with a state of their own, whatever was loaded before; the packages they import are shared. */
  readonly fresh: boolean;
}

/** A target as a server. */
export interface Opened {
  /** The server it was made. */
  readonly server: Server;
  /** The local files the server is made of, beside those its sources name. */
  readonly files: readonly string[];
  /** How it is served, where the command line says nothing else. */
  readonly serve?: ServeDefaults;
}

/** What a pack needs to make a server again where it is run. */
export interface Packable {
  /** Statements that import what `server` uses. */
  readonly imports: string;
  /** An expression for the server, of what `packedNames` names and of the imports. */
  readonly server: string;
  /** The file or folder that imports are resolved from. */
  readonly from: string;
  /** The name of the packed file, without its ending. */
  readonly name: string;
  /** Modules that are made up for this pack, by the specifiers that `imports` uses. */
  readonly modules?: Readonly<Record<string, string>>;
  /** Files and folders that it reads where it runs: they are copied beside it, at the same path. */
  readonly beside?: readonly { readonly path: string; readonly as: string }[];
  /** Packages that cannot be built in, and are installed where it runs. */
  readonly packages?: readonly OptionalPackage[];
  /** Variables that the packed server needs, beside those its sources say. */
  readonly settings?: readonly NeededSetting[];
}

/**
 * One kind of target: how it is recognised, and what can be done with it. A kind omits what it cannot do; commands report that.
 *
 * @example
 * const greetings: TargetKind = {
 *   kind: 'greetings', noun: 'a list of greetings', example: 'hello.greetings', about: 'a tool for each line',
 *   matches: (text) => text.endsWith('.greetings'),
 *   open: async (text) => ({ server: serverOf(await readFile(text, 'utf8')), files: [text] }),
 * };
 */
export interface TargetKind<T extends Target = string> {
  /** A short name: `module`. */
  readonly kind: string;
  /** As a sentence names it: `a module`. */
  readonly noun: string;
  /** A target of this kind, and what is made of it, for help texts. */
  readonly example: string;
  /** What is made of it, for help texts. */
  readonly about: string;
  /** What may be said about targets of this kind. */
  readonly options?: readonly TargetOption[];
  /** True for a target of this kind. Kinds are asked in order; the first that says yes has it. */
  matches(target: T, peek: Peek): boolean | Promise<boolean>;
  /** Options that the target behind it stands for: what the two words say together. Undefined when that is a target of its own. */
  takesNext?(target: T, next: string): Readonly<Record<string, unknown>> | undefined;
  /** Makes a server of it, in this process. @throws JexoError */
  open?(target: T, how: OpenHow): Promise<Opened>;
  /** Connects to the server it names. @throws JexoError */
  connect?(target: T, options: ConnectOptions): Promise<Client>;
  /** Serves the running server it names as one of ours. @throws JexoError */
  bridge?(target: T, how: OpenHow): Promise<Opened>;
  /** True when `open` applies the choice itself. */
  readonly choosesItself?: boolean;
  /** True when opening runs code of the user's, which a key that completes words must not do. */
  readonly runsCode?: boolean;
  /** How a pack makes the server again. @throws JexoError */
  pack?(target: T, how: OpenHow): Promise<Packable>;
  /** How a host application reaches it. @throws JexoError */
  hostEntry?(target: T, how: EntryHow): Promise<HostEntry>;
  /** A name for it where it needs one. Default: made of its last part. */
  name?(target: T): string;
  /** A new project that wraps it. @throws JexoError */
  project?(target: T, info: ProjectInfo): Promise<ProjectFiles>;
}

/** What an entry of a host application’s configuration is made of. */
export interface EntryHow {
  /** The command that serves it: `[node, cli.mjs, 'serve']`. */
  readonly serve: readonly string[];
  /** What is said behind the target: `--only 'GET *'`. */
  readonly serveOptions: readonly string[];
  /** Variables for the server. */
  readonly env: Readonly<Record<string, string>>;
  /** Values of the kind’s own options, by their names. */
  readonly options: Readonly<Record<string, unknown>>;
}
