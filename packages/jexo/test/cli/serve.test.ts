import { createServer } from 'node:http';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { connect } from '../support/connect.js';
import { cli, freshFolder, hives, jexo, start } from '../support/command-line.js';

const folder = freshFolder('cli');
function file(name: string, text: string): string {
  const path = join(folder, name);
  writeFileSync(path, text);
  return path;
}

test('serve over HTTP says where, answers, and stops cleanly on a signal', async () => {
  for (const signal of ['SIGINT', 'SIGTERM'] as const) {
    const running = await start(['serve', hives, '--http', '--json']);
    expect(running.said).toMatchObject({ name: 'hives', tools: expect.arrayContaining(['mix_syrup']) });
    const client = await connect(String(running.said.address));
    expect((await client.call('mix_syrup', { colonies: 2 })).structuredContent).toEqual({ sugarKg: 2, waterL: 2 });
    await client.close();
    expect(await running.stop(signal)).toBe(0);
  }
});

test('a call in flight is answered before the server stops', async () => {
  const path = file(
    'slow.ts',
    'export async function slow(): Promise<number> { await new Promise((done) => setTimeout(done, 400)); return 7 }',
  );
  const running = await start(['serve', path, '--http', '--json']);
  const client = await connect(String(running.said.address));
  const answer = client.call('slow');
  await client.ping();
  const code = running.stop('SIGTERM');
  expect((await answer).structuredContent).toEqual({ result: 7 });
  expect(await code).toBe(0);
  await client.close();
});

test('a port in use is one message', async () => {
  const holder = createServer();
  await new Promise<void>((resolve) => holder.listen(0, '127.0.0.1', resolve));
  const { port } = holder.address() as { port: number };
  expect(await jexo(['serve', hives, '--http', String(port)])).toMatchObject({
    code: 3,
    stderr: expect.stringContaining(`Port ${port} at 127.0.0.1 is in use`),
  });
  holder.close();
});

test('a running server and a command are targets as good as a module', async () => {
  const running = await start(['serve', hives, '--http', '--json']);
  expect((await jexo(['call', String(running.said.address), 'winter_stores', 'strength=weak', 'frostMonths=3'])).stdout.trim()).toBe('10');
  await running.stop();
  const outcome = await jexo(['call', 'winter_stores', 'strength=weak', 'frostMonths=3', '--', process.execPath, cli, 'serve', hives]);
  expect(outcome).toMatchObject({ code: 0, stdout: '10\n' });
});

test('several modules are served as one, and a clash of names is refused', async () => {
  const other = file('lots.ts', '/** A lot. */ export function lotNumber(year: number): string { return `L-${year}` }\n');
  const { tools } = (await start(['serve', hives, other, '--name', 'coop', '--http', '--json']).then(async (running) => {
    await running.stop();
    return running.said;
  })) as { tools: string[] };
  expect(tools).toContain('lot_number');
  const clash = file('clash.ts', 'export function mixSyrup(): number { return 1 }\n');
  expect(await jexo(['serve', hives, clash])).toMatchObject({
    code: 3,
    stderr: expect.stringMatching(/Two tools are called mix_syrup.*hives\.ts:\d+.*clash\.ts:1/),
  });
});

test('a server of its own, written with the library, is served as it is', async () => {
  const path = file(
    'apiary.ts',
    `import { defineServer, tool } from 'jexo';
    export default defineServer({ name: 'alderwick', version: '2.0.0', instructions: 'Hives.', offers: [tool('count', {}, () => 'forty')] });`,
  );
  const { stdout } = await jexo(['list', path]);
  expect(stdout).toMatch(/alderwick · 2\.0\.0[\s\S]*Hives\.[\s\S]*count/);
});

test('Ctrl-C cancels the call on the server', async () => {
  const { spawn } = await import('node:child_process');
  const path = file(
    'endless.ts',
    `export async function endless(signal: AbortSignal): Promise<void> { console.error('begun'); await new Promise((done) => signal.addEventListener('abort', done)); console.error('stopped') }`,
  );
  const child = spawn(process.execPath, [cli, 'call', path, 'endless'], { env: { ...process.env, NO_COLOR: '1' } });
  let stderr = '';
  child.stderr.on('data', (chunk: Buffer) => {
    stderr += chunk.toString();
    if (chunk.toString().includes('begun')) child.kill('SIGINT');
  });
  const code = await new Promise((resolve) => child.once('close', resolve));
  expect(stderr).toContain('stopped');
  expect(stderr).toContain('JEXO_CANCELLED');
  expect(code).toBe(1);
});

test('serve --watch tells connected clients of what was saved', async () => {
  const path = file('watched.ts', 'export function one(): number { return 1 }');
  const running = await start(['serve', path, '--http', '--watch', '--json']);
  let changed = () => {};
  const client = await connect(String(running.said.address), { onToolsChanged: () => changed() });
  await client.tools();
  const told = new Promise<void>((resolve) => (changed = resolve));
  writeFileSync(path, 'export function one(): number { return 1 }\nexport function two(): number { return 2 }');
  await told;
  expect((await client.tools()).map(({ name }) => name)).toEqual(['one', 'two']);
  expect((await client.call('two')).structuredContent).toEqual({ result: 2 });
  await client.close();
  await running.stop();
  expect(running.stderr()).toContain('+ two');
});
