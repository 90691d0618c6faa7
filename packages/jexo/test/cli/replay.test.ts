import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { cooperative, freshFolder, hives, jexo, run, start } from '../support/command-line.js';

const apiary = join(cooperative, 'apiary.ts');
const sheet = join(cooperative, 'apiary.calls.yaml');

test('the demo answers as its own sheet says', async () => {
  const { code, stdout, stderr } = await jexo(['replay', sheet]);
  expect([code, stdout.match(/^✓ /gm)?.length, stdout.match(/^✗ /gm)]).toEqual([0, 13, null]);
  expect(stderr).toContain('13 of 13 calls answered as kept');
});

describe('a sheet that is kept', () => {
  const folder = freshFolder('sheets');
  const file = join(folder, 'my.calls.yaml');

  test('from calls, reads and prompts; and replayed', async () => {
    for (const words of [
      ['call', hives, 'mix_syrup', 'colonies=12', 'season=autumn'],
      ['call', hives, 'mites_per_100', 'mites=9', 'bees=2', '--unchecked'],
      ['read', apiary, 'hive://MR-03'],
      ['prompt', apiary, 'lot_label', 'lot=H-204', 'language=fr'],
    ]) {
      const { stderr } = await jexo([...words, '--keep', file]);
      expect(stderr).toContain('Kept on');
    }
    const text = readFileSync(file, 'utf8');
    expect(text).toMatch(/^# yaml-language-server.*\n# Calls/);
    expect(text).toContain('must: { be: { sugarKg: 24, waterL: 12 } }');
    expect(text).toContain('- bees: expected at least 50; got 2');
    const { code, stderr } = await jexo(['replay', file, apiary]);
    expect([code, stderr]).toEqual([0, expect.stringContaining('4 of 4')]);
  });

  test('shows differences with the place, tells CI, and is updated on request', async () => {
    const stale = readFileSync(file, 'utf8').replace('sugarKg: 24', 'sugarKg: 99').replace('At most five', 'At least seven');
    writeFileSync(file, stale.replace('calls:', 'calls: # all we know'));
    const junit = join(folder, 'report.xml');
    const { code, stdout, stderr } = await jexo(['replay', file, apiary, '--junit', junit]);
    expect(code).toBe(1);
    expect(stdout).toMatch(/✗ mix_syrup .*my\.calls\.yaml:5\n {2}The answer differs\.\n {4}sugarKg\n {4}- 99\n {4}\+ 24/);
    expect(stderr).toContain('2 of 4 calls answered as kept');
    expect(readFileSync(junit, 'utf8')).toMatch(/tests="4" failures="2"[\s\S]*line="5"[\s\S]*sugarKg: wanted 99, got 24/);
    const only = await jexo(['replay', file, apiary, '--only', 'hive*', '--json']);
    expect([only.code, JSON.parse(only.stdout)]).toEqual([
      0,
      {
        runs: [expect.objectContaining({ target: apiary, calls: [expect.objectContaining({ name: 'hive://MR-03', status: 'as kept' })] })],
      },
    ]);
    const updated = await jexo(['replay', file, apiary, '--update']);
    expect([updated.code, updated.stderr]).toEqual([0, expect.stringContaining('updated: mix_syrup, lot_label')]);
    expect(readFileSync(file, 'utf8')).toContain('calls: # all we know');
    expect((await jexo(['replay', file, apiary])).code).toBe(0);
  });

  test('on several servers at once, each with a state of its own', async () => {
    const served = await start(['serve', apiary, '--http', '0', '--json']);
    const { code, stdout } = await jexo(['replay', sheet, apiary, String(served.said.address), '--json']);
    await served.stop();
    const { runs } = JSON.parse(stdout) as { runs: { sheet: string; target: string; calls: { status: string }[] }[] };
    expect(runs.map((each) => [each.sheet, each.target, each.calls.every(({ status }) => status === 'as kept')])).toEqual([
      [sheet, apiary, true],
      [sheet, served.said.address, true],
    ]);
    expect(code).toBe(0);
    const gone = await jexo(['replay', file, apiary, String(served.said.address)]);
    expect([gone.code, gone.stderr, gone.stdout]).toEqual([
      3,
      expect.stringContaining('1 of 2 servers not reached'),
      expect.stringContaining('JEXO_CONNECT'),
    ]);
  });

  test('from a wire log', async () => {
    const log = join(folder, 'session.jsonl');
    await jexo(['call', hives, 'mix_syrup', 'colonies=3', '--wire-log', log]);
    const made = join(folder, 'session.calls.yaml');
    const { code, stderr } = await jexo(['replay', log, hives, '--write', made]);
    expect([code, stderr]).toEqual([0, expect.stringContaining('1 call from')]);
    expect((await jexo(['replay', made])).code).toBe(0);
    expect((await jexo(['replay', log, hives])).code).toBe(0);
    expect(await jexo(['replay', log, hives, '--write', made])).toMatchObject({
      code: 2,
      stderr: expect.stringContaining('is there already'),
    });
  });

  test('what is used wrongly is told, and nothing is lost', async () => {
    const broken = join(folder, 'broken.calls.yaml');
    writeFileSync(broken, 'calls:\n  - cal: x\n');
    const kept = await jexo(['call', hives, 'mix_syrup', 'colonies=3', '--keep', broken]);
    expect([kept.code, kept.stderr, readFileSync(broken, 'utf8')]).toEqual([
      2,
      expect.stringContaining('broken.calls.yaml:2'),
      'calls:\n  - cal: x\n',
    ]);
    for (const [words, code, says] of [
      [['replay'], 2, /No call sheet was given/],
      [['replay', join(folder, 'none.calls.yaml')], 2, /cannot be read/],
      [['replay', broken], 2, /calls\[0\]/],
      [['replay', sheet, '--only', 'nothing'], 2, /No call on .* is called nothing/],
      [['replay', sheet, '--update', hives, apiary], 2, /from one server only/],
      [['replay', sheet, join(folder, 'gone.ts')], 3, /There is no file/],
      [['call', hives, 'mix_syrup', 'colonies=3', '--keep', 'x.txt'], 2, /no name of a call sheet/],
    ] as const) {
      const { code: got, stderr } = await jexo(words);
      expect([words, got, stderr]).toEqual([words, code, expect.stringMatching(says)]);
      expect(stderr).not.toMatch(/\n\s+at /);
    }
  });
});

describe('a call is carried elsewhere', () => {
  const as = async (form: string, ...words: string[]) => (await jexo([words[0]!, '--as', form, ...words.slice(1)])).stdout;

  test('as a command that makes the same call', async () => {
    const line = await as('command', 'call', apiary, 'move_hive', 'hive=MR-03');
    expect(line).toBe(`jexo call ${apiary} move_hive hive=MR-03\n`);
    expect(await as('command', 'call', hives, 'mix_syrup', '--input', '{"colonies":"it\'s 12"}')).toContain(
      String.raw`'colonies=it'\''s 12'`,
    );
    expect(await as('command', 'read', apiary, 'hive', 'hive=MR-03')).toBe(`jexo read ${apiary} hive://MR-03\n`);
    expect(await as('command', 'call', 'mix_syrup', 'colonies=2', '--', process.execPath, join(folderOfServer(), 'server.mjs'))).toMatch(
      / -- .*node.* .*server\.mjs/,
    );
  });

  test('as TypeScript that runs', async () => {
    const folder = freshFolder('copied');
    writeFileSync(join(folder, 'call.mjs'), await as('typescript', 'call', hives, 'mix_syrup', 'colonies=12'));
    const library = fileURLToPath(new URL('../../dist/index.mjs', import.meta.url));
    writeFileSync(join(folder, 'run.mjs'), readFileSync(join(folder, 'call.mjs'), 'utf8').replace("'jexo'", JSON.stringify(library)));
    const { code, stdout } = await run(process.execPath, [join(folder, 'run.mjs')]);
    expect([code, stdout]).toEqual([0, '{ sugarKg: 12, waterL: 12 }\n']);
  });

  test('as HTTP requests that are answered', async () => {
    const served = await start(['serve', hives, '--http', '0', '--json']);
    const script = await as('http', 'call', String(served.said.address), 'mix_syrup', 'colonies=12');
    const { stdout, stderr } = await run('bash', ['-c', script]);
    await served.stop();
    expect([stderr, JSON.parse(stdout)]).toEqual([
      '',
      expect.objectContaining({ id: 2, result: expect.objectContaining({ structuredContent: { sugarKg: 12, waterL: 12 } }) }),
    ]);
    expect(await as('http', 'call', hives, 'mix_syrup', 'colonies=12')).toMatch(/^# Serve it first: jexo serve .*hives\.ts --http 4300/);
  });
});

function folderOfServer(): string {
  const folder = freshFolder('bundle');
  writeFileSync(
    join(folder, 'server.mjs'),
    `import { serveStdio, defineServer, tool } from ${JSON.stringify(fileURLToPath(new URL('../../dist/index.mjs', import.meta.url)))};
await serveStdio(defineServer({ name: 's', version: '1', offers: [tool('mix_syrup', { input: { type: 'object', properties: { colonies: { type: 'number' } } } }, () => 'done')] }));`,
  );
  return folder;
}
