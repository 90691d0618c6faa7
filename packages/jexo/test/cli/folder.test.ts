import { cpSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { cooperative, freshFolder, jexo } from '../support/command-line.js';

const cwd = freshFolder('folders');
beforeAll(() => cpSync(join(cooperative, 'handbook'), join(cwd, 'handbook'), { recursive: true }));

test('a folder is a target: listed, searched, read, checked, chosen from', async () => {
  const listed = await jexo(['list', './handbook'], { cwd });
  expect(listed.stdout).toMatch(/2 tools · 28 resources · 1 template[\s\S]*search_handbook[\s\S]*handbook:\/\/winter\/stores\.md/);
  const found = JSON.parse(
    (await jexo(['call', './handbook', 'search_handbook', 'words=colour of a queen marked in 2026', '--json'], { cwd })).stdout,
  ) as {
    structuredContent: { hits: { uri: string }[] };
  };
  expect(found.structuredContent.hits[0]!.uri).toBe('handbook://queens/marking.md#marking-queens');
  const read = await jexo(['read', './handbook', 'handbook://queens/marking.md'], { cwd });
  expect(read.stdout).toContain('white for 1 and 6');
  const outside = await jexo(['read', './handbook', 'handbook://../../package.json'], { cwd });
  expect([outside.code, outside.stderr]).toEqual([1, expect.stringContaining('not found')]);
  const some = JSON.parse((await jexo(['list', './handbook', '--files', 'winter/**', '--json'], { cwd })).stdout) as {
    resources: { name: string }[];
  };
  expect(some.resources.map(({ name }) => name)).toEqual(['winter/looking.md', 'winter/mice.md', 'winter/stores.md']);
  expect((await jexo(['check', './handbook'], { cwd })).code).toBe(0);
  const packed = await jexo(['pack', './handbook', '--out', 'out'], { cwd });
  expect([packed.code, packed.stderr]).toEqual([0, expect.stringContaining('Started in an empty folder')]);
});

test('a question sheet measures the search, and names what it misses', async () => {
  cpSync(join(cooperative, 'handbook.questions.yaml'), join(cwd, 'handbook.questions.yaml'));
  const good = await jexo(['rehearse', 'handbook.questions.yaml', '--fail-under', '90', '--json'], { cwd });
  const { recallAt5, mrr, questions } = JSON.parse(good.stdout) as { recallAt5: number; mrr: number; questions: { rank?: number }[] };
  expect([good.code, questions.length, recallAt5 >= 0.9, mrr > 0.8]).toEqual([0, 40, true, true]);
  writeFileSync(
    join(cwd, 'hard.questions.yaml'),
    'target: ./handbook\nquestions:\n  - { ask: How is a sugar roll done?, pages: mites/counting.md }\n  - { ask: Who won the tug of war at the fair?, pages: winter/mice.md }\n',
  );
  const hard = await jexo(['rehearse', './handbook', 'hard.questions.yaml'], { cwd });
  expect([hard.code, hard.stdout]).toEqual([
    1,
    expect.stringMatching(
      /tug of war.*hard\.questions\.yaml:4[\s\S]*wanted winter\/mice\.md; not found[\s\S]*1 of 2 questions[\s\S]*recall@5 0\.50, mean reciprocal rank 0\.50/,
    ),
  ]);
  writeFileSync(join(cwd, 'broken.questions.yaml'), 'questions:\n  - { ask: a }\n');
  const broken = await jexo(['rehearse', './handbook', 'broken.questions.yaml'], { cwd });
  expect([broken.code, broken.stderr]).toEqual([2, expect.stringMatching(/broken\.questions\.yaml:2/)]);
  const none = await jexo(['rehearse', join(cooperative, 'hives.ts'), 'hard.questions.yaml'], { cwd });
  expect([none.code, none.stderr]).toEqual([3, expect.stringContaining('no tool that searches')]);
});
