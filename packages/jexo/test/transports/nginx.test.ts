import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { connect, isJexoError, type Client } from '../../src/index.js';
import { freshFolder, jexo, start, type Running } from '../support/command-line.js';
import { freePort, startNginx, withNginx, type Nginx } from '../support/nginx.js';

const open: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

const module = `import { defineServer, prompt, resource, tool } from ${JSON.stringify(new URL('../../dist/index.mjs', import.meta.url).href)};
const input = { type: 'object', properties: { id: { type: 'string' }, ms: { type: 'integer' } }, required: ['id'] };
const wait = (ms) => new Promise((resolve) => setTimeout(resolve, ms));
export default defineServer({ name: 'apiary', version: '1.0.0', offers: [
  tool('echo', { description: 'Says it again.', input }, ({ id }) => id),
  tool('wait', { description: 'Says it later.', input }, async ({ id, ms }) => { await wait(ms); return id; }),
  tool('steps', { description: 'Tells how far it is.', input }, async ({ id, ms }, call) => {
    for (let step = 1; step <= 20; step++) { call.progress(step, 20); await wait(ms / 20); }
    return id;
  }),
  tool('book', { description: 'Books an inspection.', input, tags: ['booking'] }, ({ id }) => id),
  tool('where', { description: 'Who asks.' }, (_input, call) => call.caller.address),
  resource('log://today', {}, () => 'MR-03: calm'),
] });
`;

const [, documented] = /```nginx\n([\s\S]*?)```/.exec(readFileSync(new URL('../../../../docs/production.md', import.meta.url), 'utf8'))!;
/** As docs/production.md has it, with places of the test's own. */
const proxied = (upstream: string) =>
  documented!.replace('server 127.0.0.1:4300;', upstream).replace('server {', 'server {\n  listen 127.0.0.1:PORT;');

interface Place {
  readonly folder: string;
  readonly port: number;
  readonly running: Running;
}
async function serve(folder: string, words: readonly string[]): Promise<Place> {
  writeFileSync(join(folder, 'apiary.mjs'), module);
  const port = await freePort();
  const all = ['serve', 'apiary.mjs', '--http', String(port), '--proxy', 'loopback', '--no-page', '--json', ...words];
  const running = await start(all, { cwd: folder });
  open.push(() => running.stop('SIGKILL'));
  return { folder, port, running };
}
async function front(upstream: string): Promise<Nginx> {
  const nginx = await startNginx(proxied(upstream));
  open.push(() => nginx.stop());
  return nginx;
}
const textOf = ({ content }: { readonly content: readonly unknown[] }) => (content[0] as { text: string }).text;

withNginx('behind nginx: the client’s address, streams as they come, and resumption when nginx cuts them', async () => {
  const { port } = await serve(freshFolder('nginx-one'), []);
  const nginx = await front(`server 127.0.0.1:${port};`);
  const client = await connect(`${nginx.url}/mcp`, { headers: { 'X-Forwarded-For': '198.51.100.7' } });
  open.push(() => client.close());
  // The client is on this machine, as a proxy that is trusted may be: what it names is believed.
  expect(textOf(await client.call('where'))).toBe('198.51.100.7');
  const steps: number[] = [];
  const began = Date.now();
  let firstAfter = Infinity;
  const calling = client.call(
    'steps',
    { id: 'a', ms: 4000 },
    {
      onProgress({ progress }) {
        firstAfter = Math.min(firstAfter, Date.now() - began);
        steps.push(progress);
      },
    },
  );
  await pause(500);
  await nginx.reload();
  expect(textOf(await calling)).toBe('a');
  // Every event once, in order, over the cut; and the first one came long before the last.
  expect(steps).toEqual([...new Set(steps)].sort((a, b) => a - b));
  expect([steps[0], steps.at(-1)]).toEqual([1, 20]);
  expect(firstAfter).toBeLessThan(2000);
});

interface Told {
  readonly again: number;
  readonly wrong: readonly string[];
}

withNginx(
  '200 clients, mixed calls, keys and switches that change, and a SIGTERM in the middle: nothing is lost, nothing hidden is seen',
  async () => {
    const folder = freshFolder('nginx-load');
    const switches = join(folder, 'switches.json');
    writeFileSync(switches, '{}');
    const add = async (name: string) =>
      (JSON.parse((await jexo(['keys', 'add', name, '--json'], { cwd: folder })).stdout) as { key: string }).key;
    const [good, revoked] = [await add('lab'), await add('guest')];
    const words = ['--keys', 'keys.json', '--switches', switches, '--drain', '1', '--grace', '10'];
    const first = await serve(folder, words);
    const second = await serve(folder, [...words, '--workers', '2']);
    const nginx = await front(`server 127.0.0.1:${first.port} max_fails=0; server 127.0.0.1:${second.port} backup;`);
    let hiddenAt = Infinity;
    let revokedAt = Infinity;
    let goneAt = Infinity;
    let isOver = false;
    // Each phase lasts until enough has happened in it, however slow the machine is.
    const count = { calls: 0, lists: 0, refused: 0, afterTheFirstWasGone: 0 };
    const until = async (isEnough: () => boolean) => {
      for (const end = Date.now() + 30_000; !isEnough() && Date.now() < end;) await pause(50);
    };

    const drive = async (number: number): Promise<Told> => {
      const key = number % 20 === 0 ? revoked : good;
      const told = { again: 0, wrong: [] as string[] };
      const client = await connectPatiently(`${nginx.url}/mcp`, key);
      for (let turn = 0; !isOver; turn++) {
        const id = `${number}-${turn}`;
        const startedAt = Date.now();
        try {
          await [
            async () => textOf(await client.call('echo', { id })) === id || told.wrong.push(`echo gave another's answer to ${id}`),
            async () => textOf(await client.call('wait', { id, ms: 200 })) === id || told.wrong.push(`wait gave another's answer to ${id}`),
            async () => {
              const names = (await client.tools()).map(({ name }) => name);
              count.lists++;
              if (startedAt > hiddenAt && names.includes('book')) told.wrong.push(`book was listed to ${id}`);
            },
            async () => (await client.read('log://today')).contents.length === 1 || told.wrong.push(`no log for ${id}`),
            async () => {
              const seen = textOf(await client.call('book', { id }));
              if (startedAt > hiddenAt) told.wrong.push(`book answered ${seen} after it was switched off`);
            },
          ][turn % 5]!();
          count.calls++;
          if (startedAt > goneAt) count.afterTheFirstWasGone++;
          if (key === revoked && startedAt > revokedAt) told.wrong.push(`a revoked key was let in at ${id}`);
        } catch (error) {
          const code = isJexoError(error) ? error.code : '';
          const text = (error as Error).message;
          if (/Unknown tool: book/.test(text) && Date.now() > hiddenAt - 1500) count.refused++;
          else if (/401|Unauthorized|not let in|sign/i.test(text) && key === revoked) return told;
          else if (code === 'JEXO_SESSION_LOST' || /503/.test(text)) told.again++;
          else told.wrong.push(`${id}: ${code} ${text}`);
        }
        await pause(20 + (number % 10) * 5);
      }
      await client.close().catch(() => undefined);
      return told;
    };
    const driving = Promise.all(Array.from({ length: 200 }, (_, number) => drive(number)));
    await until(() => count.calls > 400 && count.lists > 40);
    writeFileSync(switches, '{ "except": ["tag:booking"] }');
    hiddenAt = Date.now() + 1500;
    await until(() => count.refused > 20);
    expect((await jexo(['keys', 'revoke', 'guest'], { cwd: folder })).code).toBe(0);
    revokedAt = Date.now() + 1500;
    await pause(2000);
    expect(await first.running.stop('SIGTERM')).toBe(0);
    goneAt = Date.now();
    await until(() => count.afterTheFirstWasGone > 100);
    isOver = true;
    const all = await driving;
    expect(all.flatMap(({ wrong }) => wrong)).toEqual([]);
    expect([count.calls > 400, count.lists > 40, count.refused > 20]).toEqual([true, true, true]);
    // Sessions of the first server began again with the second. A client is told to come back a few times at most.
    expect(count.afterTheFirstWasGone).toBeGreaterThan(100);
    expect(Math.max(...all.map(({ again }) => again))).toBeLessThan(20);
  },
  150_000,
);

async function connectPatiently(url: string, key: string): Promise<Client> {
  for (let tries = 0; ; tries++)
    try {
      return await connect(url, { headers: { Authorization: `Bearer ${key}` } });
    } catch (error) {
      if (tries > 20) throw error;
      await pause(100);
    }
}
