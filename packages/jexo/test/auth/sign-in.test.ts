import { readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import {
  browserVisit,
  defineServer,
  memorySignIns,
  oauth,
  pastedVisit,
  serveHttp,
  signIn,
  signInFile,
  tool,
  type Client,
  type OAuthOptions,
  type ServerDefinition,
  type SignInOptions,
  type SignInPage,
  type SignInStep,
} from '../../src/index.js';
import { startAuthorizationServer, type AuthorizationServer } from '../support/authorization-server.js';
import { freshFolder } from '../support/command-line.js';
import { connect } from '../support/connect.js';
import { freePort } from '../support/nginx.js';

const open: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});

let login: AuthorizationServer;
beforeAll(async () => (login = await startAuthorizationServer()));
afterAll(() => login.close());

/** The apiary, served to callers with a token of the real authorization server. */
async function apiaryOf(how: Partial<OAuthOptions> = {}, definition: Partial<ServerDefinition> = {}): Promise<string> {
  const port = await freePort();
  const url = `http://127.0.0.1:${port}/mcp`;
  const server = defineServer({
    name: 'apiary',
    version: '1.0.0',
    offers: [
      tool('whoami', { description: 'Says who calls.' }, (_input, call) => ({
        identity: call.caller.identity!,
        scopes: [...call.caller.scopes!],
      })),
      tool('move_hive', { description: 'Moves a hive.' }, () => 'moved'),
    ],
    ...definition,
  });
  const service = await serveHttp(server, { port, auth: oauth({ issuer: login.issuer, resource: url, scopes: ['hives:read'], ...how }) });
  open.push(() => service.close());
  return url;
}

/** A person at this machine's browser. */
function person(how: Parameters<AuthorizationServer['visit']>[1] = {}) {
  const pages: SignInPage[] = [];
  const visit = browserVisit({
    open(page) {
      pages.push(page);
      void login.visit(page.url, how);
    },
  });
  return { pages, visit };
}

function signInOf(options: SignInOptions = {}) {
  const steps: SignInStep[] = [];
  const { pages, visit } = person();
  return { steps, pages, auth: signIn({ visit, onStep: (step) => steps.push(step), ...options }) };
}

/** Who the server says is calling. */
const whoami = async (client: Client): Promise<unknown> => {
  const [block] = (await client.call('whoami')).content;
  return JSON.parse((block as { text: string }).text);
};
const names = (steps: readonly SignInStep[]) => steps.map(({ step }) => step);

test('[MCP-210] [MCP-214] [MCP-215] [MCP-217] [MCP-220] [MCP-221] [MCP-223] [MCP-227] [MCP-235] a call signs in when the server wants it, and goes on', async () => {
  const url = await apiaryOf();
  const { auth, steps, pages } = signInOf();
  const wire: string[] = [];
  const client = await connect(url, { auth, tap: (event) => wire.push(JSON.stringify(event)) });
  open.push(() => client.close());
  expect(await whoami(client)).toEqual({ identity: `${login.issuer} keeper`, scopes: ['hives:read'] });
  expect(names(steps)).toEqual([
    'resource metadata',
    'authorization server metadata',
    'registration',
    'a person is sent to the authorization server',
    'the person came back',
    'token for the code',
  ]);
  const page = new URL(pages[0]!.url);
  expect(Object.fromEntries(page.searchParams)).toMatchObject({
    response_type: 'code',
    code_challenge_method: 'S256',
    resource: url,
    scope: 'hives:read',
    state: expect.stringMatching(/^.{40,}$/) as string,
  });
  expect(steps.at(-1)).toMatchObject({
    sent: { resource: url, code: '(masked)', code_verifier: '(masked)' },
    received: { access_token: { claims: { sub: 'keeper' } } },
  });
  // Nothing secret is on the trace: no token, code, verifier, state.
  const [kept] = await auth.list();
  const told = [...wire, ...steps.map((step) => JSON.stringify(step))].join('\n');
  for (const secret of [kept!.token, kept!.refreshToken!, page.searchParams.get('state')!]) expect(told).not.toContain(secret);
  expect(wire.join('\n')).toContain('sign-in: token for the code');
});

test('[MCP-231] the scope is that of the challenge, else all of the metadata, else none', async () => {
  for (const [how, scope] of [
    [{ scopes: ['hives:read'], moreScopes: ['hives:write'] }, 'hives:read'],
    [{ scopes: [], moreScopes: ['hives:read', 'hives:write'] }, 'hives:read hives:write'],
    [{ scopes: [] }, null],
  ] as const) {
    const url = await apiaryOf(how);
    const { auth, pages } = signInOf();
    // The real one gives no token without a scope.
    await auth.begin(url).catch(() => undefined);
    expect([how, new URL(pages[0]!.url).searchParams.get('scope')]).toEqual([how, scope]);
  }
});

test('a token is renewed before it ends, and when it is refused; refresh tokens rotate, whoever comes first', async () => {
  const short = await startAuthorizationServer({}, 20);
  open.push(() => short.close());
  const url = await apiaryOf({ issuer: short.issuer });
  const folder = freshFolder('sign-ins');
  const file = join(folder, 'kept', 'sign-ins.json');
  const pages: SignInPage[] = [];
  const visit = browserVisit({ open: (page) => void (pages.push(page), short.visit(page.url)) });
  const auths = [1, 2, 3].map(() => signIn({ visit, store: signInFile(file) }));
  await auths[0]!.begin(url);
  const [first] = await auths[0]!.list();
  // It has 20 seconds to live, which is less than a token is used for: three clients renew it at once, and one of them does it.
  const clients = await Promise.all(auths.map((auth) => connect(url, { auth })));
  open.push(() => Promise.all(clients.map((client) => client.close())));
  for (const client of clients) expect(await whoami(client)).toMatchObject({ identity: `${short.issuer} keeper` });
  const [renewed] = await auths[0]!.list();
  expect(renewed!.token).not.toBe(first!.token);
  expect(renewed!.refreshToken).not.toBe(first!.refreshToken);
  expect(pages.length).toBe(1);
  expect((statSync(file).mode & 0o777).toString(8)).toBe('600');
});

test('when nothing can be renewed any more, a person signs in again', async () => {
  const url = await apiaryOf();
  const store = memorySignIns();
  const { auth, pages, steps } = signInOf({ store });
  await auth.begin(url);
  const [kept] = await auth.list();
  await store.set(kept!.endpoint, { ...kept!, token: 'e30.e30.withdrawn', refreshToken: 'unknown' });
  const client = await connect(url, { auth });
  open.push(() => client.close());
  await client.call('whoami');
  expect(pages.length).toBe(2);
  expect(names(steps)).toContain('token renewed');
  // The registration was used again.
  expect(names(steps).filter((step) => step === 'registration').length).toBe(1);
});

test('[MCP-232] a call that needs more asks the person for it, and is made again; what is not given is asked for once', async () => {
  const url = await apiaryOf({ moreScopes: ['hives:write'] }, { offerScopes: { 'move_*': 'hives:write' }, stepUp: true });
  const { auth, pages } = signInOf();
  const client = await connect(url, { auth });
  open.push(() => client.close());
  expect((await client.tools()).map(({ name }) => name)).toEqual(['whoami', 'move_hive']);
  expect((await client.call('move_hive')).content).toEqual([{ type: 'text', text: 'moved' }]);
  expect(pages.map(({ scopes }) => scopes)).toEqual([['hives:read'], ['hives:read', 'hives:write']]);
  expect(await whoami(client)).toMatchObject({ scopes: ['hives:read', 'hives:write'] });

  // This authorization server gives nobody the scope that the offer is for.
  const other = await apiaryOf({}, { offerScopes: { move_hive: 'hives:fly' }, stepUp: true });
  const second = signInOf();
  const without = await connect(other, { auth: second.auth });
  open.push(() => without.close());
  for (let tries = 0; tries < 3; tries++) await expect(without.call('move_hive')).rejects.toMatchObject({ data: { status: 403 } });
  expect(second.pages.length).toBe(2);
  expect(await whoami(without)).toMatchObject({ scopes: ['hives:read'] });
});

test('offers whose scope a caller lacks are hidden unless the server steps up', async () => {
  const url = await apiaryOf({}, { offerScopes: { 'move_*': 'hives:write' } });
  const { auth } = signInOf();
  const client = await connect(url, { auth });
  open.push(() => client.close());
  expect((await client.tools()).map(({ name }) => name)).toEqual(['whoami']);
  await expect(client.call('move_hive')).rejects.toThrow('move_hive');
});

test('without anybody to sign in, the call fails and says what to do', async () => {
  const url = await apiaryOf();
  await expect(connect(url, { auth: signIn() })).rejects.toMatchObject({
    code: 'JEXO_SIGN_IN',
    next: `Sign in with: jexo sign-in ${url}`,
  });
});

test('a person who declines is not asked again, and the words say so', async () => {
  const url = await apiaryOf();
  const { visit, pages } = person({ declines: true });
  await expect(connect(url, { auth: signIn({ visit }) })).rejects.toMatchObject({
    code: 'JEXO_SIGN_IN',
    message: expect.stringContaining('declined') as string,
  });
  expect(pages.length).toBe(1);
});

test('a sign-in is given up here and at the authorization server; its refresh token is of no use then', async () => {
  const url = await apiaryOf();
  const store = memorySignIns();
  const { auth, steps } = signInOf({ store });
  await auth.begin(url);
  const [kept] = await auth.list();
  const ended = await auth.end(url);
  expect(ended!.was.endpoint).toBe(url);
  expect(await auth.list()).toEqual([]);
  expect(steps.filter(({ step }) => step === 'token revoked').map(({ status }) => status)[0]).toBe(200);
  await store.set(url, { ...kept!, expiresAt: 0 });
  await auth.headers({ url, method: 'POST', signal: new AbortController().signal });
  expect((await auth.list())[0]!.refreshToken).toBeUndefined();
  expect(await auth.end(`${url}/nowhere`)).toBeUndefined();
});

test('[MCP-233] a given id comes first; a document’s address where it is taken; without a registration the person is told what to do', async () => {
  const url = await apiaryOf();
  const given = signInOf({ clientId: 'desk' });
  await given.auth.begin(url);
  expect(names(given.steps)).not.toContain('registration');
  expect((await given.auth.list())[0]!.client).toEqual({ id: 'desk', method: 'none', by: 'given' });
  // The real authorization server takes no documents: it is registered there.
  const documented = signInOf({ clientDocument: 'https://desk.example/oauth/client.json' });
  await documented.auth.begin(url);
  expect((await documented.auth.list())[0]!.client.by).toBe('registration');

  const closed = await startAuthorizationServer({ features: { devInteractions: { enabled: true } } });
  open.push(() => closed.close());
  const other = await apiaryOf({ issuer: closed.issuer });
  await expect(signInOf().auth.begin(other)).rejects.toMatchObject({
    code: 'JEXO_SIGN_IN',
    next: expect.stringContaining('--client-id') as string,
  });
  for (const wrong of ['http://desk.example/client.json', 'https://desk.example/', 'https://desk.example/c#x', 'desk'])
    expect(() => signIn({ clientDocument: wrong })).toThrow('cannot be a client’s document');
});

test('on a machine without a browser, the address is pasted; a wrong one is complained about', async () => {
  const url = await apiaryOf();
  const complaints: (string | undefined)[] = [];
  const visit = pastedVisit(async (page, complaint) => {
    complaints.push(complaint);
    if (complaints.length === 1) return 'a1b2c3';
    if (complaints.length === 2) return 'http://127.0.0.1:14391/callback?code=other&state=other';
    return (await login.visit(page.url, { comesBack: false })).href;
  });
  const { auth } = signInOf({ visit });
  await auth.begin(url);
  expect(complaints).toEqual([undefined, expect.stringContaining('not an address'), expect.stringContaining('does not belong')]);
  expect((await auth.list())[0]!.subject).toBe('keeper');
});

test('a server that asks nobody to sign in is left alone', async () => {
  const service = await serveHttp(defineServer({ name: 'open', version: '1.0.0', offers: [] }));
  open.push(() => service.close());
  const { auth, pages } = signInOf();
  expect(await auth.begin(service.url)).toBeUndefined();
  const client = await connect(service.url, { auth });
  await client.close();
  expect(pages).toEqual([]);
});

test('[MCP-226] [MCP-228] a token goes with every request of a session, to its own server and nowhere else', async () => {
  const url = await apiaryOf();
  const seen: { url: string; authorization: string | null }[] = [];
  const recording: typeof fetch = (input, init) => {
    const request = new Request(input, init);
    seen.push({ url: request.url, authorization: request.headers.get('authorization') });
    return fetch(input, init);
  };
  const { auth } = signInOf();
  await auth.begin(url);
  const client = await connect(url, { auth, fetch: recording });
  await client.tools();
  await client.close();
  const [kept] = await auth.list();
  expect(seen.length).toBeGreaterThan(3);
  expect(new Set(seen.map(({ authorization }) => authorization))).toEqual(new Set([`Bearer ${kept!.token}`]));
  expect(seen.some(({ url: place }) => place.includes(kept!.token))).toBe(false);
  // Another server, be it at the same host, gets nothing of it.
  for (const other of ['http://127.0.0.1:1/mcp', `${url}/other`, url.replace('/mcp', '/')])
    expect(await auth.headers({ url: other, method: 'POST', signal: new AbortController().signal })).toEqual({});
});

test('what was given by hand proves the caller: no sign-in is used beside it', async () => {
  const url = await apiaryOf();
  const { auth, pages } = signInOf();
  const client = await connect(url, { auth, headers: { Authorization: `Bearer ${await login.token(url)}` } });
  open.push(() => client.close());
  expect(await whoami(client)).toMatchObject({ identity: `${login.issuer} scales` });
  await expect(connect(url, { auth, headers: { authorization: 'Bearer wrong' } })).rejects.toMatchObject({ data: { status: 401 } });
  expect(pages).toEqual([]);
});

test('[MCP-236] the file of sign-ins is the user’s alone, is encrypted by a key of the keychain, and says what is wrong with it', async () => {
  const url = await apiaryOf();
  const file = join(freshFolder('sealed'), 'sign-ins.json');
  const key = new Uint8Array(32).fill(7);
  const { visit } = person();
  const sealed = signInFile(file, { keychain: { key: () => key } });
  await signIn({ visit, store: sealed }).begin(url);
  const text = readFileSync(file, 'utf8');
  const [kept] = await sealed.list();
  expect(sealed.isEncrypted).toBe(true);
  for (const part of [kept!.token, kept!.refreshToken!, url, login.issuer]) expect(text).not.toContain(part);
  const wrongKey = signInFile(file, { keychain: { key: () => new Uint8Array(32) } });
  expect(() => signInFile(file).list()).toThrow('there is no keychain with its key');
  expect(() => wrongKey.list()).toThrow('cannot be read');
  // What was changed by somebody else is not believed.
  const { sealed: body } = JSON.parse(text) as { sealed: string };
  const bytes = Buffer.from(body, 'base64');
  bytes[40]! ^= 1;
  writeFileSync(file, JSON.stringify({ sealed: bytes.toString('base64') }));
  expect(() => sealed.list()).toThrow('cannot be read');
  for (const bad of ['', '{', '[]', '{"signIns":[{"endpoint":1}]}', '{"sealed":"AA=="}']) {
    writeFileSync(file, bad);
    expect(() => sealed.list()).toThrow(/cannot be read.*/s);
  }
});

test('the time a person takes is not counted as the server’s', async () => {
  const url = await apiaryOf();
  const visit = browserVisit({
    open(page) {
      setTimeout(() => void login.visit(page.url), 1500);
    },
  });
  const client = await connect(url, { auth: signIn({ visit }), timeoutMs: 700 });
  open.push(() => client.close());
  expect((await client.call('whoami')).isError).toBeUndefined();
});

test('nobody who comes back in time is a failure with words, and what waits for it can be stopped', async () => {
  const url = await apiaryOf();
  await expect(signIn({ visit: browserVisit({ open: () => {}, waitMs: 50 }) }).begin(url)).rejects.toMatchObject({
    code: 'JEXO_SIGN_IN',
    message: expect.stringContaining('Nobody came back') as string,
  });
  const stop = new AbortController();
  const visit = browserVisit({ open: () => stop.abort(new Error('stopped')) });
  await expect(signIn({ visit }).begin(url, { signal: stop.signal })).rejects.toThrow('stopped');
});
