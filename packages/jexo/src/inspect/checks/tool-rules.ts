import { propertiesOf } from '../../protocol/json-schema.js';
import { compileSchema, describeIssues } from '../../offers/schema.js';
import type { JsonSchema, Tool } from '../../protocol/types.js';
import type { Report, Severity } from './finding.js';
import { tellingWords } from './telling-words.js';

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

/** Whether it is described, and its description says something. */
export function checkDescribed(subject: string, name: string, description: string | undefined, report: Report): void {
  // Of an operation without words only method and path are known.
  if (description === undefined || /^(?:[A-Z]+ \/\S*)?$/.test(description.trim())) {
    report({
      rule: 'no-description',
      severity: subject.startsWith('tool') ? 'error' : 'warning',
      subject,
      message: 'It has no description.',
      remedy: 'Say what it does, and when to use it, in a sentence or two.',
    });
    return;
  }
  const said = tellingWords(description).filter((word) => !tellingWords(name).includes(word));
  if (said.length < 3)
    report({
      rule: 'thin-description',
      severity: 'warning',
      subject,
      message: `Its description says no more than its name: ${JSON.stringify(description.slice(0, 80))}.`,
      remedy: 'Say what comes back, and when to use it.',
    });
}

/** One tool by itself: its words, name, schemas, examples and hints. */
export async function checkTool(tool: Tool, report: Report): Promise<void> {
  const subject = `tool ${tool.name}`;
  checkDescribed(subject, tool.name, tool.description, report);
  checkName(tool.name, subject, report);
  const properties = Object.entries(propertiesOf(tool.inputSchema));
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
      remedy: 'Give it one (output: …, or a return type), unless its result is prose.',
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
      remedy: 'Fix the example or the schema.',
    });
  };
  for (const example of (inputSchema.examples as unknown[] | undefined) ?? [])
    await judge({ ...inputSchema, examples: [] }, example, 'The example', subject);
  for (const [name, schema] of Object.entries(propertiesOf(inputSchema))) {
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
    say(`It says that it only reads, but its name says ${plain.split('_')[0]}.`, 'Remove readOnlyHint, or rename the tool.');
  else if (destructiveHint === false && destroying.test(plain))
    say(`It says that it destroys nothing, but its name says ${plain.split('_')[0]}.`, 'Take destructiveHint: false back.');
  else if (destructiveHint && looking.test(plain))
    say(`It says that it destroys, but its name says ${plain.split('_')[0]}.`, 'Say readOnlyHint: true, or give it another name.');
}
