import { toolViewOf } from '../../protocol/views.js';
import { isRecord } from '../../protocol/is-record.js';
import { propertiesOf, requiredOf, resolveRef } from '../../protocol/json-schema.js';
import type { CliCommand, Invocation } from '../command.js';
import { clientOptions } from '../options.js';
import type { JsonSchema, Tool } from '../../protocol/types.js';
import { copyCall } from '../../inspect/copy-call.js';
import { exampleInput } from '../../inspect/input-text.js';
import { reportOmitted, takeTarget } from '../connect-target.js';
import { note, onErr, onOut, print, printJson, symbols, width, wrap } from '../terminal.js';
import { withClient, type ClientCommandOptions } from '../with-client.js';
import { counted } from '../../protocol/counted.js';

async function list({ operands, command, options }: Invocation<ClientCommandOptions>): Promise<void> {
  const { target } = takeTarget(operands, command, 'As in: jexo list hives.ts');
  await withClient(target, options, async ({ client, omitted }) => {
    const { capabilities } = client.server;
    const tools = capabilities.tools === undefined ? [] : await client.tools();
    const [resources, templates] =
      capabilities.resources === undefined ? [[], []] : await Promise.all([client.resources(), client.templates()]);
    const prompts = capabilities.prompts === undefined ? [] : await client.prompts();
    if (options.json) return printJson(JSON.stringify({ server: client.server, tools, resources, templates, prompts, omitted }, null, 2));
    const { serverInfo, protocolVersion, instructions } = client.server;
    const counts = [
      counted(tools.length, 'tool'),
      counted(resources.length, 'resource'),
      counted(templates.length, 'template'),
      counted(prompts.length, 'prompt'),
    ].filter((each) => !each.startsWith('0 '));
    const name = serverInfo.title ?? serverInfo.name;
    const [head = '', ...more] = wrap(
      [name, serverInfo.version, `protocol ${protocolVersion}`, ...counts].join(` ${symbols.dot} `),
      width(),
    );
    print(`${onOut('bold', name)}${onOut('quiet', head.slice(name.length))}`);
    for (const line of more) print(onOut('quiet', line));
    if (instructions !== undefined) for (const line of wrap(instructions, width())) print(line);
    for (const tool of tools) {
      print('');
      for (const line of describeTool(tool)) print(line);
    }
    section(
      'Resources',
      resources.map(({ uri, title, name, description }) => ({ head: uri, about: [title ?? name, description] })),
    );
    section(
      'Templates',
      templates.map(({ uriTemplate, title, name, description }) => ({ head: uriTemplate, about: [title ?? name, description] })),
    );
    section(
      'Prompts',
      prompts.map(({ name, title, description, arguments: args = [] }) => ({
        head: `${name}(${args.map((each) => `${each.name}${each.required ? '' : '?'}`).join(', ')})`,
        about: [title, description],
      })),
    );
    reportOmitted(omitted);
    const [first] = tools;
    if (first === undefined) return;
    const example = {
      target: target.text ?? target.command!,
      kind: 'tool',
      name: first.name,
      input: exampleInput(first),
      schema: first.inputSchema,
    } as const;
    note(`\n${onErr('quiet', 'Call one with:')} ${copyCall(example, 'command')}`);
  });
}

function section(title: string, rows: readonly { readonly head: string; readonly about: readonly (string | undefined)[] }[]): void {
  if (rows.length === 0) return;
  print(`\n${onOut('bold', title)}`);
  const widest = Math.min(40, Math.max(...rows.map(({ head }) => head.length)));
  for (const { head, about } of rows) {
    const [first = '', ...more] = wrap(
      about.filter((text) => text !== undefined && text !== head).join('. '),
      Math.max(20, width() - widest - 4),
    );
    print(`  ${onOut('lake', head.padEnd(widest))}  ${first}`);
    for (const line of more) print(' '.repeat(widest + 4) + line);
  }
}

function describeTool(tool: Tool): string[] {
  const lines = [onOut('lake', tool.name)];
  const room = width() - 2;
  for (const line of wrap(tool.description ?? '(no description: a model will not know when to use it)', room)) lines.push(`  ${line}`);
  const { resourceUri, visibility } = toolViewOf(tool._meta);
  if (resourceUri !== undefined) lines.push(`  ${onOut('quiet', `shown with ${resourceUri}`)}`);
  if (visibility?.includes('model') === false) lines.push(`  ${onOut('quiet', 'only views call it: models do not see it')}`);
  const rows = rowsOf(tool.inputSchema, tool.inputSchema);
  const nameWidth = Math.min(40, Math.max(0, ...rows.map(({ name }) => name.length)));
  const kindWidth = Math.min(40, Math.max(0, ...rows.map(({ schema }) => kindOf(schema).length)));
  const indent = 4 + nameWidth + 2 + kindWidth + 2;
  for (const { name, schema, note: more, isRequired } of rows) {
    const notes = [
      isRequired ? 'required' : schema.default === undefined ? 'optional' : `default ${JSON.stringify(schema.default)}`,
      more,
      schema.description,
      limits(schema),
    ]
      .filter(Boolean)
      .join('; ');
    const [first = '', ...rest] = wrap(notes, Math.max(20, width() - indent));
    const shown = isRequired ? onOut('bold', name.padEnd(nameWidth)) : onOut('heather', name.padEnd(nameWidth));
    lines.push(`    ${shown}  ${onOut('quiet', kindOf(schema).padEnd(kindWidth))}  ${first}`);
    for (const line of rest) lines.push(' '.repeat(indent) + line);
  }
  if (rows.length >= mostRows) lines.push('    … and more: see the whole schema with --json');
  return lines;
}

interface Row {
  /** The path as an argument is written: `place.apiary`, `rows[].kg`. */
  readonly name: string;
  readonly schema: JsonSchema;
  readonly isRequired: boolean;
  /** For a field of one form of a union: which one. */
  readonly note?: string;
}

/** Objects and lists nested deeper than this are not spread out. */
const deepest = 4;
/** Fields of one tool that are shown; a schema that leads back to itself would have very many. */
const mostRows = 100;

/** A row for each field, those of inner objects behind their own. */
function rowsOf(schema: JsonSchema, root: JsonSchema): Row[] {
  const rows: Row[] = [];
  const fields = (inner: JsonSchema, prefix: string, depth: number, form?: string) => {
    const required = new Set(requiredOf(inner));
    for (const [name, given] of Object.entries(propertiesOf(inner))) {
      if (rows.length >= mostRows) return;
      const shown = followed(given, root);
      rows.push({ name: `${prefix}${name}`, schema: shown, isRequired: required.has(name), ...(form && { note: form }) });
      within(shown, `${prefix}${name}`, depth + 1);
    }
  };
  const within = (inner: JsonSchema, name: string, depth: number) => {
    if (depth >= deepest || rows.length >= mostRows) return;
    if (typeof inner.items === 'object') return within(followed(inner.items as JsonSchema, root), `${name}[]`, depth + 1);
    fields(inner, `${name}.`, depth);
    const forms = [inner.anyOf, inner.oneOf]
      .flatMap((each) => (Array.isArray(each) ? (each as JsonSchema[]) : []))
      .map((each) => followed(each, root));
    forms.forEach((each, index) => {
      if (typeof each.items === 'object') within(each, name, depth + 1);
      else fields(each, `${name}.`, depth, forms.length > 1 ? `in form ${formName(each, index)}` : undefined);
    });
  };
  fields(schema, '', 0);
  return rows;
}

/** What a form of a union is called: by its title, by the value that tells it apart, or by its number. */
function formName({ title, properties = {} }: JsonSchema, index: number): string {
  const [marked] = Object.values(properties).filter(({ const: value }) => value !== undefined);
  return title ?? (marked === undefined ? String(index + 1) : JSON.stringify(marked.const));
}

/** The schema behind a reference; a description beside the reference is kept. */
function followed(schema: JsonSchema, root: JsonSchema): JsonSchema {
  if (!isRecord(schema)) return {}; // true: anything
  const { $ref, ...own } = schema;
  const found = typeof $ref === 'string' ? resolveRef($ref, root) : undefined;
  return found === undefined ? schema : { ...found, ...own };
}

function limits(schema: JsonSchema): string | undefined {
  const { minimum, maximum, pattern, format } = schema;
  if (minimum !== undefined && maximum !== undefined) return `${String(minimum)} to ${String(maximum)}`;
  if (minimum !== undefined) return `at least ${String(minimum)}`;
  if (maximum !== undefined) return `at most ${String(maximum)}`;
  // The format says it shorter.
  return pattern === undefined || format !== undefined ? undefined : `matches ${String(pattern)}`;
}

/** A schema's kind in a word or two. */
function kindOf(schema: JsonSchema): string {
  const { enum: values, type, format, items, anyOf, const: only } = schema;
  if (Array.isArray(values)) return values.map((value) => (typeof value === 'string' ? value : JSON.stringify(value))).join('|');
  if (only !== undefined) return JSON.stringify(only);
  if (type === 'array') return `list of ${items === undefined ? 'anything' : kindOf(items as JsonSchema)}`;
  if (Array.isArray(anyOf)) return anyOf.map((branch) => kindOf(branch as JsonSchema)).join(' or ');
  if (typeof format === 'string') return format;
  return type === undefined ? 'anything' : [type].flat().join(' or ');
}

export const command: CliCommand<ClientCommandOptions> = {
  name: 'list',
  about: 'show what a server offers',
  operands: ['[target]'],
  options: clientOptions,
  takes: ['open', 'connect'],
  chooses: true,
  help: `Examples:
  jexo list hives.ts
  jexo list hives.ts --json | jq '.tools[].name'
  jexo list -- node server.mjs`,
  run: list,
};
