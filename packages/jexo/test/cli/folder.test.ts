import { cpSync } from 'node:fs';
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
  expect([packed.code, packed.stderr]).toEqual([3, expect.stringContaining('is a folder, which cannot be packed')]);
});
