import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { cli, cooperative, freshFolder, hives, jexo, start, type Running } from '../support/command-line.js';

const apiary = join(cooperative, 'apiary.ts');
const sheet = join(cooperative, 'apiary.calls.yaml');

describe('the call sheet of the cooperative passes through a bridge unchanged', () => {
  // Each has a cooperative of its own: the calls move hives.
  let direct: Running;
  beforeEach(async () => {
    direct = await start(['serve', apiary, '--http', '0', '--json']);
  });
  afterEach(() => direct.stop());
  const behind = { 'over HTTP': () => [String(direct.said.address)], 'over stdio': () => ['--', process.execPath, cli, 'serve', apiary] };

  test.each(Object.entries(behind))('reached %s, served over HTTP', async (_, target) => {
    const bridge = await start(['serve', '--http', '0', '--json', ...target()]);
    try {
      const replayed = await jexo(['replay', String(bridge.said.address), sheet]);
      expect([replayed.code, replayed.stderr]).toEqual([0, expect.stringContaining('13 of 13 calls answered as kept')]);
    } finally {
      await bridge.stop();
    }
  });

  test.each(Object.entries(behind))('reached %s, served over stdio', async (_, target) => {
    const replayed = await jexo(['replay', sheet, '--', process.execPath, cli, 'serve', ...target()]);
    expect([replayed.code, replayed.stderr]).toEqual([0, expect.stringContaining('13 of 13 calls answered as kept')]);
  });
});

test('an entry of a host’s configuration and a module are one server; the name and instructions are those behind', async () => {
  const folder = freshFolder('bridge-hosts');
  const hosts = join(folder, 'hosts.json');
  writeFileSync(hosts, JSON.stringify({ servers: { hives: { command: process.execPath, args: [cli, 'serve', hives] } } }));
  writeFileSync(join(folder, 'more.mjs'), '/** Says when. */\nexport const when = () => "now";\n');
  const both = await start(['serve', `${hosts}#hives`, 'more.mjs', '--http', '0', '--json'], { cwd: folder });
  const listed = await jexo(['list', String(both.said.address), '--json']);
  expect((JSON.parse(listed.stdout) as { tools: { name: string }[] }).tools.map(({ name }) => name)).toEqual(
    expect.arrayContaining(['mix_syrup', 'when']),
  );
  expect((await jexo(['call', String(both.said.address), 'mix_syrup', 'colonies=12', 'season=autumn', '--json'])).stdout).toContain(
    '"sugarKg": 24',
  );
  expect(await both.stop()).toBe(0);
  const server = await start(['serve', apiary, '--http', '0', '--json']);
  const alone = await start(['serve', String(server.said.address), '--http', '0', '--json', '--only', 'mix_*', '--prefix', 'bees_']);
  expect([alone.said.name, alone.said.tools]).toEqual([server.said.name, ['bees_mix_syrup']]);
  await alone.stop();
  await server.stop();
});

test('a wrong address ends serve at once, with what to do', async () => {
  const wrong = await jexo(['serve', 'http://127.0.0.1:9/mcp']);
  expect([wrong.code, wrong.stderr]).toEqual([3, expect.stringContaining('JEXO_CONNECT')]);
  const nothing = await jexo(['serve', '--', process.execPath, '-e', 'process.exit(4)']);
  expect([nothing.code, nothing.stderr]).toEqual([3, expect.stringContaining('JEXO_SERVER_EXITED')]);
});
