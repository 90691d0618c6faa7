import { existsSync, readFileSync, rmSync, symlinkSync, writeFileSync, mkdirSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { connect, verifyAudit } from '../../src/index.js';
import { cli, cooperative, freshFolder, hives, jexo, run, start } from '../support/command-line.js';

const root = fileURLToPath(new URL('../../../../', import.meta.url));
const plan = join(cooperative, 'cooperative.jexo.yaml');
interface Service {
  readonly url: string;
  stop(): Promise<void>;
}
const { startLedger } = (await import(join(cooperative, 'ledger/server.mjs'))) as { startLedger(): Promise<Service> };
const { makeScales } = (await import(join(cooperative, 'scales-story.mjs'))) as { makeScales(print: () => void): Promise<void> };
let ledger: Service;
beforeAll(async () => {
  await makeScales(() => undefined);
  ledger = await startLedger();
}, 120_000);
afterAll(() => ledger.stop());

/** A plan in a folder of its own. */
function planOf(text: string, more: Readonly<Record<string, string>> = {}): { file: string; folder: string } {
  const folder = freshFolder('plan');
  for (const [name, contents] of Object.entries({ 'x.jexo.yaml': text, ...more })) {
    mkdirSync(dirname(join(folder, name)), { recursive: true });
    writeFileSync(join(folder, name), contents);
  }
  return { file: join(folder, 'x.jexo.yaml'), folder };
}
const wrong = async (text: string, more = {}) => {
  const { file, folder } = planOf(text, more);
  const { code, stderr } = await jexo(['list', file]);
  return { code, stderr: stderr.replaceAll(`${folder}/`, '') };
};

test('the plan of the cooperative serves functions, registry, scales, handbook and ledger together, and its chains call them', async () => {
  const running = await start(['serve', plan, '--http', '0', '--json'], { env: { LEDGER_URL: ledger.url } });
  const client = await connect(String(running.said.address));
  const names = (await client.tools()).map(({ name }) => name);
  expect(names).toEqual(
    expect.arrayContaining(['mix_syrup', 'registry_list_hives', 'gain_by_apiary', 'search_handbook', 'list_lots', 'autumn_feeding']),
  );
  expect((await client.call('autumn_feeding', { colonies: 12 })).content[0]).toMatchObject({
    text: JSON.stringify({ sugarKg: 24, waterL: 12, read: 'handbook://feeding/syrup.md#thin-and-thick' }),
  });
  expect((await client.call('lot_details', { id: 'H-205' })).structuredContent).toMatchObject({ lot: { id: 'H-205' } });
  expect((await client.read('alderwick://about')).contents[0]).toMatchObject({
    text: expect.stringContaining('Handbook of the Alderwick cooperative'),
  });
  expect((await client.prompt('lot_label', { lot: 'H-205', language: 'French' })).messages).toEqual([
    { role: 'user', content: { type: 'text', text: 'Write the label of honey lot H-205 in French. Look it up first.' } },
  ]);
  expect(client.server.serverInfo).toMatchObject({ name: 'alderwick', title: 'Alderwick cooperative' });
  await client.close();
  expect(await running.stop()).toBe(0);
});

test('the code that is printed type-checks, and lists the same byte for byte', async () => {
  const { stdout, code } = await jexo(['serve', plan, '--print-code']);
  expect(code).toBe(0);
  const server = join(cooperative, 'printed-by-the-test.ts');
  const config = join(cooperative, 'printed.tsconfig.json');
  writeFileSync(server, stdout);
  writeFileSync(
    config,
    JSON.stringify({
      compilerOptions: {
        target: 'ES2022',
        module: 'NodeNext',
        strict: true,
        noEmit: true,
        skipLibCheck: true,
        allowImportingTsExtensions: true,
        types: ['node'],
      },
      files: ['printed-by-the-test.ts'],
    }),
  );
  try {
    const checked = await run(process.execPath, [join(root, 'node_modules/typescript/bin/tsc'), '-p', config]);
    expect(checked.stdout).toBe('');
    const listOf = async (target: string) => {
      const listed = await jexo(['list', target, '--json'], { env: { LEDGER_URL: ledger.url } });
      const { tools, resources, templates, prompts } = JSON.parse(listed.stdout) as Record<string, unknown>;
      return JSON.stringify({ tools, resources, templates, prompts }, null, 1);
    };
    expect(await listOf(server)).toBe(await listOf(plan));
  } finally {
    rmSync(server);
    rmSync(config);
  }
});

test('variables come from the environment and .env; a missing one is named with its place', async () => {
  const text = 'name: x\ninstructions: for ${WHO:-everybody} at ${PLACE}\noffers:\n  - resource: x://y\n    text: ${GREETING}, $${NOT}\n';
  const { file } = planOf(text, { '.env': 'GREETING="good day"\nPLACE=home\n' });
  const read = async (env = {}) =>
    JSON.parse((await jexo(['read', file, 'x://y', '--json'], { env })).stdout) as { contents: { text: string }[] };
  expect((await read()).contents[0]!.text).toBe('good day, ${NOT}');
  expect((await read({ GREETING: 'hello' })).contents[0]!.text).toBe('hello, ${NOT}');
  const missing = await wrong(text);
  expect([missing.code, missing.stderr]).toEqual([
    3,
    expect.stringMatching(/the plan wants (?:GREETING|PLACE), which is not set\..*JEXO_SETTING/s),
  ]);
  expect(missing.stderr).toContain('x.jexo.yaml:4:5: the plan wants');
});

test.each([
  ['name: x\nofers: []\n', 'x.jexo.yaml:2:1: ofers is no key here; did you mean offers?'],
  ['offers:\n  - function: ./a.ts\n', 'x.jexo.yaml:2:5: an entry says what it is by one of functions, rest'],
  ['offers:\n  - folder: ./a\n    serach: true\n', 'x.jexo.yaml:3:5: serach is no key here; did you mean search?'],
  ['offers:\n  - folder: ./a\n    search: perhaps\n', 'x.jexo.yaml:3:13: folder search: expected boolean; got "perhaps"'],
  ['offers:\n  - tool: a\n    description: b\n', 'x.jexo.yaml:2:5: a tool has either call or steps'],
  ['offers:\n  - resource: a://b\n', 'x.jexo.yaml:2:5: a resource has either text or file'],
  ['offers: {\n', 'x.jexo.yaml:'],
  ['- a\n', 'x.jexo.yaml:1:1: a plan is a map'],
  ['name: x\nversion: 7\noffers: []\n', 'x.jexo.yaml:2:10: version: expected string; got 7'],
  ['include: ./x.jexo.yaml\n', 'includes itself'],
  ['include: ./gone.jexo.yaml\n', 'cannot be read'],
  [
    'offers:\n  - tool: a\n    description: b\n    call: mix_sirup\n  - functions: ./hives.ts\n',
    'The tool a calls mix_sirup, which is not offered here.',
  ],
])('what is wrong with a plan is named: %j', async (text, message) => {
  const { code, stderr } = await wrong(text, { 'hives.ts': readFileSync(hives, 'utf8') });
  expect([code, stderr]).toEqual([3, expect.stringContaining(message)]);
});

test('plans include others; entries are chosen among, hidden and tagged; chains stop at the first failure', async () => {
  const { file } = planOf(
    `include: parts/common.jexo.yaml
name: x
offers:
  - tool: thick
    description: Thick syrup.
    input: { type: object, properties: { colonies: { type: integer } }, required: [colonies] }
    call: mix_syrup
    with: { colonies: '{{colonies}}', season: autumn }
  - tool: both
    description: Two in a row.
    steps:
      - { call: mix_syrup, with: { colonies: 0 } }
      - { call: mites_per_100, with: { mites: 9 } }
`,
    {
      'parts/common.jexo.yaml':
        'version: 3.0.0\noffers:\n  - functions: ./hives.ts\n    hidden: true\n  - functions: ./hives.ts\n    only: [winter_stores]\n    prefix: common_\n',
      'parts/hives.ts': readFileSync(hives, 'utf8'),
    },
  );
  const { stdout } = await jexo(['list', file, '--json']);
  const listed = JSON.parse(stdout) as { server: { serverInfo: object }; tools: { name: string }[] };
  expect([listed.server.serverInfo, listed.tools.map(({ name }) => name)]).toEqual([
    expect.objectContaining({ name: 'x', version: '3.0.0' }),
    ['common_winter_stores', 'thick', 'both'],
  ]);
  expect((await jexo(['call', file, 'thick', 'colonies=3', '--json'])).stdout).toContain('"sugarKg": 6');
  const failed = await jexo(['call', file, 'both']);
  expect([failed.code, failed.stdout + failed.stderr]).toEqual([
    1,
    expect.stringContaining('mix_syrup (step 1 of 2): The input for mix_syrup is not valid'),
  ]);
});

test('a secret that is written down is found by check, and said by serve', async () => {
  const { file } = planOf(
    'name: x\noffers:\n  - graphql: ./a.graphql\n    operations: ./operations\n    endpoint: http://127.0.0.1:9/graphql\n    auth: { bearer: abc-123-secret }\n',
    {
      'a.graphql': 'type Query { a: Int }',
      'operations/a.graphql': '# Gives a.\nquery A { a }',
    },
  );
  const checked = await jexo(['check', file, '--json']);
  const { findings } = JSON.parse(checked.stdout) as { findings: { rule: string; message: string; where?: string }[] };
  expect(findings).toEqual(
    expect.arrayContaining([expect.objectContaining({ message: expect.stringContaining('A secret is written down in the plan.') })]),
  );
  expect(checked.stdout).not.toContain('abc-123-secret');
  const served = await start(['serve', file, '--http', '0', '--json']);
  expect(served.said.notes).toEqual([expect.stringContaining('bearer is written down in the plan')]);
  await served.stop();
});

test('a plan names its file of keys: callers need one, and see what it lets them see', async () => {
  const { file, folder } = planOf(
    'name: x\nserve: { http: 0, keys: secret/keys.json }\noffers:\n  - functions: ./hives.ts\n  - resource: x://y\n    text: one\n',
    {
      'hives.ts': readFileSync(hives, 'utf8'),
      'secret/.kept': '',
    },
  );
  const added = await jexo(['keys', 'add', 'lab', '--tag', 'none', '--keys', 'secret/keys.json', '--json'], { cwd: folder });
  const { key } = JSON.parse(added.stdout) as { key: string };
  const served = await start(['serve', file, '--json']);
  await expect(connect(String(served.said.address))).rejects.toMatchObject({ data: { status: 401 } });
  const client = await connect(String(served.said.address), { headers: { Authorization: `Bearer ${key}` } });
  // Nothing has the tag of this key, so nothing is there for it.
  await expect(client.tools()).rejects.toThrow('offers no tools');
  await expect(client.resources()).rejects.toThrow('offers no resources');
  await client.close();
  await served.stop();
});

test('a plan says how it is served, the command line goes before it, and a save is taken up', async () => {
  const text = 'name: x\nserve: { http: 0, path: /bees }\noffers:\n  - resource: x://y\n    text: one\n';
  const { file } = planOf(text);
  const served = await start(['serve', file, '--json', '--watch']);
  const address = String(served.said.address);
  expect(address).toMatch(/\/bees$/);
  const client = await connect(address);
  expect((await client.read('x://y')).contents[0]).toMatchObject({ text: 'one' });
  writeFileSync(file, text.replace('text: one', 'text: two'));
  for (let tries = 0; tries < 300; tries++) {
    if (((await client.read('x://y')).contents[0] as { text: string }).text === 'two') break;
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
  expect((await client.read('x://y')).contents[0]).toMatchObject({ text: 'two' });
  await client.close();
  await served.stop();
  const other = await start(['serve', file, '--json', '--http', '0', '--path', '/other']);
  expect(String(other.said.address)).toMatch(/\/other$/);
  await other.stop();
});

test('a new project can be a plan: its own commands pass, and templates that are code say so', async () => {
  const parent = freshFolder('new-plan');
  expect((await jexo(['new', 'bees', '--as', 'plan'], { cwd: parent })).code).toBe(0);
  const folder = join(parent, 'bees');
  expect([existsSync(join(folder, 'server.ts')), existsSync(join(folder, 'server.jexo.yaml'))]).toEqual([false, true]);
  mkdirSync(join(folder, 'node_modules'));
  symlinkSync(join(root, 'packages/jexo'), join(folder, 'node_modules/jexo'));
  expect((await jexo(['replay', 'server.calls.yaml'], { cwd: folder })).code).toBe(0);
  expect((await jexo(['check', 'server.jexo.yaml'], { cwd: folder })).code).toBe(0);
  const tested = await run(process.execPath, ['--test', 'test/server.test.mjs'], { cwd: folder });
  expect(tested.code).toBe(0);
  for (const [name, ...from] of [
    ['doc', join(cooperative, 'registry.openapi.yaml')],
    ['ledger', join(cooperative, 'ledger/ledger.graphql')],
    ['pages', 'folder', join(cooperative, 'handbook')],
  ] as const) {
    expect((await jexo(['new', name, '--from', ...from, '--as', 'plan'], { cwd: parent })).code).toBe(0);
    const listed = await jexo(['list', 'server.jexo.yaml', '--json'], {
      cwd: join(parent, name),
      env: { API_URL: 'http://127.0.0.1:9', GRAPHQL_URL: 'http://127.0.0.1:9/graphql', DOCUMENTS: join(cooperative, 'handbook') },
    });
    expect([name, listed.code, listed.stderr]).toEqual([name, 0, expect.any(String)]);
  }
  const code = await jexo(['new', 'demo', '--from', 'demo', '--as', 'plan'], { cwd: parent });
  expect([code.code, code.stderr]).toEqual([2, expect.stringContaining('A project from demo is code')]);
});

test('middleware is named in a plan: it runs, and is printed', async () => {
  const { file, folder } = planOf(
    `name: x
offers:
  - functions: ./hives.ts
middleware:
  - audit: calls.jsonl
  - timeout: { after: 30 s, only: ['mix_*'] }
  - rateLimit: { calls: 2, per: 1 min }
  - cache:
  - redact: { fields: [waterL], patterns: ['\\d{7}'] }
`,
    { 'hives.ts': readFileSync(hives, 'utf8') },
  );
  const client = await connect(file);
  expect((await client.call('mix_syrup', { colonies: 1 })).content[0]).toMatchObject({ text: expect.stringContaining('"***"') });
  await client.call('mites_per_100', { mites: 1 });
  expect((await client.call('mites_per_100', { mites: 2 })).isError).toBe(true);
  await client.close();
  expect(verifyAudit(join(folder, 'calls.jsonl'))).toBeUndefined();
  expect(readFileSync(join(folder, 'calls.jsonl'), 'utf8').trim().split('\n')).toHaveLength(3);
  const { stdout } = await jexo(['serve', file, '--print-code']);
  expect(stdout).toContain(
    '  middleware: [\n    audit(fileURLToPath(new URL("./calls.jsonl", import.meta.url))),\n    timeout("30 s", { only: ["mix_*"] }),',
  );
  expect(stdout).toMatch(/import \{ audit, cache, defineServer, rateLimit, redact, timeout, wrapFunctions \} from 'jexo';/);
  for (const [line, says] of [
    ['  - tiemout: 3 s\n', 'x.jexo.yaml:'],
    ['  - timeout: soon\n', 'is no duration'],
    ['  - rateLimit: { call: 1 }\n', 'x.jexo.yaml:'],
  ] as const) {
    const done = await wrong(`name: x\noffers: []\nmiddleware:\n${line}`);
    expect([line, done.code, done.stderr]).toEqual([line, 3, expect.stringContaining(says)]);
  }
});

test('endpoints without a document stand in a plan', async () => {
  const { file } = planOf(
    'offers:\n  - endpoints:\n      - { at: "GET /hives/{hive}", name: get_hive, description: Reads a hive. }\n    baseUrl: http://127.0.0.1:9\n',
  );
  const { stdout, stderr } = await jexo(['list', file, '--json']);
  expect([stderr.includes('✗'), (JSON.parse(stdout) as { tools: { name: string }[] }).tools.map(({ name }) => name)]).toEqual([
    false,
    ['get_hive'],
  ]);
});

test('a plan puts other servers together, and the published schema takes the demo’s plan', async () => {
  const { file } = planOf(
    `offers:\n  - server: [${JSON.stringify(process.execPath)}, ${JSON.stringify(cli)}, serve, ${JSON.stringify(hives)}]\n    prefix: bees_\n    only: ['mix_*']\n`,
  );
  expect((await jexo(['call', file, 'bees_mix_syrup', 'colonies=12', 'season=autumn', '--json'])).stdout).toContain('"sugarKg": 24');
  const schema = JSON.parse(readFileSync(join(root, 'packages/jexo/dist/plan.schema.json'), 'utf8')) as object;
  const { Ajv2020 } = await import('ajv/dist/2020.js');
  const { parse } = await import('yaml');
  const validate = new Ajv2020({ strict: false }).compile(schema);
  expect([validate(parse(readFileSync(plan, 'utf8'))), validate.errors]).toEqual([true, null]);
  expect(validate({ offers: [{ folder: './a', serach: true }] })).toBe(false);
  expect(existsSync(join(root, 'examples/cooperative/printed-by-the-test.ts'))).toBe(false);
});
