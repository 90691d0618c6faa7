import {
  defineServer,
  prompt,
  resource,
  serveHttp,
  template,
  tool,
  type Authenticator,
  type HttpService,
  type ServeHttpOptions,
} from '../../src/index.js';
import { connect } from '../support/connect.js';

/** Keys as a third party would check them, in one function. */
const keys: Record<string, { identity: string; scopes: string[] }> = {
  'key-ines': { identity: 'ines', scopes: ['inspections'] },
  'key-tomas': { identity: 'tomas', scopes: [] },
};
const auth: Authenticator = async ({ header }) => {
  const key = header('x-apiary-key');
  if (key === 'locked') return { challenge: 'ApiKey realm="apiary"', status: 403, message: 'this key is locked' };
  if (key === 'broken') throw new Error('the list of keys is gone');
  return keys[key ?? ''] ?? { challenge: 'ApiKey realm="apiary"' };
};

const updates: string[] = [];
const apiary = defineServer({
  name: 'apiary',
  version: '1.0.0',
  visible: (offer, caller) => !offer.tags?.includes('inspectors') || (caller.scopes?.includes('inspections') ?? false),
  offers: [
    tool('who', {}, (_input, { caller }) =>
      JSON.stringify({
        identity: caller.identity,
        scopes: caller.scopes,
        agent: caller.headers?.['user-agent'],
        key: caller.headers?.['x-apiary-key'],
      }),
    ),
    tool('book', { tags: ['inspectors'] }, () => 'booked'),
    resource('plan://week', { tags: ['inspectors'] }, () => 'plan'),
    template(
      'note://{hive}',
      { name: 'note', tags: ['inspectors'], complete: { hive: ['MR-03'] } },
      ({ hive }) => `note on ${String(hive)}`,
    ),
    prompt('summary', { tags: ['inspectors'] }, () => 'summary'),
    resource('scale://MR-03', {}, () => '31 kg'),
  ],
});

const open: HttpService[] = [];
afterAll(() => Promise.all(open.map((service) => service.close())));
async function served(options: ServeHttpOptions = {}) {
  const service = await serveHttp(apiary, { auth, graceMs: 50, onFault: (error) => void updates.push(String(error)), ...options });
  open.push(service);
  return service.url;
}
const as = (key: string) => ({ headers: { 'x-apiary-key': key, 'user-agent': 'desk/1' } });
const initialize = (url: string, headers: Record<string, string>) =>
  fetch(url, {
    method: 'POST',
    headers: { 'content-type': 'application/json', accept: 'application/json, text/event-stream', ...headers },
    body: JSON.stringify({
      jsonrpc: '2.0',
      id: 1,
      method: 'initialize',
      params: { protocolVersion: '2025-11-25', capabilities: {}, clientInfo: { name: 'desk', version: '1' } },
    }),
  });

test.each([
  ['no key', {}, 401, /Unauthorized: Sign in first/],
  ['a wrong key', { 'x-apiary-key': 'guessed' }, 401, /Unauthorized/],
  ['a known one that may not', { 'x-apiary-key': 'locked' }, 403, /Forbidden: this key is locked/],
])('%s is challenged before anything else is looked at', async (_name, headers, status, says) => {
  const url = await served();
  for (const method of ['POST', 'GET', 'DELETE']) {
    const response = await fetch(url, { method, headers: headers as Record<string, string> });
    expect([method, response.status, response.headers.get('www-authenticate')]).toEqual([method, status, 'ApiKey realm="apiary"']);
    expect(await response.text()).toMatch(says);
  }
});

test('an authenticator that fails is a fault of the server: nobody passes, and the reason stays inside', async () => {
  const response = await initialize(await served(), { 'x-apiary-key': 'broken' });
  expect([response.status, await response.text()]).toEqual([500, expect.not.stringContaining('list of keys')]);
  expect(updates).toContain('Error: the list of keys is gone');
});

test('a handler knows who calls, with the headers but for those that prove it', async () => {
  const client = await connect(await served(), as('key-ines'));
  const { content } = await client.call('who');
  expect(JSON.parse((content[0] as { text: string }).text)).toEqual({ identity: 'ines', scopes: ['inspections'], agent: 'desk/1' });
  await client.close();
});

test('what a caller may not see is neither listed nor found', async () => {
  const url = await served();
  const [ines, tomas] = [await connect(url, as('key-ines')), await connect(url, as('key-tomas'))];
  expect((await ines.tools()).map(({ name }) => name)).toEqual(['who', 'book']);
  expect((await tomas.tools()).map(({ name }) => name)).toEqual(['who']);
  expect((await tomas.resources()).map(({ uri }) => uri)).toEqual(['scale://MR-03']);
  expect(await tomas.templates()).toEqual([]);
  expect(tomas.server.capabilities.prompts).toBeUndefined();
  expect(await ines.read('note://MR-03')).toMatchObject({ contents: [{ text: 'note on MR-03' }] });
  await expect(tomas.call('book')).rejects.toMatchObject({ code: -32602, message: 'Unknown tool: book.' });
  await expect(tomas.read('plan://week')).rejects.toMatchObject({ code: -32002 });
  await expect(tomas.read('note://MR-03')).rejects.toMatchObject({ code: -32002 });
  await expect(tomas.watch('plan://week', () => undefined)).rejects.toMatchObject({ code: -32002 });
  // Capabilities are those of what is seen, so a client does not even ask; a server must hold on its own.
  const ref = { type: 'ref/resource', uri: 'note://{hive}' } as const;
  expect(await ines.complete(ref, { name: 'hive', value: 'M' })).toMatchObject({ values: ['MR-03'] });
  await ines.close();
  await tomas.close();
});

test('a server holds to it when a client asks all the same', async () => {
  const url = await served();
  const begun = await initialize(url, { 'x-apiary-key': 'key-tomas' });
  const session = begun.headers.get('mcp-session-id')!;
  await begun.text();
  const ask = async (method: string, params: object) => {
    const response = await fetch(url, {
      method: 'POST',
      headers: { 'content-type': 'application/json', accept: 'application/json', 'mcp-session-id': session, 'x-apiary-key': 'key-tomas' },
      body: JSON.stringify({ jsonrpc: '2.0', id: 2, method, params }),
    });
    return (await response.json()) as { error?: { code: number } };
  };
  const argument = { name: 'hive', value: 'M' };
  expect(await ask('completion/complete', { ref: { type: 'ref/resource', uri: 'note://{hive}' }, argument })).toMatchObject({
    error: { code: -32602 },
  });
  expect(await ask('prompts/get', { name: 'summary' })).toMatchObject({ error: { code: -32602 } });
  expect(await ask('resources/subscribe', { uri: 'plan://week' })).toMatchObject({ error: { code: -32002 } });
});

test('a session belongs to who began it; to anybody else it does not exist', async () => {
  const url = await served();
  const begun = await initialize(url, { 'x-apiary-key': 'key-ines' });
  await begun.text();
  const session = begun.headers.get('mcp-session-id')!;
  for (const method of ['GET', 'DELETE', 'POST']) {
    const response = await fetch(url, {
      method,
      headers: {
        'content-type': 'application/json',
        accept: method === 'GET' ? 'text/event-stream' : 'application/json, text/event-stream',
        'mcp-session-id': session,
        'x-apiary-key': 'key-tomas',
      },
      ...(method === 'POST' && { body: JSON.stringify({ jsonrpc: '2.0', id: 2, method: 'tools/list' }) }),
    });
    expect([method, response.status]).toEqual([method, 404]);
    await response.text();
  }
});

test('rights that change within a session change what is seen from the next request on', async () => {
  const url = await served();
  const client = await connect(url, as('key-tomas'));
  const listed = async () => (await client.tools()).map(({ name }) => name);
  expect(await listed()).toEqual(['who']);
  keys['key-tomas'] = { identity: 'tomas', scopes: ['inspections'] };
  expect(await listed()).toEqual(['who', 'book']);
  expect(await client.call('book')).toMatchObject({ content: [{ text: 'booked' }] });
  keys['key-tomas'] = { identity: 'tomas', scopes: [] };
  await expect(client.call('book')).rejects.toMatchObject({ code: -32602 });
  await client.close();
});

test('the older transport asks too, and binds its sessions in the same way', async () => {
  const url = new URL(await served({ httpSse: true }));
  expect((await fetch(new URL('/sse', url))).status).toBe(401);
  const stream = await fetch(new URL('/sse', url), { headers: { 'x-apiary-key': 'key-ines' } });
  const reader = stream.body!.pipeThrough(new TextDecoderStream()).getReader();
  const { value = '' } = await reader.read();
  const path = /^data: (.+)$/m.exec(value)![1]!;
  const post = (key: string) =>
    fetch(new URL(path, url), { method: 'POST', headers: { 'x-apiary-key': key }, body: '{"jsonrpc":"2.0","id":1,"method":"ping"}' });
  expect((await post('key-tomas')).status).toBe(404);
  expect((await post('key-ines')).status).toBe(202);
  await reader.cancel();
});

test('with a sign-in, an address that others reach may be listened at', async () => {
  await expect(serveHttp(apiary, { host: '0.0.0.0' })).rejects.toMatchObject({ code: 'JEXO_OPEN' });
  const service = await serveHttp(apiary, { host: '0.0.0.0', auth });
  open.push(service);
});
