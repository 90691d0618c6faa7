import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { freshFolder, hives, jexo } from '../support/command-line.js';

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
  ['no tool', ['call', hives], 2, 'Which tool?'],
  ['a missing file', ['list', 'nowhere.ts'], 3, 'There is no file nowhere.ts'],
  ['a folder that is not there', ['list', './nowhere/'], 3, 'names no server'],
  ['an unknown command', ['lsit'], 2, 'lsit'],
  ['an unknown option', ['list', hives, '--jsno'], 2, '--jsno'],
  ['a port that is none', ['serve', hives, '--http', '99999'], 2, '65535'],
  ['no target', ['list'], 2, 'Which server?'],
  ['nothing to serve', ['serve'], 2, 'Serve what?'],
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
