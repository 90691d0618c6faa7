import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { freshFolder, hives, jexo } from '../support/command-line.js';

/** Values that somebody mistypes: each is their mistake, and no fault of Jexo’s. */
const mistakes: readonly (readonly [line: readonly string[], code: number, says: string])[] = [
  [['pack', hives, '--as', 'service', '--public-url', 'apiary', '--out', 'service'], 2, 'must be as https://apiary.example/mcp'],
  [['pack', hives, '--as', 'container', '--public-url', 'ftp://apiary.example', '--out', 'container'], 2, 'must be as https'],
  [['pack', hives, '--as', 'kubernetes', '--public-url', '', '--out', 'cluster'], 2, 'must be as https'],
  [['pack', hives, '--check', 'no-such.mjs'], 3, 'There is no file "no-such.mjs"'],
  [['check', hives, '--against', ''], 3, 'There is no file ""'],
  [['check', hives, '--against', 'notes.txt'], 3, 'no packed server, no list and no wire log'],
  [['check', hives, '--against', 'folder'], 3, 'There is no file "folder"'],
  [['check', hives, '--pictures', 'notes.txt'], 2, 'Pictures cannot be written into "notes.txt"'],
];

test.each(mistakes)('jexo %j is the user’s mistake, and is said so', async (line, code, says) => {
  const cwd = freshFolder('mistake');
  writeFileSync(join(cwd, 'notes.txt'), 'calm\n');
  mkdirSync(join(cwd, 'folder'));
  const done = await jexo(line, { cwd });
  expect([done.code, done.stderr]).toEqual([code, expect.stringContaining(says)]);
  expect(done.stderr).not.toMatch(/fault of jexo|\n\s+at /);
});

test('an error of serve over stdio is all that is printed', async () => {
  const { code, stdout, stderr } = await jexo(['serve', 'honey.nothing']);
  expect([code, stdout]).toEqual([3, '']);
  expect(stderr).not.toContain('printed to stdout');
});
