import { spawn, type ChildProcess } from 'node:child_process';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';
import { connect } from '../../src/index.js';
import { hives, start } from '../support/command-line.js';

const open: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});
const example = (name: string) => fileURLToPath(new URL(`../../../../examples/${name}`, import.meta.url));

/** Starts an example, and waits for the line of JSON it says. */
function run(name: string, words: readonly string[] = [], env: Record<string, string> = {}): Promise<Record<string, string>> {
  const child: ChildProcess = spawn(process.execPath, [example(name), ...words], { env: { ...process.env, ...env } });
  open.push(() => new Promise((resolve) => (child.once('close', resolve), child.kill('SIGKILL'))));
  let said = '';
  child.stderr!.on('data', (chunk: Buffer) => (said += chunk.toString()));
  return new Promise((resolve, reject) => {
    createInterface({ input: child.stdout! }).on('line', (line) => resolve(JSON.parse(line) as Record<string, string>));
    child.once('close', (code) => reject(new Error(`${name} ended with ${code}: ${said}`)));
  });
}

test.each(['express', 'fastify', 'hono', 'fetch'])('mounted in %s, beside its own routes', async (name) => {
  const { app, mcp } = await run(`mounted/${name}.mjs`);
  expect(await (await fetch(app!)).text()).toBe('The cooperative’s own page');
  const client = await connect(mcp!);
  expect(
    (await client.call('mix_syrup', { colonies: 12 })).structuredContent ??
      JSON.parse(textOf(await client.call('mix_syrup', { colonies: 12 }))),
  ).toEqual({
    sugarKg: 24,
    waterL: 12,
  });
  await client.close();
});
const textOf = ({ content }: { readonly content: readonly unknown[] }) => (content[0] as { text: string }).text;

test('a laptop’s server, reached through the stand-in tunnel, with many callers at once; nobody gets in without the token', async () => {
  const env = { TUNNEL_TOKEN: 'bee-line' };
  const relay = await run('tunnel/relay.mjs', [], env);
  const url = `${relay.public!}/mcp`;
  const port = await listening();
  await run('tunnel/agent.mjs', [`127.0.0.1:${relay.agents}`, `127.0.0.1:${port}`], { TUNNEL_TOKEN: 'a guess' });
  await expect(connect(url, { timeoutMs: 500 })).rejects.toThrow();
  await run('tunnel/agent.mjs', [`127.0.0.1:${relay.agents}`, `127.0.0.1:${port}`], env);
  const clients = await Promise.all(Array.from({ length: 20 }, () => connect(url)));
  const answers = await Promise.all(clients.map((client, index) => client.call('mix_syrup', { colonies: index + 1, season: 'autumn' })));
  expect(answers.map(({ structuredContent }) => (structuredContent as { sugarKg: number }).sugarKg)).toEqual(
    Array.from({ length: 20 }, (_, index) => (index + 1) * 2),
  );
  await Promise.all(clients.map((client) => client.close()));
});

async function listening(): Promise<number> {
  const running = await start(['serve', hives, '--http', '0', '--no-page', '--json']);
  open.push(() => running.stop());
  return Number(new URL(running.said.address as string).port);
}
