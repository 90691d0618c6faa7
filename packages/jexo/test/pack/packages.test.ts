import { cpSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { freshFolder, run } from '../support/command-line.js';

const pkg = 'packages/jexo';
let alone: string;

// The package as it is installed with --omit=optional: nothing around it.
beforeAll(() => {
  alone = freshFolder('alone');
  cpSync(join(pkg, 'dist'), join(alone, 'jexo/dist'), { recursive: true });
  cpSync(join(pkg, 'package.json'), join(alone, 'jexo/package.json'));
  writeFileSync(join(alone, 'plain.mjs'), '/** Weighs a hive. */\nexport function weigh() { return 31; }\n');
  writeFileSync(join(alone, 'typed.ts'), '/** Weighs a hive. */\nexport function weigh(): number { return 31; }\n');
});

const jexo = (...args: string[]) => run(process.execPath, [join(alone, 'jexo/dist/cli.mjs'), ...args], { cwd: alone });

test('without esbuild, what is JavaScript already is served', async () => {
  const { stdout, stderr, code } = await jexo('call', 'plain.mjs', 'weigh');
  expect(stderr).not.toContain('esbuild');
  expect(stdout).toContain('31');
  expect(code).toBe(0);
});

test.each([
  ['call', 'typed.ts', 'weigh'],
  ['pack', 'plain.mjs', '--as', 'file', '--out', 'out'],
])('without esbuild, %s %s says what to install', async (...args) => {
  const { stderr, code } = await jexo(...args);
  expect(stderr).toContain('needs the package esbuild');
  expect(stderr).toContain('npm install esbuild');
  expect(stderr).not.toContain('    at ');
  expect(code).toBe(3);
});

test('one copy of each package is built in, and each is listed with its licence', () => {
  const notices = readFileSync(join(pkg, 'THIRD-PARTY.md'), 'utf8');
  const sections = [...notices.matchAll(/^## (\S+) (\S+) \((.+)\)\n\n([\s\S]*?)(?=\n## |$(?![\s\S]))/gm)];
  const names = sections.map(([, name]) => name!);
  expect(names).toEqual(expect.arrayContaining(['ajv', '@cfworker/json-schema', 'commander', 'react-dom', 'uplot', 'typescript']));
  // Packages of one licence follow each other, with its text behind the last.
  sections.forEach(([, name, , license], index) => {
    const text = sections.slice(index).find(([, , , of, words]) => of === license && words!.trim().length > 300);
    if (text === undefined) throw new Error(`no licence text for ${name}`);
  });
  expect(new Set(names).size).toBe(names.length);
  const bill = JSON.parse(readFileSync(join(pkg, 'dist/sbom.cdx.json'), 'utf8')) as {
    components: { name: string; version: string; scope: string; purl: string }[];
  };
  expect(bill.components.map(({ name }) => name)).toEqual(expect.arrayContaining([...names, 'esbuild']));
  expect(bill.components.find(({ name }) => name === 'esbuild')).toMatchObject({ scope: 'optional' });
});
