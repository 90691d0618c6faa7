import { spawn } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { connect } from '../support/connect.js';
import { cli, freshFolder, hives, jexo, start } from '../support/command-line.js';

const folder = freshFolder('processes');
function file(name: string, text: string): string {
  const path = join(folder, name);
  writeFileSync(path, text);
  return path;
}
function alive(pid: number): boolean {
  try {
    process.kill(pid, 0);
    // A zombie waits only to be reaped.
    return !/^\d+ \(.*\) Z/.test(readFileSync(`/proc/${pid}/stat`, 'utf8'));
  } catch {
    return false;
  }
}
async function gone(pid: number): Promise<void> {
  for (let turn = 0; alive(pid) && turn < 500; turn++) await new Promise((resolve) => setTimeout(resolve, 10));
  expect(alive(pid)).toBe(false);
}

test('a server that dies is restarted, with a new session and the calls after it answered', async () => {
  const path = file('dies.ts', `export function pid(): number { return process.pid }\nexport function die(): void { process.exit(7) }\n`);
  const restarts: string[] = [];
  const client = await connect([process.execPath, cli, 'serve', path], {
    maxRestarts: 3,
    onRestart: (why) => void restarts.push(why.message),
  });
  const first = (await client.call('pid')).structuredContent?.result;
  await expect(client.call('die')).rejects.toMatchObject({ code: 'JEXO_SERVER_EXITED' });
  let second: unknown;
  while (second === undefined)
    second = await client.call('pid', {}, { timeoutMs: 3000 }).then(
      ({ structuredContent }) => structuredContent?.result,
      () => undefined,
    );
  expect(second).not.toBe(first);
  expect(restarts).toEqual([expect.stringContaining('exit code 7')]);
  await client.close();
});

test('a grandchild is never left behind', async () => {
  const path = file(
    'parent.ts',
    `import { spawn } from 'node:child_process';\nexport function begin(): number { return spawn(process.execPath, ['-e', 'setInterval(() => {}, 1000)'], { stdio: 'ignore' }).pid! }\n`,
  );
  const client = await connect([process.execPath, cli, 'serve', path]);
  const pid = Number((await client.call('begin')).structuredContent?.result);
  expect(alive(pid)).toBe(true);
  await client.close();
  await gone(pid);
});

test('a server ends when its parent is gone, even if somebody else holds its input open', async () => {
  // The parent hands the server an input that this test holds, and dies.
  const holder = spawn('sleep', ['60'], { stdio: ['ignore', 'pipe', 'ignore'] });
  const script = `const { spawn } = require('node:child_process');
    const child = spawn(process.execPath, [${JSON.stringify(cli)}, 'serve', ${JSON.stringify(hives)}], { stdio: [3, 'ignore', 'pipe'], detached: true });
    child.stderr.on('data', (text) => { if (String(text).includes('served over stdio')) { console.log(child.pid); process.exit(0); } });`;
  const parent = spawn(process.execPath, ['-e', script], { stdio: ['ignore', 'pipe', 'inherit', holder.stdout!] });
  const pid = Number(await new Promise<string>((resolve) => parent.stdout!.once('data', (chunk: Buffer) => resolve(chunk.toString()))));
  expect(pid).toBeGreaterThan(0);
  await gone(pid);
  holder.kill();
});

test('an unhandled rejection is told on stderr, and the server goes on', async () => {
  const path = file('rejects.ts', `export function slip(): string { void Promise.reject(new Error('nobody waits')); return 'said' }\n`);
  const said: string[] = [];
  const client = await connect([process.execPath, cli, 'serve', path], { onStderr: (line) => void said.push(line) });
  await client.call('slip');
  await client.ping();
  expect((await client.call('slip')).structuredContent).toEqual({ result: 'said' });
  await client.close();
  expect(said.join('\n')).toContain('unhandled rejection: Error: nobody waits');
});

test('a wire log holds every message, both ways, with secrets masked', async () => {
  const entries = (path: string) =>
    readFileSync(path, 'utf8')
      .trim()
      .split('\n')
      .map(
        (line) =>
          JSON.parse(line) as {
            seq: number;
            way: string;
            message?: { method?: string };
            http?: { status?: number; headers?: Record<string, string> };
          },
      );
  const serverLog = join(folder, 'server.jsonl');
  const clientLog = join(folder, 'client.jsonl');
  const running = await start(['serve', hives, '--http', '--json', '--wire-log', serverLog]);
  await jexo([
    'call',
    String(running.said.address),
    'mix_syrup',
    'colonies=2',
    '--header',
    'authorization: Bearer sesame',
    '--wire-log',
    clientLog,
  ]);
  await running.stop();
  const seen = entries(clientLog);
  expect(seen.map(({ seq }) => seq)).toEqual(seen.map((_, index) => index + 1));
  expect(seen.filter(({ way }) => way === 'sent').map(({ message }) => message?.method)).toEqual([
    'initialize',
    'notifications/initialized',
    'tools/list',
    'tools/call',
  ]);
  const served = entries(serverLog);
  expect(served.map(({ http }) => http?.status).filter(Boolean)).toContain(200);
  expect(served[0]?.http?.headers?.authorization).toBe('(masked)');
  for (const log of [serverLog, clientLog]) expect(readFileSync(log, 'utf8')).not.toContain('sesame');
  expect(await jexo(['list', hives, '--wire-log', '/nowhere/at/all.jsonl'])).toMatchObject({
    code: 2,
    stderr: expect.stringContaining('wire log'),
  });
});
