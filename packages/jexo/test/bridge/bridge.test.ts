import { spawn } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { z } from 'zod';
import {
  connect,
  defineServer,
  prompt,
  resource,
  serveHttp,
  template,
  tool,
  wrapServer,
  type Client,
  type ConnectOptions,
  type Server,
  type WrapServerOptions,
} from '../../src/index.js';
import { sourceChecks } from '../../src/source-checks.js';
import { freshFolder } from '../support/command-line.js';

const open: (() => Promise<unknown>)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});
const until = async (what: string, check: () => boolean | Promise<boolean>) => {
  for (let tries = 0; tries < 800; tries++) {
    if (await check()) return;
    await new Promise((resolve) => setTimeout(resolve, 10));
  }
  throw new Error(`It never came to be that ${what}.`);
};

/** A server that does all that a server can do. */
function everything(log: string[] = []): Server {
  const counts = new WeakMap<object, number>();
  const listeners = new Set<() => void>();
  return Object.assign(
    defineServer({
      name: 'lab',
      version: '1.0.0',
      offers: [
        tool('count', { description: 'Counts the calls of a session.' }, (_input, { session }) => {
          counts.set(session, (counts.get(session) ?? 0) + 1);
          return `call ${counts.get(session)}`;
        }),
        tool(
          'sum',
          { description: 'Sums.', input: z.object({ a: z.number(), b: z.number() }), output: z.object({ sum: z.number() }) },
          ({ a, b }) => ({ sum: a + b }),
        ),
        tool(
          'ask',
          { description: 'Asks.' },
          async (_input, call) => `so be it: ${(await call.ask('Which?', z.object({ to: z.enum(['MR', 'UC']) }))).to}`,
        ),
        tool('page', { description: 'Sends to a page.' }, async (_input, call) => {
          const { id } = await call.askByUrl('Sign in.', 'https://lab.example/sign-in', { id: 'page-7' });
          return id;
        }),
        tool('write', { description: 'Writes.' }, async (_input, call) => {
          const { content } = await call.generate('Write a line.');
          return (content as { text: string }).text;
        }),
        tool('roots', { description: 'Roots.' }, async (_input, call) => (await call.roots()).map(({ uri }) => uri).join(' ')),
        tool('slow', { description: 'Takes its time.' }, async (_input, call) => {
          call.progress(1, 2, 'half');
          call.log('info', { half: true }, 'lab');
          await new Promise<void>((resolve) => call.signal.addEventListener('abort', () => resolve()));
          log.push('cancelled');
          return 'never seen';
        }),
        tool('tasked', { description: 'May be a task.', taskSupport: 'optional' }, () => 'done'),
        tool('fail', { description: 'Fails.' }, () => {
          throw new Error('The lab is closed.');
        }),
        resource(
          'lab://now',
          { name: 'now', mimeType: 'text/plain', watch: (changed) => (listeners.add(changed), () => void listeners.delete(changed)) },
          () => 'calm',
        ),
        template('lab://lots/{lot}', { name: 'lot', complete: { lot: ['H-204', 'H-205', 'H-300'] } }, ({ lot }) => `lot ${lot}`),
        prompt(
          'label',
          { arguments: { lot: { required: true } as never }, complete: { lot: ['H-204'] } as never } as never,
          (() => 'Write a label.') as never,
        ),
      ],
    }),
    { change: () => listeners.forEach((each) => each()) },
  );
}

async function through(
  target: Parameters<typeof wrapServer>[0],
  options: WrapServerOptions = {},
  connecting: ConnectOptions = {},
): Promise<Client> {
  const server = defineServer({ name: 'bridge', version: '1.0.0', offers: [wrapServer(target, options)] });
  const client = await connect(server, connecting);
  open.push(() => client.close().then(() => server.close()));
  return client;
}
const textOf = (result: { content: readonly unknown[] }) => (result.content[0] as { text: string }).text;

const reaches: [string, (server: Server) => Promise<Parameters<typeof wrapServer>[0]>][] = [
  ['in memory', (server) => Promise.resolve(server)],
  [
    'over HTTP',
    async (server) => {
      const service = await serveHttp(server);
      open.push(() => service.close());
      return service.url;
    },
  ],
];

describe.each(reaches)('a server behind a bridge, reached %s', (_, reach) => {
  test('asks the caller, who answers; uses its model; sees its roots', async () => {
    const asked: unknown[] = [];
    const done: string[] = [];
    const lab = everything();
    const client = await through(
      await reach(lab),
      {},
      {
        elicitation: {
          form: ({ message, requestedSchema }) => (
            asked.push([message, Object.keys(requestedSchema.properties!)]),
            { action: 'accept', content: { to: 'UC' } }
          ),
          url: ({ url, message }) => (asked.push([message, url]), { action: 'accept' }),
        },
        sampling: {
          create: ({ messages }) => ({ role: 'assistant', model: 'own', content: { type: 'text', text: `${messages.length} message` } }),
        },
        roots: [{ uri: 'file:///hives' }],
        onPageDone: (id) => done.push(id),
      },
    );
    expect(textOf(await client.call('ask'))).toBe('so be it: UC');
    expect(textOf(await client.call('page'))).toBe('page-7');
    expect(asked).toEqual([
      ['Which?', ['to']],
      ['Sign in.', 'https://lab.example/sign-in'],
    ]);
    expect(lab.pageDone('page-7')).toBe(true);
    await until('the page is told to be done', () => done.length > 0);
    expect(textOf(await client.call('write'))).toBe('1 message');
    expect(textOf(await client.call('roots'))).toBe('file:///hives');
    client.setRoots([{ uri: 'file:///apiary' }]);
    await until('the new roots are seen', async () => textOf(await client.call('roots')) === 'file:///apiary');
    const silent = await through(await reach(lab));
    expect((await silent.call('ask')).isError).toBe(true);
    const unwilling = await through(await reach(lab), {}, { elicitation: { form: () => ({ action: 'decline' }) } });
    expect(textOf(await unwilling.call('ask'))).toContain('declined');
  });

  test('reports progress and logs, and is cancelled', async () => {
    const log: string[] = [];
    const heard: unknown[] = [];
    const client = await through(await reach(everything(log)), {}, { onLog: ({ data, logger }) => heard.push([logger, data]) });
    const controller = new AbortController();
    const progress: unknown[] = [];
    const call = client.call(
      'slow',
      {},
      { signal: controller.signal, onProgress: (each) => progress.push([each.progress, each.total, each.message]) },
    );
    call.catch(() => undefined);
    await until('both have come', () => progress.length > 0 && heard.length > 0);
    expect([progress[0], heard[0]]).toEqual([
      [1, 2, 'half'],
      ['lab', { half: true }],
    ]);
    controller.abort();
    await expect(call).rejects.toThrow();
    await until('it is cancelled behind the bridge', () => log.includes('cancelled'));
  });

  test('completes, is read and subscribed to, runs tasks, and fails in its own words', async () => {
    const lab = everything() as Server & { change(): void };
    const changed: string[] = [];
    const client = await through(await reach(lab));
    expect((await client.complete({ type: 'ref/resource', uri: 'lab://lots/{lot}' }, { name: 'lot', value: 'H-2' })).values).toEqual([
      'H-204',
      'H-205',
    ]);
    expect((await client.read('lab://lots/H-204')).contents).toEqual([{ uri: 'lab://lots/H-204', text: 'lot H-204' }]);
    const stop = await client.watch('lab://now', (uri) => changed.push(uri));
    await until('the change is told', () => (lab.change(), changed.length > 0));
    await stop();
    const task = await client.callAsTask('tasked');
    expect(textOf(await task.result())).toBe('done');
    const failed = await client.call('fail');
    expect([failed.isError, textOf(failed)]).toEqual([true, expect.stringContaining('The lab is closed.')]);
    expect((await client.call('sum', { a: 1, b: 2 })).structuredContent).toEqual({ sum: 3 });
    expect(textOf(await client.call('sum', { a: 'one' }))).toContain('a: expected number');
  });

  test('keeps sessions apart, or shares one', async () => {
    const lab = await reach(everything());
    const front = defineServer({ name: 'bridge', version: '1.0.0', offers: [wrapServer(lab)] });
    const [one, other] = [await connect(front), await connect(front)];
    expect([textOf(await one.call('count')), textOf(await one.call('count')), textOf(await other.call('count'))]).toEqual([
      'call 1',
      'call 2',
      'call 1',
    ]);
    await Promise.all([one.close(), other.close()]);
    await front.close();
    const shared = defineServer({ name: 'bridge', version: '1.0.0', offers: [wrapServer(lab, { sessions: 'shared' })] });
    const [third, fourth] = [
      await connect(shared, { elicitation: { form: () => ({ action: 'accept', content: { to: 'MR' } }) } }),
      await connect(shared),
    ];
    expect([textOf(await third.call('count')), textOf(await fourth.call('count'))]).toEqual(['call 1', 'call 2']);
    expect(textOf(await third.call('ask'))).toBe('so be it: MR');
    await expect(fourth.call('ask')).rejects.toThrow('cannot do what the tool needs');
    await Promise.all([third.close(), fourth.close()]);
    await shared.close();
    const few = defineServer({ name: 'bridge', version: '1.0.0', offers: [wrapServer(lab, { maxSessions: 1 })] });
    const [fifth, sixth] = [await connect(few), await connect(few)];
    expect(textOf(await fifth.call('count'))).toBe('call 1');
    expect(textOf(await sixth.call('count'))).toContain('More than 1 sessions use the server behind at once.');
    await fifth.close();
    expect(textOf(await sixth.call('count'))).toBe('call 1');
    await sixth.close();
    await few.close();
  });
});

test('offers are renamed, filtered, described, tagged; inputs are fixed and defaulted; two servers are one', async () => {
  const lab = everything();
  const client = await through(lab, {
    prefix: 'lab_',
    only: ['sum', 'count'],

    rename: { count: 'calls' },
    describe: { count: 'How many calls there were.' },
    tags: ['science'],
    inputs: { 'sum.a': { fix: 40 }, '*.b': { default: 2, describe: 'what is added to 40' } },
  });
  const tools = Object.fromEntries((await client.tools()).map((each) => [each.name, each]));
  expect(Object.keys(tools).sort()).toEqual(['lab_calls', 'lab_sum']);
  expect(tools.lab_calls!.description).toBe('How many calls there were.');
  expect(tools.lab_sum!.inputSchema).toMatchObject({
    properties: { b: { type: 'number', default: 2, description: 'what is added to 40' } },
    required: [],
  });
  expect(tools.lab_sum!.inputSchema.properties).not.toHaveProperty('a');
  const { offers: tagged } = await wrapServer(lab, { tags: ['science'], only: ['sum'] }).read({
    settings: {},
    signal: new AbortController().signal,
    progress: () => undefined,
  });
  expect(tagged[0]!.tags).toEqual(['science']);
  expect((await client.call('lab_sum')).structuredContent).toEqual({ sum: 42 });
  expect((await client.call('lab_sum', { a: 1, b: 1 })).structuredContent).toEqual({ sum: 41 });
  const read = (options: WrapServerOptions) =>
    wrapServer(lab, options).read({ settings: {}, signal: new AbortController().signal, progress: () => undefined });
  await expect(read({ inputs: { 'sum.c': { fix: 1 } } })).rejects.toMatchObject({
    code: 'JEXO_CHOICE',
    message: expect.stringContaining('inputs names sum.c'),
  });
  const both = defineServer({
    name: 'both',
    version: '1.0.0',
    offers: [wrapServer(lab, { only: ['sum'], prefix: 'one_' }), wrapServer(everything(), { only: ['sum'], prefix: 'two_' })],
  });
  const joined = await connect(both);
  expect((await joined.tools()).map(({ name }) => name)).toEqual(['one_sum', 'two_sum']);
  await joined.close();
  await both.close();
});

test('a server that is away hides its own offers only, and they come back with it', async () => {
  const first = await serveHttp(everything());
  const { url } = first;
  const port = Number(new URL(url).port);
  let told = 0;
  const server = defineServer({
    name: 'bridge',
    version: '1.0.0',
    offers: [wrapServer(url, { sessions: 'shared' }), tool('own', { description: 'Ours.' }, () => 'here')],
  });
  const client = await connect(server, { onToolsChanged: () => told++ });
  open.push(() => client.close().then(() => server.close()));
  expect((await client.tools()).length).toBe(10);
  await first.close();
  const lost = await client.call('count');
  expect([lost.isError, textOf(lost)]).toEqual([true, expect.stringMatching(/JEXO_CONNECT/)]);
  expect(textOf(await client.call('own'))).toBe('here');
  await until('its offers are hidden', async () => (await client.tools()).length === 1);
  const { omitted } = await server.catalogue();
  expect(omitted).toEqual([expect.objectContaining({ what: 'server', where: url, next: expect.stringContaining('come back') })]);
  const second = await serveHttp(everything(), { port });
  open.push(() => second.close());
  await until('they are back', async () => (await client.tools()).length === 10);
  expect(told).toBeGreaterThanOrEqual(2);
  expect(textOf(await client.call('count'))).toBe('call 1');
}, 60_000);

test('a server that never answered is an error when it is required, and waited for otherwise', async () => {
  const read = (options: WrapServerOptions) => {
    const source = wrapServer('http://127.0.0.1:9/mcp', options);
    return source.read({ settings: {}, signal: new AbortController().signal, progress: () => undefined }).finally(() => source.close?.());
  };
  await expect(read({ required: true })).rejects.toMatchObject({ code: 'JEXO_CONNECT' });
  expect((await read({})).omitted).toEqual([expect.objectContaining({ code: 'JEXO_CONNECT' })]);
});

test('lazily, a process runs only while it is used', async () => {
  const folder = freshFolder('bridge');
  const pids = join(folder, 'pids');
  const script = join(folder, 'server.mjs');
  const library = fileURLToPath(new URL('../../dist/index.mjs', import.meta.url));
  writeFileSync(
    script,
    `import { appendFileSync } from 'node:fs';
import { defineServer, serveStdio, tool } from ${JSON.stringify(library)};
appendFileSync(${JSON.stringify(pids)}, process.pid + '\\n');
await serveStdio(defineServer({ name: 'slow', version: '1.0.0', offers: [tool('pid', { description: 'Its process.' }, () => String(process.pid))] }));`,
  );
  const runs = (pid: string) => {
    try {
      process.kill(Number(pid), 0);
      return true;
    } catch {
      return false;
    }
  };
  const client = await through([process.execPath, script], { lazy: true, idleMs: 300 });
  expect((await client.tools()).map(({ name }) => name)).toEqual(['pid']);
  const { readFileSync } = await import('node:fs');
  const [listing] = readFileSync(pids, 'utf8').split('\n');
  await until('the process that listed has ended', () => !runs(listing!));
  const pid = textOf(await client.call('pid'));
  expect([runs(pid), textOf(await client.call('pid'))]).toEqual([true, pid]);
  await until('the process has ended with nothing to do', () => !runs(pid));
  const next = textOf(await client.call('pid'));
  expect(next).not.toBe(pid);
  // The one that was closed before does not take its successor with it.
  expect(textOf(await client.call('pid'))).toBe(next);
});

describe('as a source', () => {
  for (const { name, run } of sourceChecks(() => wrapServer(everything()))) test(name, run);
});

test.each(['memory', 'http'])(
  'the tests of servers pass through a bridge over %s',
  async (way) => {
    const root = fileURLToPath(new URL('../../../../', import.meta.url));
    // What a bridge cannot pass on: faults are reported where they happen, and a reload behind it is told a moment later. The last one
    // waits by pings in memory, which leave no time for a network.
    const others = '^(?!.*(\\[MCP-073\\]|a deliberate error reaches the model|\\[MCP-088\\]|concurrent calls answer)).*$';
    const args = [
      '--experimental-vm-modules',
      '--no-warnings',
      'node_modules/jest/bin/jest.js',
      '--runInBand',
      '--testNamePattern',
      others,
      '--forceExit',
    ];
    const suites = ['test/offers/features', 'test/offers/define-server', 'test/offers/tasks', 'test/client/client\\.test'];
    const child = spawn(process.execPath, [...args, ...suites], { cwd: root, env: { ...process.env, JEXO_TEST_BRIDGED: way } });
    let text = '';
    child.stderr.on('data', (chunk: Buffer) => (text += chunk.toString()));
    const code = await new Promise((resolve) => child.once('close', resolve));
    const [, passed = '0'] = /Tests:.* (\d+) passed/.exec(text) ?? [];
    expect([code, Number(passed) > 80, code === 0 ? '' : text.slice(-3000)]).toEqual([0, true, '']);
  },
  120_000,
);
