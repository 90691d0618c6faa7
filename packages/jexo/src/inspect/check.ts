import type { Omission } from '../offers/offer.js';
import { compileSchema, describeIssues } from '../offers/schema.js';
import type { InitializeResult, JsonSchema, Prompt, Resource, ResourceTemplate, Tool } from '../protocol/types.js';
import type { Departure } from '../transports/link.js';
import { estimateTokens } from './tokens.js';

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
  'left-out': 'Something could not be offered.',
  protocol: 'A departure from the protocol works with one client and fails with another.',
  'stdout-noise': 'A line on stdout that is no message ends the conversation with many hosts.',
  'wrong-headers': 'Headers and statuses that the protocol wants otherwise break with some clients, gateways and browsers.',
  'slow-start': 'Hosts give up on a server that takes long to start.',
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
  /** Where each was defined, by `tool mix_syrup`. */
  readonly places?: Readonly<Record<string, string>>;
  /** True for somebody else's server: its words are not to be trusted. */
  readonly foreign: boolean;
  /** Invalid messages that were met. */
  readonly deviations: readonly string[];
  /** Departures from the protocol around the messages. */
  readonly departures?: readonly Departure[];
  /** Milliseconds from the start to the end of the handshake. */
  readonly startMs?: number;
  /** Names of tools that differed when they were listed a second time, with no notice in between. */
  readonly changedSilently?: readonly string[];
}

type Report = (finding: Finding) => void;

const slowMs = 3000;
const longList = 8000;
const tooLongList = 20_000;

/** Judges what a server offers: for models, for hosts, for people. */
export async function checkServer(seen: Seen): Promise<Finding[]> {
  const found: Finding[] = [];
  const report: Report = (finding) => {
    const [kind, name] = finding.subject.split(' ');
    const where = finding.where ?? seen.places?.[`${kind} ${name}`];
    found.push({ ...finding, ...(where !== undefined && { where }) });
  };
  for (const tool of seen.tools) await checkTool(tool, report);
  for (const prompt of seen.prompts) checkDescribed(`prompt ${prompt.name}`, prompt.name, prompt.description, report);
  for (const { uri, title, description } of seen.resources)
    if (!description && !title) checkDescribed(`resource ${uri}`, uri, undefined, report);
  for (const template of seen.templates) checkDescribed(`template ${template.uriTemplate}`, template.name, template.description, report);
  checkConfusable(seen.tools, report);
  checkSameDescription(seen.tools, report);
  checkSize(seen.tools, report);
  checkWords(seen, report);
  for (const { name, where, why, next, partial } of seen.omitted)
    report({
      rule: 'left-out',
      severity: partial ? 'note' : 'warning',
      subject: `${isModule.test(where) ? 'function' : 'operation'} ${name}`,
      where,
      message: why,
      remedy: next,
    });
  for (const account of new Set(seen.deviations))
    report({
      rule: 'protocol',
      severity: 'error',
      subject: 'server',
      message: account,
      remedy: 'See the message on the trace: jexo inspect <target>',
    });
  for (const { kind, account } of new Map((seen.departures ?? []).map((each) => [each.account, each])).values())
    report({
      rule: kind === 'stdout' ? 'stdout-noise' : 'wrong-headers',
      severity: 'error',
      subject: 'server',
      message: /[.!?]$/.test(account) ? account : `${account}.`,
      remedy:
        kind === 'stdout'
          ? 'Write to stderr what is no message, the words of libraries included.'
          : 'See the exchange with its headers: jexo inspect <target>',
    });
  if (seen.startMs !== undefined && seen.startMs > slowMs)
    report({
      rule: 'slow-start',
      severity: 'warning',
      subject: 'server',
      message: `It took ${(seen.startMs / 1000).toFixed(1)} seconds to be ready.`,
      remedy: 'Load what is heavy on first use, or pack the server: jexo pack.',
    });
  if (seen.changedSilently !== undefined && seen.changedSilently.length > 0)
    report({
      rule: 'silent-change',
      severity: 'error',
      subject: 'server',
      message: `The list of tools changed without a notice: ${seen.changedSilently.join(', ')}.`,
      remedy: 'Send notifications/tools/list_changed whenever the list changes, and declare tools.listChanged.',
    });
  return found.sort((a, b) => severities.indexOf(b.severity) - severities.indexOf(a.severity));
}

const isModule = /\.[cm]?[jt]sx?(?::|$)/;

function checkSameDescription(tools: readonly Tool[], report: Report): void {
  const groups = new Map<string, string[]>();
  for (const { name, description = '' } of tools)
    if (description.trim() !== '') groups.set(description.trim(), [...(groups.get(description.trim()) ?? []), name]);
  for (const [description, [first, ...others]] of groups)
    if (others.length > 0)
      report({
        rule: 'same-description',
        severity: 'warning',
        subject: `tool ${first}`,
        message: `${others.join(', ')} ${others.length === 1 ? 'has' : 'have'} the same description: ${JSON.stringify(description.slice(0, 80))}.`,
        remedy: 'Say of each what sets it apart.',
      });
}

/** True when a schema lets anything through, or any object of unknown fields. */
function isUntyped({ type, enum: values, const: only, $ref, anyOf, oneOf, allOf, properties, additionalProperties }: JsonSchema): boolean {
  if (values !== undefined || only !== undefined || $ref !== undefined || anyOf !== undefined || oneOf !== undefined || allOf !== undefined)
    return false;
  return (
    type === undefined ||
    (type === 'object' &&
      Object.keys((properties ?? {}) as object).length === 0 &&
      (additionalProperties === undefined || additionalProperties === true))
  );
}

function checkDescribed(subject: string, name: string, description: string | undefined, report: Report): void {
  if (description === undefined || description.trim() === '') {
    report({
      rule: 'no-description',
      severity: subject.startsWith('tool') ? 'error' : 'warning',
      subject,
      message: 'It has no description.',
      remedy: 'Say what it does, and when to use it, in a sentence or two.',
    });
    return;
  }
  const said = wordsOf(description).filter((word) => !wordsOf(name).includes(word));
  if (said.length < 3)
    report({
      rule: 'thin-description',
      severity: 'warning',
      subject,
      message: `Its description says no more than its name: ${JSON.stringify(description.slice(0, 80))}.`,
      remedy: 'Say what comes back, and when to use it.',
    });
}

async function checkTool(tool: Tool, report: Report): Promise<void> {
  const subject = `tool ${tool.name}`;
  checkDescribed(subject, tool.name, tool.description, report);
  checkName(tool.name, subject, report);
  const properties = Object.entries((tool.inputSchema.properties ?? {}) as Record<string, JsonSchema>);
  for (const [name, schema] of properties) {
    if (isUntyped(schema))
      report({
        rule: 'untyped-input',
        severity: 'warning',
        subject: `${subject} ${name}`,
        message: `The input ${name} may be anything.`,
        remedy: 'Give it a type, and its fields where it is an object.',
      });
    if (typeof schema.description === 'string' || typeof schema.title === 'string' || schema.$ref !== undefined) continue;
    report({
      rule: 'parameter-without-description',
      severity: 'warning',
      subject: `${subject} ${name}`,
      message: `The parameter ${name} has no description.`,
      remedy: `Describe it: @param ${name} …, or .describe('…'); in a document, its description.`,
    });
  }
  checkSchema(tool.inputSchema, subject, report);
  await checkExamples(tool, subject, report);
  if (tool.outputSchema === undefined)
    report({
      rule: 'no-output-schema',
      severity: 'note',
      subject,
      message: 'It has no output schema.',
      remedy: 'Give it one (output: …, or a return type), unless its answer is prose.',
    });
  checkHints(tool, subject, report);
}

function checkName(name: string, subject: string, report: Report): void {
  const refuse = (severity: Severity, message: string) =>
    report({
      rule: 'refused-name',
      severity,
      subject,
      message,
      remedy: 'Use letters, digits and underscores, at most 64 of them, a letter first.',
    });
  if (name.length > 64) refuse('error', `Its name has ${name.length} characters; many hosts take 64 at most.`);
  if (!/^[\w-]+$/.test(name)) refuse('error', `Its name holds ${JSON.stringify(/[^\w-]/.exec(name)![0])}, which many hosts refuse.`);
  else if (/^[^A-Za-z]/.test(name)) refuse('warning', 'Its name does not begin with a letter, which some hosts refuse.');
  else if (name.includes('-')) refuse('note', 'Its name holds a dash; some hosts change it to an underscore.');
}

const rare = [
  'patternProperties',
  'not',
  'if',
  'dependentSchemas',
  'dependentRequired',
  'prefixItems',
  'propertyNames',
  'contains',
  'unevaluatedProperties',
  'unevaluatedItems',
];

function checkSchema(schema: JsonSchema, subject: string, report: Report): void {
  const say = (severity: Severity, message: string, remedy: string) =>
    report({ rule: 'unsupported-schema', severity, subject, message, remedy });
  const top = ['anyOf', 'oneOf', 'allOf'].filter((keyword) => schema[keyword] !== undefined);
  if (top.length > 0)
    say(
      'error',
      `Its input schema has ${top.join(' and ')} at the top, which many hosts refuse.`,
      'Take one object with all the fields, some of them optional.',
    );
  const seen = new Set<string>();
  walk(schema, (part, path) => {
    if (typeof part.$ref === 'string') seen.add(`$ref at ${path}`);
    for (const keyword of rare) if (part[keyword] !== undefined) seen.add(`${keyword} at ${path}`);
  });
  for (const each of seen)
    say('warning', `Its input schema uses ${each}, which some hosts cannot take.`, 'Write the part out, or make it simpler.');
}

/** Visits a schema and all schemas in it; the names of properties are never taken for keywords. */
function walk(schema: JsonSchema, visit: (part: JsonSchema, path: string) => void, path = 'the top'): void {
  visit(schema, path);
  const into = (value: unknown, step: string) => {
    if (typeof value === 'object' && value !== null && !Array.isArray(value))
      walk(value as JsonSchema, visit, path === 'the top' ? step : `${path}.${step}`);
  };
  for (const key of ['properties', '$defs', 'definitions', 'patternProperties'])
    for (const [name, value] of Object.entries((schema[key] ?? {}) as Record<string, unknown>)) into(value, name);
  for (const key of ['items', 'additionalProperties', 'not', 'contains']) into(schema[key], key);
  for (const key of ['anyOf', 'oneOf', 'allOf', 'prefixItems'])
    if (Array.isArray(schema[key])) (schema[key] as unknown[]).forEach((value, index) => into(value, `${key}[${index}]`));
}

async function checkExamples({ inputSchema }: Tool, subject: string, report: Report): Promise<void> {
  const judge = async (schema: JsonSchema, value: unknown, what: string, about: string) => {
    const compiled = compileSchema(
      { type: 'object', properties: { value: schema }, ...(inputSchema.$defs !== undefined && { $defs: inputSchema.$defs }) },
      'input',
      subject,
    );
    const checked = await compiled.check({ value: structuredClone(value) });
    if (checked.ok) return;
    report({
      rule: 'invalid-example',
      severity: 'error',
      subject: about,
      message: `${what} ${JSON.stringify(value).slice(0, 80)} does not fit its own schema: ${describeIssues(checked.issues).replace(/^- value[.:]? ?/gm, '')}.`,
      remedy: 'Mend the example, or the schema.',
    });
  };
  for (const example of (inputSchema.examples as unknown[] | undefined) ?? [])
    await judge({ ...inputSchema, examples: [] }, example, 'The example', subject);
  for (const [name, schema] of Object.entries((inputSchema.properties ?? {}) as Record<string, JsonSchema>)) {
    const { default: given, examples = [], ...plain } = schema as JsonSchema & { examples?: unknown[] };
    for (const example of examples) await judge(plain, example, 'The example', `${subject} ${name}`);
    if (given !== undefined) await judge(plain, given, 'The default', `${subject} ${name}`);
  }
}

const changing =
  /^(?:add|append|book|cancel|clear|close|create|delete|destroy|drop|edit|insert|modify|move|patch|post|purge|put|remove|rename|replace|reset|send|set|submit|update|upload|withdraw)(?:_|$)|^write_(?:back|entry|file|log|record|row|to)(?:_|$)/;
const destroying = /^(?:clear|delete|destroy|drop|purge|remove|withdraw|wipe)(?:_|$)/;
const looking = /^(?:calculate|compute|count|describe|fetch|find|get|list|look_up|lookup|query|read|search|show)(?:_|$)/;

function checkHints({ name, annotations = {} }: Tool, subject: string, report: Report): void {
  const { readOnlyHint, destructiveHint } = annotations;
  const say = (message: string, remedy: string) => report({ rule: 'contradicting-hint', severity: 'warning', subject, message, remedy });
  const plain = name.toLowerCase().replaceAll('-', '_');
  if (readOnlyHint && destructiveHint) say('It says that it only reads, and that it destroys.', 'Take one of the two hints back.');
  else if (readOnlyHint && changing.test(plain))
    say(`It says that it only reads, but its name says ${plain.split('_')[0]}.`, 'Take readOnlyHint back, or give it another name.');
  else if (destructiveHint === false && destroying.test(plain))
    say(`It says that it destroys nothing, but its name says ${plain.split('_')[0]}.`, 'Take destructiveHint: false back.');
  else if (destructiveHint && looking.test(plain))
    say(`It says that it destroys, but its name says ${plain.split('_')[0]}.`, 'Say readOnlyHint: true, or give it another name.');
}

const everyday = new Set(
  'a an and any are as at be by can do does for from get gets give gives given has have how if in into is it its list of on one or returns return same set show that the them then there this to tool use used uses using want wants what when where which with you your'.split(
    ' ',
  ),
);

/** The words that carry meaning, without endings. */
function wordsOf(text: string): string[] {
  const words =
    text
      .replaceAll(/([a-z])([A-Z])/g, '$1 $2')
      .toLowerCase()
      .match(/[\p{L}\p{N}]+/gu) ?? [];
  return [...new Set(words.filter((word) => !everyday.has(word)).map((word) => word.replace(/(?:ies|es|s|ing|ed)$/, '')))];
}

const alike = 0.65;

function checkConfusable(tools: readonly Tool[], report: Report): void {
  const bags = tools.map((tool) => ({
    name: tool.name,
    description: tool.description,
    words: wordsOf(`${tool.name} ${tool.description ?? ''}`),
  }));
  for (let first = 0; first < bags.length; first++) {
    for (let second = first + 1; second < bags.length; second++) {
      const [a, b] = [bags[first]!, bags[second]!];
      if (a.words.length < 3 || b.words.length < 3 || a.description === b.description) continue; // the same: told by its own rule
      const shared = a.words.filter((word) => b.words.includes(word));
      const share = shared.length / new Set([...a.words, ...b.words]).size;
      if (share < alike) continue;
      report({
        rule: 'confusable-tools',
        severity: 'warning',
        subject: `tool ${a.name}`,
        message: `A model would confuse it with ${b.name}: ${Math.round(share * 100)} % of their words are the same (${shared.slice(0, 8).join(', ')}).`,
        remedy: 'Say in each what the other does not do, and when to use which.',
      });
    }
  }
}

function checkSize(tools: readonly Tool[], report: Report): void {
  const costs = tools
    .map(({ name, description, inputSchema }) => ({ name, tokens: estimateTokens({ name, description, inputSchema }) }))
    .sort((a, b) => b.tokens - a.tokens);
  const total = costs.reduce((sum, { tokens }) => sum + tokens, 0);
  if (total < longList) return;
  const largest = costs
    .slice(0, 5)
    .map(({ name, tokens }) => `${name} ~${tokens}`)
    .join(', ');
  report({
    rule: 'list-size',
    severity: total >= tooLongList ? 'error' : 'warning',
    subject: 'server',
    message: `Its ${tools.length} tools cost a model ~${total.toLocaleString('en')} tokens in every request. The largest: ${largest}.`,
    remedy:
      'Offer fewer of them (--only), and shorten the largest: jexo inspect shows what trimming saves. A document’s operations can be offered through three tools that find, show and invoke them: --as-search.',
  });
}

/** Zero-width, direction-changing and tag characters; those that join emoji or letters of some scripts are left alone. */
const invisible = /[\u00ad\u200b\u200e\u200f\u202a-\u202e\u2060-\u2064\u2066-\u2069\ufeff\u{e0000}-\u{e007f}]/u;
const orders =
  /\b(?:ignore|disregard|forget) (?:all |any |the )?(?:previous|prior|above|other|earlier) (?:instructions|tools|messages|rules)|\bdo not (?:tell|inform|mention|reveal)[^.]{0,40}\b(?:user|person|human)|\b(?:always|must) (?:call|use|run) this (?:tool )?(?:first|before)|<\/?(?:system|important|instructions?)>|\byou are now\b|\bsystem prompt\b|\bwithout (?:asking|telling) the (?:user|person)/i;

function checkWords(seen: Seen, report: Report): void {
  const judge = (subject: string, text: string | undefined) => {
    if (text === undefined) return;
    const hidden = invisible.exec(text);
    if (hidden !== null)
      report({
        rule: 'invisible-characters',
        severity: 'error',
        subject,
        message: `Its words hold the invisible character U+${hidden[0].codePointAt(0)!.toString(16).toUpperCase().padStart(4, '0')} after ${JSON.stringify(text.slice(Math.max(0, hidden.index - 20), hidden.index))}.`,
        remedy: seen.foreign ? 'Do not use this server before you know why.' : 'Take it out.',
      });
    const order = seen.foreign ? orders.exec(text) : null;
    if (order !== null)
      report({
        rule: 'instruction-like-text',
        severity: 'error',
        subject,
        message: `Its words give orders to the model: ${JSON.stringify(order[0])}.`,
        remedy: 'Do not use this server before you know why.',
      });
  };
  judge('server', seen.server.instructions);
  for (const tool of seen.tools) {
    judge(`tool ${tool.name}`, `${tool.name} ${tool.title ?? ''} ${tool.description ?? ''}`);
    for (const [name, schema] of Object.entries((tool.inputSchema.properties ?? {}) as Record<string, JsonSchema>))
      judge(`tool ${tool.name} ${name}`, `${name} ${String(schema.description ?? '')}`);
  }
  for (const { name, description } of seen.prompts) judge(`prompt ${name}`, `${name} ${description ?? ''}`);
  for (const { uri, description } of seen.resources) judge(`resource ${uri}`, description);
  for (const { uriTemplate, description } of seen.templates) judge(`template ${uriTemplate}`, description);
}

export interface Silence {
  readonly rule: Rule;
  /** Only what is about this name; everything when absent. */
  readonly name?: string;
  readonly reason: string;
}

/** Puts aside what was silenced, with the reason. */
export function applySilences(
  found: readonly Finding[],
  silences: readonly Silence[],
): { kept: Finding[]; silenced: (Finding & { reason: string })[] } {
  const kept: Finding[] = [];
  const silenced: (Finding & { reason: string })[] = [];
  for (const finding of found) {
    const silence = silences.find(
      ({ rule, name }) => rule === finding.rule && (name === undefined || finding.subject.split(' ').includes(name)),
    );
    if (silence === undefined) kept.push(finding);
    else silenced.push({ ...finding, reason: silence.reason });
  }
  return { kept, silenced };
}

/** The findings as SARIF 2.1.0, which code hosting shows beside the code. */
export function toSarif(found: readonly Finding[], version: string): object {
  return {
    $schema: 'https://json.schemastore.org/sarif-2.1.0.json',
    version: '2.1.0',
    runs: [
      {
        tool: {
          driver: { name: 'jexo check', version, rules: Object.entries(rules).map(([id, text]) => ({ id, shortDescription: { text } })) },
        },
        results: found.map(({ rule, severity, subject, message, remedy, where }) => {
          const place = /^(.*?):(\d+)(?::\d+)?$/.exec(where ?? '');
          return {
            ruleId: rule,
            level: severity,
            message: { text: `${subject}: ${message} ${remedy}` },
            locations: [
              place === null
                ? { logicalLocations: [{ name: subject }] }
                : {
                    physicalLocation: {
                      artifactLocation: { uri: place[1]!.replaceAll('\\', '/') },
                      region: { startLine: Number(place[2]) },
                    },
                  },
            ],
          };
        }),
      },
    ],
  };
}
