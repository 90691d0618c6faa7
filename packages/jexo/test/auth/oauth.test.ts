import { createHmac } from 'node:crypto';
import { exportJWK, exportSPKI, generateKeyPair, SignJWT, UnsecuredJWT, type JWTPayload } from 'jose';
import {
  connect,
  defineServer,
  isJexoError,
  oauth,
  serveHttp,
  tool,
  type Client,
  type Clock,
  type HttpService,
  type OAuthOptions,
} from '../../src/index.js';
import { listen } from '../support/listen.js';

const open: { close(): Promise<unknown> }[] = [];
afterEach(async () => {
  for (const each of open.splice(0).reverse()) await each.close();
});

const pairs = {
  first: await generateKeyPair('RS256', { extractable: true }),
  second: await generateKeyPair('ES256', { extractable: true }),
  stranger: await generateKeyPair('RS256', { extractable: true }),
};
const jwk = async (name: keyof typeof pairs, alg = name === 'second' ? 'ES256' : 'RS256') => ({
  ...(await exportJWK(pairs[name].publicKey)),
  kid: name,
  alg,
  use: 'sig',
});

/** An authorization server that has documents only: tokens are signed here. */
async function issuerServer(more: { metadata?: object; jwks?: () => Promise<object> | object; isDown?: () => boolean } = {}) {
  const asked: string[] = [];
  const server = await listen(async (request) => {
    const { pathname } = new URL(request.url);
    asked.push(pathname);
    if (more.isDown?.()) return new Response('down', { status: 503 });
    if (pathname === '/.well-known/oauth-authorization-server')
      return Response.json({ issuer: server.url, jwks_uri: `${server.url}/jwks`, ...more.metadata });
    if (pathname === '/jwks') return Response.json((await more.jwks?.()) ?? { keys: [await jwk('first')] });
    return new Response('', { status: 404 });
  });
  open.push(server);
  return { url: server.url, asked };
}

/** A clock that goes when it is told to. */
function handClock(): Clock & { ms: number } {
  return {
    ms: 0,
    now() {
      return this.ms;
    },
    after: () => undefined,
    cancel: () => undefined,
  };
}

const resource = 'https://apiary.example/mcp';
const now = () => Math.floor(Date.now() / 1000);
type Claims = Readonly<Record<string, unknown>>;
const claimsOf = (issuer: string): Claims => ({
  iss: issuer,
  aud: resource,
  sub: 'keeper',
  exp: now() + 300,
  iat: now(),
  scope: 'hives:read',
});
const sign = (
  claims: Claims,
  { key = 'first', alg = 'RS256', header = {} }: { key?: keyof typeof pairs; alg?: string; header?: object } = {},
) => new SignJWT(claims as JWTPayload).setProtectedHeader({ alg, kid: key, typ: 'at+jwt', ...header }).sign(pairs[key].privateKey);

const apiary = defineServer({
  name: 'apiary',
  version: '1.0.0',
  offers: [
    tool('list_hives', { scope: 'hives:read' }, (_, call) => `${String(call.caller.identity)} ${call.caller.scopes!.join(' ')}`),
    tool('move_hive', { scope: 'hives:write' }, () => 'moved'),
  ],
});
async function served(issuer: string | readonly string[], options: Partial<OAuthOptions> = {}): Promise<HttpService> {
  const service = await serveHttp(apiary, { auth: oauth({ issuer, resource, scopes: ['hives:read', 'hives:write'], ...options }) });
  open.push(service);
  return service;
}
const post = (url: string, token?: string, query = '') =>
  fetch(`${url}${query}`, {
    method: 'POST',
    headers: {
      'content-type': 'application/json',
      accept: 'application/json, text/event-stream',
      ...(token !== undefined && { authorization: `Bearer ${token}` }),
    },
    body: JSON.stringify({
      jsonrpc: '2.0',
      id: 1,
      method: 'initialize',
      params: { protocolVersion: '2025-11-25', capabilities: {}, clientInfo: { name: 't', version: '1' } },
    }),
  });
async function connected(url: string, token: string): Promise<Client> {
  const client = await connect(url, { headers: { Authorization: `Bearer ${token}` } });
  open.push(client);
  return client;
}

test('[MCP-212] [MCP-213] without a token: 401 with where to sign in, and metadata at both well-known places, for any page', async () => {
  const issuer = await issuerServer();
  const service = await served(issuer.url);
  const refused = await post(service.url);
  expect([refused.status, refused.headers.get('www-authenticate')]).toEqual([
    401,
    'Bearer scope="hives:read hives:write", resource_metadata="https://apiary.example/.well-known/oauth-protected-resource/mcp"',
  ]);
  for (const path of ['/.well-known/oauth-protected-resource', '/.well-known/oauth-protected-resource/mcp']) {
    const found = await fetch(new URL(path, service.url));
    expect([found.status, found.headers.get('access-control-allow-origin')]).toEqual([200, '*']);
    expect(await found.json()).toEqual({
      resource,
      authorization_servers: [issuer.url],
      bearer_methods_supported: ['header'],
      dpop_signing_alg_values_supported: ['ES256', 'EdDSA', 'Ed25519', 'RS256', 'PS256'],
      scopes_supported: ['hives:read', 'hives:write'],
    });
  }
  expect((await fetch(new URL('/.well-known/oauth-protected-resource', service.url), { method: 'POST' })).status).toBe(405);
  expect((await fetch(new URL('/.well-known/other', service.url))).status).toBe(404);
  // No token has been sent: the issuer has not been asked for anything.
  expect(issuer.asked).toEqual([]);
});

test('a token lets its holder in, with subject and scopes; offers of other scopes are hidden', async () => {
  const issuer = await issuerServer();
  const service = await served(issuer.url);
  const client = await connected(service.url, await sign(claimsOf(issuer.url)));
  expect((await client.tools()).map(({ name }) => name)).toEqual(['list_hives']);
  expect((await client.call('list_hives')).content[0]).toMatchObject({ text: `${issuer.url} keeper hives:read` });
  await expect(client.call('move_hive')).rejects.toThrow(/Unknown tool/);
  const both = await connected(service.url, await sign({ ...claimsOf(issuer.url), scope: undefined, scp: ['hives:read', 'hives:write'] }));
  expect(await both.tools()).toHaveLength(2);
  // Documents and keys were fetched once for all of it.
  expect(issuer.asked).toEqual(['/.well-known/oauth-authorization-server', '/jwks']);
});

test('[MCP-238] [MCP-239] [MCP-240] a session belongs to who began it, whatever else is right about another token', async () => {
  const issuer = await issuerServer();
  const service = await served(issuer.url);
  const session = (await post(service.url, await sign(claimsOf(issuer.url)))).headers.get('mcp-session-id')!;
  const as = async (sub: string | undefined) =>
    fetch(service.url, {
      method: 'POST',
      headers: {
        'content-type': 'application/json',
        accept: 'application/json, text/event-stream',
        'mcp-session-id': session,
        ...(sub !== undefined && { authorization: `Bearer ${await sign({ ...claimsOf(issuer.url), sub })}` }),
      },
      body: JSON.stringify({ jsonrpc: '2.0', id: 2, method: 'ping' }),
    });
  expect((await as('keeper')).status).toBe(200);
  expect((await as('guest')).status).toBe(404);
  // A session’s id is no sign-in.
  expect((await as(undefined)).status).toBe(401);
});

test('[MCP-230] required scopes: 403 says which', async () => {
  const issuer = await issuerServer();
  const service = await served(issuer.url, { required: ['apiary'] });
  const refused = await post(service.url, await sign(claimsOf(issuer.url)));
  expect(refused.status).toBe(403);
  expect(refused.headers.get('www-authenticate')).toMatch(
    /^Bearer error="insufficient_scope", scope="hives:read apiary", error_description="The token lacks apiary", resource_metadata="/,
  );
  expect((await post(service.url, await sign({ ...claimsOf(issuer.url), scope: 'apiary' }))).status).toBe(200);
});

test('[MCP-224] [MCP-175] [MCP-229] what is wrong with a token is refused, each by 401 and in words; nothing of it is let in', async () => {
  const issuer = await issuerServer();
  const service = await served(issuer.url);
  const good = claimsOf(issuer.url);
  const [head, body, signature] = (await sign(good)).split('.') as [string, string, string];
  const encode = (value: object) => Buffer.from(JSON.stringify(value)).toString('base64url');
  const spki = await exportSPKI(pairs.first.publicKey);
  const confused = (secret: string) => {
    const text = `${encode({ alg: 'HS256', kid: 'first', typ: 'at+jwt' })}.${body}`;
    return `${text}.${createHmac('sha256', secret).update(text).digest('base64url')}`;
  };
  const own = async (header: object) => `${encode({ alg: 'RS256', ...header })}.${body}.${signature}`;
  const attacks: Readonly<Record<string, string>> = {
    'for another resource': await sign({ ...good, aud: 'https://other.example/mcp' }),
    'for a resource that begins alike': await sign({ ...good, aud: `${resource}2` }),
    'for the host only': await sign({ ...good, aud: 'https://apiary.example' }),
    'for nobody': await sign({ ...good, aud: undefined }),
    'an empty audience': await sign({ ...good, aud: [] }),
    'a client’s own token (audience is a client)': await sign({ ...good, aud: 'desk' }),
    expired: await sign({ ...good, exp: now() - 60 }),
    'without an end': await sign({ ...good, exp: undefined }),
    'an end that is a text': await sign({ ...good, exp: 'never' }),
    'not valid yet': await sign({ ...good, nbf: now() + 600 }),
    'of another issuer': await sign({ ...good, iss: 'https://evil.example' }),
    'of an issuer that begins alike': await sign({ ...good, iss: `${issuer.url}.evil.example` }),
    'of an issuer with a slash more': await sign({ ...good, iss: `${issuer.url}/` }),
    'of no issuer': await sign({ ...good, iss: undefined }),
    'of nobody': await sign({ ...good, sub: undefined }),
    'signed by a stranger with the key’s name': await sign(good, { key: 'stranger', header: { kid: 'first' } }),
    'signed by a key that is not known': await sign(good, { key: 'stranger' }),
    unsigned: new UnsecuredJWT(good as JWTPayload).encode(),
    'unsigned, alg None': `${encode({ alg: 'None' })}.${body}.`,
    'the signature removed': `${head}.${body}.`,
    'the signature of another body': `${head}.${encode({ ...good, sub: 'admin' })}.${signature}`,
    'signed with the public key as a secret': confused(spki),
    'signed with the public key as a secret, without its end': confused(spki.trim()),
    'signed with an empty secret': confused(''),
    'another algorithm than the key’s': await own({ alg: 'ES256', kid: 'first' }),
    'a key in the token': await sign(good, { key: 'stranger', header: { jwk: await exportJWK(pairs.stranger.publicKey) } }),
    'an address of keys in the token': await sign(good, { key: 'stranger', header: { jku: 'https://evil.example/jwks' } }),
    'a header that must be understood': await sign(good, { header: { crit: ['exp'], exp: now() } }).catch(() =>
      own({ crit: ['x'], x: 1, kid: 'first' }),
    ),
    'an ID token': await sign(good, { header: { typ: 'id_token+jwt' } }),
    'a logout token': await sign(good, { header: { typ: 'logout+jwt' } }),
    'a proof (DPoP)': await sign(good, { header: { typ: 'dpop+jwt' } }),
    'two points': 'a.b.c',
    'four points': `${head}.${body}.${signature}.x`,
    'an encrypted token': 'eyJhbGciOiJSU0EtT0FFUCJ9.a.b.c.d',
    'no JSON': `${head}.${Buffer.from('nonsense').toString('base64url')}.${signature}`,
    'an empty text': '',
    'a word': 'letmein',
    'very long': `${head}.${'A'.repeat(9000)}.${signature}`,
  };
  for (const [what, token] of Object.entries(attacks)) {
    const answer = await post(service.url, token);
    const challenge = answer.headers.get('www-authenticate') ?? '';
    expect([what, answer.status]).toEqual([what, 401]);
    expect([what, challenge.includes('resource_metadata=')]).toEqual([what, true]);
    // What the token holds is not told back.
    expect([what, /evil|admin|desk/.test(challenge + (await answer.text()))]).toEqual([what, false]);
  }
  expect(Object.keys(attacks).length).toBeGreaterThan(35);
  // A token elsewhere than in the header is not seen.
  expect((await post(service.url, undefined, `?access_token=${await sign(good)}`)).status).toBe(401);
  expect((await fetch(service.url, { method: 'POST', headers: { authorization: `Basic ${await sign(good)}` } })).status).toBe(401);
  // No keys were fetched from where a token wanted, and unknown keys did not make us ask again and again.
  expect(issuer.asked.filter((path) => path === '/jwks').length).toBeLessThanOrEqual(2);
  expect((await post(service.url, await sign(good))).status).toBe(200);
});

test('clocks may differ by a little', async () => {
  const issuer = await issuerServer();
  const service = await served(issuer.url);
  expect((await post(service.url, await sign({ ...claimsOf(issuer.url), exp: now() - 10, nbf: now() + 10 }))).status).toBe(200);
  const strict = await served(issuer.url, { clockToleranceS: 0 });
  expect((await post(strict.url, await sign({ ...claimsOf(issuer.url), exp: now() - 2 }))).status).toBe(401);
});

test('several issuers, each with its own keys: none may sign for another', async () => {
  const one = await issuerServer();
  const two = await issuerServer({ jwks: async () => ({ keys: [await jwk('second')] }) });
  const service = await served([one.url, two.url]);
  expect((await post(service.url, await sign(claimsOf(one.url)))).status).toBe(200);
  expect((await post(service.url, await sign(claimsOf(two.url), { key: 'second', alg: 'ES256' }))).status).toBe(200);
  expect((await post(service.url, await sign(claimsOf(two.url)))).status).toBe(401);
  expect((await post(service.url, await sign(claimsOf(one.url), { key: 'second', alg: 'ES256' }))).status).toBe(401);
  // The same subject of two issuers is two callers.
  const names = [await sign(claimsOf(one.url)), await sign(claimsOf(two.url), { key: 'second', alg: 'ES256' })].map(async (token) => {
    const { content } = await (await connected(service.url, token)).call('list_hives');
    return (content[0] as { text: string }).text;
  });
  expect(new Set(await Promise.all(names)).size).toBe(2);
});

test('an issuer that is down refuses nobody whose keys are known; before that, callers get a 500 and no hint', async () => {
  let isDown = true;
  const issuer = await issuerServer({ isDown: () => isDown });
  const clock = handClock();
  const service = await served(issuer.url, { clock });
  const token = await sign(claimsOf(issuer.url));
  const early = await post(service.url, token);
  expect([early.status, (await early.text()).includes(issuer.url)]).toEqual([500, false]);
  isDown = false;
  expect((await post(service.url, token)).status).toBe(200);
  isDown = true;
  clock.ms += 3_600_000;
  expect((await post(service.url, await sign({ ...claimsOf(issuer.url), sub: 'other' }))).status).toBe(200);
});

test('keys that the issuer has replaced are taken up, and what they signed is refused from then on', async () => {
  let name: 'first' | 'second' = 'first';
  const issuer = await issuerServer({ jwks: async () => ({ keys: [await jwk(name)] }) });
  const clock = handClock();
  const service = await served(issuer.url, { clock });
  const old = await sign(claimsOf(issuer.url));
  expect((await post(service.url, old)).status).toBe(200);
  name = 'second';
  clock.ms += 31_000;
  expect((await post(service.url, await sign(claimsOf(issuer.url), { key: 'second', alg: 'ES256' }))).status).toBe(200);
  expect((await post(service.url, old)).status).toBe(401);
});

test('metadata of another issuer, secret keys, redirects and plain HTTP are not used', async () => {
  const cases: Readonly<Record<string, Parameters<typeof issuerServer>[0]>> = {
    'metadata of another issuer': { metadata: { issuer: 'https://evil.example' } },
    'keys over plain HTTP elsewhere': { metadata: { jwks_uri: 'http://keys.example/jwks' } },
    'keys in a file': { metadata: { jwks_uri: 'file:///etc/passwd' } },
    'keys at the cloud’s own address': { metadata: { jwks_uri: 'http://169.254.169.254/latest' } },
    'no keys named': { metadata: { jwks_uri: undefined } },
    'keys that are none': { jwks: () => ({ keys: 'all' }) },
  };
  for (const [what, more] of Object.entries(cases)) {
    const issuer = await issuerServer(more);
    const service = await served(issuer.url);
    expect([what, (await post(service.url, await sign(claimsOf(issuer.url)))).status]).toEqual([what, 500]);
  }
  const shared = await issuerServer({ jwks: () => ({ keys: [{ kty: 'oct', k: 'AAAA', kid: 'first', alg: 'HS256' }] }) });
  const service = await served(shared.url);
  expect((await post(service.url, await sign(claimsOf(shared.url)))).status).toBe(401);
});

test('what makes no sense is said before anything is served', () => {
  const wrong: readonly [Partial<OAuthOptions>, string][] = [
    [{ issuer: 'login' }, 'not an address'],
    [{ issuer: 'http://login.example' }, 'not HTTPS'],
    [{ issuer: [] }, 'No issuer'],
    [{ resource: 'https://apiary.example/mcp#x' }, 'a query or a fragment'],
    [{ algorithms: ['HS256'] }, 'never taken'],
    [{ algorithms: ['none'] }, 'never taken'],
  ];
  for (const [options, words] of wrong) {
    let caught: unknown;
    try {
      oauth({ issuer: 'https://login.example', resource, ...options });
    } catch (error) {
      caught = error;
    }
    expect(isJexoError(caught) && caught.code).toBe('JEXO_SIGN_IN');
    expect((caught as Error).message).toContain(words);
  }
});
