import type { JexoErrorCode } from '../errors.js';
import type { Offer } from './offer.js';

/** Something that could not be offered, and why. */
export interface Omission {
  /** What it is called where it was defined. */
  readonly name: string;
  /** What `name` names, in a word: `function`, `operation`, `table`. */
  readonly what: string;
  /** A file with its line. */
  readonly where: string;
  /** The reason, without a full stop. */
  readonly why: string;
  /** What to do about it, in a sentence. */
  readonly next: string;
  /** The code of the error it would be. */
  readonly code: JexoErrorCode;
  /** True when only an optional part is omitted, and the rest is offered. */
  readonly partial?: boolean;
}

/** A variable of the environment that something offered needs when it is called. */
export interface NeededSetting {
  /** Its name: `REGISTRY_TOKEN`. */
  readonly variable: string;
  /** What it is for: `the token of Registry`. */
  readonly purpose: string;
  /** True when its value must not be shown. */
  readonly secret: boolean;
  /** The host a secret is sent to, where it goes to one. */
  readonly sentTo?: string;
}

/** Something `jexo check` says of what a source was made of: a query, a table. */
export interface Remark {
  /** A stable id: `query-without-limit`. Rules of `jexo check` are reported as such, others as `remark`. */
  readonly rule: string;
  /** What it is about: `query daily_weight`. */
  readonly subject: string;
  /** A file with its line, where there is one. */
  readonly where?: string;
  /** What is worth changing, as a sentence. */
  readonly message: string;
  /** How to change it, as a sentence. */
  readonly remedy: string;
}

/** Values by the name of their variable, as in `process.env`. */
export type Settings = Readonly<Record<string, string | undefined>>;

/** The variables among `needed` that have no value. */
export function missingSettings(needed: readonly NeededSetting[], settings: Settings): readonly NeededSetting[] {
  return needed.filter(({ variable }) => !settings[variable]);
}

/** What a source is given when it is read. */
export interface ReadContext {
  /** Where settings are looked up. Default: the environment of the process. */
  readonly settings: Settings;
  /** Fires when nobody waits for the contents any more. */
  readonly signal: AbortSignal;
  /**
   * Reports how far a long read is.
   *
   * @param done grows from one report to the next
   * @param total the value of `done` at the end, if it is known
   */
  progress(done: number, total?: number, message?: string): void;
}

/** What a source holds at the moment it is read. */
export interface SourceContents {
  /** Tools, resources, templates and prompts. */
  readonly offers: readonly Offer[];
  /** What could not be offered, and why. */
  readonly omitted?: readonly Omission[];
  /** Names of offers that were excluded by `only` and `except`. */
  readonly excluded?: readonly string[];
  /** Variables of the environment that calls need. */
  readonly settings?: readonly NeededSetting[];
  /** What `jexo check` reports of it. */
  readonly remarks?: readonly Remark[];
  /** What a person who serves it should know, as sentences. */
  readonly notes?: readonly string[];
  /** What to do when its list of tools is too long for a model: a sentence. */
  readonly whenTooMany?: string;
  /** Paths of the local files it was read from. `serve --watch` reads again when one of them is saved. */
  readonly files?: readonly string[];
}

/**
 * Anything that yields offers. A third party writes one by returning this shape.
 *
 * @example
 * const clock: Source = { name: 'clock', read: async () => ({ offers: [tool('now', {}, () => new Date().toISOString())] }) };
 */
export interface Source {
  /** Shown beside its offers; groups them. */
  readonly name: string;
  /** Reads what is offered now. It is called again on a reload; `context.signal` ends it early. */
  read(context: ReadContext): Promise<SourceContents>;
  /** Calls `changed` whenever `read` would yield something else; returns how to stop. */
  watch?(changed: () => void): () => void;
  /**
   * What a pack carries so that the packed server need not read its files again, as a JSON value: types that were read,
   * the text of a document. Undefined when the source needs nothing.
   */
  freeze?(context: ReadContext): Promise<unknown>;
  /** The same source, which reads from what `freeze` gave. */
  thaw?(frozen: unknown): Source;
  /** What it holds at the moment, for metrics: `{ connections: 3, waiting: 0 }`. */
  gauges?(): Readonly<Record<string, number>>;
  /** Releases connections, processes and watchers. The source may be read again afterwards. */
  close?(): void | Promise<void>;
}

export function isSource(part: Offer | Source): part is Source {
  return 'read' in part;
}

/** The context of a read, with defaults for what the caller does not give. */
export function readContext({ settings = environment(), signal, progress }: Partial<ReadContext> = {}): ReadContext {
  return { settings, signal: signal ?? new AbortController().signal, progress: progress ?? (() => undefined) };
}

/** The environment of the process; empty in a browser. */
function environment(): Settings {
  return (globalThis as { process?: { env?: Settings } }).process?.env ?? {};
}

/** Reads offers and sources side by side, each as the contents of a source. */
export function readParts(parts: readonly (Offer | Source)[], context: ReadContext): Promise<readonly SourceContents[]> {
  return Promise.all(parts.map(async (part) => (isSource(part) ? part.read(context) : { offers: [part] })));
}

/** What the sources among the parts hold at the moment, by the names of the sources. */
export function gaugesOf(parts: readonly (Offer | Source)[]): ReadonlyMap<string, Readonly<Record<string, number>>> {
  return new Map(
    parts.flatMap((part) => {
      const held = isSource(part) ? part.gauges?.() : undefined;
      return held === undefined ? [] : [[(part as Source).name, held] as const];
    }),
  );
}

/** The sources among the parts, and those that were put together inside them, are closed; every one is tried. @throws the first error */
export async function closeParts(parts: readonly (Offer | Source)[]): Promise<void> {
  const settled = await Promise.allSettled(parts.map(async (part) => (isSource(part) ? part.close?.() : undefined)));
  for (const each of settled) if (each.status === 'rejected') throw each.reason;
}
