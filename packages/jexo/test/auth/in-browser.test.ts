import { readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { defineServer, oauth, serveHttp, tool } from '../../src/index.js';
import { startAuthorizationServer } from '../support/authorization-server.js';
import { inChromium, launch } from '../support/chromium.js';
import { listen } from '../support/listen.js';
import { freePort } from '../support/nginx.js';

const client = readFileSync(fileURLToPath(new URL('../../dist/client.mjs', import.meta.url)), 'utf8');

inChromium('a web page signs in: a window opens, the person agrees, and the call that needed it is answered', async () => {
  const login = await startAuthorizationServer();
  const port = await freePort();
  const url = `http://127.0.0.1:${port}/mcp`;
  const html = (body: string) =>
    new Response(`<!doctype html><meta charset="utf-8"><title>t</title>${body}`, { headers: { 'content-type': 'text/html' } });
  const site = await listen((request) => {
    const { pathname } = new URL(request.url);
    if (pathname === '/client.mjs') return new Response(client, { headers: { 'content-type': 'text/javascript' } });
    if (pathname === '/callback') return html(`<script type="module">import { cameBack } from './client.mjs'; cameBack();</script>`);
    return html(`<button>Ask</button><p></p><script type="module">
      import { connect, popupVisit, signIn } from './client.mjs';
      const auth = signIn({ visit: popupVisit({ redirectUrl: location.origin + '/callback' }), clientId: 'desk' });
      document.querySelector('button').onclick = async () => {
        const say = (text) => (document.querySelector('p').textContent = text);
        try {
          const client = await connect(${JSON.stringify(url)}, { auth });
          say((await client.call('whoami')).content[0].text);
        } catch (error) {
          say('failed: ' + error.message);
        }
      };
    </script>`);
  });
  const apiary = defineServer({
    name: 'apiary',
    version: '1.0.0',
    offers: [tool('whoami', { description: 'Says who calls.' }, (_input, call) => call.caller.identity!)],
  });
  const service = await serveHttp(apiary, {
    port,
    allowedOrigins: [site.url],
    auth: oauth({ issuer: login.issuer, resource: url, scopes: ['hives:read'] }),
  });
  const browser = await launch();
  try {
    const page = await browser.newPage();
    await page.goto(site.url);
    const opened = page.context().waitForEvent('page');
    await page.getByRole('button', { name: 'Ask' }).click();
    const there = await opened;
    await there.locator('input[name=login]').fill('keeper');
    await there.locator('input[name=password]').fill('any');
    await there.locator('button[type=submit]').click();
    await there.locator('button[type=submit]').click();
    await page.getByText(`${login.issuer} keeper`).waitFor();
    // Nothing of it stays in the browser.
    expect(await page.evaluate(() => [localStorage.length, sessionStorage.length, document.cookie])).toEqual([0, 0, '']);
  } finally {
    await browser.close();
    await service.close();
    await site.close();
    await login.close();
  }
});
