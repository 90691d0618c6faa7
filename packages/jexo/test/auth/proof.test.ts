import { createHash, randomUUID } from 'node:crypto';
import { calculateJwkThumbprint, exportJWK, generateKeyPair, SignJWT, type JWTPayload } from 'jose';
import { connect, defineServer, oauth, serveHttp, tool, type OAuthOptions } from '../../src/index.js';
import { startAuthorizationServer } from '../support/authorization-server.js';
import { listen } from '../support/listen.js';

const open: { close(): Promise<unknown> }[] = [];
afterEach(async () => {
  for (const each of open.splice(0).reverse()) await each.close();
});

const resource = 'https://apiary.example/mcp';
const signing = await generateKeyPair('ES256', { extractable: true });
const own = await generateKeyPair('ES256', { extractable: true });
const stranger = await generateKeyPair('ES256', { extractable: true });
const ownKey = await exportJWK(own.publicKey);
const now = () => Math.floor(Date.now() / 1000);

const apiary = () =>
  defineServer({
    name: 'apiary',
    version: '1.0.0',
    offers: [tool('whoami', { description: 'Says who.' }, (_input, call) => call.caller.identity!)],
  });

async function guarded(how: Partial<OAuthOptions> = {}) {
  const issuer = await listen(async (request) => {
    const { pathname } = new URL(request.url);
    if (pathname === '/jwks') return Response.json({ keys: [{ ...(await exportJWK(signing.publicKey)), kid: 'a', alg: 'ES256' }] });
    if (pathname.startsWith('/.well-known')) return Response.json({ issuer: issuer.url, jwks_uri: `${issuer.url}/jwks` });
    return new Response('', { status: 404 });
  });
  open.push(issuer);
  const service = await serveHttp(apiary(), { auth: oauth({ issuer: issuer.url, resource, ...how }) });
  open.push(service);
  const token = async (more: JWTPayload = {}) =>
    new SignJWT({ iss: issuer.url, aud: resource, sub: 'keeper', exp: now() + 60, ...more })
      .setProtectedHeader({ alg: 'ES256', kid: 'a', typ: 'at+jwt' })
      .sign(signing.privateKey);
  const ask = async (headers: Record<string, string>) => {
    const response = await fetch(service.url, {
      method: 'POST',
      headers: { 'content-type': 'application/json', accept: 'application/json, text/event-stream', ...headers },
      body: JSON.stringify({
        jsonrpc: '2.0',
        id: 1,
        method: 'initialize',
        params: { protocolVersion: '2025-11-25', capabilities: {}, clientInfo: { name: 't', version: '1' } },
      }),
    });
    await response.text();
    return { status: response.status, challenge: response.headers.get('www-authenticate') ?? '' };
  };
  return { token, ask, service, issuer };
}

const hash = (token: string) => createHash('sha256').update(token).digest('base64url');
const bound = { cnf: { jkt: await calculateJwkThumbprint(ownKey) } };

interface ProofParts {
  readonly claims?: JWTPayload;
  readonly header?: object;
  readonly by?: CryptoKey;
}
const proof = (token: string, { claims = {}, header = {}, by = own.privateKey }: ProofParts = {}) =>
  new SignJWT({ jti: randomUUID(), htm: 'POST', htu: resource, iat: now(), ath: hash(token), ...claims })
    .setProtectedHeader({ alg: 'ES256', typ: 'dpop+jwt', jwk: ownKey, ...header })
    .sign(by);

test('a token that is bound to a key is taken with a proof of it, once for each proof', async () => {
  const { token, ask } = await guarded();
  const text = await token(bound);
  const one = await proof(text);
  expect((await ask({ authorization: `DPoP ${text}`, dpop: one })).status).toBe(200);
  expect(await ask({ authorization: `DPoP ${text}`, dpop: one })).toEqual({
    status: 401,
    challenge: expect.stringMatching(/^DPoP error="invalid_dpop_proof".*used before/) as string,
  });
  expect((await ask({ authorization: `DPoP ${text}`, dpop: await proof(text) })).status).toBe(200);
  // A token that is bound to nothing needs none.
  expect((await ask({ authorization: `Bearer ${await token()}` })).status).toBe(200);
});

const strangerKey = await exportJWK(stranger.publicKey);
const refused: readonly (readonly [what: string, parts: ProofParts])[] = [
  ['of another method', { claims: { htm: 'GET' } }],
  ['of another address', { claims: { htu: 'https://other.example/mcp' } }],
  ['of another path', { claims: { htu: 'https://apiary.example/admin' } }],
  ['of no address', { claims: { htu: 7 as never } }],
  ['that is two minutes old', { claims: { iat: now() - 120 } }],
  ['of tomorrow', { claims: { iat: now() + 86_400 } }],
  ['of another token', { claims: { ath: hash('other') } }],
  ['of no token', { claims: { ath: undefined as never } }],
  ['without an id', { claims: { jti: undefined as never } }],
  ['with an endless id', { claims: { jti: 'x'.repeat(600) } }],
  ['by another key', { header: { jwk: strangerKey }, by: stranger.privateKey }],
  ['whose key did not sign it', { by: stranger.privateKey }],
  ['of another kind', { header: { typ: 'JWT' } }],
  ['with its private key in it', { header: { jwk: await exportJWK(own.privateKey) } }],
];
test.each(refused)('a proof %s is refused', async (_what, parts) => {
  const { token, ask } = await guarded();
  const text = await token(bound);
  const { status, challenge } = await ask({ authorization: `DPoP ${text}`, dpop: await proof(text, parts) });
  expect([status, challenge]).toEqual([401, expect.stringMatching(/^DPoP error="invalid_dpop_proof"/)]);
});

test('a bound token is no bearer token, known or not; one that is not bound is none where a proof is required', async () => {
  const { token, ask } = await guarded();
  const text = await token(bound);
  for (const headers of [
    { authorization: `Bearer ${text}` },
    { authorization: `Bearer ${text}`, dpop: await proof(text) },
    { authorization: `DPoP ${text}` },
    { authorization: `DPoP ${text}`, dpop: 'no proof' },
    { authorization: `DPoP ${await token()}`, dpop: await proof(text) },
    { authorization: `DPoP ${await token({ cnf: { 'x5t#S256': 'a' } })}`, dpop: await proof(text) },
  ] as Record<string, string>[])
    expect([headers, (await ask(headers)).status]).toEqual([headers, 401]);
  expect((await ask({ authorization: `DPoP ${text}`, dpop: await proof(text) })).status).toBe(200);
  expect((await ask({ authorization: `Bearer ${text}` })).status).toBe(401);

  const strict = await guarded({ proof: 'required' });
  expect((await strict.ask({ authorization: `Bearer ${await strict.token()}` })).status).toBe(401);
  const good = await strict.token(bound);
  expect((await strict.ask({ authorization: `DPoP ${good}`, dpop: await proof(good) })).status).toBe(200);
  const metadata = (await (await fetch(new URL('/.well-known/oauth-protected-resource/mcp', strict.service.url))).json()) as object;
  expect(metadata).toMatchObject({ dpop_bound_access_tokens_required: true });
});

test('opaque tokens of a real authorization server are asked about: whose they are, and whether they still count', async () => {
  const login = await startAuthorizationServer({
    features: {
      clientCredentials: { enabled: true },
      devInteractions: { enabled: false },
      introspection: { enabled: true },
      revocation: { enabled: true },
      resourceIndicators: {
        enabled: true,
        getResourceServerInfo: (_context, wanted) => ({ scope: 'hives:read', audience: wanted, accessTokenFormat: 'opaque' }),
        useGrantedResource: () => true,
      },
    },
  });
  open.push(login);
  const introspection = { clientId: 'scales', clientSecret: 'a-secret-of-the-scales', holdsS: 0 };
  const service = await serveHttp(apiary(), { auth: oauth({ issuer: login.issuer, resource, introspection }) });
  open.push(service);
  const token = await login.token(resource);
  expect(token.split('.').length).toBe(1);
  const client = await connect(service.url, { headers: { authorization: `Bearer ${token}` } });
  open.push(client);
  expect((await client.call('whoami')).content).toEqual([{ type: 'text', text: `${login.issuer} scales` }]);
  await expect(
    connect(service.url, { headers: { authorization: `Bearer ${await login.token('https://other.example/mcp')}` } }),
  ).rejects.toThrow('another resource');
  await expect(connect(service.url, { headers: { authorization: 'Bearer invented' } })).rejects.toThrow('does not count');
  await fetch(`${login.issuer}/token/revocation`, {
    method: 'POST',
    headers: { authorization: `Basic ${btoa('scales:a-secret-of-the-scales')}` },
    body: new URLSearchParams({ token }),
  });
  await expect(client.call('whoami')).rejects.toMatchObject({ data: { status: 401 } });
  // Without the right to ask, nobody is let in, and the fault is the server's.
  const faults: unknown[] = [];
  const wrong = await serveHttp(apiary(), {
    auth: oauth({ issuer: login.issuer, resource, introspection: { ...introspection, clientSecret: 'wrong' } }),
    onFault: (error) => faults.push(error),
  });
  open.push(wrong);
  await expect(connect(wrong.url, { headers: { authorization: `Bearer ${await login.token(resource)}` } })).rejects.toMatchObject({
    data: { status: 500 },
  });
  expect(String(faults[0])).toContain('cannot be asked about tokens');
});

const said: readonly (readonly [what: string, answer: object, why: string])[] = [
  ['not active', { active: false }, 'does not count'],
  ['active as a text', { active: 'true', aud: resource }, ''],
  ['for nobody', { active: true }, 'another resource'],
  ['for another resource', { active: true, aud: ['https://other.example'] }, 'another resource'],
  ['of another issuer', { active: true, aud: resource, iss: 'https://other.example' }, 'trusted here'],
  ['at its end', { active: true, aud: resource, exp: now() - 60 }, 'expired'],
  ['not valid yet', { active: true, aud: resource, nbf: now() + 600 }, 'not valid yet'],
  ['a refresh token', { active: true, aud: resource, token_type: 'refresh_token' }, 'not an access token'],
];
test.each(said)('a token of which the authorization server says that it is %s lets nobody in', async (_what, answer, why) => {
  const issuer = await listen((request) => {
    const { pathname } = new URL(request.url);
    if (pathname === '/introspect') return Response.json(answer);
    return pathname.startsWith('/.well-known')
      ? Response.json({ issuer: issuer.url, introspection_endpoint: `${issuer.url}/introspect` })
      : new Response('', { status: 404 });
  });
  open.push(issuer);
  const introspection = { clientId: 'a', clientSecret: 'b' };
  const service = await serveHttp(apiary(), { auth: oauth({ issuer: issuer.url, resource, introspection }), onFault: () => {} });
  open.push(service);
  const error = await connect(service.url, { headers: { authorization: 'Bearer opaque' } }).catch((caught: unknown) => caught);
  expect((error as { data: { status: number } }).data.status).toBeGreaterThanOrEqual(401);
  expect(String(error)).toContain(why);
});

test('older clients find the authorization server’s metadata at this server’s own origin, when that is wanted', async () => {
  const { service, issuer } = await guarded();
  expect((await fetch(new URL('/.well-known/oauth-authorization-server', service.url))).status).toBe(404);
  const older = await serveHttp(apiary(), {
    auth: oauth({ issuer: issuer.url, resource: 'http://127.0.0.1:4300/mcp', olderClients: true }),
  });
  open.push(older);
  const found = await fetch(new URL('/.well-known/oauth-authorization-server', older.url));
  expect(await found.json()).toEqual({ issuer: 'http://127.0.0.1:4300', jwks_uri: `${issuer.url}/jwks` });
  const down = await serveHttp(apiary(), { auth: oauth({ issuer: 'http://127.0.0.1:9', resource, olderClients: true }) });
  open.push(down);
  expect((await fetch(new URL('/.well-known/oauth-authorization-server', down.url))).status).toBe(503);
  expect(() => oauth({ issuer: ['https://a.example', 'https://b.example'], resource, olderClients: true })).toThrow(
    'one authorization server only',
  );
});
