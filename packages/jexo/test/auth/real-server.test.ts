import { join } from 'node:path';
import { connect, type Client } from '../../src/index.js';
import { cooperative, start, jexo } from '../support/command-line.js';
import { startAuthorizationServer } from '../support/authorization-server.js';
import { freePort } from '../support/nginx.js';

const open: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});

const authorizationServer = async () => {
  const server = await startAuthorizationServer();
  open.push(() => server.close());
  return server;
};

test('served with --issuer: a real authorization server’s token is taken for this resource, and not one for another', async () => {
  const { issuer, token } = await authorizationServer();
  // The port is chosen first: tokens are for the address.
  const port = await freePort();
  const url = `http://127.0.0.1:${port}/mcp`;
  const running = await start([
    'serve',
    join(cooperative, 'hives.ts'),
    '--http',
    String(port),
    '--issuer',
    issuer,

    '--scope',
    'hives:read',
    '--json',
  ]);
  open.push(() => running.stop());
  const metadata = (await (await fetch(new URL('/.well-known/oauth-protected-resource/mcp', url))).json()) as {
    authorization_servers: string[];
  };
  expect(metadata).toMatchObject({ resource: url, authorization_servers: [issuer], scopes_supported: ['hives:read'] });
  const client: Client = await connect(url, { headers: { Authorization: `Bearer ${await token(url)}` } });
  open.push(() => client.close());
  expect((await client.call('mix_syrup', { colonies: 12 })).structuredContent).toEqual({ sugarKg: 12, waterL: 12 });
  await expect(connect(url, { headers: { Authorization: `Bearer ${await token(`${url}/other`)}` } })).rejects.toMatchObject({
    data: { status: 401 },
  });
  await expect(connect(url)).rejects.toMatchObject({ data: { status: 401 } });
});

test('[MCP-211] options that make no sense together are refused', async () => {
  const serve = (...words: string[]) => jexo(['serve', join(cooperative, 'hives.ts'), ...words]);
  for (const [words, why] of [
    [['--issuer', 'https://login.example'], 'Tokens are for an address'],
    [['--issuer', 'https://login.example', '--public-url', 'https://apiary.example/mcp'], 'over stdio'],
    [['--http', '4300', '--audience', 'x'], 'Add --issuer'],
    [['--http', '4300', '--issuer', 'http://login.example'], 'is not HTTPS'],
    [['--http', '4300', '--issuer', 'https://login.example', '--keys', 'keys.json'], 'not by both'],
  ] as const) {
    const { code, stderr } = await serve(...words);
    expect([words, code === 2 || code === 3, stderr]).toEqual([words, true, expect.stringContaining(why)]);
  }
});
