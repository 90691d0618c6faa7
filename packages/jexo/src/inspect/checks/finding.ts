import type { Omission, Remark } from '../../offers/source.js';
import type { InitializeResult, Prompt, Resource, ResourceTemplate, Tool } from '../../protocol/types.js';
import type { Deviation } from '../../transports/link.js';

import type { SeenView } from './view-rules.js';

/** How much a finding of `jexo check` matters. */
export type Severity = 'error' | 'warning' | 'note';
export const severities: readonly Severity[] = ['note', 'warning', 'error'];

/** What is checked, each with what it means when it is found. docs/check.md has a line on every one. */
export const rules = {
  'no-description': 'A tool, prompt or resource without a description is not picked, or picked wrongly.',
  'thin-description': 'A description that only repeats the name tells a model nothing.',
  'parameter-without-description': 'A parameter without a description is guessed at.',
  'confusable-tools': 'Two tools whose words are nearly the same are taken for one another.',
  'same-description': 'Tools of one and the same description differ by their name alone.',
  'untyped-input': 'An input without a type is filled in by guessing.',
  'refused-name': 'A name that hosts refuse, or change, cannot be called.',
  'unsupported-schema': 'A schema that many hosts cannot take makes the tool vanish, or its calls fail.',
  'list-size': 'A long list costs every request, and crowds out the request itself.',
  'no-output-schema': 'Without an output schema a client cannot use the answer without reading it.',
  'contradicting-hint': 'A hint that says the opposite of the name leads a host to ask, or not to ask, for consent wrongly.',
  'invisible-characters': 'Characters that nobody sees carry text that only a model reads.',
  'instruction-like-text': 'A description that orders the model about may be an attack.',
  'invalid-example': 'An example or a default that its own schema refuses teaches wrong calls.',
  omitted: 'Something could not be offered.',
  'query-without-limit': 'A query without a bound answers with whole tables, page after page.',
  'select-star': 'A query that selects everything answers with columns that are added later, and that nobody has looked at.',
  'table-without-key': 'Without a key a table has one page, and its rows have no address.',
  'guide-over-budget': 'A guide that does not fit its budget costs the model another call before every query.',
  remark: 'Something that a source remarks on itself.',
  protocol: 'A deviation from the protocol works with one client and fails with another.',
  'stdout-noise': 'A line on stdout that is no message ends the conversation with many hosts.',
  'wrong-headers': 'Headers and statuses that the protocol wants otherwise break with some clients, gateways and browsers.',
  'slow-start': 'Hosts give up on a server that takes long to start.',
  'view-unreadable': 'A tool whose view cannot be read shows nothing where people expect a page.',
  'view-blocked-origin': 'What a page loads from origins that it does not declare is blocked by every host.',
  'view-wide-csp': 'An origin that is declared and not needed is a way out for what the page is given.',
  'view-unreachable-origin': 'A page that waits for an origin which is not there stays empty.',
  'view-too-large': 'A large page makes every answer slow.',
  'view-no-size': 'A page that does not report its size is cut off, or stands in empty space.',
  'view-inline-handler': 'Handlers in the markup do not run under a strict policy.',
  'view-asks-model': 'A message that reads like a request is taken for one: the model acts on it.',
  'silent-change': 'A list that changes without notice leaves clients with the old one.',
} as const;
export type Rule = keyof typeof rules;

export interface Finding {
  readonly rule: Rule;
  readonly severity: Severity;
  /** What it is about: `tool mix_syrup`, `tool mix_syrup colonies`, `server`. */
  readonly subject: string;
  /** A file with its line, when it is known. */
  readonly where?: string;
  readonly message: string;
  readonly remedy: string;
}

/** What was seen of a server. */
export interface Seen {
  readonly server: InitializeResult;
  readonly tools: readonly Tool[];
  readonly resources: readonly Resource[];
  readonly templates: readonly ResourceTemplate[];
  readonly prompts: readonly Prompt[];
  readonly omitted: readonly Omission[];
  /** What the sources remark on themselves. */
  readonly remarks?: readonly Remark[];
  /** Where each was defined, by `tool mix_syrup`. */
  readonly places?: Readonly<Record<string, string>>;
  /** What to do when the list is too long, as its source says it. */
  readonly whenTooMany?: string;
  /** True for somebody else's server: its words are not to be trusted. */
  readonly foreign: boolean;
  /** Invalid messages that were met. */
  readonly deviations: readonly string[];
  /** Deviations around the messages: on stdout, in headers. */
  readonly around?: readonly Deviation[];
  /** Milliseconds from the start to the end of the handshake. */
  readonly startMs?: number;
  /** Names of tools that differed when they were listed a second time, with no notice in between. */
  readonly changedSilently?: readonly string[];
  /** Pages of views, as they were read. */
  readonly views?: readonly SeenView[];
}

export type Report = (finding: Finding) => void;
