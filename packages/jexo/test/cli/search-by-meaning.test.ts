import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { cooperative, freshFolder, jexo } from '../support/command-line.js';

const example = fileURLToPath(new URL('../../../../examples/search-by-meaning/', import.meta.url));
const env = { JEXO_CACHE: freshFolder('by-meaning') };

interface Rehearsed {
  readonly ways: { by: string; recallAt5: number; mrr: number; questions: { rank?: number }[] }[];
}
const rehearse = async (sheet: string): Promise<Record<string, Rehearsed['ways'][number]>> => {
  const { stdout, stderr } = await jexo(['rehearse', 'handbook.mjs', sheet, '--json', '--fail-under', '0'], { cwd: example, env });
  if (stdout === '') throw new Error(stderr);
  return Object.fromEntries((JSON.parse(stdout) as Rehearsed).ways.map((way) => [way.by, way]));
};

test('a real sentence model finds what shares no word with the question, and what shares words is found as before', async () => {
  const paraphrases = await rehearse('paraphrases.questions.yaml');
  expect(Object.keys(paraphrases)).toEqual(['both', 'words', 'meaning']);
  expect(paraphrases.both!.recallAt5).toBeGreaterThan(paraphrases.words!.recallAt5 + 0.4);
  expect(paraphrases.meaning!.recallAt5).toBeGreaterThan(0.8);
  const usual = await rehearse(join(cooperative, 'handbook.questions.yaml'));
  expect(usual.words!.recallAt5).toBeGreaterThanOrEqual(0.9);
  expect(usual.both!.recallAt5).toBeGreaterThanOrEqual(0.95);
});

test('the ways are shown side by side, with the questions they differ on; a report for CI names what is missed', async () => {
  const junit = join(env.JEXO_CACHE, 'report.xml');
  const { code, stdout } = await jexo(['rehearse', 'handbook.mjs', 'paraphrases.questions.yaml', '--fail-under', '60', '--junit', junit], {
    cwd: example,
    env,
  });
  expect(code).toBe(0);
  expect(stdout).toMatch(/found by\s+recall@5\s+mean reciprocal rank\s+missed\nboth .*\nwords .*\nmeaning /);
  expect(stdout).toMatch(/place of the first answer\s+both\s+words\s+meaning\n/);
  const { readFile } = await import('node:fs/promises');
  expect(await readFile(junit, 'utf8')).toMatch(/<testsuite [^>]*tests="12"[\s\S]*wanted winter\/mice\.md/);
  const refused = await jexo(['rehearse', 'handbook.mjs', 'paraphrases.questions.yaml', '--run'], { cwd: example, env });
  expect([refused.code, refused.stderr]).toEqual([2, expect.stringContaining('--run and the options of a model have no part in it')]);
});
