import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { cooperative, freshFolder, hives } from '../support/command-line.js';
import { atTerminal, onTerminal } from '../support/terminal.js';

const apiary = join(cooperative, 'apiary.ts');

onTerminal('list, read, prompt and check are coloured, and wrapped to the width there is', async () => {
  for (const words of [
    ['list', apiary],
    ['read', apiary, 'hive://MR-03'],
    ['prompt', apiary, 'lot_label', 'lot=H-204', 'language=fr'],
    ['check', apiary],
  ]) {
    const { code, screen, raw } = await atTerminal(words, [], 70);
    expect([words, code]).toEqual([words, 0]);
    expect(raw).toContain('\u001b[');
    if (words[0] === 'list') expect(screen.split('\n').filter((line) => line.length > 70 && !line.includes('jexo call'))).toEqual([]);
  }
});

onTerminal('what is missing is asked for, and asked again when it is wrong', async () => {
  const { code, screen } = await atTerminal(
    ['call', hives, 'mix_syrup'],
    [
      [/colonies/, 'many'],
      [/expected number/, '12'],
    ],
  );
  expect([code, screen]).toEqual([0, expect.stringMatching(/sugarKg {2}12\n/)]);
});

onTerminal('questions of the server are answered in place, and progress is drawn over', async () => {
  const { code, screen } = await atTerminal(
    ['call', apiary, 'move_hive', 'hive=MR-03'],
    [
      [/Which apiary[\s\S]*to {0,1}/, 'SM'],
      [/Send this\?/, 'y'],
      [/Move MR-03 to SM\?[\s\S]*\[y\]es/, 'y'],
    ],
  );
  expect([code, screen]).toEqual([0, expect.stringMatching(/to +Saltmarsh/)]);
  const report = await atTerminal(['call', apiary, 'season_report']);
  expect(report.raw).toMatch(/━+.*%/);
  expect(report.raw).toContain('\r\u001b[2K');
  expect(report.screen).toMatch(/apiaries\n/);
});

onTerminal('a choice is asked for by number or word until it fits, and a question can be declined', async () => {
  const { code, screen } = await atTerminal(
    ['call', hives, 'winter_stores', 'frostMonths=4'],
    [
      [/1 weak {3}2 middling {3}3 strong\n.*strength/, 'feeble'],
      [/expected one of weak, middling, strong; got "feeble"\n.*strength/, '2'],
    ],
  );
  expect([code, screen]).toEqual([0, expect.stringContaining('15.5')]);
  const declined = await atTerminal(['call', apiary, 'move_hive', 'hive=MR-03', 'to=SM'], [[/\[y\]es/, 'n']]);
  expect([declined.code, declined.screen]).toEqual([1, expect.stringContaining('JEXO_NOT_ACCEPTED')]);
});

onTerminal('Ctrl-C cancels the call on the server', async () => {
  const slow = join(freshFolder('slow'), 'slow.ts');
  writeFileSync(
    slow,
    `/** Waits until it is stopped. */
export async function wait(signal: AbortSignal): Promise<string> {
  process.stderr.write('waiting\\n');
  return new Promise((_, reject) => { const t = setInterval(() => {}, 1000); signal.addEventListener('abort', () => { clearInterval(t); process.stderr.write('stopped on the server\\n'); reject(new Error('stopped')); }); });
}`,
  );
  const { code, screen } = await atTerminal(['call', slow, 'wait'], [[/waiting/, '^C']]);
  expect([code, screen]).toEqual([1, expect.stringContaining('stopped on the server')]);
  expect(screen).toContain('JEXO_CANCELLED');
});

onTerminal('a sheet is replayed, and a request rehearsed step by step after a yes', async () => {
  const replayed = await atTerminal(['replay', join(cooperative, 'apiary.calls.yaml')]);
  expect([replayed.code, replayed.screen]).toEqual([0, expect.stringContaining('13 of 13 calls answered as kept')]);
  const words = ['rehearse', hives, 'how much sugar for 12 colonies this autumn', '--run'];
  const yes = await atTerminal(words, [[/Call mix_syrup with .*\?/, 'y']]);
  expect([yes.code, yes.screen]).toEqual([0, expect.stringContaining('{"sugarKg":24,"waterL":12}')]);
  const no = await atTerminal(words, [[/Call mix_syrup with .*\?/, 'n']]);
  expect([no.code, no.screen]).toEqual([0, expect.not.stringContaining('sugarKg')]);
});

onTerminal('an address of the inspector that was spent is replaced by pressing Enter; each opens the page once', async () => {
  const { screen } = await atTerminal(
    ['inspect', hives],
    [
      [/Press Enter for a new address/, ''],
      [/Open the bench at \S+\s/, '^C'],
    ],
    200,
  );
  const addresses = [...screen.matchAll(/Open the bench at (\S+)/g)].map(([, address]) => address!);
  expect(addresses).toHaveLength(2);
  expect(new Set(addresses.map((address) => new URL(address).hash)).size).toBe(2);
});
