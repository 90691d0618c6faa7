import { spawnSync } from 'node:child_process';
import { mkdirSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { Aedes } from 'aedes';
import { createServer } from 'node:net';
import { connectAsync } from 'mqtt';
import { freshFolder, jexo, run, start } from '../support/command-line.js';
import { connect } from '../../src/index.js';

const examples = fileURLToPath(new URL('../../../../examples/', import.meta.url));
const library = fileURLToPath(new URL('../../', import.meta.url));
const open: (() => Promise<unknown>)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});

async function broker(): Promise<{ url: string; say(topic: string, payload: string): Promise<unknown> }> {
  const aedes = await Aedes.createBroker({
    authenticate: (_client, name, password, done) => done(null, name === undefined || String(password) === 'h1ve-pass'),
  });
  const server = createServer(aedes.handle);
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  open.push(() => new Promise((resolve) => aedes.close(() => server.close(resolve))));
  const url = `mqtt://127.0.0.1:${(server.address() as { port: number }).port}`;
  const device = await connectAsync(url, { protocolVersion: 4 });
  open.push(() => device.endAsync(true));
  return { url, say: (topic, payload) => device.publishAsync(topic, payload, { retain: true, qos: 1 }) };
}

test('a broker is a target of every command; a password comes from the environment and is never shown', async () => {
  const { url, say } = await broker();
  await say('alderwick/MR/MR-01/weight', '{"kg":41.2}');
  const place = `${url}/alderwick/#`;
  const called = await jexo(['call', place, 'read_values', 'paths=**', '--field', 'kg', '--json']);
  expect([called.code, called.stderr]).toEqual([0, '']);
  expect(JSON.parse(called.stdout)).toMatchObject({ structuredContent: { values: [{ path: 'alderwick/MR/MR-01/weight', value: 41.2 }] } });
  const withPassword = await jexo(['list', place, '--broker-user', 'FEED_USER', '--broker-password', 'FEED_PASSWORD'], {
    env: { FEED_USER: 'keeper', FEED_PASSWORD: 'h1ve-pass' },
  });
  expect([withPassword.code, withPassword.stdout]).toEqual([0, expect.stringContaining('alderwick://alderwick/MR/MR-01/weight')]);
  const wrong = await jexo(['list', place.replace('//', '//keeper:wr0ng-pass@')]);
  expect([wrong.code, wrong.stderr]).toEqual([3, expect.stringContaining('JEXO_CONNECT')]);
  expect(wrong.stdout + wrong.stderr).not.toContain('wr0ng-pass');
  const missing = await jexo(['list', place, '--broker-user', 'FEED_USER']);
  expect([missing.code, missing.stderr]).toEqual([3, expect.stringContaining('FEED_USER')]);
  const folder = freshFolder('topics');
  writeFileSync(join(folder, 'hosts.json'), '{"servers":{}}');
  const registered = await jexo([
    'register',
    place.replace('//', '//keeper:h1ve-pass@'),
    '--config',
    join(folder, 'hosts.json'),
    '--under',
    'servers',
    '--no-check',
  ]);
  expect(registered.stderr + registered.stdout).not.toContain('h1ve-pass');
  expect(registered.code).not.toBe(0);
});

test('a broker is packed as a file that reads its address from the environment', async () => {
  const { url, say } = await broker();
  await say('alderwick/MR/MR-01/weight', '{"kg":41.2}');
  const folder = freshFolder('pack-topics');
  const out = join(folder, 'alderwick.mjs');
  const packed = await jexo(['pack', `${url}/alderwick/#`, '--field', 'kg', '--out', folder]);
  expect([packed.code, packed.stderr]).toEqual([0, expect.stringContaining('ALDERWICK_BROKER')]);
  const client = await connect([process.execPath, out], { env: { ALDERWICK_BROKER: url }, cwd: library });
  open.push(() => client.close());
  expect((await client.call('read_values', { paths: ['**'] })).structuredContent).toMatchObject({ values: [{ value: 41.2 }] });
});

test('the example of a controller serves live values', async () => {
  const running = await start(['serve', 'plant.mjs', '--http', '0', '--json'], { cwd: join(examples, 'live-values') });
  const client = await connect(String(running.said.address));
  const heard: string[] = [];
  await client.watch('plant://tank1/level', (uri) => heard.push(uri));
  for (let tries = 0; heard.length < 2 && tries < 500; tries++) await new Promise((resolve) => setTimeout(resolve, 20));
  expect(heard.length).toBeGreaterThanOrEqual(2);
  const { points } = (await client.call('history', { path: 'tank1/level' })).structuredContent as { points: { value: number }[] };
  expect(points.length).toBeGreaterThan(2);
  await client.close();
  expect(await running.stop()).toBe(0);
});

describe('an installed package that brings a kind of target', () => {
  const make = (kinds: string, declared: object = { kinds: './kinds.mjs', targets: ['*.ledger', 'lake://*'] }) => {
    const folder = freshFolder('package-kind');
    const place = join(folder, 'node_modules', 'ledger-files');
    mkdirSync(place, { recursive: true });
    symlinkSync(library, join(folder, 'node_modules', 'jexo'));
    writeFileSync(
      join(folder, 'package.json'),
      JSON.stringify({ name: 'project', type: 'module', dependencies: { 'ledger-files': '1.0.0', jexo: '*' } }),
    );
    writeFileSync(join(place, 'package.json'), JSON.stringify({ name: 'ledger-files', version: '1.0.0', type: 'module', jexo: declared }));
    writeFileSync(join(place, 'kinds.mjs'), kinds);
    writeFileSync(join(folder, 'honey.ledger'), 'lot 7\nlot 8\n');
    return folder;
  };
  const good = `
    import { readFile } from 'node:fs/promises';
    import { defineServer, tool } from 'jexo';
    const wrapLedger = (file) => ({
      name: 'ledger',
      read: async () => ({ files: [file], offers: [tool('lots', { description: 'The lots.' }, async () => (await readFile(file, 'utf8')).trim())] }),
    });
    export default {
      kind: 'ledger', noun: 'a ledger', example: 'honey.ledger', about: 'its lots',
      matches: (text) => text.endsWith('.ledger'),
      open: async (file) => ({ server: defineServer({ name: 'ledger', version: '1.0.0', offers: [wrapLedger(file)] }), files: [] }),
    };`;

  test('opens its targets in every command, also beside others', async () => {
    const cwd = make(good);
    expect((await jexo(['call', 'honey.ledger', 'lots'], { cwd })).stdout).toContain('lot 7');
    const listed = await jexo(['list', 'honey.ledger', '--json'], { cwd });
    expect(JSON.parse(listed.stdout)).toMatchObject({ tools: [{ name: 'lots' }] });
    writeFileSync(join(cwd, 'more.mjs'), '/** Says when. */\nexport const when = () => "now";\n');
    const both = await start(['serve', 'honey.ledger', 'more.mjs', '--http', '0', '--json'], { cwd });
    const client = await connect(String(both.said.address));
    expect((await client.tools()).map(({ name }) => name).sort()).toEqual(['lots', 'when']);
    await client.close();
    await both.stop();
  });

  test('is not loaded for other targets, nor by a key that completes words', async () => {
    const cwd = make(`import { writeFileSync } from 'node:fs'; writeFileSync('loaded', ''); ${good}`);
    writeFileSync(join(cwd, 'more.mjs'), '/** Says when. */\nexport const when = () => "now";\n');
    expect((await jexo(['list', 'more.mjs'], { cwd })).code).toBe(0);
    expect((await jexo(['list', 'honey.other'], { cwd })).code).toBe(3);
    await run(process.execPath, [join(library, 'dist/cli.mjs'), 'completion', '--for', '--', 'call', 'honey.ledger', ''], { cwd });
    expect(spawnSync('ls', [cwd]).stdout.toString()).not.toContain('loaded');
    await jexo(['list', 'honey.ledger'], { cwd });
    expect(spawnSync('ls', [cwd]).stdout.toString()).toContain('loaded');
  });

  test.each([
    [
      'fails while it loads',
      'throw new Error("no disk");',
      undefined,
      3,
      'The package ledger-files says that it opens this target, but its module failed while it was loading: no disk',
    ],
    ['has no kind', 'export default { kind: "x" };', undefined, 3, 'exports no kind of target'],
    ['declares no targets', good, { kinds: './kinds.mjs' }, 3, 'names no server that Jexo can read'],
    ['declares all targets', good, { kinds: './kinds.mjs', targets: ['*'] }, 3, 'names no server that Jexo can read'],
  ])('that %s is named', async (_, kinds, declared, code, message) => {
    const done = await jexo(['list', 'honey.ledger'], { cwd: make(kinds, declared) });
    expect([done.code, done.stderr]).toEqual([code, expect.stringContaining(message)]);
  });
});
