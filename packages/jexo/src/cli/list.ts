import type { JsonSchema, Tool } from '../protocol/types.js';
import { exampleCall } from '../inspect/input-text.js';
import { connectTarget, reportOmitted, takeTarget } from './connect-target.js';
import { readHeaders } from './headers.js';
import { note, onErr, onOut, print, symbols, width, wrap } from './terminal.js';

interface ListOptions {
  readonly json?: boolean;
  readonly header?: string[];
}

export async function list(operands: readonly string[], command: readonly string[] | undefined, options: ListOptions): Promise<void> {
  const { target } = takeTarget(operands, command, 'As in: jexo list hives.ts');
  const { client, omitted } = await connectTarget(target, { headers: readHeaders(options.header) });
  try {
    const tools = await client.tools();
    if (options.json) return print(JSON.stringify({ server: client.server, tools, omitted }, null, 2));
    const { serverInfo, protocolVersion, instructions } = client.server;
    print(
      `${onOut('bold', serverInfo.title ?? serverInfo.name)} ${onOut('quiet', `${serverInfo.version} ${symbols.dot} protocol ${protocolVersion} ${symbols.dot} ${tools.length} ${tools.length === 1 ? 'tool' : 'tools'}`)}`,
    );
    if (instructions !== undefined) for (const line of wrap(instructions, width())) print(line);
    for (const tool of tools) {
      print('');
      for (const line of describeTool(tool)) print(line);
    }
    reportOmitted(omitted);
    if (tools[0] !== undefined) note(`\n${onErr('quiet', 'Call one with:')} ${exampleCall(target.text ?? target.command!, tools[0])}`);
  } finally {
    await client.close();
  }
}

function describeTool(tool: Tool): string[] {
  const lines = [onOut('amber', tool.name)];
  const room = width() - 2;
  for (const line of wrap(tool.description ?? '(no description: a model will not know when to use it)', room)) lines.push(`  ${line}`);
  const properties = Object.entries((tool.inputSchema.properties ?? {}) as Record<string, JsonSchema>);
  const required = new Set((tool.inputSchema.required ?? []) as string[]);
  const nameWidth = Math.max(0, ...properties.map(([name]) => name.length));
  const kindWidth = Math.max(0, ...properties.map(([, schema]) => kindOf(schema).length));
  const indent = 4 + nameWidth + 2 + kindWidth + 2;
  for (const [name, schema] of properties) {
    const notes = [
      schema.description,
      limits(schema),
      required.has(name) ? undefined : schema.default === undefined ? 'optional' : `default ${JSON.stringify(schema.default)}`,
    ]
      .filter(Boolean)
      .join('; ');
    const [first = '', ...more] = wrap(notes, Math.max(20, width() - indent));
    lines.push(`    ${onOut('slate', name.padEnd(nameWidth))}  ${onOut('quiet', kindOf(schema).padEnd(kindWidth))}  ${first}`);
    for (const line of more) lines.push(' '.repeat(indent) + line);
  }
  return lines;
}

function limits(schema: JsonSchema): string | undefined {
  const { minimum, maximum, pattern } = schema;
  if (minimum !== undefined && maximum !== undefined) return `${String(minimum)} to ${String(maximum)}`;
  if (minimum !== undefined) return `at least ${String(minimum)}`;
  if (maximum !== undefined) return `at most ${String(maximum)}`;
  return pattern === undefined ? undefined : `matches ${String(pattern)}`;
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
