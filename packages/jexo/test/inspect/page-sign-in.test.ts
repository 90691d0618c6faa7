import { join } from 'node:path';
import { startAuthorizationServer } from '../support/authorization-server.js';
import { bench, pick, stopAtEnd } from '../support/bench-page.js';
import { inChromium } from '../support/chromium.js';
import { freshFolder, hives, start } from '../support/command-line.js';
import { freePort } from '../support/nginx.js';

let close: () => Promise<void> = async () => {};
afterAll(() => close());

inChromium('a server that wants a sign-in: the page says so, a person signs in and agrees, and the connection goes on', async () => {
  const login = await startAuthorizationServer();
  close = () => login.close();
  const port = await freePort();
  const url = `http://127.0.0.1:${port}/mcp`;
  stopAtEnd(await start(['serve', hives, '--http', String(port), '--issuer', login.issuer, '--scope', 'hives:read', '--json']));
  const { page } = await bench([url], { env: { JEXO_SIGN_INS: join(freshFolder('sign-ins'), 'sign-ins.json') } });
  const question = page.getByText(`wants a sign-in at ${login.issuer} for hives:read`);
  await question.first().waitFor();
  const opened = page.context().waitForEvent('page');
  await page.getByRole('link', { name: 'Open the page' }).click();
  const there = await opened;
  await there.locator('input[name=login]').fill('keeper');
  await there.locator('input[name=password]').fill('any');
  await there.locator('button[type=submit]').click();
  await there.locator('button[type=submit]').click();
  await there.getByRole('heading', { name: 'Signed in' }).waitFor();
  await pick(page, 'mix_syrup');
  await page.getByRole('spinbutton', { name: /^colonies/ }).fill('12');
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  await page.getByText('sugarKg').first().waitFor();
  await page.getByText('sign-in: token for the code').first().click();
  // Over HTTP, too, an answer is tied to its request, across the sign-in.
  const trace = page.getByRole('complementary', { name: 'Trace' });
  await trace.getByText('answer: initialize').waitFor();
  await trace.getByText('answer: mix_syrup').waitFor();
  expect(await trace.getByText(/^HTTP 200/).count()).toBe(0);
  // The steps are on the trace, without a secret.
  await page.getByText('sign-in: token for the code').first().waitFor();
  expect(await page.content()).not.toMatch(/eyJ[\w-]{20}/);
});
