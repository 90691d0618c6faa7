import { spawn } from 'node:child_process';
import { copyFileSync, existsSync, mkdirSync, readFileSync, readdirSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { cooperative, freshFolder, jexo, run } from '../support/command-line.js';
import { atTerminal, onTerminal } from '../support/terminal.js';

const root = freshFolder('new');
const own = fileURLToPath(new URL('../..', import.meta.url));
let tarball = '';
let asked: string[] = [];
const api = createServer((request, response) => {
  asked.push(`${request.method} ${request.url} ${request.headers.authorization ?? ''}`);
  response.setHeader('content-type', 'application/json');
  response.end('{"id":"MR-03"}');
});
let base = '';
beforeAll(async () => {
  const { stdout } = await run('npm', ['pack', '--json', '--pack-destination', root], { cwd: own });
  tarball = join(root, (JSON.parse(stdout) as { filename: string }[])[0]!.filename);
  await new Promise<void>((resolve) => api.listen(0, '127.0.0.1', resolve));
  base = `http://127.0.0.1:${(api.address() as AddressInfo).port}`;
});
afterAll(() => new Promise((resolve) => api.close(resolve).closeAllConnections()));
beforeEach(() => void (asked = []));

/** The two commands a README names, with the library taken from its own tarball. */
async function runReadme(folder: string): Promise<{ started: string; tested: { code: number | null; stdout: string } }> {
  const commands = /```sh\n([\s\S]*?)```/
    .exec(readFileSync(join(folder, 'README.md'), 'utf8'))![1]!
    .split('\n')
    .map((line) => line.replace(/\s+#.*/, ''));
  expect(commands.slice(0, 2)).toEqual(['npm install && npm start', 'npm test']);
  const manifest = JSON.parse(readFileSync(join(folder, 'package.json'), 'utf8')) as { dependencies: Record<string, string> };
  expect(manifest.dependencies.jexo).toMatch(/^\^\d/);
  manifest.dependencies.jexo = `file:${tarball}`;
  writeFileSync(join(folder, 'package.json'), JSON.stringify(manifest));
  const child = spawn('sh', ['-c', commands[0]!], { cwd: folder, detached: true, env: { ...process.env, NO_COLOR: '1' } });
  const started = await new Promise<string>((resolve, reject) => {
    let said = '';
    const take = (chunk: Buffer) => {
      said += chunk.toString();
      if (/Open the bench at http/.test(said)) resolve(said);
    };
    child.stdout.on('data', take);
    child.stderr.on('data', take);
    child.once('close', (code) => reject(new Error(`ended with ${code}: ${said}`)));
  });
  process.kill(-child.pid!, 'SIGKILL');
  return { started, tested: await run('sh', ['-c', commands[1]!], { cwd: folder }) };
}

test('from functions', async () => {
  const folder = join(root, 'Bee Hives');
  const { code, stderr } = await jexo(['new', folder]);
  expect([code, stderr]).toEqual([0, expect.stringMatching(/bee-hives is in .*made from plain functions: 9 files/)]);
  expect(readdirSync(folder).sort()).toEqual([
    '.env.example',
    '.gitignore',
    'README.md',
    'functions.ts',
    'package.json',
    'server.calls.yaml',
    'server.ts',
    'test',
    'tsconfig.json',
  ]);
  const { started, tested } = await runReadme(folder);
  expect(started).toContain('Connected to server.ts: 1 tool');
  expect([tested.code, tested.stdout]).toEqual([0, expect.stringMatching(/✓ autumn syrup is thick[\s\S]*pass 2/)]);
}, 300_000);

test('the demo', async () => {
  const folder = join(root, 'demo');
  expect((await jexo(['new', folder, '--from', 'demo'])).code).toBe(0);
  const { started, tested } = await runReadme(folder);
  expect(started).toContain('2 tools, 1 template, 1 prompt');
  expect([tested.code, tested.stdout]).toEqual([0, expect.stringMatching(/✓ it stands there now[\s\S]*pass 1/)]);
}, 300_000);

test('from an OpenAPI document', async () => {
  const folder = join(root, 'registry');
  const made = await jexo(['new', folder, '--from', join(cooperative, 'registry.openapi.yaml'), '--json']);
  expect(JSON.parse(made.stdout)).toMatchObject({
    name: 'registry',
    from: 'document',
    files: expect.arrayContaining(['registry.openapi.yaml', '.env']),
  });
  expect(readFileSync(join(folder, '.env'), 'utf8')).toBe('API_URL=http://127.0.0.1:4310\nREGISTRY_TOKEN=\n');
  const { started, tested } = await runReadme(folder);
  expect(started).toContain('10 tools');
  expect([tested.code, tested.stdout]).toEqual([0, expect.stringContaining('pass 1')]);
  // What it packs is carried away alone, the document included.
  expect((await run('npm', ['run', 'pack'], { cwd: folder })).code).toBe(0);
  const away = join(root, 'carried');
  mkdirSync(away);
  copyFileSync(join(folder, 'dist', 'server.mjs'), join(away, 'server.mjs'));
  const called = await jexo(['call', 'get_hive', 'hive=MR-03', '--', process.execPath, 'server.mjs'], {
    cwd: away,
    env: { API_URL: base, REGISTRY_TOKEN: 'carried-secret' },
  });
  expect([called.code, asked]).toEqual([0, ['GET /hives/MR-03 Bearer carried-secret']]);
}, 300_000);

test('from a curl line, and what was guessed calls the same thing', async () => {
  const folder = join(root, 'from-curl');
  const line = `curl '${base}/hives/MR-03?full=true' -H 'Authorization: Bearer curl-secret-1'`;
  const { code, stderr } = await jexo(['new', folder, '--from', 'curl', line]);
  expect([code, stderr]).toEqual([0, expect.stringContaining('API_URL, API_TOKEN are in .env')]);
  for (const file of ['endpoints.ts', 'server.ts', 'draft.openapi.yaml', 'README.md', '.env.example'])
    expect(readFileSync(join(folder, file), 'utf8')).not.toContain('curl-secret-1');
  const { tested } = await runReadme(folder);
  expect([tested.code, tested.stdout]).toEqual([0, expect.stringContaining('pass 1')]);
  const called = await run(
    'node',
    ['--env-file=.env', 'node_modules/jexo/dist/cli.mjs', 'call', 'server.ts', 'get_hive', 'hive=MR-03', 'full=true'],
    { cwd: folder },
  );
  expect([called.code, asked]).toEqual([0, ['GET /hives/MR-03?full=true Bearer curl-secret-1']]);
  const draft = await jexo(['list', join(folder, 'draft.openapi.yaml'), '--json']);
  expect((JSON.parse(draft.stdout) as { tools: { name: string }[] }).tools.map(({ name }) => name)).toEqual(['get_hive']);
}, 300_000);

test('from a recording; and never over what is there', async () => {
  const har = join(root, 'session.har');
  writeFileSync(
    har,
    JSON.stringify({
      log: {
        entries: [
          {
            request: { method: 'GET', url: `${base}/hives`, headers: [] },
            response: { status: 200, content: { mimeType: 'application/json', text: '[]' } },
          },
        ],
      },
    }),
  );
  const folder = join(root, 'from-har');
  mkdirSync(folder);
  mkdirSync(join(folder, '.git'));
  expect((await jexo(['new', folder, '--from', har])).code).toBe(0);
  const before = readFileSync(join(folder, 'endpoints.ts'), 'utf8');
  const again = await jexo(['new', folder]);
  expect([again.code, again.stderr]).toEqual([2, expect.stringContaining('nothing is overwritten')]);
  expect(readFileSync(join(folder, 'endpoints.ts'), 'utf8')).toBe(before);
  for (const [words, says] of [
    [['new'], /No folder was given/],
    [['new', join(root, 'x'), '--from', 'curl'], /wants to know which/],
    [['new', join(root, 'x'), '--from', 'curl', 'curl'], /names no address/],
    [['new', join(root, 'x'), '--from', 'functoins'], /Did you mean functions/],
    [['new', har], /it is a file/],
  ] as const) {
    const { code, stderr } = await jexo(words);
    expect([words, code, stderr]).toEqual([words, 2, expect.stringMatching(says)]);
  }
  expect((await jexo(['new', join(root, 'x'), '--from', 'har', 'gone.har'])).code).toBe(3);
  expect(existsSync(join(root, 'x'))).toBe(false);
});

onTerminal('at a terminal, it asks what the project is made from', async () => {
  const folder = join(root, 'asked');
  const { code, screen } = await atTerminal(
    ['new', folder],
    [
      [/from .*$/, 'curl'],
      [/The curl line/, `curl ${base}/lots`],
    ],
  );
  expect([code, screen]).toEqual([0, expect.stringContaining('made from a curl command line')]);
  expect(readFileSync(join(folder, 'endpoints.ts'), 'utf8')).toContain('GET /lots');
});

test('the first page of the README, word for word', async () => {
  const readme = readFileSync(fileURLToPath(new URL('../../../../README.md', import.meta.url)), 'utf8');
  const [, code] = /```ts\n\/\/ hives\.ts[^\n]*\n([\s\S]*?)```/.exec(readme)!;
  const commands = /```sh\n(npm install jexo\n[\s\S]*?)```/
    .exec(readme)![1]!
    .trim()
    .split('\n')
    .map((line) => line.replace(/\s+#.*/, ''));
  expect(commands.map((line) => line.split(' ').slice(0, 3).join(' '))).toEqual([
    'npm install jexo',
    'npx jexo call',
    'npx jexo check',
    'npx jexo inspect',
    'npx jexo register',
  ]);
  const folder = join(root, 'readme');
  mkdirSync(folder);
  writeFileSync(join(folder, 'hives.ts'), code!);
  const [install, call, look, inspect, register] = commands as [string, string, string, string, string];
  expect((await run('sh', ['-c', install.replace('jexo', tarball)], { cwd: folder })).code).toBe(0);
  expect((await run('sh', ['-c', call], { cwd: folder })).stdout).toBe('sugarKg  24\nwaterL   12\n');
  expect(await run('sh', ['-c', look], { cwd: folder })).toMatchObject({ code: 0, stderr: expect.stringContaining('nothing found') });
  const bench = spawn('sh', ['-c', inspect], { cwd: folder, detached: true, env: { ...process.env, NO_COLOR: '1' } });
  const said = await new Promise<string>((resolve) => {
    let text = '';
    bench.stderr.on('data', (chunk: Buffer) => {
      text += chunk.toString();
      if (text.includes('Open the bench at')) resolve(text);
    });
  });
  process.kill(-bench.pid!, 'SIGKILL');
  expect(said).toContain('Connected to hives.ts: 1 tool');
  const registered = await run('sh', ['-c', register], { cwd: folder });
  expect([registered.code, registered.stderr]).toEqual([
    0,
    expect.stringMatching(/hives is in servers\.json[\s\S]*Started as a host would: hives .* with 1 tool/),
  ]);
}, 300_000);
