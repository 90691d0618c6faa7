import { existsSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { createRequire } from 'node:module';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { bench, pick, stopAtEnd } from '../support/bench-page.js';
import { cooperative, freshFolder, hives, start } from '../support/command-line.js';
import { inChromium } from '../support/chromium.js';

const apiary = join(cooperative, 'apiary.ts');

inChromium('several connections: added, edited, restarted, explained when they fail; secrets stay on the bench', async () => {
  const server = await start(['serve', hives, '--http', '--json']);
  stopAtEnd(server);
  const address = String(server.said.address);
  const { page } = await bench([hives]);
  await page.getByRole('button', { name: 'Connections' }).click();
  const further = page.getByRole('region', { name: 'A further connection' });
  await further.getByLabel('Target').fill(address.replace('/mcp', '/elsewhere'));
  await further.getByLabel(/^Token/).fill('very-secret');
  await further.getByRole('button', { name: 'Connect', exact: true }).click();
  const card = page.getByRole('region', { name: /^Connection http/ });
  await card.getByText(`there is one at ${address}`).waitFor();
  await card.getByText('Change it').click();
  expect(await card.getByLabel(/^Token/).inputValue()).toBe('(masked)');
  await card.getByLabel('Target').fill(address);
  await card.getByRole('button', { name: 'Save and connect' }).click();
  await card.getByText('connected', { exact: true }).waitFor();
  expect(await page.content()).not.toContain('very-secret');
  await further.getByRole('button', { name: 'A command that starts a server' }).click();
  await further.getByLabel('Command').fill(process.execPath);
  await further.getByLabel(/^Arguments/).fill('-e\nconsole.log("Listening on http://127.0.0.1:4999/mcp"); setTimeout(() => {}, 9999)');
  await further.getByRole('button', { name: 'Connect', exact: true }).click();
  await page.getByText('It seems to serve over HTTP: start it by itself, then connect to http://127.0.0.1:4999/mcp').waitFor();
  await card.getByRole('button', { name: 'To the bench' }).click();
  await pick(page, 'winter_stores');
  expect(await page.getByLabel('Connection').locator('option').count()).toBe(3);
});

inChromium('the model’s view: what it costs, what another description would change, and it is all there after a restart', async () => {
  const notes = freshFolder('notes');
  const first = await bench([hives], { notes });
  await pick(first.page, 'winter_stores');
  await first.page.getByRole('spinbutton', { name: /^frostMonths/ }).fill('4');
  await first.page.getByRole('button', { name: 'Model’s view' }).click();
  const view = first.page.getByRole('main', { name: 'As a model sees it' });
  await view.getByText('for 4 of 4 tools').waitFor();
  await view.getByRole('heading', { name: /^~\d+ tokens$/ }).waitFor();
  const given = JSON.parse(await view.locator('.given pre').innerText()) as { name: string; description: string; inputSchema: object }[];
  expect(given.map(({ name }) => name)).toEqual(['mix_syrup', 'days_to_harvest', 'mites_per_100', 'winter_stores']);
  expect(Object.keys(given[0]!)).toEqual(['name', 'description', 'inputSchema']);
  await view.getByRole('button', { name: 'mix_syrup' }).click();
  const written = first.page.waitForResponse(
    (response) => response.url().endsWith('/api/notes') && response.request().postData()!.includes('"Sugar and water."'),
  );
  await view.getByLabel(/^Another description/).fill('Sugar and water.');
  await view.getByText('tried out').waitFor();
  await view.getByRole('checkbox', { name: 'Offer winter_stores' }).uncheck();
  await view.getByText('for 3 of 4 tools').waitFor();
  await written;
  await first.running.stop('SIGINT');

  const { page } = await bench([hives], { notes });
  await page.getByRole('main', { name: 'As a model sees it' }).getByText('Sugar and water.').waitFor();
  await page.getByRole('button', { name: 'Bench', exact: true }).click();
  await page.getByRole('heading', { name: 'winter_stores' }).waitFor();
  expect(await page.getByRole('spinbutton', { name: /^frostMonths/ }).inputValue()).toBe('4');
});

inChromium('a save of the module shows on the shelf, marked; a broken one is told and changes nothing', async () => {
  const file = join(freshFolder('live'), 'live.ts');
  writeFileSync(file, '/** One. */ export function one(): number { return 1 }');
  const { page } = await bench([file]);
  await page.getByRole('option', { name: 'one, tool' }).waitFor();
  writeFileSync(file, '/** One, better. */ export function one(): number { return 1 }\nexport function two(): number { return 2 }');
  await page.getByRole('option', { name: 'two, tool, added' }).waitFor();
  await page.getByRole('option', { name: 'one, tool, changed' }).waitFor();
  await page.getByRole('button', { name: 'Seen' }).click();
  await page.getByRole('option', { name: 'two, tool', exact: true }).waitFor();
  writeFileSync(file, 'export function one(: number {');
  await page.getByRole('alert').getByText('JEXO_SYNTAX').waitFor();
  expect(await page.getByRole('listbox').getByRole('option').count()).toBe(2);
});

inChromium('a trace is saved, and opens again beside the living one', async () => {
  const { page } = await bench([hives]);
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  await page.getByText('failed in').waitFor();
  const saving = page.waitForEvent('download');
  await page.getByRole('button', { name: 'Save' }).click();
  const path = join(freshFolder('traces'), 'trace.jsonl');
  await (await saving).saveAs(path);
  await page.locator('.load input').setInputFiles(path);
  await page.getByText('trace.jsonl is a saved trace').waitFor();
  await page.getByRole('button', { name: /what we sent: tools\/call mix_syrup/ }).waitFor();
  writeFileSync(path, '{"at": 1}\n');
  await page.locator('.load input').setInputFiles(path);
  await page.getByText('Line 1 is not a line of a wire log').waitFor();
});

inChromium('the palette finds everything by keyboard, and closes at the first Escape', async () => {
  const cwd = freshFolder('palette');
  writeFileSync(join(cwd, 'spring.calls.yaml'), 'calls: []\n');
  const { page } = await bench([hives], { cwd });
  await page.getByRole('option', { name: 'mix_syrup' }).waitFor();
  await page.keyboard.press('Control+k');
  await page.keyboard.type('winter');
  await page.keyboard.press('Enter');
  await page.getByRole('heading', { name: 'winter_stores' }).waitFor();
  await page.keyboard.press('Control+k');
  await page.keyboard.type('connections');
  await page.keyboard.press('Enter');
  await page.getByRole('main', { name: 'Connections' }).waitFor();
  await page.keyboard.press('Control+k');
  await page.keyboard.type('spring');
  await page.keyboard.press('Escape');
  await page.getByRole('dialog').waitFor({ state: 'detached' });
  await page.keyboard.press('Control+k');
  await page.getByRole('menuitem', { name: /spring\.calls\.yaml/ }).waitFor();
  await page.keyboard.type('spring');
  await page.keyboard.press('Enter');
  await page.getByRole('main', { name: 'Sheets' }).waitFor();
  await page.getByText('spring.calls.yaml').first().waitFor();
});

for (const colorScheme of ['light', 'dark'] as const)
  inChromium(`axe finds nothing serious in any place, ${colorScheme}`, async () => {
    const { page } = await bench([apiary], { colorScheme });
    await pick(page, 'mites_per_100');
    await page.getByRole('spinbutton', { name: /^mites/ }).fill('-4');
    await page.keyboard.press('Tab');
    await page.getByText('at least 0; got -4').first().waitFor();
    await page.getByRole('button', { name: 'Call', exact: true }).click();
    await page.getByText('failed in').waitFor();
    for (const place of ['Bench', 'Model’s view', 'Sheets', 'Connections']) {
      await page.getByRole('button', { name: place, exact: true }).click();
      await page.getByRole('main').waitFor();
      await page.evaluate(readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8'));
      const found = (await page.evaluate('axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21aa"] })')) as {
        violations: { id: string; impact: string; nodes: { html: string; failureSummary: string }[] }[];
      };
      const serious = found.violations.filter(({ impact }) => impact === 'serious' || impact === 'critical');
      expect(serious.map(({ id, nodes }) => [colorScheme, place, id, nodes[0]!.html.slice(0, 200), nodes[0]!.failureSummary])).toEqual([]);
    }
  });

inChromium('the page answers this machine only, under its own name; --open hands the address to a browser', async () => {
  const { address } = await bench([hives]);
  const { port, hostname } = new URL(address);
  const status = (headers: Record<string, string>) =>
    new Promise((resolve, reject) => {
      request({ port, hostname, path: '/', headers }, (response) => resolve(response.resume().statusCode))
        .on('error', reject)
        .end();
    });
  expect(await status({})).toBe(200);
  expect(await status({ host: 'rebound.example' })).toBe(403);
  expect(await status({ origin: 'https://elsewhere.example' })).toBe(403);
  const folder = freshFolder('browser');
  const opener = join(folder, 'opener.mjs');
  const seen = join(folder, 'seen');
  writeFileSync(
    opener,
    `#!${process.execPath}\nimport { writeFileSync } from 'node:fs';\nwriteFileSync(${JSON.stringify(seen)}, process.argv[2]);`,
    { mode: 0o755 },
  );
  const running = await start(['inspect', hives, '--json', '--open'], { env: { BROWSER: opener, JEXO_CACHE: folder } });
  stopAtEnd(running);
  while (!existsSync(seen) || readFileSync(seen, 'utf8') === '') await new Promise((resolve) => setImmediate(resolve));
  // The address is a secret: it stands in a file of this user's alone, and not on a command line.
  const place = fileURLToPath(readFileSync(seen, 'utf8'));
  expect(statSync(place).mode & 0o777).toBe(0o600);
  expect(readFileSync(place, 'utf8')).toContain(JSON.stringify(running.said.address));
});
