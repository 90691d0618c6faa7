import type { Browser, Page } from 'playwright-core';
import { freshFolder, start, type Running } from './command-line.js';
import { launch } from './chromium.js';

let browser: Browser | undefined;
const open: Running[] = [];
afterAll(async () => {
  await browser?.close();
  await Promise.all(open.map((running) => running.stop('SIGINT')));
});

/** What a test has started ends with the tests of its file. */
export function stopAtEnd(running: Running): void {
  open.push(running);
}

export interface BenchOptions {
  readonly width?: number;
  readonly height?: number;
  readonly notes?: string;
  readonly cwd?: string;
  readonly env?: Record<string, string>;
  readonly colorScheme?: 'light' | 'dark';
}
/** Starts the inspector on targets, and opens its page in a browser that all tests of a file share. */
export async function bench(
  target: readonly string[],
  { width = 1280, height = 800, notes = freshFolder('notes'), cwd, env, ...context }: BenchOptions = {},
): Promise<{ page: Page; address: string; errors: string[]; running: Running }> {
  browser ??= await launch();
  // What a bench keeps from one start to the next is kept in the cache.
  const running = await start(['inspect', '--json', ...target], { env: { JEXO_CACHE: notes, ...env }, ...(cwd !== undefined && { cwd }) });
  stopAtEnd(running);
  const page = await (await browser.newContext({ viewport: { width, height }, ...context })).newPage();
  page.setDefaultTimeout(30_000);
  const errors: string[] = [];
  page.on('pageerror', (error) => void errors.push(error.message));
  page.on('console', (entry) => void (entry.type() === 'error' && errors.push(entry.text())));
  const address = String(running.said.address);
  await page.goto(address);
  return { page, address, errors, running };
}

/** Puts something of the shelf on the bench. */
export async function pick(page: Page, name: string): Promise<void> {
  await page.getByLabel('Search the shelf').fill(name);
  await page.getByRole('option', { name }).first().click();
  await page.getByLabel('Search the shelf').fill('');
}
