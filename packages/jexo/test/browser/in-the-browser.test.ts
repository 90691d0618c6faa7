import { createServer, type Server as HttpServer } from 'node:http';
import { existsSync, readFileSync } from 'node:fs';
import { extname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import type { Browser } from 'playwright-core';
import { freshFolder, hives, run, start } from '../support/command-line.js';
import { inChromium, launch } from '../support/chromium.js';

const example = fileURLToPath(new URL('../../../../examples/in-the-browser/', import.meta.url));
const vite = fileURLToPath(new URL('../../../../node_modules/vite/bin/vite.js', import.meta.url));
let browser: Browser | undefined;
let site: HttpServer | undefined;
let base = '';

/** Bundles the example and serves it as any static host would. */
async function served(): Promise<string> {
  if (base !== '') return base;
  const out = freshFolder('site');
  const built = await run(process.execPath, [vite, 'build', '--outDir', out, '--emptyOutDir', '--logLevel', 'error'], { cwd: example });
  expect([built.code, built.stderr]).toEqual([0, '']);
  site = createServer((request, response) => {
    const path = new URL(request.url!, 'http://x').pathname;
    const file = join(out, path === '/' ? 'index.html' : path);
    if (!existsSync(file)) return void response.writeHead(404).end();
    response.setHeader('content-type', extname(file) === '.js' ? 'text/javascript' : 'text/html');
    response.end(readFileSync(file));
  });
  await new Promise<void>((resolve) => site!.listen(0, '127.0.0.1', resolve));
  return (base = `http://127.0.0.1:${(site.address() as { port: number }).port}/`);
}
afterAll(async () => {
  await browser?.close();
  site?.close();
});

async function story(query: string, file = ''): Promise<string[]> {
  browser ??= await launch();
  const page = await browser.newPage();
  await page.goto(`${await served()}${file}${query}`);
  await page.getByText(/^(done|failed: .*)$/).waitFor();
  return page.locator('#story li').allInnerTexts();
}

inChromium('the whole engine runs in a page', async () => {
  expect(await story('')).toEqual([
    'connected to in_the_page, protocol 2025-11-25',
    'tools: mix_syrup, who',
    'progress: mixed',
    '12 colonies in autumn: {"sugarKg":24,"waterL":12}',
    'wrong input is refused: true',
    'A keeper called Anyone',
    'Slowly, and with smoke.',
    'done',
  ]);
});

inChromium('the client reaches a running server from a page', async () => {
  const running = await start(['serve', hives, '--http', '--json']);
  expect(await story(`?url=${encodeURIComponent(String(running.said.address))}`)).toEqual([
    'connected to hives, protocol 2025-11-25',
    'tools: mix_syrup, days_to_harvest, mites_per_100, winter_stores',
    '12 colonies in autumn: {"sugarKg":24,"waterL":12}',
    'wrong input is refused: true',
    'done',
  ]);
  await running.stop();
});

inChromium('the client alone reaches several servers from a page, and one that is missing keeps nobody', async () => {
  const running = await start(['serve', hives, '--http', '0', '--json']);
  const url = String(running.said.address);
  expect(await story(`?server=${encodeURIComponent(url)}&server=${encodeURIComponent('http://127.0.0.1:9/mcp')}`, 'client.html')).toEqual([
    'server1: ready',
    expect.stringMatching(/^server2: waiting, .+/),
    'tools: mix_syrup, days_to_harvest, mites_per_100, winter_stores',
    'as functions of a chat model: mix_syrup and 3 more',
    '12 colonies in autumn: {"sugarKg":24,"waterL":12}',
    'done',
  ]);
  await running.stop();
});
