import { existsSync } from 'node:fs';
import { chromium, type Browser } from 'playwright-core';

const found = [process.env.CHROMIUM, '/usr/bin/chromium', '/usr/bin/chromium-browser', '/usr/bin/google-chrome-stable'].find(
  (path) => path !== undefined && existsSync(path),
);

/** Tests that need a real browser. Without one they are skipped by name, and in CI a skip is a failure. */
export const inChromium: typeof test = found !== undefined || process.env.CI ? test : (test.skip as typeof test);
if (found === undefined)
  console.warn('No Chromium was found: the tests of the page are skipped. Install it, or name it in the variable CHROMIUM.');

export function launch(): Promise<Browser> {
  if (found === undefined) throw new Error('Chromium is missing, and CI may not skip the tests that need it.');
  return chromium.launch({
    executablePath: found,
    args: [
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
    ],
  });
}
