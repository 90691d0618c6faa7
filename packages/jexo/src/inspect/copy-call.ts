import type { JsonSchema } from '../protocol/types.js';
import { withoutPassword } from '../protocol/without-password.js';
import { newestRevision } from '../protocol/revisions.js';
import { same } from './difference.js';
import { quoteForShell, readPairs } from './input-text.js';
import type { KeptKind } from './sheets/call-sheet.js';

/** A call to be carried elsewhere. */
export interface CopiedCall {
  /** A module, a package or a URL; or the words of a command. */
  readonly target: string | readonly string[];
  readonly kind: KeptKind;
  /** A tool's or prompt's name, a resource's URI. */
  readonly name: string;
  readonly input: Readonly<Record<string, unknown>>;
  /** The tool's input schema, by which the terminal types what is written as key=value. */
  readonly schema?: JsonSchema;
}

export const copyForms = ['command', 'typescript', 'http'] as const;
export type CopyForm = (typeof copyForms)[number];

/** A call as text to paste: at a terminal, into a program, or as plain HTTP requests. */
export function copyCall(call: CopiedCall, form: CopyForm): string {
  // What is copied is pasted into files and chats: a password does not travel with it.
  const target = typeof call.target === 'string' ? withoutPassword(call.target) : call.target.map(withoutPassword);
  return { command: asCommand, typescript: asTypeScript, http: asHttp }[form]({ ...call, target });
}

/** What it is called at the terminal, and in code. */
const verbs: Record<KeptKind, string> = { tool: 'call', resource: 'read', prompt: 'prompt' };

function asCommand({ target, kind, name, input, schema }: CopiedCall): string {
  const known = schema ?? { type: 'object', properties: Object.fromEntries(Object.keys(input).map((key) => [key, { type: 'string' }])) };
  const pairs = Object.entries(input).map(([key, value]) => `${key}=${typeof value === 'string' ? value : JSON.stringify(value)}`);
  const words =
    kind === 'resource'
      ? []
      : readsBack(pairs, known, input)
        ? pairs.map(quoteForShell)
        : ['--input', quoteForShell(JSON.stringify(input))];
  const command = typeof target === 'string' ? [] : ['--', ...target.map(quoteForShell)];
  return [
    'jexo',
    verbs[kind],
    ...(typeof target === 'string' ? [quoteForShell(target)] : []),
    quoteForShell(name),
    ...words,
    ...command,
  ].join(' ');
}

/** True when the terminal makes the same input of the pairs; what it would misread is given as JSON. */
function readsBack(pairs: readonly string[], schema: JsonSchema, input: Readonly<Record<string, unknown>>): boolean {
  try {
    return same(readPairs(pairs, schema), input);
  } catch {
    return false; // a pair that cannot be read
  }
}

function asTypeScript({ target, kind, name, input }: CopiedCall): string {
  const place = typeof target === 'string' ? quoted(target) : `[${target.map(quoted).join(', ')}]`;
  const args = [quoted(name), ...(kind === 'resource' || Object.keys(input).length === 0 ? [] : [literal(input)])].join(', ');
  const [result, shown] = {
    tool: ['{ structuredContent, content, isError }', 'isError ? content : (structuredContent ?? content)'],
    resource: ['{ contents }', 'contents'],
    prompt: ['{ messages }', 'messages'],
  }[kind] as [string, string];
  return `import { connect } from 'jexo';

const client = await connect(${place});
const ${result} = await client.${verbs[kind]}(${args});
console.log(${shown});
await client.close();
`;
}

function quoted(text: string): string {
  return `'${JSON.stringify(text)
    .slice(1, -1)
    .replaceAll(String.raw`\"`, '"')
    .replaceAll("'", String.raw`\'`)}'`;
}

/** JSON as a person writes it in a program: names without quotes where they need none. */
function literal(value: unknown): string {
  if (typeof value === 'string') return quoted(value);
  if (Array.isArray(value)) return `[${value.map(literal).join(', ')}]`;
  if (typeof value !== 'object' || value === null) return JSON.stringify(value);
  const fields = Object.entries(value).map(([key, item]) => `${/^[A-Za-z_$][\w$]*$/.test(key) ? key : quoted(key)}: ${literal(item)}`);
  return fields.length === 0 ? '{}' : `{ ${fields.join(', ')} }`;
}

/** The three requests a client makes: it introduces itself, says that it is ready, and calls (Transports, "Streamable HTTP"). */
function asHttp({ target, kind, name, input }: CopiedCall): string {
  const isUrl = typeof target === 'string' && /^https?:/i.test(target);
  const served = typeof target === 'string' ? target : '<your server>';
  const url = isUrl ? target : 'http://127.0.0.1:4300/mcp';
  const post = (message: object, options: string, headers: readonly string[]) =>
    [
      `curl -sS ${options}${quoteForShell(url)}`,
      `-H 'Content-Type: application/json' -H 'Accept: application/json, text/event-stream'`,
      ...headers,
      `-d ${quoteForShell(JSON.stringify({ jsonrpc: '2.0', ...message }))}`,
    ].join(' \\\n  ');
  const session = [`-H "Mcp-Session-Id: $session" -H 'MCP-Protocol-Version: ${newestRevision}'`];
  const initialize = {
    id: 1,
    method: 'initialize',
    params: { protocolVersion: newestRevision, capabilities: {}, clientInfo: { name: 'by-hand', version: '1.0.0' } },
  };
  const [method, params] = {
    tool: ['tools/call', { name, arguments: input }],
    resource: ['resources/read', { uri: name }],
    prompt: ['prompts/get', { name, arguments: input }],
  }[kind] as [string, object];
  return [
    ...(isUrl ? [] : [`# Serve it first: jexo serve ${served} --http 4300`]),
    `session=$(${post(initialize, '-o /dev/null -D - ', [])} | sed -n 's/^mcp-session-id: *//Ip' | tr -d '\\r')`,
    post({ method: 'notifications/initialized' }, '', session),
    post({ id: 2, method, params }, '', session),
    '',
  ].join('\n');
}
