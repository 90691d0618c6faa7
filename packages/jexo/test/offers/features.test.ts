import { jest } from '@jest/globals';
import { z } from 'zod';
import { answer, defineServer, notFound, prompt, resource, template, tool, type Offer } from '../../src/index.js';
import { rank } from '../../src/offers/completion.js';
import { revisions } from '../../src/protocol/revisions.js';
import { connected } from '../support/connected.js';

const server = (...offers: Offer[]) =>
  defineServer({
    name: 'meadow',
    version: '1.0.0',
    title: 'Meadow',
    description: 'Hives',
    websiteUrl: 'https://meadow.example',
    icons: [{ src: 'https://meadow.example/mark.png' }],
    offers,
  });
const hives = ['MR-01', 'MR-02', 'UC-01'];
const hive = template(
  'hive://{apiary}/{number}',
  { name: 'hive', title: 'Hive', mimeType: 'application/json', complete: { apiary: ['MR', 'UC', 'SM'] } },
  ({ apiary, number }, _call, { uri }) => (hives.includes(`${apiary}-${number}`) ? { apiary, number, uri } : undefined),
);
const page = resource(
  'handbook://swarming',
  {
    title: 'Swarming',
    mimeType: 'text/markdown',
    annotations: { priority: 0.5, lastModified: '2026-06-01T00:00:00Z' },
    icons: [{ src: 'data:image/png;base64,aGl2ZQ==' }],
  },
  () => '# Swarming',
);
const picture = resource('handbook://comb.png', { mimeType: 'image/png', size: 4 }, () => new Uint8Array([104, 105, 118, 101]));
const rich = tool(
  'rich',
  {
    title: 'Rich',
    icons: [{ src: 'https://meadow.example/rich.svg' }],
    annotations: { readOnlyHint: true },
    meta: { 'org.meadow.coop/kind': 'demo' },
    output: z.object({ hive: z.string() }),
  },
  () =>
    answer({
      content: [
        { type: 'text', text: 'a text', annotations: { audience: ['user'], lastModified: '2026-06-01T00:00:00Z' } },
        { type: 'image', data: 'aGl2ZQ==', mimeType: 'image/png' },
        { type: 'audio', data: 'aGl2ZQ==', mimeType: 'audio/wav' },
        {
          type: 'resource_link',
          uri: 'handbook://swarming',
          name: 'swarming',
          title: 'Swarming',
          icons: [{ src: 'https://meadow.example/a.png' }],
        },
        { type: 'resource', resource: { uri: 'handbook://swarming', text: '# Swarming', _meta: { 'org.meadow.coop/a': 1 } } },
      ],
      structuredContent: { hive: 'MR-03' },
      meta: { 'org.meadow.coop/took': 3 },
    }),
);
const label = prompt(
  'lot_label',
  {
    title: 'Label',
    icons: [{ src: 'https://meadow.example/b.png' }],
    input: z.object({ lot: z.string().describe('the lot'), language: z.enum(['en', 'fr']).optional() }),
  },
  ({ lot, language = 'en' }) => [
    { role: 'user', content: { type: 'resource_link', uri: 'handbook://labels', name: 'labels' } },
    { role: 'assistant', content: `Which lot? ${lot}` },
    `Write it in ${language}.`,
  ],
);

test.each(revisions)(
  '[MCP-001] [MCP-006] [MCP-031] [MCP-065] [MCP-089] [MCP-098] %s: everything offered reaches the client in the shape its revision knows',
  async (revision) => {
    const { client, messages, done } = await connected(server(rich, page, picture, hive, label), { revision });
    const since = (other: string) => revision >= other;
    expect(client.server.capabilities).toMatchObject({
      tools: {},
      resources: { subscribe: true, listChanged: true },
      prompts: {},
      logging: {},
    });
    expect('completions' in client.server.capabilities).toBe(since('2025-03-26'));
    expect(Object.keys(client.server.serverInfo).sort()).toEqual(
      since('2025-11-25')
        ? ['description', 'icons', 'name', 'title', 'version', 'websiteUrl']
        : since('2025-06-18')
          ? ['name', 'title', 'version']
          : ['name', 'version'],
    );

    const [listed] = await client.tools();
    expect(Object.keys(listed!).sort()).toEqual(
      [
        'inputSchema',
        'name',
        ...(since('2025-06-18') ? ['_meta', 'outputSchema', 'title'] : []),
        ...(since('2025-03-26') ? ['annotations'] : []),
        ...(since('2025-11-25') ? ['icons'] : []),
      ].sort(),
    );
    const result = await client.call('rich');
    expect(result.content.map(({ type }) => type)).toEqual(
      since('2025-06-18')
        ? ['text', 'image', 'audio', 'resource_link', 'resource']
        : ['text', 'image', since('2025-03-26') ? 'audio' : 'text', 'text', 'resource'],
    );
    expect(result.structuredContent).toEqual(since('2025-06-18') ? { hive: 'MR-03' } : undefined);
    if (!since('2025-06-18')) expect(result.content[3]).toEqual({ type: 'text', text: 'Swarming: handbook://swarming' });

    const [first] = await client.resources();
    expect('title' in first!).toBe(since('2025-06-18'));
    expect('icons' in first!).toBe(since('2025-11-25'));
    expect(first?.annotations).toEqual(since('2025-06-18') ? { priority: 0.5, lastModified: '2026-06-01T00:00:00Z' } : { priority: 0.5 });
    expect(await client.templates()).toMatchObject([{ uriTemplate: 'hive://{apiary}/{number}', name: 'hive' }]);
    const [listedPrompt] = await client.prompts();
    expect(listedPrompt).toMatchObject({
      name: 'lot_label',
      arguments: [
        { name: 'lot', required: true },
        { name: 'language', required: false },
      ],
    });
    const { messages: rendered } = await client.prompt('lot_label', { lot: 'H-204' });
    expect(rendered.map(({ role, content }) => [role, content.type])).toEqual([
      ['user', since('2025-06-18') ? 'resource_link' : 'text'],
      ['assistant', 'text'],
      ['user', 'text'],
    ]);
    expect(JSON.stringify(messages.filter(({ way }) => way === 'received')).includes('"icons"')).toBe(since('2025-11-25'));
    await done();
  },
);

test('[MCP-023] [MCP-024] [MCP-021] [MCP-022] [MCP-028] [MCP-029] [MCP-030] the handshake comes first and asks for the newest', async () => {
  const { messages, done } = await connected(server(rich));
  expect(messages.map(({ way, message }) => `${way} ${message.method ?? 'answer'}`).slice(0, 3)).toEqual([
    'sent initialize',
    'received answer',
    'sent notifications/initialized',
  ]);
  expect(messages[0]?.message.params).toMatchObject({
    protocolVersion: '2025-11-25',
    capabilities: {},
    clientInfo: { name: 'jexo', version: expect.any(String) },
  });
  expect(messages[1]?.message.result).toMatchObject({ protocolVersion: '2025-11-25' });
  await done();
});

test('[MCP-093] text and bytes are read as such, other values as JSON', async () => {
  const { client, done } = await connected(
    server(
      page,
      picture,
      hive,
      resource('x://many', {}, () => [
        { uri: 'x://a', text: 'a' },
        { uri: 'x://b', text: 'b' },
      ]),
    ),
  );
  expect((await client.read('handbook://swarming')).contents).toEqual([
    { uri: 'handbook://swarming', mimeType: 'text/markdown', text: '# Swarming' },
  ]);
  expect((await client.read('handbook://comb.png')).contents).toEqual([
    { uri: 'handbook://comb.png', mimeType: 'image/png', blob: 'aGl2ZQ==' },
  ]);
  const [made] = (await client.read('hive://MR/01')).contents;
  expect(JSON.parse('text' in made! ? made.text : '')).toEqual({ apiary: 'MR', number: '01', uri: 'hive://MR/01' });
  expect((await client.read('x://many')).contents).toHaveLength(2);
  await done();
});

test.each([
  ['a URI of no form', 'nowhere://x'],
  ['a URI of the form whose reader finds nothing', 'hive://SM/99'],
])('[MCP-090] %s is not found, with the URI', async (_name, uri) => {
  const { client, done } = await connected(server(page, hive));
  await expect(client.read(uri)).rejects.toMatchObject({ code: -32002, data: { uri } });
  await done();
});

test.each([
  ['resources/read', { uri: 'not a uri' }],
  ['resources/read', {}],
  ['resources/subscribe', { uri: 7 }],
  ['prompts/get', { name: 'lot_label', arguments: { lot: 7 } }],
  ['prompts/list', { cursor: 'made-up' }],
  ['resources/list', { cursor: 'made-up' }],
  ['resources/templates/list', { cursor: 7 }],
  ['completion/complete', { ref: { type: 'ref/hive' }, argument: { name: 'a', value: '' } }],
  ['completion/complete', { ref: { type: 'ref/prompt', name: 'nothing' }, argument: { name: 'a', value: '' } }],
  ['logging/setLevel', { level: 'loud' }],
  ['tools/call', { name: 7 }],
  ['tools/call', { name: 'rich', arguments: [] }],
])('[MCP-091] [MCP-100] [MCP-057] [MCP-053] %s with %j is -32602', async (method, params) => {
  const sent: unknown[] = [];
  const own = server(rich, page, hive, label);
  await own.ready();
  const peer = own.open({
    outlet: { send: (message) => void sent.push(message) },
    clock: { now: () => 0, after: () => 0, cancel: () => undefined },
  });
  peer.begin({ revision: '2025-11-25' });
  peer.receive({ jsonrpc: '2.0', id: 1, method, params });
  for (let turn = 0; turn < 5; turn++) await Promise.resolve();
  expect(sent).toMatchObject([{ id: 1, error: { code: -32602 } }]);
});

test('[MCP-099] an unknown prompt is refused with the nearest name, a missing argument with its field', async () => {
  const { client, done } = await connected(server(label));
  await expect(client.prompt('lot_lable')).rejects.toMatchObject({
    code: -32602,
    message: expect.stringContaining('Did you mean lot_label?'),
  });
  await expect(client.prompt('lot_label')).rejects.toMatchObject({
    code: -32602,
    message: expect.stringContaining('lot: expected string; got nothing'),
  });
  await done();
});

test('[MCP-102] [MCP-103] [MCP-104] completion ranks, limits and uses what is already known', async () => {
  const many = Array.from({ length: 250 }, (_, index) => `lot-${index}`);
  const { client, done } = await connected(
    server(
      hive,
      label,
      prompt(
        'visit',
        {
          input: z.object({ apiary: z.string(), hive: z.string() }),
          complete: {
            apiary: many,
            hive: (typed, { arguments: known }) => hives.filter((id) => id.startsWith(`${known.apiary}-${typed}`)),
          },
        },
        () => 'go',
      ),
    ),
  );
  const visit = { type: 'ref/prompt', name: 'visit' } as const;
  expect(await client.complete({ type: 'ref/resource', uri: 'hive://{apiary}/{number}' }, { name: 'apiary', value: 'm' })).toEqual({
    values: ['MR', 'SM'],
    total: 2,
    hasMore: false,
  });
  expect(await client.complete({ type: 'ref/prompt', name: 'lot_label' }, { name: 'language', value: '' })).toMatchObject({
    values: ['en', 'fr'],
  });
  const all = await client.complete(visit, { name: 'apiary', value: 'lot' });
  expect([all.values.length, all.total, all.hasMore]).toEqual([100, 250, true]);
  expect((await client.complete(visit, { name: 'hive', value: '' }, { apiary: 'MR' })).values).toEqual(['MR-01', 'MR-02']);
  await expect(client.complete(visit, { name: 'hvie', value: '' })).rejects.toMatchObject({
    code: -32602,
    message: expect.stringContaining('Did you mean hive?'),
  });
  await done();
});

test('suggestions that start with what was typed come first, then words, then parts, then letters in order', () => {
  expect(rank(['smoker', 'old-mr', 'xmrx', 'MR-01', 'm-or', 'wax'], 'mr').values).toEqual(['MR-01', 'old-mr', 'xmrx', 'smoker', 'm-or']);
});

test('[MCP-096] [MCP-097] a subscriber is told, in one notice for a burst, until it stops', async () => {
  let change = () => {};
  const stop = jest.fn();
  const watched = resource('scale://MR-03', { watch: (changed) => ((change = changed), stop) }, () => '31 kg');
  const own = server(watched, page);
  const { client, of, done } = await connected(own);
  const other = await connected(own);
  const seen: string[] = [];
  let told = () => {};
  const next = () => new Promise<void>((resolve) => (told = resolve));
  const unwatch = await client.watch('scale://MR-03', (uri) => (seen.push(uri), told()));
  let waiting = next();
  change();
  change();
  own.updated('scale://MR-03');
  own.updated('handbook://swarming');
  await waiting;
  waiting = next();
  own.updated('scale://MR-03/today');
  await waiting;
  expect(seen).toEqual(['scale://MR-03', 'scale://MR-03/today']);
  await unwatch();
  expect(stop).toHaveBeenCalledTimes(1);
  own.updated('scale://MR-03');
  await client.ping();
  expect(of('notifications/resources/updated')).toHaveLength(2);
  expect(other.of('notifications/resources/updated')).toEqual([]);
  await expect(client.watch('nowhere://x', () => undefined)).rejects.toMatchObject({ code: -32002 });
  await other.done();
  await done();
});

test('[MCP-088] [MCP-097] after a reload only what has changed is announced', async () => {
  let offers: Offer[] = [rich, page, label];
  const own = defineServer({
    name: 'x',
    version: '1',
    offers: [{ name: 'changing', read: async () => ({ offers }), watch: () => () => undefined }],
  });
  const told: string[] = [];
  const { client, done } = await connected(own, {
    onToolsChanged: () => told.push('tools'),
    onResourcesChanged: () => told.push('resources'),
    onPromptsChanged: () => told.push('prompts'),
  });
  offers = [rich, page, hive, label];
  await own.reload();
  expect(await client.templates()).toHaveLength(1);
  expect(told).toEqual(['resources']);
  await done();
});

test('[MCP-032] [MCP-010] what the server does not offer is not asked for, and would be refused', async () => {
  const { client, done } = await connected(server(rich));
  expect(client.server.capabilities.resources).toBeUndefined();
  await expect(client.resources()).rejects.toMatchObject({ code: 'JEXO_NOT_SUPPORTED' });
  await expect(client.prompts()).rejects.toMatchObject({ code: 'JEXO_NOT_SUPPORTED' });
  await expect(client.tasks()).rejects.toMatchObject({ code: 'JEXO_NOT_SUPPORTED' });
  await done();
});

test('[MCP-062] [MCP-094] definitions are checked where they are written', () => {
  const refused = expect.objectContaining({ code: 'JEXO_DEFINITION' });
  expect(() => resource('no scheme', {}, () => '')).toThrow(refused);
  expect(() => template('hive://{', { name: 'x' }, () => '')).toThrow(refused);
  expect(() => tool('x', { icons: [{ src: 'javascript:alert(1)' }] }, () => 0)).toThrow(refused);
  expect(() => resource('a://b', { icons: [{ src: 'file:///etc/passwd' }] }, () => '')).toThrow(refused);
  expect(() => prompt('x', { input: z.object({ n: z.number() }) }, () => '')).toThrow(refused);
  expect(() => tool('x', { ask: { nothing: 'What?' } }, () => 0)).toThrow(refused);
  expect(() => prompt('', {}, () => '')).toThrow(refused);
});

test('[MCP-092] [MCP-081] middleware stands before tools, resources and prompts alike', async () => {
  const seen: string[] = [];
  const guarded = defineServer({
    name: 'guarded',
    version: '1',
    offers: [rich, page, hive, label],
    middleware: [
      (request, next) => {
        seen.push(`${request.offer.kind} ${request.offer.name}`);
        if (request.offer.kind === 'resource') throw notFound('handbook://swarming');
        return next(request);
      },
    ],
  });
  const { client, done } = await connected(guarded);
  await client.call('rich');
  await expect(client.read('handbook://swarming')).rejects.toMatchObject({ code: -32002 });
  await client.read('hive://MR/01');
  await client.prompt('lot_label', { lot: 'x' });
  expect(seen).toEqual(['tool rich', 'resource handbook://swarming', 'template hive', 'prompt lot_label']);
  await done();
});

test('[MCP-083] [MCP-058] what a reader or a prompt throws by mistake stays off the wire', async () => {
  const faults: string[] = [];
  const broken = resource('x://broken', {}, () => (undefined as unknown as { password: string }).password);
  const deliberate = resource('x://closed', {}, () => {
    throw new Error('The office is closed.');
  });
  const { client, done } = await connected(server(broken, deliberate), { onFault: (error) => void faults.push(String(error)) });
  await expect(client.read('x://broken')).rejects.toMatchObject({ code: -32603, message: expect.not.stringContaining('password') });
  await expect(client.read('x://closed')).rejects.toMatchObject({ code: -32603, message: 'The office is closed.' });
  expect(faults).toEqual([expect.stringContaining('password')]);
  await done();
});

test('[MCP-082] calls beyond the limit are refused, and told when to come back', async () => {
  const limited = defineServer({ name: 'limited', version: '1', offers: [tool('tick', {}, () => 'tock')], callsPerMinute: 2 });
  const { client, done } = await connected(limited);
  const answers = [await client.call('tick'), await client.call('tick'), await client.call('tick')];
  expect(answers.map(({ isError }) => isError ?? false)).toEqual([false, false, true]);
  expect(answers[2]?.content).toMatchObject([{ text: expect.stringMatching(/Try again in \d+ seconds/) }]);
  await done();
});

test('[MCP-056] [MCP-059] a flood of log messages is thinned by option only, and the client is told how many were held back', async () => {
  const flood = tool('flood', {}, (_input, call) => {
    for (let index = 0; index < 1000; index++) call.log('error', index);
    return 'done';
  });
  const all = await connected(server(flood));
  expect(all.client.server.capabilities.logging).toEqual({});
  await all.client.call('flood');
  expect(all.of('notifications/message')).toHaveLength(1000);
  await all.done();

  const told: unknown[] = [];
  const thinned = defineServer({ name: 'thinned', version: '1', offers: [flood], logsPerSecond: 200 });
  const account = new Promise<unknown>((resolve) => {
    void connected(thinned, {
      onLog: ({ data, logger }) => (logger === 'jexo' ? resolve(data) : told.push(data)),
    }).then(({ client }) => client.call('flood'));
  });
  expect(await account).toBe('800 log messages were held back: more than the server sends in a second.');
  expect(told).toHaveLength(200);
});

test('[MCP-070] [MCP-071] [MCP-066] names and input schemas of the demo are within what the standard wants', async () => {
  const { connect } = await import('../support/connect.js');
  const { hives: file } = await import('../support/command-line.js');
  const client = await connect(file);
  const tools = await client.tools();
  for (const { name, inputSchema } of tools) {
    expect(name).toMatch(/^[A-Za-z0-9_.-]{1,128}$/);
    expect(inputSchema.type).toBe('object');
  }
  expect(new Set(tools.map(({ name }) => name)).size).toBe(tools.length);
  await client.close();
});

test('[MCP-054] [MCP-052] every listing pages, and a page asked for twice is the same', async () => {
  const many: Offer[] = Array.from({ length: 7 }, (_, index) => [
    resource(`x://${index}`, {}, () => ''),
    template(`y${index}://{a}`, { name: `t${index}` }, () => ''),
    prompt(`p${index}`, {}, () => ''),
  ]).flat();
  const paged = defineServer({ name: 'many', version: '1', offers: many, pageSize: 3 });
  const { client, of, done } = await connected(paged);
  for (const list of [client.resources(), client.templates(), client.prompts()]) expect(await list).toHaveLength(7);
  expect(await client.resources()).toEqual(await client.resources());
  expect(of('prompts/list')).toHaveLength(3);
  expect((await client.resources()).map(({ uri }) => uri)).toEqual(Array.from({ length: 7 }, (_, index) => `x://${index}`));
  await done();
});

test('resources of a template appear in the list when it names them', async () => {
  const { client, done } = await connected(
    server(
      page,
      template('lot://{id}', { name: 'lot', list: async () => [{ uri: 'lot://H-204', name: 'H-204' }] }, ({ id }) => id),
    ),
  );
  expect((await client.resources()).map(({ uri }) => uri)).toEqual(['handbook://swarming', 'lot://H-204']);
  await done();
});
