/**
 * The plain page at the root of a served server: what it offers, a form to try each tool, and how to put it into a host application. It
 * talks to the server by the protocol alone, and needs no other file. The path of the endpoint is put in when it is served.
 */
const style = `
:root { color-scheme: light dark; --paper: #F5F8F7; --raised: #FFFFFF; --ink: #172224; --quiet: #55625F; --line: #D3DCDA; --lake: #0B5F73; --moss: #2F6B3A; --brick: #A3262A; }
@media (prefers-color-scheme: dark) { :root { --paper: #12181A; --raised: #1A2224; --ink: #E4EBEA; --quiet: #9FADAB; --line: #2E3A3C; --lake: #6EC3D4; --moss: #7FC08A; --brick: #F08A85; } }
* { box-sizing: border-box; }
body { margin: 0 auto; padding: 32px 24px 64px; max-width: 820px; background: var(--paper); color: var(--ink); font: 15px/1.5 system-ui, sans-serif; }
h1 { font-size: 20px; margin: 0; } h2 { font-size: 15px; margin: 32px 0 8px; }
p { margin: 4px 0; } .quiet, .about { color: var(--quiet); font-size: 13px; }
code, pre, input, select, textarea { font: 13px/1.5 ui-monospace, monospace; }
details, .snippet { background: var(--raised); border: 1px solid var(--line); border-radius: 6px; margin: 8px 0; padding: 8px 16px; }
summary { cursor: pointer; } summary code { font-size: 15px; } summary .about { margin-left: 18px; }
label { display: block; margin: 8px 0; } label > span { display: block; }
input, select, textarea { width: 100%; max-width: 420px; padding: 6px 8px; color: var(--ink); background: var(--paper); border: 1px solid var(--line); border-radius: 6px; }
button { font: inherit; padding: 4px 16px; border: 1px solid var(--lake); border-radius: 6px; background: none; color: var(--lake); cursor: pointer; }
:focus-visible { outline: 2px solid var(--lake); outline-offset: 2px; }
pre { margin: 8px 0; overflow-x: auto; white-space: pre-wrap; overflow-wrap: anywhere; } .failed { color: var(--brick); } .ok { color: var(--moss); }
.description { white-space: pre-line; }`;

const script = `
const endpoint = document.documentElement.dataset.endpoint;
let session, id = 0;
const make = (tag, text, more = {}) => Object.assign(document.createElement(tag), { textContent: text ?? '', ...more });
const main = document.querySelector('main');
async function send(method, params, isNotice) {
  const response = await fetch(endpoint, { method: 'POST', headers: { 'content-type': 'application/json', accept: 'application/json, text/event-stream', ...(session && { 'mcp-session-id': session, 'mcp-protocol-version': '2025-11-25' }) }, body: JSON.stringify({ jsonrpc: '2.0', ...(isNotice ? {} : { id: ++id }), method, params }) });
  session ??= response.headers.get('mcp-session-id') ?? undefined;
  if (isNotice) return;
  const text = await response.text();
  const messages = /event-stream/.test(response.headers.get('content-type') ?? '') ? text.split('\\n').filter((line) => line.startsWith('data: {')).map((line) => JSON.parse(line.slice(6))) : [JSON.parse(text || '{}')];
  const { result, error } = messages.find((message) => message.id === id) ?? {};
  if (error) throw new Error(error.message);
  if (!result) throw new Error('HTTP ' + response.status + ': ' + text.slice(0, 200));
  return result;
}
async function all(method, key) {
  const found = [];
  for (let cursor; ; ) {
    const page = await send(method, cursor === undefined ? {} : { cursor });
    found.push(...page[key]);
    if ((cursor = page.nextCursor) === undefined) return found;
  }
}
function field(name, schema, required) {
  const label = make('label');
  const line = make('span');
  line.append(make('code', name), make('span', [schema.description, required ? 'required' : ''].filter(Boolean).map((text) => '  ' + text).join(' \\u00b7'), { className: 'quiet' }));
  const kind = [schema.type].flat()[0];
  let input;
  if (Array.isArray(schema.enum) || kind === 'boolean') {
    input = make('select');
    for (const value of required ? [] : ['']) input.append(make('option', '(none)', { value }));
    for (const value of schema.enum ?? [true, false]) input.append(make('option', String(value), { value: JSON.stringify(value) }));
  } else if (kind === 'object' || kind === 'array' || kind === undefined) input = make('textarea', '', { rows: 3, placeholder: 'JSON' });
  else input = make('input', '', { type: kind === 'number' || kind === 'integer' ? 'number' : 'text', step: 'any' });
  // What stands in a field is sent, and a default that nobody chose must not be: it is only shown.
  const usual = schema.default === undefined ? undefined : typeof schema.default === 'string' ? schema.default : JSON.stringify(schema.default);
  if (usual !== undefined && input.tagName === 'SELECT' && !required) input.firstChild.textContent = '(default: ' + usual + ')';
  else if (usual !== undefined && input.tagName !== 'SELECT') input.placeholder = 'default ' + usual;
  input.required = required;
  label.append(line, input);
  const read = () => {
    if (input.value === '') return undefined;
    if (input.tagName === 'SELECT' || input.tagName === 'TEXTAREA') return JSON.parse(input.value);
    return input.type === 'number' ? Number(input.value) : input.value;
  };
  return { label, read };
}
function sheet({ name, title, description }, schema, verb, act) {
  const box = make('details');
  const head = make('summary');
  const [first = ''] = (description ?? '').split('\\n');
  head.append(make('code', name), make('span', title && title !== name ? '  ' + title : '', { className: 'quiet' }), make('p', first, { className: 'about' }));
  const form = make('form');
  const { properties = {}, required = [] } = schema;
  const fields = Object.entries(properties).map(([name, schema]) => [name, field(name, schema, required.includes(name))]);
  const answer = make('pre', '', { role: 'status' });
  const hint = make('p', '', { className: 'quiet' });
  form.append(...fields.map(([, { label }]) => label), make('button', verb, { type: 'submit' }), answer, hint);
  form.addEventListener('submit', async (event) => {
    event.preventDefault();
    answer.className = hint.textContent = '';
    answer.textContent = 'waiting\\u2026';
    try {
      const input = Object.fromEntries(fields.map(([name, { read }]) => [name, read()]).filter(([, value]) => value !== undefined));
      const { text, failed } = await act(input);
      answer.className = failed ? 'failed' : 'ok';
      answer.textContent = text;
    } catch (error) {
      answer.className = 'failed';
      answer.textContent = error.message;
    }
    // This page cannot answer a server's questions, so a tool that asks fails here.
    if (answer.className === 'failed' && verb === 'Call') hint.textContent = 'A tool that asks questions needs a client that can answer them: jexo inspect ' + new URL(endpoint, location.href).href;
  });
  box.append(head, make('p', description?.slice(first.length).trim(), { className: 'description' }), form);
  return box;
}
const textOf = (blocks) => blocks.map((block) => block.text ?? block.resource?.text ?? block.uri ?? '[' + [block.type, block.mimeType ?? block.resource?.mimeType].filter(Boolean).join(' ') + ']').join('\\n');
const showTool = (tool) => sheet(tool, tool.inputSchema, 'Call', async (input) => {
  const result = await send('tools/call', { name: tool.name, arguments: input });
  return { failed: result.isError, text: result.structuredContent ? JSON.stringify(result.structuredContent, null, 2) : textOf(result.content) };
});
const contentsOf = async (uri) => ({ text: (await send('resources/read', { uri })).contents.map((each) => each.text ?? '[' + (each.mimeType ?? 'bytes') + ', ' + Math.floor((each.blob.length * 3) / 4) + ' bytes]').join('\\n') });
const showResource = (resource) => sheet({ ...resource, name: resource.uri }, {}, 'Read', () => contentsOf(resource.uri));
// A template whose variables stand by themselves is filled in here; any other is read by a client.
const showTemplate = (template) => {
  const names = [...template.uriTemplate.matchAll(/\\{(\\w+)\\}/g)].map(([, name]) => name);
  const isPlain = template.uriTemplate.replace(/\\{\\w+\\}/g, '').search(/[{}]/) < 0;
  const schema = isPlain ? { properties: Object.fromEntries(names.map((name) => [name, { type: 'string' }])), required: names } : { properties: { uri: { type: 'string', description: 'the whole URI' } }, required: ['uri'] };
  return sheet({ ...template, name: template.uriTemplate }, schema, 'Read', (input) => contentsOf(isPlain ? template.uriTemplate.replace(/\\{(\\w+)\\}/g, (_, name) => encodeURIComponent(input[name])) : input.uri));
};
const showPrompt = (prompt) => {
  const args = prompt.arguments ?? [];
  const schema = { properties: Object.fromEntries(args.map(({ name, description }) => [name, { type: 'string', description }])), required: args.filter(({ required }) => required).map(({ name }) => name) };
  return sheet(prompt, schema, 'Render', async (input) => ({ text: (await send('prompts/get', { name: prompt.name, arguments: input })).messages.map(({ role, content }) => role + ': ' + textOf([content].flat())).join('\\n\\n') }));
};
function snippet(title, text) {
  const box = make('div', '', { className: 'snippet' });
  const button = make('button', 'Copy', { type: 'button' });
  button.addEventListener('click', () => navigator.clipboard.writeText(text).then(() => (button.textContent = 'Copied'), () => (button.textContent = 'Not copied: select it instead')));
  box.append(make('p', title, { className: 'quiet' }), make('pre', text), button);
  return box;
}
try {
  const { serverInfo, instructions, capabilities } = await send('initialize', { protocolVersion: '2025-11-25', capabilities: {}, clientInfo: { name: 'front-page', version: '1' } });
  await send('notifications/initialized', undefined, true);
  document.title = serverInfo.title ?? serverInfo.name;
  const url = new URL(endpoint, location.href).href;
  const name = serverInfo.name.replace(/[^A-Za-z0-9]+/g, '_');
  main.replaceChildren(make('h1', document.title), make('p', serverInfo.version + ' \\u00b7 serves the Model Context Protocol at ' + url, { className: 'quiet' }), make('p', instructions));
  const section = (title, ...parts) => main.append(make('h2', title), ...parts);
  if (capabilities.tools) section('Tools', ...(await all('tools/list', 'tools')).map(showTool));
  if (capabilities.resources) {
    const found = [...(await all('resources/list', 'resources')).map(showResource), ...(await all('resources/templates/list', 'resourceTemplates')).map(showTemplate)];
    if (found.length > 0) section('Resources', ...found);
  }
  if (capabilities.prompts) {
    const found = await all('prompts/list', 'prompts');
    if (found.length > 0) section('Prompts', ...found.map(showPrompt));
  }
  section('Into a host application', snippet('An entry for its map of servers, as JSON', JSON.stringify({ [name]: { url } }, null, 2)), snippet('Or have it written and tested', 'jexo register ' + url + ' --config <configuration file> --name ' + name));
} catch (error) {
  main.replaceChildren(make('h1', 'This server does not answer'), make('p', error.message, { className: 'failed' }), make('p', 'Reload the page, or look at what the server prints.'));
}`;

/** The page, and the policy that lets it run what it holds and nothing else. */
export async function frontPage(endpoint: string): Promise<{ readonly html: string; readonly policy: string }> {
  const digest = Buffer.from(await crypto.subtle.digest('SHA-256', new TextEncoder().encode(script))).toString('base64');
  const html = `<!doctype html><html lang="en" data-endpoint="${endpoint.replaceAll('&', '&amp;').replaceAll('"', '&quot;')}"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Server</title><style>${style}</style></head><body><main><p>Asking the server what it offers…</p></main><script type="module">${script}</script></body></html>`;
  return {
    html,
    policy: `default-src 'none'; connect-src 'self'; style-src 'unsafe-inline'; script-src 'sha256-${digest}'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'`,
  };
}
