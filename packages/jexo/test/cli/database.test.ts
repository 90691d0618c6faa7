import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { cli, freshFolder, jexo, run, start } from '../support/command-line.js';
import { bench, pick } from '../support/bench-page.js';
import { inChromium } from '../support/chromium.js';
import { makeDatabase, on, scales, type TestDatabase } from '../support/databases.js';

let database: TestDatabase;
const folder = freshFolder('databases');
const queries = join(folder, 'queries');
beforeAll(async () => {
  database = await makeDatabase('sqlite', scales('sqlite'));
  mkdirSync(queries);
  writeFileSync(
    join(queries, 'heaviest.sql'),
    '-- The heaviest readings of a hive.\n-- @param hive which hive, as MR-03  @pattern ^MR-\n-- @limit 3\nselect at, kg from readings where hive = :hive order by kg desc',
  );
  writeFileSync(join(queries, 'everything.sql'), '-- All hives, as they are.\nselect * from hives');
  writeFileSync(join(queries, 'broken.sql'), '-- Broken.\nselect nothing_such from hives');
});

test('a file of SQLite is a target of every command', async () => {
  const target = [database.owner, '--queries', queries];
  const listed = await jexo(['list', ...target]);
  expect(listed.code).toBe(0);
  for (const words of ['heaviest', 'everything', 'query_', '://schema', '://tables/readings', '{+key}'])
    expect(listed.stdout).toContain(words);
  expect(listed.stderr).toMatch(/broken is omitted: .*broken\.sql:2.*nothing_such/);
  const called = await jexo(['call', ...target, 'heaviest', 'hive=MR-01']);
  expect([called.code, called.stdout]).toEqual([0, expect.stringMatching(/at +kg\n2026-04-01 .*28/)]);
  expect((await jexo(['call', ...target, 'heaviest', 'hive=UC-01'])).code).toBe(2);
  const name = (JSON.parse((await jexo(['list', ...target, '--json'])).stdout) as { tools: { name: string }[] }).tools.at(-1)!.name;
  const refused = await jexo(['call', ...target, name, "sql=select writefile('/tmp/x', 'y')"]);
  expect([refused.code, refused.stderr]).toEqual([1, expect.stringContaining('writefile is not called here')]);
  const scheme = name.replace('query_', '').replaceAll('_', '-');
  expect((await jexo(['read', ...target, `${scheme}://rows/hives/MR-01`])).stdout).toContain('"strength": 7');
  const alone = JSON.parse((await jexo(['list', ...target, '--only-queries', '--json'])).stdout) as {
    tools: { name: string }[];
    resources: unknown[];
  };
  expect([alone.tools.map((tool) => tool.name), alone.resources]).toEqual([['everything', 'heaviest'], []]);
  const some = await jexo(['list', database.owner, '--tables', 'hives', '--tables', 'keepers', '--mask', 'keepers.phone']);
  expect(some.stdout).toMatch(/phone masked/);
  expect(some.stdout).not.toContain('readings');
  const wrong = await jexo(['list', database.owner, '--tables', 'hivez']);
  expect([wrong.code, wrong.stderr]).toEqual([2, expect.stringContaining('Did you mean hives?')]);
});

test('check remarks on queries and tables, with file and line', async () => {
  const { stdout } = await jexo(['check', database.owner, '--queries', queries, '--json']);
  const { findings } = JSON.parse(stdout) as { findings: { rule: string; subject: string; where?: string }[] };
  const found = findings.map(({ rule, subject }) => `${rule} ${subject}`);
  expect(found).toEqual(
    expect.arrayContaining([
      'query-without-limit tool everything',
      'select-star tool everything',
      'table-without-key table notes',
      'omitted query broken',
    ]),
  );
  expect(found).not.toContain('query-without-limit tool heaviest');
  expect(findings.find(({ rule }) => rule === 'select-star')!.where).toMatch(/everything\.sql:2$/);
});

test('it is served over stdio and HTTP, packed without its address, and made into a project', async () => {
  const served = await start(['serve', database.owner, '--queries', queries, '--http', '0', '--json']);
  const answered = await jexo(['call', String(served.said.address), 'heaviest', 'hive=MR-01']);
  await served.stop();
  expect([answered.code, answered.stdout]).toEqual([0, expect.stringContaining('28')]);
  const open = await start(['serve', database.owner, '--http', '0', '--json']);
  await open.stop();
  expect(open.said.notes).toEqual([
    expect.stringMatching(
      /^No named queries were given for .*, so it offers its tables and rows as resources and any SELECT statement by query_/,
    ),
  ]);
  const out = join(folder, 'packed');
  const packed = await jexo(['pack', database.owner, '--queries', queries, '--out', out, '--json']);
  expect(packed.code).toBe(0);
  const { file } = JSON.parse(packed.stdout) as { file: string };
  const text = readFileSync(file, 'utf8');
  expect([text.includes(database.owner), text.includes(folder), text.includes('The heaviest readings of a hive')]).toEqual([
    false,
    false,
    true,
  ]);
  // A host starts it in another folder, so the folder of queries is written in full.
  const entry = await jexo(['register', database.owner, '--queries', 'queries', '--config', join(folder, 'none.json'), '--print'], {
    cwd: folder,
  });
  expect(entry.stdout).toContain(JSON.stringify(queries));
  const variable = /env\("(\w+_DB)"\)/.exec(text)?.[1] ?? /"(JEXO_\w+_DB)"/.exec(text)?.[1];
  const inPack = await jexo(['call', 'heaviest', 'hive=MR-01', '--', process.execPath, file], { env: { [variable!]: database.owner } });
  expect([inPack.code, inPack.stdout]).toEqual([0, expect.stringContaining('28')]);
  const without = await jexo(['list', '--', process.execPath, file]);
  expect(without.stderr).toContain(`read from ${variable}, which is not set`);
  const project = join(folder, 'project');
  expect((await jexo(['new', project, '--from', database.owner])).code).toBe(0);
  expect(readFileSync(join(project, '.env'), 'utf8')).toContain(`DATABASE=${database.owner}`);
  expect(JSON.parse(readFileSync(join(project, 'package.json'), 'utf8'))).toMatchObject({ dependencies: { libsql: expect.any(String) } });
  expect(readFileSync(join(project, 'server.ts'), 'utf8')).not.toContain(database.owner);
});

on('postgres')('a password stays out of everything that is printed, written or shown', async () => {
  const other = await makeDatabase('postgres', scales('postgres'));
  const secrets = [other.password, encodeURIComponent(other.password)];
  const clean = (text: string) => secrets.filter((secret) => text.includes(secret));
  const sheet = join(folder, 'kept.calls.yaml');
  const name = new URL(other.reader).pathname.slice(1);
  for (const words of [
    ['list', other.reader],
    ['list', other.reader, '--json'],
    ['call', other.reader, `query_${name}`, 'sql=select count(*) from hives', '--keep', sheet],
    ['call', other.reader, `query_${name}`, 'sql=select nothing from hives'],
    ['call', other.reader, 'no_such_tool'],
    ['call', other.reader, `query_${name}`, 'sql=select 1', '--as', 'typescript'],
    ['read', other.reader, 'nothing://x'],
    ['check', other.reader, '--json'],
    ['list', other.reader.replace(/:\d+\//, ':9/')],
    ['list', other.reader.replace('jexo_', 'nobody_')],
    ['register', other.reader, '--config', join(folder, 'hosts.json'), '--under', 'servers'],
    ['pack', other.reader, '--out', join(folder, 'out'), '--json'],
  ]) {
    const { stdout, stderr } = await jexo(words);
    expect([words[0], clean(stdout + stderr)]).toEqual([words[0], []]);
  }
  expect(clean(readFileSync(sheet, 'utf8'))).toEqual([]);
  const refused = await jexo(['register', other.reader, '--config', join(folder, 'hosts.json'), '--under', 'servers']);
  expect([refused.code, refused.stderr]).toEqual([2, expect.stringContaining('register env:SCALES_DB --env SCALES_DB')]);
  const byVariable = await jexo(['list', 'env:SCALES_DB', '--json'], { env: { SCALES_DB: other.reader } });
  expect((JSON.parse(byVariable.stdout) as { tools: { name: string }[] }).tools.map((tool) => tool.name)).toEqual([`query_${name}`]);
  const unset = await jexo(['list', 'env:NOT_SET_DB']);
  expect([unset.code, unset.stderr]).toEqual([3, expect.stringContaining('NOT_SET_DB')]);
  await other.drop();
});

test('a disk that is full ends a write with the reason, and nothing is half written', async () => {
  const full = await makeDatabase('sqlite', scales('sqlite'));
  const writes = join(folder, 'writes');
  mkdirSync(writes);
  writeFileSync(
    join(writes, 'copy.sql'),
    '-- Copies readings many times.\n-- @writes\ninsert into notes select a.at || b.at from readings a, readings b',
  );
  // The shell's limit on the size of files stands for the end of the disk.
  const words = [process.execPath, cli, 'call', full.owner, '--queries', writes, 'copy'].map((word) => `'${word}'`).join(' ');
  const { code, stderr } = await run('bash', ['-c', `ulimit -f 500; exec ${words}`]);
  expect([code, stderr]).toEqual([1, expect.stringMatching(/could not be written: .*JEXO_DATABASE/)]);
  expect(await full.run('select count(*) as n from notes')).toEqual([{ n: 2 }]);
});

test('a driver that is not installed is named with what to install', async () => {
  const elsewhere = freshFolder('no-driver');
  const bundled = join(elsewhere, 'out');
  expect((await jexo(['pack', database.owner, '--out', bundled])).code).toBe(0);
  const name = database.owner.replace(/^.*\//, '').replace('.sqlite', '');
  const { stderr } = await jexo(['list', '--', process.execPath, join(bundled, `${name}.mjs`)], {
    cwd: elsewhere,
    env: { [`${name.toUpperCase()}_DB`]: database.owner },
  });
  expect(stderr).toMatch(/SQLite needs the package libsql, which could not be found\.[\s\S]*npm install libsql@/);
});

inChromium('the inspector shows rows as a table that sorts, and the plan of a statement', async () => {
  const { page, errors } = await bench([database.owner]);
  await pick(page, 'query_');
  const sheet = page.getByRole('region', { name: /^Call query_/ });
  await sheet.getByRole('textbox', { name: /^sql/ }).fill('select id, strength from hives order by id');
  await sheet.getByRole('button', { name: 'Call', exact: true }).click();
  const table = sheet.getByRole('table');
  await table.waitFor();
  const first = () => table.getByRole('row').nth(1).innerText();
  expect(await first()).toMatch(/MR-01\s+7/);
  await table.getByRole('button', { name: 'strength' }).click();
  await table.getByRole('button', { name: 'strength' }).click();
  expect(await first()).toMatch(/MR-05\s+9/);
  await sheet.getByRole('checkbox', { name: /explain/ }).check();
  await sheet.getByRole('button', { name: 'Call', exact: true }).click();
  await sheet.getByText(/SCAN hives/).waitFor();
  expect(errors).toEqual([]);
});
