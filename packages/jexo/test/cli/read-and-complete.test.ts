import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { connect } from '../support/connect.js';
import { cli, cooperative, freshFolder, hives, jexo, run, start } from '../support/command-line.js';

const folder = freshFolder('cli');

const apiary = join(cooperative, 'apiary.ts');

test.each(['serve', 'list', 'call', 'inspect', 'pack'])('%s --help teaches by example', async (command) => {
  const { code, stdout } = await jexo([command, '--help']);
  expect(code).toBe(0);
  expect(stdout).toMatch(new RegExp(`Examples:[\\s\\S]*jexo ${command} `));
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
    ['no resource', ['read', apiary], 2, 'Which resource?'],
    ['a prompt that is not there', ['prompt', apiary, 'lot_lable'], 2, 'Did you mean lot_label?'],
    ['a prompt with a wrong argument', ['prompt', apiary, 'before_winter', 'apiary=XX'], 2, 'apiary'],
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
