import { spawn, type ChildProcess } from 'node:child_process';
import { createInterface } from 'node:readline';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import type { Browser, Page } from 'playwright-core';
import { inChromium, launch } from '../../../packages/jexo/test/support/chromium';
import { cooperative, start, type Running } from '../../../packages/jexo/test/support/command-line';

let browser: Browser | undefined;
let site: ChildProcess | undefined;
let server: Running | undefined;
afterAll(async () => {
  await browser?.close();
  site?.kill();
  await server?.stop();
});

async function open(options: { width?: number; colorScheme?: 'light' | 'dark' } = {}): Promise<Page> {
  browser ??= await launch();
  server ??= await start(['serve', join(cooperative, 'hive-weight.ts'), '--http', '0', '--json']);
  site = spawn(process.execPath, [fileURLToPath(new URL('../serve.mjs', import.meta.url)), '0']);
  let base = '';
  for await (const line of createInterface({ input: site.stdout! })) {
    base = (JSON.parse(line) as { address: string }).address;
    break;
  }
  const { width = 1280, colorScheme = 'light' } = options;
  const page = await (await browser.newContext({ viewport: { width, height: 900 }, colorScheme })).newPage();
  await page.goto(`${base}?server=season=${String(server.said.address)}`);
  await page.getByRole('listitem').filter({ hasText: 'season' }).getByText('2 tools').waitFor();
  return page;
}
const ask = async (page: Page, request: string) => {
  await page.getByLabel('Your request').fill(request);
  await page.keyboard.press('Enter');
};

inChromium(
  'a story: a question, the page of the hive, a booking without the model, the message it leaves, and what comes after',
  async () => {
    const page = await open();
    const errors: string[] = [];
    page.on('pageerror', (error) => errors.push(error.message));
    await ask(page, 'Show me the weight of hive MR-03 over the season.');
    const view = page.frameLocator('.view iframe').frameLocator('iframe');
    await view.getByRole('heading', { name: 'MR-03, Millrace' }).waitFor();
    await view.getByText('gained 10.6 kg').waitFor();
    // The model was given the tool for reading, and not the one that only pages may call.
    await page.getByText('hive_weight: approved by a rule.').first().waitFor();

    await view.getByLabel('Next inspection').fill('2026-07-12');
    await view.getByLabel('Look for').fill('stores');
    await view.getByRole('button', { name: 'Book it' }).click();
    await view.getByText(/^Booked for/).waitFor();
    // What the page has called is shown to the person.
    await page.getByText('The page has called book_inspection {"hive":"MR-03","date":"2026-07-12","note":"stores"}').waitFor();
    // The page’s message stands in the conversation as its own, and no tool was called for it.
    const said = page.getByRole('article').filter({ hasText: 'From the page of A hive over the season' });
    await said.getByText('Done in the view by the person, nothing is asked of you').first().waitFor();
    expect(await said.locator('details.call').count()).toBe(0);

    // The server knows of it, and refuses it a second time.
    await view.getByLabel('Next inspection').fill('2026-07-12');
    await view.getByRole('button', { name: 'Book it' }).click();
    await view.getByText('MR-03 has an inspection on 2026-07-12 already.').waitFor();
    expect(errors).toEqual([]);
  },
  60_000,
);

inChromium.each(['light', 'dark'] as const)('a view is dressed as its host is, and fits a narrow one: %s', async (colorScheme) => {
  const page = await open({ width: 400, colorScheme });
  await ask(page, 'Show me the weight of hive MR-03 over the season.');
  const view = page.frameLocator('.view iframe').frameLocator('iframe');
  await view.getByRole('heading', { name: 'MR-03, Millrace' }).waitFor();
  expect(await view.locator('html').getAttribute('data-theme')).toBe(colorScheme);
  const { width, frame, inner } = await page.evaluate(() => {
    const found = document.querySelector('.view iframe')!;
    return { width: innerWidth, frame: found.getBoundingClientRect(), inner: found.clientHeight };
  });
  expect(frame.right).toBeLessThanOrEqual(width);
  // It has said how high it is.
  expect(inner).toBeGreaterThan(300);
  expect(await view.locator('html').evaluate(({ scrollWidth, clientWidth }) => scrollWidth <= clientWidth)).toBe(true);
});
