import { cpSync, existsSync, readFileSync, symlinkSync, mkdirSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { connect } from '../../src/index.js';
import { cooperative, freshFolder, jexo, run, start } from '../support/command-line.js';

const library = fileURLToPath(new URL('../../', import.meta.url));
const ledgerFolder = join(cooperative, 'ledger');
interface Ledger {
  readonly url: string;
  stop(): Promise<void>;
}
const { startLedger } = (await import(join(ledgerFolder, 'server.mjs'))) as { startLedger(options?: object): Promise<Ledger> };
let ledger: Ledger;
beforeAll(async () => {
  ledger = await startLedger();
});
afterAll(() => ledger.stop());

test('a schema with its operations behind it is one target; a service is one by its address', async () => {
  const running = await start(['serve', 'ledger.graphql', 'operations/', '--endpoint', ledger.url, '--http', '0', '--json'], {
    cwd: ledgerFolder,
  });
  const client = await connect(String(running.said.address));
  expect((await client.tools()).map(({ name }) => name)).toEqual(['fill_jars', 'list_lots', 'lot_details']);
  await client.close();
  expect(await running.stop()).toBe(0);
  const explored = await jexo(['call', ledger.url, '--explore', 'query_graphql', 'document={ lots(first: 1) { nodes { id } } }', '--json']);
  expect([explored.code, JSON.parse(explored.stdout)]).toMatchObject([0, { content: [{ text: '{"lots":{"nodes":[{"id":"H-212"}]}}' }] }]);
  const nothing = await jexo(['list', ledger.url]);
  expect([nothing.code, nothing.stderr]).toEqual([3, expect.stringContaining('has no operations, and exploring is off')]);
  const chosen = await jexo(['list', 'ledger.graphql', '--operations', 'operations', '--only', 'list_*', '--json'], { cwd: ledgerFolder });
  expect((JSON.parse(chosen.stdout) as { tools: { name: string }[] }).tools.map(({ name }) => name)).toEqual(['list_lots']);
  const wrong = await jexo(['list', 'ledger.graphql', '--only', 'list_*', '--field', 'x'], { cwd: ledgerFolder });
  expect([wrong.code, wrong.stderr]).toEqual([2, expect.stringContaining('--field means nothing to a GraphQL service')]);
});

test('a token is read from the environment that the option names, and is never shown', async () => {
  const guarded = await startLedger({ token: 'l3dger-t0ken-of-the-test' });
  try {
    const args = ['call', 'ledger.graphql', '--operations', 'operations', '--endpoint', guarded.url, 'lot_details', 'id=H-205', '--json'];
    const denied = await jexo(args, { cwd: ledgerFolder });
    expect([denied.code, denied.stdout]).toEqual([1, expect.stringContaining('A token is needed.')]);
    const served = await jexo([...args, '--bearer', 'LEDGER_TOKEN'], {
      cwd: ledgerFolder,
      env: { LEDGER_TOKEN: 'l3dger-t0ken-of-the-test' },
    });
    expect([served.code, served.stdout]).toEqual([0, expect.stringContaining('H-205')]);
    expect(served.stdout + served.stderr).not.toContain('l3dger-t0ken');
  } finally {
    await guarded.stop();
  }
});

test('a packed service runs without its files, where the variable says', async () => {
  const folder = freshFolder('pack-graphql');
  const packed = await jexo(['pack', 'ledger.graphql', '--operations', 'operations', '--out', folder], { cwd: ledgerFolder });
  expect([packed.code, packed.stderr]).toEqual([0, expect.stringContaining('It needs LEDGER_URL: the address of ledger')]);
  expect(readFileSync(join(folder, 'ledger.mjs'), 'utf8')).not.toContain(cooperative);
  const client = await connect([process.execPath, join(folder, 'ledger.mjs')], { env: { LEDGER_URL: ledger.url }, cwd: library });
  expect((await client.call('lot_details', { id: 'H-205' })).structuredContent).toMatchObject({ lot: { id: 'H-205' } });
  await client.close();
});

test('a new project from a service has a first set of operations, and its own commands pass', async () => {
  const parent = freshFolder('new-graphql');
  const made = await jexo(['new', 'ledger', '--from', ledger.url, '--json'], { cwd: parent });
  expect(made.code).toBe(0);
  const folder = join(parent, 'ledger');
  for (const file of ['schema.graphql', 'operations/lots.graphql', 'operations/buyers.graphql', 'server.ts'])
    expect([file, existsSync(join(folder, file))]).toEqual([file, true]);
  mkdirSync(join(folder, 'node_modules/.bin'), { recursive: true });
  for (const name of ['graphql', 'typescript', '@types'])
    symlinkSync(join(library, '../../node_modules', name), join(folder, 'node_modules', name));
  symlinkSync(library, join(folder, 'node_modules/jexo'));
  const listed = await jexo(['list', 'server.ts', '--json'], { cwd: folder, env: { GRAPHQL_URL: ledger.url } });
  expect((JSON.parse(listed.stdout) as { tools: { name: string }[] }).tools.map(({ name }) => name)).toEqual([
    'buyers',
    'finding',
    'lot',
    'lots',
  ]);
  const called = await jexo(['call', 'server.ts', 'lots', 'first=2', 'pages=2', '--json'], {
    cwd: folder,
    env: { GRAPHQL_URL: ledger.url },
  });
  expect((JSON.parse(called.stdout) as { structuredContent: { lots: { nodes: unknown[] } } }).structuredContent.lots.nodes).toHaveLength(4);
  const types = await run(process.execPath, [join(library, '../../node_modules/typescript/bin/tsc'), '-p', folder]);
  expect(types.stdout).toBe('');
  const fromFolder = await jexo(['new', 'handbook', '--from', 'folder', join(cooperative, 'handbook'), '--json'], { cwd: parent });
  expect([fromFolder.code, existsSync(join(parent, 'handbook/server.ts'))]).toEqual([0, true]);
  cpSync(join(folder, 'node_modules'), join(parent, 'handbook/node_modules'), { recursive: true, verbatimSymlinks: true });
  const found = await jexo(['call', 'server.ts', 'search_handbook', 'words=mice', '--json'], {
    cwd: join(parent, 'handbook'),
    env: { DOCUMENTS: join(cooperative, 'handbook') },
  });
  expect(found.stdout).toContain('winter/mice.md');
});
