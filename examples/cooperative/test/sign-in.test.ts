import { chmodSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { inChromium, launch } from '../../../packages/jexo/test/support/chromium';
import { freshFolder, hives, jexo, start } from '../../../packages/jexo/test/support/command-line';
import { freePort } from '../../../packages/jexo/test/support/nginx';
// @ts-expect-error -- a plain module of the example
import { startLogin } from '../login.mjs';

interface Login {
  readonly issuer: string;
  stop(): Promise<void>;
}

inChromium('a person signs in: the page of the authorization server, consent, the way back, and the call that needed it', async () => {
  const login = await (startLogin as () => Promise<Login>)();
  const port = await freePort();
  const url = `http://127.0.0.1:${port}/mcp`;
  const server = await start(['serve', hives, '--http', String(port), '--issuer', login.issuer, '--scope', 'hives:read', '--json']);
  const browser = await launch();
  let opened: (address: string) => void = () => {};
  const address = new Promise<string>((resolve) => (opened = resolve));
  const hook = createServer((request, response) => {
    opened(new URL(request.url!, 'http://x').searchParams.get('url')!);
    response.end();
  });
  await new Promise<void>((resolve) => hook.listen(0, '127.0.0.1', resolve));
  const folder = freshFolder('person');
  const opener = join(folder, 'opener.mjs');
  writeFileSync(
    opener,
    `#!${process.execPath}
import { readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
const address = JSON.parse(/replace\\((".*?")\\)/.exec(readFileSync(fileURLToPath(process.argv[2]), 'utf8'))[1]);
await fetch('http://127.0.0.1:${(hook.address() as AddressInfo).port}/?url=' + encodeURIComponent(address));
`,
  );
  chmodSync(opener, 0o755);
  const env = { BROWSER: opener, JEXO_SIGN_INS: join(folder, 'sign-ins.json') };
  try {
    const signingIn = jexo(['sign-in', url], { env });
    const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
    await page.goto(await address);
    await page.getByRole('heading', { name: 'Sign in for Jexo' }).waitFor();
    if (process.env.SHOT) await page.screenshot({ path: `${process.env.SHOT}-consent.png` });
    await page.getByLabel('Registrar').check();
    await page.getByRole('button', { name: 'Sign in and allow' }).click();
    await page.getByRole('heading', { name: 'Signed in' }).waitFor();
    if (process.env.SHOT) await page.screenshot({ path: `${process.env.SHOT}-back.png` });
    expect(await signingIn).toMatchObject({ code: 0, stderr: expect.stringContaining('as registrar') as string });
    expect((await jexo(['call', url, 'mix_syrup', 'colonies=12'], { env })).stdout).toContain('sugarKg');
    expect((await jexo(['who'], { env })).stdout).toContain('registrar');
  } finally {
    hook.close();
    await browser.close();
    await server.stop();
    await login.stop();
  }
});
