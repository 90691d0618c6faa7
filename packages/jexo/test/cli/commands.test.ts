import { createServer } from 'node:http';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { connect } from '../support/connect.js';
import { cli, cooperative, freshFolder, hives, jexo, run, start } from '../support/command-line.js';

const folder = freshFolder('cli');
function file(name: string, text: string): string {
  const path = join(folder, name);
  writeFileSync(path, text);
  return path;
}

test('list shows every tool with its words and parameters', async () => {
  const { code, stdout, stderr } = await jexo(['list', hives]);
  expect(code).toBe(0);
  for (const words of ['mix_syrup', 'How much sugar and water', 'spring|autumn', 'default', 'at least 1', 'winter_stores', '4 tools'])
    expect(stdout).toContain(words);
  expect(stderr).toContain('jexo call');
  expect(stdout).not.toContain('\u001b');
});

test('list --json is exact JSON and nothing else', async () => {
  const { stdout } = await jexo(['list', hives, '--json']);
  const { tools, server } = JSON.parse(stdout) as { tools: { name: string; outputSchema: object }[]; server: { protocolVersion: string } };
  expect(tools.map(({ name }) => name)).toEqual(['mix_syrup', 'days_to_harvest', 'mites_per_100', 'winter_stores']);
  expect(server.protocolVersion).toBe('2025-11-25');
});

test('call answers on stdout; --json gives the exact result', async () => {
  const plain = await jexo(['call', hives, 'mix_syrup', 'colonies=12', 'season=autumn']);
  expect(plain).toMatchObject({ code: 0, stdout: 'sugarKg  24\nwaterL   12\n' });
  const exact = await jexo(['call', hives, 'mix_syrup', '--input', '{"colonies":12}', 'season=autumn', '--json']);
  expect(JSON.parse(exact.stdout)).toEqual({
    content: [{ type: 'text', text: '{"sugarKg":24,"waterL":12}' }],
    structuredContent: { sugarKg: 24, waterL: 12 },
  });
  const piped = await jexo(['call', hives, 'mix_syrup', '--input', '-', '--json'], { stdin: '{"colonies": 1}' });
  expect(JSON.parse(piped.stdout)).toMatchObject({ structuredContent: { sugarKg: 1 } });
});

test.each([
  ['an unknown tool', ['call', hives, 'mix_sirup'], 2, 'Did you mean mix_syrup'],
  ['wrong input', ['call', hives, 'mix_syrup', 'colonies=none'], 2, 'colonies: expected number; got "none"'],
  ['an argument that is no pair', ['call', hives, 'mix_syrup', 'colonies'], 2, 'key=value'],
  ['input that is not JSON', ['call', hives, 'mix_syrup', '--input', '{oops'], 2, 'not JSON'],
  ['input that is no object', ['call', hives, 'mix_syrup', '--input', '[1]'], 2, 'one JSON object'],
  ['an input file that is missing', ['call', hives, 'mix_syrup', '--input', '@nowhere.json'], 2, 'nowhere.json'],
  ['no tool', ['call', hives], 2, 'which tool'],
  ['a missing file', ['list', 'nowhere.ts'], 3, 'There is no file nowhere.ts'],
  ['a folder', ['list', folder], 3, 'names no server'],
  ['an unknown command', ['lsit'], 2, 'lsit'],
  ['an unknown option', ['list', hives, '--jsno'], 2, '--jsno'],
  ['a port that is none', ['serve', hives, '--http', '99999'], 2, '65535'],
  ['no target', ['list'], 2, 'which server'],
  ['nothing to serve', ['serve'], 2, 'what to serve'],
  ['an address that is not ours', ['serve', hives, '--http', '--host', '192.0.2.1', '--open'], 3, '192.0.2.1'],
  ['an address anybody reaches', ['serve', hives, '--http', '--host', '0.0.0.0'], 2, 'there is no sign-in'],
  ['a header that is none', ['list', 'http://127.0.0.1:9/mcp', '--header', 'oops'], 2, 'Name: value'],
  ['nothing listening', ['list', 'http://127.0.0.1:9/mcp'], 3, '127.0.0.1:9'],
  ['packing a URL', ['pack', 'http://127.0.0.1:9/mcp', '--out', folder], 3, 'is a running server, which cannot be packed'],
])('%s: one clear message, and an exit code that means something', async (_name, args, code, words) => {
  const outcome = await jexo(args, { cwd: folder });
  expect(outcome.stderr).toContain(words);
  expect(outcome.code).toBe(code);
  expect(outcome.stderr).not.toMatch(/^\s+at /m);
  expect(outcome.stdout).toBe('');
  const asJson = await jexo([...args, '--json'], { cwd: folder });
  if (code !== 1)
    expect(JSON.parse(asJson.stdout)).toMatchObject({ error: { code: expect.stringMatching(/^JEXO_/), message: expect.any(String) } });
  expect(asJson.code).toBe(code);
});

test('a syntax error is shown where it is', async () => {
  const path = file('broken.ts', 'export function ok(): number { return 1 }\nexport function bad(: number) {}\n');
  const { code, stderr } = await jexo(['list', path], { cwd: folder });
  expect(code).toBe(3);
  expect(stderr).toMatch(/broken\.ts:2:\d+/);
  expect(stderr).toContain('export function bad(');
  expect(stderr).toContain('JEXO_SYNTAX');
});

test('a module that throws while it loads is named with its line', async () => {
  const path = file('throws.ts', 'const x: number = 1;\n\nthrow new Error(`no database ${x}`);\nexport function f(): void {}\n');
  const { code, stderr } = await jexo(['serve', path], { cwd: folder });
  expect(code).toBe(3);
  expect(stderr).toContain('no database 1');
  expect(await jexo(['list', path, '--json'], { cwd: folder })).toMatchObject({ stdout: expect.stringContaining('throws.ts:3:') });
});

test('an import that cannot be found is named', async () => {
  const path = file('imports.ts', "import { x } from 'no-such-package';\nexport const f = (): number => x;\n");
  expect((await jexo(['list', path], { cwd: folder })).stderr).toMatch(/imports\.ts:1:\d+.*no-such-package/);
});

test('a module without functions says so', async () => {
  expect(await jexo(['list', file('empty.ts', 'export const a = 1;')])).toMatchObject({
    code: 3,
    stderr: expect.stringContaining('exports no function'),
  });
});

test('what cannot be offered is said, and the rest is', async () => {
  const path = file(
    'mixed.ts',
    'export function good(a: number): number { return a }\n\nexport function bad(visit: () => void): void {}\n',
  );
  const { stdout, stderr, code } = await jexo(['list', path]);
  expect(code).toBe(0);
  expect(stdout).toContain('good');
  expect(stderr).toMatch(/bad is omitted: mixed\.ts:3: visit is a callback/);
});

test('what a module prints never mixes with the result', async () => {
  const path = file('prints.ts', "console.log('noise');\nexport function f(): number { console.log('more noise'); return 1 }\n");
  const { stdout, stderr } = await jexo(['call', path, 'f', '--json']);
  expect(JSON.parse(stdout)).toMatchObject({ structuredContent: { result: 1 } });
  expect(stderr).toContain('more noise');
});

test('nested and repeated arguments are typed by the schema', async () => {
  const path = file(
    'place.ts',
    'export function put(place: { apiary: string; rows: number }, tags: string[], on: boolean): string { return JSON.stringify([place, tags, on]) }\n',
  );
  const { stdout } = await jexo(['call', path, 'put', 'place.apiary=MR', 'place.rows=3', 'tags=7', 'tags=b', 'on=yes']);
  expect(stdout.trim()).toBe('[{"apiary":"MR","rows":3},["7","b"],true]');
});

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

test.each(['serve', 'list', 'call', 'inspect', 'pack'])('%s --help teaches by example', async (command) => {
  const { code, stdout } = await jexo([command, '--help']);
  expect(code).toBe(0);
  expect(stdout).toMatch(new RegExp(`Examples:[\\s\\S]*jexo ${command} `));
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

describe('choosing', () => {
  test.each([
    ['--only', 'mix_syrup,winterStores'],
    ['--except', 'days_*', '--except', 'mitesPer100'],
  ])('%s', async (...options) => {
    const { stdout } = await jexo(['list', hives, '--json', ...options]);
    expect((JSON.parse(stdout) as { tools: { name: string }[] }).tools.map(({ name }) => name)).toEqual(['mix_syrup', 'winter_stores']);
  });

  test('names, words and a prefix are taken by every command that reads a module', async () => {
    const shape = ['--rename', 'mix_syrup=mix', '--describe', 'mixSyrup=Sugar and water = syrup.', '--prefix', 'bee_'];
    const { stdout } = await jexo(['call', hives, 'bee_mix', 'colonies=2', ...shape]);
    expect(stdout).toBe('sugarKg  2\nwaterL   2\n');
    expect((await jexo(['list', hives, ...shape])).stdout).toContain('Sugar and water = syrup.');
    const running = await start(['serve', hives, '--http', '--json', '--only', 'mix_syrup', ...shape]);
    expect(running.said).toMatchObject({ tools: ['bee_mix'], excluded: ['days_to_harvest', 'mites_per_100', 'winter_stores'] });
    await running.stop();
    const out = freshFolder('chosen');
    await jexo(['pack', hives, '--out', out, '--only', 'mix_syrup', ...shape]);
    const client = await connect([process.execPath, join(out, 'hives.mjs')]);
    expect((await client.tools()).map(({ name }) => name)).toEqual(['bee_mix']);
    await client.close();
  });

  test.each([
    ['a name that is not there', ['list', hives, '--only', 'mix_sirup'], 'Did you mean mix_syrup?'],
    ['a pair that is none', ['list', hives, '--rename', 'mix_syrup'], 'wants old=new'],
    ['a running server', ['list', 'http://127.0.0.1:9/mcp', '--only', 'x'], 'modules, packages and documents only'],
  ])('%s is refused', async (_name, args, says) => {
    expect(await jexo(args)).toMatchObject({ code: 2, stderr: expect.stringContaining(says) });
  });
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

const apiary = join(cooperative, 'apiary.ts');

describe('read and prompt', () => {
  test('a resource is read by its URI, by its name, and by a template with its variables', async () => {
    const byUri = await jexo(['read', apiary, 'hive://MR-03']);
    expect(byUri.code).toBe(0);
    expect(JSON.parse(byUri.stdout)).toMatchObject({ id: 'MR-03' });
    expect((await jexo(['read', apiary, 'hive', 'hive=MR-03'])).stdout).toBe(byUri.stdout);
    expect((await jexo(['read', apiary, 'apiaries'])).stdout).toContain('Millrace');
    const exact = await jexo(['read', apiary, 'hive://{hive}', 'hive=MR-03', '--json']);
    expect(JSON.parse(exact.stdout)).toMatchObject({ contents: [{ uri: 'hive://MR-03', mimeType: 'application/json' }] });
  });

  test('bytes go into a pipe or a file as they are', async () => {
    const out = join(folder, 'mark.png');
    expect((await jexo(['read', apiary, 'mark', '--out', out])).code).toBe(0);
    const written = readFileSync(out);
    expect(written.subarray(1, 4).toString()).toBe('PNG');
    const piped = await run('/bin/sh', ['-c', `'${process.execPath}' '${cli}' read '${apiary}' mark | wc -c`]);
    expect(Number(piped.stdout)).toBe(written.length);
  });

  test('a prompt is rendered as the messages it becomes', async () => {
    const { stdout } = await jexo(['prompt', apiary, 'before_winter', 'apiary=MR']);
    expect(stdout).toMatch(/^user\nWe prepare the hives of Millrace for winter\.\n\nassistant\n/);
    const exact = await jexo(['prompt', apiary, 'lot_label', 'lot=H-204', 'language=fr', '--json']);
    expect(JSON.parse(exact.stdout)).toMatchObject({ messages: [{ role: 'user', content: { type: 'text' } }] });
  });

  test.each([
    ['a resource that no list names', ['read', apiary, 'hve'], 2, 'Did you mean hive?'],
    ['a template without its variable', ['read', apiary, 'hive'], 2, 'needs hive'],
    ['variables for a whole URI', ['read', apiary, 'hive://MR-03', 'a=b'], 2, 'no variables'],
    ['a URI that names nothing', ['read', apiary, 'hive://MR-99'], 1, 'not found'],
    ['no resource', ['read', apiary], 2, 'Say which resource'],
    ['a prompt that is not there', ['prompt', apiary, 'lot_lable'], 2, 'Did you mean lot_label?'],
    ['a prompt with a wrong argument', ['prompt', apiary, 'before_winter', 'apiary=XX'], 1, 'apiary'],
  ])('%s is refused with what to do', async (_name, args, code, says) => {
    const found = await jexo(args);
    expect([found.code, found.stdout]).toEqual([code, '']);
    expect(found.stderr).toContain(says);
    expect(JSON.parse((await jexo([...args, '--json'])).stdout)).toMatchObject({ error: { code: expect.stringMatching(/^JEXO_/) } });
  });
});

test('--wire shows the messages as they pass, on stderr', async () => {
  const { stdout, stderr } = await jexo(['call', hives, 'mix_syrup', 'colonies=2', '--wire', '--json']);
  expect(JSON.parse(stdout)).toMatchObject({ structuredContent: { sugarKg: 2 } });
  const lines = stderr.split('\n').filter((line) => /^(→|←|->|<-) \{/.test(line));
  expect(lines.length).toBeGreaterThanOrEqual(5);
  expect(JSON.parse(lines.at(-1)!.replace(/^\S+ /, ''))).toMatchObject({ result: { structuredContent: { sugarKg: 2 } } });
});

test('--stand-in answers a server that asks for a model; without it the tool does without', async () => {
  expect((await jexo(['call', apiary, 'write_summary', 'hive=MR-03', '--stand-in'])).stdout).toContain('(stand-in model)');
  expect((await jexo(['call', apiary, 'write_summary', 'hive=MR-03'])).stdout).toMatch(/2026-04-02: /);
});

describe('completion', () => {
  const cache = join(folder, 'completion-cache');
  beforeAll(async () => {
    for (const target of [hives, apiary]) await jexo(['list', target], { env: { JEXO_CACHE: cache } });
  });

  test.each([
    [['ca'], ['call']],
    [
      ['check', '--fail-on', ''],
      ['note', 'warning', 'error', 'never'],
    ],
    [['call', '--ti'], ['--timeout']],
    [
      ['call', hives, 'mi'],
      ['mix_syrup', 'mites_per_100'],
    ],
    [['call', hives, 'mix_syrup', 'colonies=2', ''], ['season=']],
    [['call', hives, 'mix_syrup', 'season', '=', 'a'], ['season=autumn']],
    [
      ['prompt', apiary, 'lot_label', 'language='],
      ['language=en', 'language=fr', 'language=de', 'language=cy'],
    ],
    [['read', apiary, 'hive', 'hive=LM-07'], ['hive=LM-07']],
    [['list', ''], []],
    [['nonsense', ''], []],
  ])('%j', async (words, expected) => {
    const { stdout, code } = await jexo(['completion', '--for', '--', ...words], { env: { JEXO_CACHE: cache } });
    expect(
      stdout
        .split('\n')
        .filter(Boolean)
        .map((line) => line.split('\t')[0]),
    ).toEqual(expected);
    expect(code).toBe(0);
  });

  test('bash completes with the script it is given', async () => {
    const bin = freshFolder('bin');
    writeFileSync(join(bin, 'jexo'), `#!/bin/sh\nexec '${process.execPath}' '${cli}' "$@"\n`, { mode: 0o755 });
    const script = `eval "$(jexo completion bash)"; COMP_WORDS=(jexo call '${hives}' mi); COMP_CWORD=3; _jexo; echo "\${COMPREPLY[@]}"`;
    const { stdout } = await run('bash', ['-c', script], { env: { PATH: `${bin}:${process.env.PATH}` } });
    expect(stdout.trim()).toBe('mix_syrup mites_per_100');
    for (const shell of ['zsh', 'fish']) expect((await jexo(['completion', shell])).stdout).toContain('jexo completion --for --');
    expect(await jexo(['completion', 'abacus'])).toMatchObject({ code: 2, stderr: expect.stringContaining('bash, zsh, fish') });
  });
});
