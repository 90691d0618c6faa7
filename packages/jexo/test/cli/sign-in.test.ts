import { existsSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { startAuthorizationServer, type AuthorizationServer } from '../support/authorization-server.js';
import { freshFolder, hives, jexo, start } from '../support/command-line.js';
import { freePort } from '../support/nginx.js';
import { standInBrowser } from '../support/stand-in-browser.js';
import { atTerminal, onTerminal } from '../support/terminal.js';

let login: AuthorizationServer;
const open: (() => unknown)[] = [];
beforeAll(async () => (login = await startAuthorizationServer()));
afterAll(() => login.close());
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});

/** A server with sign-in, and what takes the place of a browser: it hands the address to a person of the test. */
async function world(visitHow: Parameters<AuthorizationServer['visit']>[1] = {}) {
  const folder = freshFolder('sign-in');
  const port = await freePort();
  const url = `http://127.0.0.1:${port}/mcp`;
  const words = ['--offer-scope', 'mites_*=hives:write', '--step-up', '--scope', 'hives:read'];
  const server = await start(['serve', hives, '--http', String(port), '--issuer', login.issuer, ...words, '--json']);
  open.push(() => server.stop());
  const browser = await standInBrowser(join(folder, 'browser.mjs'), (address) => login.visit(address, visitHow));
  open.push(() => browser.stop());
  const env = { BROWSER: browser.file, JEXO_SIGN_INS: join(folder, 'kept', 'sign-ins.json') };
  return { url, env, visited: browser.visited, file: env.JEXO_SIGN_INS };
}

test('sign-in, who, call and sign-out as a script sees them', async () => {
  const { url, env, visited, file } = await world();
  const refused = await jexo(['call', url, 'mix_syrup', 'colonies=12'], { env });
  expect([refused.code, refused.stderr]).toEqual([3, expect.stringContaining(`jexo sign-in ${url}`)]);
  expect(visited).toEqual([]);

  const signedIn = await jexo(['sign-in', url, '--json'], { env });
  expect([signedIn.code, JSON.parse(signedIn.stdout)]).toEqual([
    0,
    expect.objectContaining({
      needed: true,
      endpoint: url,
      issuer: login.issuer,
      subject: 'keeper',
      scopes: ['hives:read'],
      isRenewed: true,
    }),
  ]);
  expect(signedIn.stdout).not.toMatch(/eyJ|token/i);
  const call = await jexo(['call', url, 'mix_syrup', 'colonies=12', '--json'], { env });
  expect(JSON.parse(call.stdout)).toMatchObject({ structuredContent: { sugarKg: 12 } });

  // More is needed than was asked for, and nobody is there to ask.
  const narrow = await jexo(['call', url, 'mites_per_100', 'mites=9'], { env });
  expect([narrow.code, narrow.stderr]).toEqual([3, expect.stringContaining('sign-in')]);
  expect((await jexo(['sign-in', url, '--scope', 'hives:write', '--json'], { env })).code).toBe(0);

  const who = await jexo(['who', '--json'], { env });
  expect(JSON.parse(who.stdout)).toMatchObject({ file, signIns: [{ endpoint: url, scopes: ['hives:read', 'hives:write'] }] });
  expect((await jexo(['who', 'https://elsewhere.example/mcp'], { env })).code).toBe(1);
  const out = await jexo(['sign-out', url, '--json'], { env });
  expect(JSON.parse(out.stdout)).toMatchObject({ signedOut: [{ endpoint: url, issuer: login.issuer }] });
  expect((await jexo(['call', url, 'mix_syrup', 'colonies=12'], { env })).code).toBe(3);
  expect((await jexo(['sign-out', url], { env })).stderr).toContain('No sign-in at');
  expect(JSON.parse(readFileSync(file, 'utf8'))).toEqual({ signIns: [] });
});

test('what is wrong with a sign-in is said in words, with an exit code', async () => {
  const { url, env, file } = await world({ declines: true });
  for (const [words, code, says] of [
    [['sign-in'], 2, 'No address was given'],
    [['sign-in', 'hives.ts'], 2, 'is not an address'],
    [['sign-in', url, '--issuer', 'https://other.example'], 3, `It takes those of ${login.issuer}`],
    [['sign-in', url], 3, 'declined'],
    [['sign-in', 'http://127.0.0.1:9/mcp'], 3, 'nothing is listening'],
    [['sign-out'], 2, 'No address was given'],
    [['sign-out', url, '--all'], 2, 'Give an address, or --all'],
    [['who', 'nowhere'], 2, 'is not an address'],
  ] as const) {
    const found = await jexo(words, { env });
    expect([words, found.code, found.stderr]).toEqual([words, code, expect.stringContaining(says)]);
    expect(found.stderr).not.toMatch(/\bat .*\.(?:m?js|ts):\d/);
  }
  expect(existsSync(file)).toBe(false);
  const quiet = await jexo(['sign-out', '--all', '--json'], { env });
  expect(JSON.parse(quiet.stdout)).toEqual({ signedOut: [] });
});

test('a service signs in by an id and a secret of the environment', async () => {
  const { url, env, visited, file } = await world();
  const service = { ...env, JEXO_ISSUER: login.issuer, JEXO_CLIENT_ID: 'scales', JEXO_CLIENT_SECRET: 'a-secret-of-the-scales' };
  const call = await jexo(['call', url, 'mix_syrup', 'colonies=12', '--json'], { env: service });
  expect(JSON.parse(call.stdout)).toMatchObject({ structuredContent: { sugarKg: 12 } });
  // Nobody is there who could give it more.
  const narrow = await jexo(['call', url, 'mites_per_100', 'mites=9'], { env: service });
  expect([narrow.code, narrow.stderr]).toEqual([3, expect.stringContaining('403')]);
  const wrong = await jexo(['call', url, 'mix_syrup', 'colonies=12'], { env: { ...service, JEXO_CLIENT_SECRET: 'wrong' } });
  expect([wrong.code, wrong.stderr]).toEqual([3, expect.stringContaining('invalid_client')]);
  expect([visited, existsSync(file)]).toEqual([[], false]);
  const nowhere = await jexo(['call', url, 'mix_syrup', 'colonies=12'], { env: { ...service, JEXO_ISSUER: '' } });
  expect([nowhere.code, nowhere.stderr]).toEqual([3, expect.stringContaining('Set JEXO_ISSUER')]);
});

test('a server that asks for none needs none', async () => {
  const server = await start(['serve', hives, '--http', '0', '--json']);
  open.push(() => server.stop());
  const found = await jexo(['sign-in', server.said.address as string, '--json'], {
    env: { JEXO_SIGN_INS: join(freshFolder('none'), 's.json') },
  });
  expect([found.code, JSON.parse(found.stdout)]).toEqual([0, { needed: false }]);
});

onTerminal('at a terminal, a call signs in when it is needed, and again for a call that needs more', async () => {
  const { url, env, visited } = await world();
  const { code, screen } = await atTerminal(['call', url, 'mites_per_100', 'mites=9'], [], 200, env);
  expect([code, screen]).toEqual([0, expect.stringContaining('answered in')]);
  expect(screen).toContain('wants a sign-in at');
  expect(visited.map((address) => new URL(address).searchParams.get('scope'))).toEqual(['hives:read', 'hives:read hives:write']);
});

onTerminal('without a browser, the address that the person arrives at is pasted', async () => {
  const { url, env } = await world();
  const arrive = async (screen: string) => {
    const [address] = /http:\/\/127\.0\.0\.1:\d+\/auth\S+/.exec(screen)!;
    return (await login.visit(address, { comesBack: false })).href;
  };
  const answers = [
    [/address $/, 'nothing'],
    [/Paste all of it[^]*address $/, arrive],
  ] as const;
  const { code, screen } = await atTerminal(['sign-in', url, '--no-browser'], answers, 1000, env);
  expect([code, screen]).toEqual([0, expect.stringContaining('Signed in at')]);
});
