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
  for (const words of [
    '← MR-03: queen of 2026, marked white',
    '· hives of QB: QB-01, QB-02',
    '← Write the label of honey lot H-204',
    '? Which apiary should it go to?',
    '? Move MR-03 to SM?  yes',
    '… 2 of 2: opened again',
    '← changed: hive://MR-03',
    '· status: completed',
    '← Upper Croft  142.9 kg gained, best UC-01',
    'another one, cancelled: cancelled',
    '← (stand-in model) 3 inspections',
    '← list_hives, three pages of three: MR-01, MR-02, MR-03, MR-04, MR-05, MR-06, MR-07, MR-08',
    '← book_inspection: 127; the registry has: Calm, egs seen.',
    '← correct_inspection; the registry has: Calm, eggs seen.',
    '← upload_photo: 70 bytes of image/png; the registry has: 70 bytes',
    '← get_photo: image image/png, the same',
    '? Withdraw an inspection: {"id":127}?  yes',
    '← withdraw_inspection; the registry says: No such inspection',
    '← Upper Croft  39.21 kg in April',
    '← {"hive":"UC-04","kg":36.1}',
    '✗ no such column: kgs. Did you mean kg?',
    '✗ The function writefile is not called here',
    '✗ There is no keepers here',
    '· next: scales://tables/readings?after=["FH-01","2026-03-15 00:15:00"]',
    '← MR-03 at 2026-05-01 06:00:00: 31.11 kg; scales://rows/hives/MR-03',
    '? Set MR-03 at 2026-05-01 06:00:00 to 31.21 kg? It would write 1 row.  yes',
    '← changed: scales://rows/readings/MR-03,2026-05-01 06:00:00',
    '← handbook://winter/stores.md#winter-stores',
    '← 4 of 4 lots of forest honey, in two pages: H-211, H-208, H-205, H-202',
    '? Record the jars of lot H-208?  yes',
    '✗ Cannot query field "moistur" on type "Lot". Did you mean "moisture"?',
    '← updated: MR-01 weighs 41 kg, just now',
    '← 4 hives, their sound as a word: yes',
    '← Pump 1: filling',
    '? The cooperative asks: allow hives:read?  yes',
    '· token for the code (PKCE): keeper, for hives, may hives:read',
    '? The cooperative asks: allow hives:read and hives:write?  yes',
    '← mites_per_100: Treat this week',
    '· signed out of hives; kept are 0 sign-ins',
    '← A colony in one box needs 14 kilograms in October',
    '✗ Alderwick registry refused POST /inspections (422 Unprocessable Entity): The inspection cannot be booked: There is no hive XX-99.',
  ])
    expect(stdout).toContain(words);
  expect(stderr).toContain('season: expected one of "spring", "autumn"; got "winter"');
});

test('every run of the story shows the same figures', async () => {
  const figures = async () => (await run(process.execPath, [demo, '--once'])).stdout.replaceAll(/127\.0\.0\.1:\d+/g, 'here');
  const [one, other] = [await figures(), await figures()];
  expect(one).toBe(other);
});
