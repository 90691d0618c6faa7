import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { connect as connectUnjudged } from '../../src/index.js';
import { connect } from '../support/connect.js';
import { createJudge } from '../support/judge.js';
import { cli, freshFolder, hives, jexo } from '../support/command-line.js';

const folder = freshFolder('stdio');
const initialize = (protocolVersion = '2025-06-18') =>
  JSON.stringify({
    jsonrpc: '2.0',
    id: 1,
    method: 'initialize',
    params: { protocolVersion, capabilities: {}, clientInfo: { name: 'apiary-desk', version: '1' } },
  });

test('a served module is listed and called over stdio, every message by the schema', async () => {
  const judge = createJudge();
  const client = await connect([process.execPath, cli, 'serve', hives], { tap: judge.tap });
  expect((await client.tools()).map(({ name }) => name)).toEqual(['mix_syrup', 'days_to_harvest', 'mites_per_100', 'winter_stores']);
  const answers = await Promise.all(Array.from({ length: 50 }, (_, index) => client.call('mix_syrup', { colonies: index + 1 })));
  expect(answers.map(({ structuredContent }) => structuredContent?.sugarKg)).toEqual(answers.map((_, index) => index + 1));
  await client.close();
  expect(judge.findings).toEqual([]);
});

test('[MCP-169] whatever the module prints goes to stderr, with one line that says so', async () => {
  const file = join(folder, 'loud.ts');
  writeFileSync(
    file,
    `import { spawnSync, spawn, fork, execSync } from 'node:child_process';
    import { writeSync } from 'node:fs';
    console.log('while loading');
    export async function loud(): Promise<string> {
      console.log('by console');
      process.stdout.write('by process.stdout\\n');
      writeSync(1, 'by descriptor\\n');
      spawnSync('echo', ['by spawnSync'], { stdio: 'inherit' });
      execSync('echo by execSync', { stdio: 'inherit' });
      await new Promise((done) => spawn('echo', ['by spawn'], { stdio: ['ignore', 1, 2] }).on('close', done));
      return 'quiet';
    }`,
  );
  const said: string[] = [];
  const noise: string[] = [];
  const client = await connect([process.execPath, cli, 'serve', file], {
    onStderr: (line) => void said.push(line),
    tap: ({ note }) => note && void noise.push(note),
  });
  expect((await client.call('loud')).structuredContent).toEqual({ result: 'quiet' });
  await client.close();
  expect(noise).toEqual([]);
  for (const words of ['while loading', 'by console', 'by process.stdout', 'by descriptor', 'by spawnSync', 'by execSync', 'by spawn'])
    expect(said).toContain(words);
  expect(said.filter((line) => line.includes('stdout carries the protocol'))).toHaveLength(2);
});

test('[MCP-012] a line that is not JSON is answered, and the session goes on', async () => {
  const lines = [initialize(), '{"jsonrpc": oops', JSON.stringify({ jsonrpc: '2.0', id: 2, method: 'ping' })];
  const { stdout, code } = await jexo(['serve', hives], { stdin: lines.map((line) => `${line}\n`).join('') });
  const answers = stdout
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line) as { id?: number; error?: { code: number } });
  expect(answers).toMatchObject([{ id: 1 }, { error: { code: -32700 } }, { id: 2, result: {} }]);
  expect(code).toBe(0);
});

test('what is in flight when the input ends is answered before the process ends', async () => {
  const file = join(folder, 'slow.ts');
  writeFileSync(file, `export async function slow(): Promise<number> { await new Promise((done) => setTimeout(done, 300)); return 7 }`);
  const call = JSON.stringify({ jsonrpc: '2.0', id: 2, method: 'tools/call', params: { name: 'slow', arguments: {} } });
  const { stdout, code } = await jexo(['serve', file], { stdin: `${initialize()}\n${call}` });
  expect(stdout).toContain('"structuredContent":{"result":7}');
  expect(code).toBe(0);
});

test('a command that is not there is said with the PATH that was used', async () => {
  await expect(connect(['no-such-command-here'])).rejects.toMatchObject({
    code: 'JEXO_COMMAND_MISSING',
    message: expect.stringContaining(process.env.PATH!),
  });
});

test('a server that ends at once is said with its last lines', async () => {
  await expect(connect([process.execPath, '-e', 'console.error("no database"); process.exit(3)'])).rejects.toMatchObject({
    code: 'JEXO_SERVER_EXITED',
    message: expect.stringMatching(/exit code 3[\s\S]*no database/),
  });
});

test('a server that prints to stdout is said with that very line', async () => {
  const noisy = [process.execPath, '-e', 'console.log("Listening on 3000"); setTimeout(() => {}, 300)'];
  await expect(connectUnjudged(noisy)).rejects.toMatchObject({
    code: 'JEXO_NOT_PROTOCOL',
    message: expect.stringMatching(/Listening on 3000\nThe server ended with exit code 0/),
  });
  await expect(connectUnjudged(noisy, { strict: true })).rejects.toMatchObject({
    code: 'JEXO_NOT_PROTOCOL',
    message: expect.stringContaining('Listening on 3000'),
  });
});

test('[MCP-171] a server that ignores the end of its input is ended all the same', async () => {
  const stubborn = `
    process.on('SIGTERM', () => {});
    process.stdin.on('data', (chunk) => { for (const line of String(chunk).trim().split('\\n')) { const { id, method } = JSON.parse(line);
      if (method === 'initialize') console.log(JSON.stringify({ jsonrpc: '2.0', id, result: { protocolVersion: '2025-11-25', capabilities: {}, serverInfo: { name: String(process.pid), version: '1' } } })); } });
    setInterval(() => {}, 1000);`;
  const { stdioLink } = await import('../../src/transports/stdio-link.js');
  const { connectLink } = await import('../../src/client/connect-link.js');
  const client = await connectLink(stdioLink({ command: process.execPath, args: ['-e', stubborn] }, { patienceMs: 100 }));
  const pid = Number(client.server.serverInfo.name);
  expect(() => process.kill(pid, 0)).not.toThrow();
  await client.close();
  expect(() => process.kill(pid, 0)).toThrow();
});

test('[MCP-170] what a server writes to stderr is handed on and is no failure', async () => {
  const file = join(folder, 'chatty.ts');
  writeFileSync(file, `export function chat(): string { console.error('Error: not really'); return 'fine' }\n`);
  const said: string[] = [];
  const client = await connect([process.execPath, cli, 'serve', file], { onStderr: (line) => void said.push(line) });
  expect((await client.call('chat')).structuredContent).toEqual({ result: 'fine' });
  await client.close();
  expect(said).toContain('Error: not really');
});
