import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { bench } from '../support/bench-page.js';
import { freshFolder, hives } from '../support/command-line.js';
import { inChromium } from '../support/chromium.js';

inChromium('fill the form, call, read the answer and the wire', async () => {
  const { page, errors } = await bench([hives]);
  await page.getByRole('option', { name: 'mix_syrup' }).click();
  await page.getByLabel(/^colonies/).fill('12');
  await page.getByLabel(/^season/).selectOption({ label: 'autumn' });
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  const sheet = page.getByRole('region', { name: 'Call mix_syrup' });
  await sheet.getByText('answered in').waitFor();
  expect(await sheet.locator('dl').innerText()).toMatch(/sugarKg\s+24\s+waterL\s+12/);
  await sheet.getByRole('button', { name: 'Raw' }).click();
  expect(JSON.parse(await sheet.locator('pre.raw').innerText())).toMatchObject({ structuredContent: { sugarKg: 24, waterL: 12 } });

  const trace = page.getByRole('complementary', { name: /^Trace/ });
  const rows = await trace.locator('.message').allInnerTexts();
  expect(rows.map((row) => row.replaceAll(/\s+/g, ' '))).toEqual([
    expect.stringMatching(/→ .*initialize/),
    expect.stringMatching(/← .*answer: initialize .*ms/),
    expect.stringMatching(/→ .*notifications\/initialized/),
    ...['tools/list', 'resources/list', 'resources/templates/list', 'prompts/list'].map((method) =>
      expect.stringMatching(`→.* ${method}$`),
    ),
    ...['', '', '', ''].map(() => expect.stringMatching(/← .*answer: \S+\/list .*ms/)),
    expect.stringMatching(/→ .*tools\/call mix_syrup/),
    expect.stringMatching(/← .*answer: mix_syrup .*ms/),
  ]);
  await trace.getByRole('button', { name: /what we sent: tools\/call mix_syrup/ }).click();
  expect(JSON.parse(await trace.locator('.detail pre').innerText())).toMatchObject({
    method: 'tools/call',
    params: { name: 'mix_syrup', arguments: { colonies: 12, season: 'autumn' } },
  });
  await trace.getByLabel('Search the trace').fill('sugarKg');
  expect(await trace.locator('.message').count()).toBe(2);
  expect(errors).toEqual([]);
});

inChromium('by keyboard alone: choose, fill, call; a wrong input is answered with the fields to fix', async () => {
  const { page, errors } = await bench([hives]);
  await page.getByRole('option', { name: 'mix_syrup' }).focus();
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('Enter');
  await page.getByRole('heading', { name: 'mites_per_100' }).waitFor();
  await page.getByRole('spinbutton', { name: /^mites/ }).focus();
  await page.keyboard.type('-4');
  await page.keyboard.press('Control+Enter');
  const sheet = page.getByRole('region', { name: 'Call mites_per_100' });
  await sheet.getByText('mites: expected at least 0; got -4').waitFor();
  await page.keyboard.press('Control+a');
  await page.keyboard.type('9');
  await page.keyboard.press('Control+Enter');
  await sheet.getByText('Treat this week').waitFor();
  expect(await page.getByRole('region', { name: 'Earlier calls' }).locator('details').count()).toBe(1);
  expect(errors).toEqual([]);
});

inChromium('from the shelf, the key calls the chosen tool, and that one only', async () => {
  const { page } = await bench([hives]);
  await page.getByRole('option', { name: 'winter_stores' }).click();
  await page.keyboard.press('Control+Enter');
  await page.getByRole('region', { name: 'Call winter_stores' }).getByText('failed in').waitFor();
  expect(await page.getByRole('button', { name: /what we sent: tools\/call/ }).count()).toBe(1);
});

inChromium('arguments can be written as JSON, and the shelf searched', async () => {
  const { page } = await bench([hives]);
  await page.getByLabel('Search the shelf').fill('winter');
  await page.getByRole('option', { name: 'mix_syrup' }).waitFor({ state: 'detached' });
  expect(await page.getByRole('listbox', { name: 'What is offered' }).getByRole('option').count()).toBe(1);
  await page.getByRole('option', { name: 'winter_stores' }).click();
  await page.getByRole('button', { name: 'As JSON' }).click();
  await page.getByLabel('The arguments as JSON').fill('{"strength": "weak", "frostMonths": ');
  await page.getByText('Not JSON yet').waitFor();
  await page.getByLabel('The arguments as JSON').fill('{"strength": "weak", "frostMonths": 4}');
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  await page.getByText('11.5').waitFor();
});

inChromium('the address works once; a reload keeps the bench, another browser gets the reason', async () => {
  const { page, address } = await bench([hives]);
  await page.getByRole('option', { name: 'mix_syrup' }).waitFor();
  expect(page.url()).not.toContain('#');
  await page.reload();
  await page.getByRole('option', { name: 'mix_syrup' }).waitFor();
  const other = await (await page.context().browser()!.newContext()).newPage();
  await other.goto(address);
  await other.getByText('This address has been used already').waitFor();
  expect((await fetch(new URL('/api/bench', address))).status).toBe(401);
  expect((await fetch(new URL('/../../package.json', address))).status).toBe(404);
});

inChromium('hostile text stays text', async () => {
  const file = join(freshFolder('hostile'), 'hostile.ts');
  const markup = '<img src=x onerror="window.hacked = true"><script>window.hacked = true</script>';
  writeFileSync(file, `/** ${markup} */\nexport function hostile(): string { return ${JSON.stringify(markup)} }\n`);
  const { page, errors } = await bench([file]);
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  await page.getByRole('region', { name: 'Call hostile' }).locator('pre.text').waitFor();
  expect(await page.locator('.description').innerText()).toContain('<script>');
  expect(await page.evaluate('window.hacked')).toBeUndefined();
  expect(errors).toEqual([]);
});

inChromium('a server that cannot be started is explained', async () => {
  const { page } = await bench(['--', 'no-such-command-here']);
  const trouble = page.getByRole('alert');
  await trouble.getByText('there is no such command').waitFor();
  expect(await trouble.innerText()).toContain('JEXO_COMMAND_MISSING');
});

inChromium('on a narrow window the trace and the shelf are drawers', async () => {
  const { page } = await bench([hives], { width: 700, height: 800 });
  await page.getByRole('heading', { name: 'mix_syrup' }).waitFor();
  expect(await page.getByRole('complementary', { name: /^Trace/ }).isVisible()).toBe(false);
  await page.getByRole('button', { name: 'Trace' }).click();
  expect(await page.getByRole('complementary', { name: /^Trace/ }).isVisible()).toBe(true);
  await page.getByRole('button', { name: 'Shelf' }).click();
  await page.getByRole('option', { name: 'winter_stores' }).click();
  await page.getByRole('heading', { name: 'winter_stores' }).waitFor();
  expect(await page.evaluate('document.documentElement.scrollWidth')).toBe(700);
});
