import {
  connect,
  defineServer,
  prompt,
  resource,
  serveHttp,
  template,
  tool,
  type Client,
  type HttpService,
  type Server,
  type WireEvent,
} from '../../src/index.js';
import { together } from '../../src/offers/together.js';

const open: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});

const until = async (check: () => boolean) => {
  for (let tries = 0; tries < 400 && !check(); tries++) await new Promise((resolve) => setTimeout(resolve, 5));
  expect(check()).toBe(true);
};

let touch: () => void = () => undefined;
const apiary = (): Server =>
  defineServer({
    name: 'apiary',
    version: '1.0.0',
    offers: [
      tool('weigh', { description: 'Weighs a hive.', tags: ['scales'] }, () => '31 kg'),
      tool('inspect', { description: 'Notes an inspection.', tags: ['inspections'], taskSupport: 'optional' }, () => 'noted'),
      tool('find', { description: 'Points at the log.', tags: ['scales'] }, () => ({
        content: [{ type: 'resource_link', uri: 'log://inspections', name: 'log' }],
      })),
      tool('move_hive', { description: 'Moves a hive.', scope: 'hives:write' }, () => 'moved'),
      resource(
        'log://inspections',
        { tags: ['inspections'], watch: (changed) => ((touch = changed), () => undefined) },
        () => 'MR-03: calm',
      ),
      resource('scale://MR-03', { tags: ['scales'] }, () => '31 kg'),
      template('hive://{hive}', { name: 'hive', tags: ['inspections'], complete: { hive: ['MR-03'] } }, ({ hive }) => hive),
      prompt(
        'report',
        { tags: ['inspections'], arguments: { hive: { description: 'Which.' } } as never, complete: { hive: ['MR-03'] } } as never,
        () => 'Report.',
      ),
    ],
  });

interface Heard {
  readonly client: Client;
  readonly told: string[];
}
async function listen(target: Server | string, headers: Record<string, string> = {}): Promise<Heard> {
  const told: string[] = [];
  const client = await connect(
    target as string,
    {
      headers,
      tap: ({ way, message }: WireEvent) => {
        const { method } = (message ?? {}) as { method?: string };
        if (way === 'received' && method?.startsWith('notifications/')) told.push(method.slice('notifications/'.length));
      },
    } as never,
  );
  open.push(() => client.close());
  return { client, told };
}
const names = async (client: Client) => (await client.tools()).map(({ name }) => name);

test('what is switched off is neither listed nor found on any way, and comes back', async () => {
  const server = apiary();
  const { client, told } = await listen(server);
  const changes: string[] = [];
  await client.watch('log://inspections', (uri) => changes.push(uri));
  touch();
  await until(() => changes.length === 1);
  server.switch({ except: ['tag:inspections'] });
  await until(() => told.filter((each) => each.endsWith('list_changed')).length === 3);
  expect(told.filter((each) => each.endsWith('list_changed')).sort()).toEqual([
    'prompts/list_changed',
    'resources/list_changed',
    'tools/list_changed',
  ]);
  expect(await names(client)).toEqual(['weigh', 'find', 'move_hive']);
  expect((await client.resources()).map(({ uri }) => uri)).toEqual(['scale://MR-03']);
  expect(await client.templates()).toEqual([]);
  expect(await client.prompts()).toEqual([]);
  await expect(client.call('inspect')).rejects.toThrow('Unknown tool: inspect');
  await expect(client.callAsTask('inspect', {})).rejects.toThrow(/Unknown tool|not|cannot/);
  // A link may name it still, but leads nowhere.
  const [link] = (await client.call('find')).content as readonly { readonly uri: string }[];
  await expect(client.read(link!.uri)).rejects.toThrow(/not found/i);
  await expect(client.read('hive://MR-03')).rejects.toThrow(/not found/i);
  await expect(client.prompt('report', {})).rejects.toThrow('Unknown prompt');
  await expect(client.complete({ type: 'ref/prompt', name: 'report' }, { name: 'hive', value: '' })).rejects.toThrow('Unknown prompt');
  await expect(client.complete({ type: 'ref/resource', uri: 'hive://{hive}' }, { name: 'hive', value: '' })).rejects.toThrow(
    'Unknown resource',
  );
  const late = await listen(server);
  await expect(late.client.watch('log://inspections', () => undefined)).rejects.toThrow(/not found/i);
  touch();
  server.updated('log://inspections');
  await client.ping();
  await new Promise((resolve) => setTimeout(resolve, 60));
  expect(changes).toHaveLength(1);
  server.switch(undefined);
  expect(await names(client)).toContain('inspect');
  touch();
  await until(() => changes.length === 2);
});

test('a switch holds after a reload, and its own server says what is on', async () => {
  const server = apiary();
  const { client } = await listen(server);
  server.switch({ only: ['weigh', 'tag:inspections'] });
  expect(server.switches).toEqual({ only: ['weigh', 'tag:inspections'] });
  await server.reload(apiary());
  expect(await names(client)).toEqual(['weigh', 'inspect']);
  expect([...(await server.catalogue()).tools.keys()]).toEqual(['weigh', 'inspect']);
});

async function serve(options: Parameters<typeof serveHttp>[1]): Promise<{ service: HttpService; server: Server }> {
  const server = apiary();
  const service = await serveHttp(server, { graceMs: 50, ...options });
  open.push(() => service.close());
  return { service, server };
}

test('only the sessions that see something of a change are told', async () => {
  const { service, server } = await serve({ narrowing: true });
  const all = await listen(service.url);
  const scales = await listen(`${service.url}?tags=scales`);
  const inspections = await listen(`${service.url}?tags=inspections,unknown`);
  expect(await names(scales.client)).toEqual(['weigh', 'find']);
  expect(await names(inspections.client)).toEqual(['inspect']);
  await expect(scales.client.call('inspect')).rejects.toThrow('Unknown tool');
  await Promise.all([all, scales, inspections].map(({ client }) => client.ping()));
  server.switch({ except: ['weigh'] });
  await until(() => all.told.includes('tools/list_changed') && scales.told.includes('tools/list_changed'));
  await inspections.client.ping();
  expect(inspections.told).toEqual([]);
  expect(await names(scales.client)).toEqual(['find']);
});

test('what is said to a server reaches every server that was made of it', async () => {
  const inner = apiary();
  const [one, two] = ['one', 'two'].map((name) => together([inner], name, {}, name));
  const heard = await Promise.all([one!, two!].map((server) => listen(server)));
  inner.switch({ only: ['weigh'] });
  for (const { client } of heard) expect(await names(client)).toEqual(['weigh']);
  const changes: string[] = [];
  inner.switch(undefined);
  await Promise.all(heard.map(({ client }) => client.watch('scale://MR-03', (uri) => changes.push(uri))));
  inner.updated('scale://MR-03');
  await until(() => changes.length === 2);
});

test('narrowing is the operator’s to allow', async () => {
  const { service } = await serve({});
  const { client } = await listen(`${service.url}?tags=scales`);
  expect(await names(client)).toContain('inspect');
});

test('an offer with a scope is for callers who have it, where callers are known', async () => {
  const rights: Record<string, readonly string[] | undefined> = { writer: ['hives:write'], reader: ['hives:read'], nobody: undefined };
  const { service } = await serve({
    auth: ({ header }) => {
      const who = header('x-who') ?? '';
      return who in rights ? { identity: who, ...(rights[who] && { scopes: rights[who] }) } : { challenge: 'Who' };
    },
  });
  const writer = await listen(service.url, { 'x-who': 'writer' });
  expect(await names(writer.client)).toContain('move_hive');
  expect((await writer.client.call('move_hive')).content).toEqual([{ type: 'text', text: 'moved' }]);
  for (const who of ['reader', 'nobody']) {
    const { client } = await listen(service.url, { 'x-who': who });
    expect(await names(client)).not.toContain('move_hive');
    await expect(client.call('move_hive')).rejects.toThrow('Unknown tool: move_hive');
  }
  const plain = await listen(apiary());
  expect(await names(plain.client)).toContain('move_hive');
});

test('a stream ends when its caller would no longer be let in', async () => {
  let isLetIn = true;
  const { service } = await serve({
    auth: () => (isLetIn ? { identity: 'lab' } : { challenge: 'Bearer' }),
    clock: hurried(),
  });
  const response = await fetch(service.url, { method: 'POST', headers: jsonHeaders, body: JSON.stringify(hello) });
  const session = response.headers.get('mcp-session-id')!;
  await response.text();
  const stream = await fetch(service.url, { headers: { accept: 'text/event-stream', 'mcp-session-id': session } });
  expect([stream.status, service.streams]).toEqual([200, 1]);
  isLetIn = false;
  const text = await stream.text();
  expect(text).toContain('retry: ');
  expect([service.sessions, service.streams]).toEqual([0, 0]);
});

const jsonHeaders = { 'content-type': 'application/json', accept: 'application/json, text/event-stream' };
const hello = {
  jsonrpc: '2.0',
  id: 1,
  method: 'initialize',
  params: { protocolVersion: '2025-11-25', capabilities: {}, clientInfo: { name: 'raw', version: '1' } },
};
/** A clock whose seconds pass in a hundredth of the time. */
const hurried = () => ({
  now: () => Date.now(),
  after: (ms: number, task: () => void) => setTimeout(task, ms / 100),
  cancel: (timer: unknown) => clearTimeout(timer as NodeJS.Timeout),
});
