import { chmodSync, existsSync, mkdirSync, readFileSync, statSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { cli, freshFolder, hives, jexo, start } from '../support/command-line.js';

const folder = join(freshFolder('register'), 'a folder, größer');
mkdirSync(folder);
const file = (name: string, text?: string) => {
  const path = join(folder, name);
  if (text !== undefined) writeFileSync(path, text);
  return path;
};
const library = JSON.stringify(fileURLToPath(new URL('../../dist/index.mjs', import.meta.url)));
const register = (...words: string[]) => jexo(['register', ...words]);

test('a module is written with whole paths, proven as a host would start it, used as a target, and taken out to the byte', async () => {
  const before =
    '\uFEFF{\r\n\t"theme": "dark", // mine\r\n\t"toolServers": {\r\n\t\t"other": { "command": "/bin/x", "args": [], },\r\n\t},\r\n}\r\n';
  const hosts = file('hosts.json', before);
  const own = file('my hives.ts', readFileSync(hives, 'utf8'));
  const { code, stderr } = await register(own, '--config', hosts);
  expect([code, stderr]).toEqual([
    0,
    expect.stringMatching(
      /my_hives is in .*hosts\.json[\s\S]*Started as a host would: .* with 4 tools[\s\S]*quit the host application fully/,
    ),
  ]);
  const entry = `"my_hives": {\r\n\t\t\t"command": ${JSON.stringify(process.execPath)},\r\n\t\t\t"args": [\r\n\t\t\t\t${JSON.stringify(cli)},\r\n\t\t\t\t"serve",\r\n\t\t\t\t${JSON.stringify(own)}\r\n\t\t\t]\r\n\t\t}`;
  expect(readFileSync(hosts, 'utf8')).toBe(before.replace('"args": [], },', `"args": [], },\r\n\t\t${entry},`));
  expect(readFileSync(`${hosts}.before-jexo`, 'utf8')).toBe(before);
  const listed = await jexo(['list', `${hosts}#my_hives`, '--json']);
  expect((JSON.parse(listed.stdout) as { tools: object[] }).tools).toHaveLength(4);
  expect((await jexo(['call', `${hosts}#my_hives`, 'mix_syrup', 'colonies=2'])).stdout).toContain('sugarKg  2');
  const again = await register(own, '--config', hosts);
  expect([again.code, again.stderr]).toEqual([3, expect.stringContaining('has an entry my_hives already')]);
  expect((await register(own, '--config', hosts, '--replace', '--env', 'A=1')).code).toBe(0);
  expect((await register('--config', hosts, '--list')).stdout).toMatch(/^name +what it starts\nother +\/bin\/x\nmy_hives /);
  expect((await register('--config', hosts, '--remove', 'my_hives')).code).toBe(0);
  expect(readFileSync(hosts, 'utf8')).toBe(before);
  expect((await register('--config', hosts, '--remove', 'my_hives')).code).toBe(3);
});

test('every file gets its own bytes back', async () => {
  for (const [name, text] of [
    ['empty.json', ''],
    ['blank.json', '\n'],
    ['object.json', '{}'],
    ['settings.json', '{\n  "a": 1\n}'],
    ['comment.json', '{ "servers": { /* none */ } }'],
    ['settings.yaml', 'theme: dark\nservers: {} # none\n'],
    ['settings.toml', 'theme = "dark"'],
  ] as const) {
    const hosts = file(name, text);
    expect([name, (await register('http://127.0.0.1:9/mcp', '--config', hosts, '--name', 'far', '--under', 'servers')).code]).toEqual([
      name,
      1,
    ]);
    expect(readFileSync(hosts, 'utf8')).toContain('http://127.0.0.1:9/mcp');
    expect((await register('--config', hosts, '--remove', 'far')).code).toBe(0);
    expect([name, readFileSync(hosts, 'utf8')]).toEqual([name, text]);
  }
});

test('a new file, a link, rights; and files that cannot be used', async () => {
  const fresh = file('new.json');
  const unknown = await register(hives, '--config', fresh);
  expect([unknown.code, unknown.stderr, existsSync(fresh)]).toEqual([
    3,
    expect.stringMatching(/no map of servers yet, so it is not known where the entry goes[\s\S]*--under servers/),
    false,
  ]);
  expect((await register(hives, '--config', fresh, '--under', 'tools.servers')).code).toBe(0);
  expect(Object.keys((JSON.parse(readFileSync(fresh, 'utf8')) as { tools: { servers: object } }).tools.servers)).toEqual(['hives']);
  expect([statSync(fresh).mode & 0o777, existsSync(`${fresh}.before-jexo`)]).toEqual([0o600, false]);
  const real = file('real.json', '{"toolServers": {}}');
  chmodSync(real, 0o640);
  symlinkSync(real, join(folder, 'link.json'));
  expect((await register(hives, '--config', join(folder, 'link.json'))).code).toBe(0);
  expect([statSync(real).mode & 0o777, readFileSync(real, 'utf8').includes('serve')]).toEqual([0o640, true]);
  const locked = file('locked.json', '{}');
  chmodSync(locked, 0o444);
  for (const [path, says] of [
    [locked, /may not be written/],
    [file('broken.json', '{\n "a": \n}'), /broken\.json:\d+: /],
    [folder, /cannot be read/],
    [join(folder, 'no', 'where.json'), /cannot be written/],
  ] as const) {
    const { code, stderr } = await register(hives, '--config', path, '--under', 'servers');
    expect([code, stderr]).toEqual([3, expect.stringMatching(says)]);
  }
  expect(readFileSync(locked, 'utf8')).toBe('{}');
});

test('dry run, print, the style of the others, names and secrets', async () => {
  const text = '{ "mcp": { "servers": { "a": { "type": "local", "command": ["/bin/x"], "environment": { "A": "1" } } } } }';
  const hosts = file('style.json', text);
  const dry = await register(hives, '--config', hosts, '--name', 'my-hives 2', '--env', 'KEY=k', '--dry-run');
  expect([dry.code, readFileSync(hosts, 'utf8')]).toEqual([0, text]);
  expect(dry.stdout).toMatch(/\+ +"my_hives_2": \{\n\+ +"type": "local",\n\+ +"command": \[\n[\s\S]*"environment": \{\n\+ +"KEY": "k"/);
  const printed = await register(hives, '--config', hosts, '--print');
  expect(JSON.parse(printed.stdout)).toMatchObject({
    mcp: { servers: { hives: { type: 'local', command: [process.execPath, cli, 'serve', hives] } } },
  });
  expect((await register(hives, '--config', hosts, '--env', 'NOT_SET_HERE')).stderr).toContain('NOT_SET_HERE is not set here');
  for (const [words, code] of [
    [['register', hives], 2],
    [['register', '--config', hosts], 2],
    [['register', 'some-package', '--config', hosts], 3],
    [['register', 'gone.ts', '--config', hosts], 3],
    [['list', `${hosts}#nobody`], 3],
    [['list', `${hosts}#constructor`], 3],
    [['register', hives, '--config', hosts, '--name', 'constructor', '--dry-run'], 0],
  ] as const)
    expect([words, (await jexo(words)).code]).toEqual([words, code]);
});

test('only what the file itself shows is copied: no type is made up for a kind that has none there', async () => {
  const entries = { a: { type: 'local', command: '/bin/x' } };
  const url = ['http://127.0.0.1:9/mcp', '--name', 'far', '--print'];
  const printed = async (name: string, value: object) =>
    JSON.parse((await register('--config', file(name, JSON.stringify(value)), ...url)).stdout) as unknown;
  expect(await printed('local.json', { servers: entries })).toEqual({ servers: { far: { url: url[0] } } });
  expect(await printed('stdio.json', { servers: { a: { ...entries.a, type: 'stdio' } } })).toEqual({
    servers: { far: { type: 'http', url: url[0] } },
  });
  expect(await printed('remote.json', { servers: { ...entries, b: { type: 'remote', url: 'http://127.0.0.1:9' } } })).toEqual({
    servers: { far: { type: 'remote', url: url[0] } },
  });
  expect(await printed('nothing.json', { mailServers: { a: 'b' } })).toEqual({ far: { url: url[0] } });
});

test('guidance is made from the descriptions, and overwrites nothing', async () => {
  const hosts = file('guided.json', '{"servers": {}}');
  const guide = join(folder, 'guide.md');
  expect((await register(hives, '--config', hosts, '--guidance', guide)).code).toBe(0);
  expect(readFileSync(guide, 'utf8')).toContain(
    '- `mix_syrup`: How much sugar and water to mix for one feeding. Use when someone asks what to feed',
  );
  expect((await register(hives, '--config', hosts, '--replace', '--guidance', guide)).stderr).toContain('nothing is overwritten');
});

test('a proof says what fails where a host starts it, and how to fix it', async () => {
  const noisy = file('noisy.mjs', "console.log('Listening'); setTimeout(() => {}, 500);");
  const needy = file('needy.mjs', "if (!process.env.REGISTRY_TOKEN) { console.error('REGISTRY_TOKEN is not set'); process.exit(1); }");
  const good = file(
    'good.mjs',
    `import { serveStdio, defineServer, tool } from ${library}; await serveStdio(defineServer({ name: 'good', version: '1', offers: [tool('where', {}, () => process.cwd() + ' ' + process.env.PATH)] }));`,
  );
  const served = await start(['serve', hives, '--http', '0', '--json']);
  const hosts = file(
    'many.json',
    JSON.stringify({
      toolServers: {
        good: { command: process.execPath, args: [good] },
        noisy: { command: process.execPath, args: [noisy] },
        needy: { command: process.execPath, args: [needy] },
        lost: { command: 'no-such-runtime', args: ['./relative.mjs'] },
        far: { url: served.said.address },
      },
    }),
  );
  const { code, stdout } = await jexo(['check', hosts, '--json']);
  await served.stop();
  const { entries } = JSON.parse(stdout) as {
    entries: Record<string, { works: boolean; tools: string[]; troubles: { what: string; fix: string }[] }>;
  };
  expect(code).toBe(1);
  expect(Object.entries(entries).map(([name, { works }]) => [name, works])).toEqual([
    ['good', true],
    ['noisy', false],
    ['needy', false],
    ['lost', false],
    ['far', true],
  ]);
  expect(entries.far!.tools).toHaveLength(4);
  const what = (name: string) => entries[name]!.troubles.map((trouble) => `${trouble.what} ${trouble.fix}`).join('\n');
  expect(what('noisy')).toMatch(/not a protocol message: Listening[\s\S]*print to stderr instead/);
  expect(what('needy')).toMatch(/wants the variable REGISTRY_TOKEN[\s\S]*--env REGISTRY_TOKEN=/);
  expect(what('lost')).toMatch(/no-such-runtime is not on the PATH[\s\S]*\.\/relative\.mjs is a path from a folder/);
  // The environment really is bare.
  const proven = await register('--config', file('bare.json', '{"servers": {}}'), '--json', '--name', 'good', '--', process.execPath, good);
  expect(JSON.parse(proven.stdout)).toMatchObject({ proof: { works: true, tools: ['where'] } });
});
