import { fileURLToPath } from 'node:url';
import { run } from '../../../packages/jexo/test/support/command-line';

const demo = fileURLToPath(new URL('../demo.mjs', import.meta.url));

test('the whole story tells itself and ends well', async () => {
  const { code, stdout, stderr } = await run(process.execPath, [demo, '--once']);
  expect([code, stderr.includes('should have ended')]).toEqual([0, false]);
  expect(stdout.match(/^\$ jexo call/gm)).toHaveLength(4);
  expect(stdout).toContain('sugarKg  24');
  expect(stdout).toContain('Treat this week');
  expect(stdout).toContain('2026-06-03');
  expect(stderr).toContain('season: expected one of "spring", "autumn"; got "winter"');
});

test('every run of the story shows the same figures', async () => {
  const figures = async () => (await run(process.execPath, [demo, '--once'])).stdout.replaceAll(/127\.0\.0\.1:\d+/g, 'here');
  const [one, other] = [await figures(), await figures()];
  expect(one).toBe(other);
});
