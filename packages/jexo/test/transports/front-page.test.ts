import { request } from 'node:http';
import type { Browser } from 'playwright-core';
import { z } from 'zod';
import { defineServer, prompt, resource, serveHttp, template, tool, type HttpService } from '../../src/index.js';
import { inChromium, launch } from '../support/chromium.js';

let browser: Browser | undefined;
const open: HttpService[] = [];
afterAll(async () => {
  await browser?.close();
  await Promise.all(open.map((service) => service.close()));
});

const hostile = '<img src=x onerror="document.title=\'broken\'"><script>document.title="broken"</script>';
const server = defineServer({
  name: 'lots-of-honey',
  title: 'Lots of honey',
  version: '2.0.0',
  instructions: `Honey lots. ${hostile}`,
  offers: [
    tool(
      'count_jars',
      {
        description: `Counts jars. ${hostile}`,
        input: z.object({
          lot: z.string().describe('which lot'),
          size: z.enum(['small', 'large']).optional(),
          more: z.array(z.number()).optional(),
        }),
        output: z.object({ jars: z.number(), more: z.number() }),
      },
      ({ lot, more = [] }) => {
        if (lot === 'none') throw new Error('There is no such lot.');
        return { jars: lot.length, more: more.length };
      },
    ),
    resource('lots://all', { description: 'All lots.' }, () => 'x'),
    template('lots://{lot}', { name: 'lot', description: 'One lot.' }, ({ lot }) => `lot ${String(lot)}`),
    prompt('label', { description: 'A label.', input: z.object({ lot: z.string() }) }, ({ lot }) => `Label lot ${lot}.`),
  ],
});
async function serve(page: boolean) {
  const service = await serveHttp(server, { page });
  open.push(service);
  return service;
}
const status = (url: string, headers: Record<string, string> = {}) =>
  new Promise<number>((resolve, reject) =>
    request(url, { headers }, (response) => void resolve(response.resume().statusCode!))
      .on('error', reject)
      .end(),
  );

inChromium('a person sees what is offered, tries a tool, and copies a configuration', async () => {
  const { url, port } = await serve(true);
  browser ??= await launch();
  const context = await browser.newContext();
  await context.grantPermissions(['clipboard-read', 'clipboard-write']);
  const page = await context.newPage();
  page.setDefaultTimeout(30_000);
  const errors: string[] = [];
  page.on('pageerror', (error) => void errors.push(error.message));
  page.on('console', (entry) => void (entry.type() === 'error' && errors.push(entry.text())));
  await page.goto(`http://127.0.0.1:${port}/`);
  await page.getByRole('heading', { name: 'Lots of honey' }).waitFor();
  await page.getByText('count_jars').first().click();
  const tools = page.locator('details', { hasText: 'count_jars' });
  await tools.getByLabel(/lot/).fill('H-204');
  for (const [place, value] of [
    [1, '10'],
    [2, '20'],
  ] as const) {
    await tools.getByRole('button', { name: 'Add an item' }).click();
    await tools.getByLabel(`${place} number required`, { exact: true }).fill(value);
  }
  await tools.getByRole('button', { name: 'Call' }).click();
  await page.getByText('"jars": 5').waitFor();
  expect(await tools.getByRole('status').innerText()).toContain('"more": 2');
  await tools.getByLabel(/lot/).fill('none');
  await tools.getByRole('button', { name: 'Call' }).click();
  await page.getByText('There is no such lot.').waitFor();
  for (const words of ['lots://all', 'label', `jexo register ${url} --config`])
    expect(await page.locator('main').innerText()).toContain(words);
  expect(await page.getByText('A tool that asks questions needs a client').isVisible()).toBe(true);
  // Descriptions are there at once; resources are read, and prompts rendered.
  expect(await page.locator('summary', { hasText: 'lots://all' }).innerText()).toContain('All lots.');
  const all = page.locator('details', { hasText: 'lots://all' });
  await all.locator('summary').click();
  await all.getByRole('button', { name: 'Read' }).click();
  await all.getByRole('status').getByText('x', { exact: true }).waitFor();
  const one = page.locator('details', { hasText: 'lots://{lot}' });
  await one.locator('summary').click();
  await one.getByLabel(/lot/).fill('H 204');
  await one.getByRole('button', { name: 'Read' }).click();
  await one.getByText('lot H 204', { exact: true }).waitFor();
  const label = page.locator('details', { hasText: 'A label.' });
  await label.locator('summary').click();
  await label.getByLabel(/lot/).fill('H-204');
  await label.getByRole('button', { name: 'Render' }).click();
  await label.getByText('user: Label lot H-204.').waitFor();
  await page.getByRole('button', { name: 'Copy' }).first().click();
  await page.getByRole('button', { name: 'Copied' }).waitFor();
  expect(JSON.parse(await page.evaluate(() => navigator.clipboard.readText()))).toEqual({ lots_of_honey: { url } });
  // What a server says is text here, and nothing of it runs.
  expect([await page.title(), await page.locator('main img, main script').count()]).toEqual(['Lots of honey', 0]);
  expect(errors).toEqual([]);
  await context.close();
});

test('it is for this machine’s own names, and can be turned off', async () => {
  const { port } = await serve(true);
  expect(await status(`http://127.0.0.1:${port}/`)).toBe(200);
  expect(await status(`http://127.0.0.1:${port}/`, { host: 'evil.example' })).toBe(403);
  const without = await serve(false);
  expect(await status(`http://127.0.0.1:${without.port}/`)).toBe(404);
});
