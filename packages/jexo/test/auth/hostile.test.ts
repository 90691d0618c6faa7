import fc from 'fast-check';
import {
  browserVisit,
  memorySignIns,
  serveHttp,
  serviceSignIn,
  signIn,
  defineServer,
  oauth,
  connect,
  isJexoError,
  type SignInOptions,
  type SignInStep,
} from '../../src/index.js';
import { readChallenges } from '../../src/auth/sign-in/challenges.js';
import { fetchNear, regionOf } from '../../src/auth/sign-in/fetch-near.js';
import { listen } from '../support/listen.js';

const open: { close(): Promise<unknown> }[] = [];
afterEach(async () => {
  for (const each of open.splice(0).reverse()) await each.close();
});

type Answer = Response | object | undefined;
interface World {
  /** The protected resource’s address. */
  readonly url: string;
  readonly issuer: string;
}
interface Mischief {
  /** The header of the 401. */
  readonly challenge?: (world: World) => string;
  readonly resource?: (world: World) => Answer;
  readonly server?: (world: World) => Answer;
  readonly registration?: (world: World) => Answer;
  /** Where the authorization server sends the person, by what it was asked; several addresses are visited one after the other. */
  readonly back?: (asked: URLSearchParams, world: World) => (string | Record<string, string>)[];
  readonly token?: (asked: URLSearchParams, world: World) => Answer;
}

/**
 * A resource server and an authorization server that keep the rules, but where they are told not to. Whatever is fetched from places that nobody
 * should fetch from is noted.
 */
async function mischievous(mischief: Mischief) {
  const asked: { path: string; body: URLSearchParams }[] = [];
  const strays: string[] = [];
  const stray = await listen((request) => {
    strays.push(new URL(request.url).pathname);
    return Response.json({});
  });
  const world = { url: '', issuer: '', stray: stray.url };
  const say = (answer: Answer, otherwise: object): Response => (answer instanceof Response ? answer : Response.json(answer ?? otherwise));
  const server = await listen(async (request) => {
    const { pathname, searchParams } = new URL(request.url);
    const body = request.method === 'POST' ? await request.text() : '';
    asked.push({ path: pathname, body: new URLSearchParams(body) });
    switch (pathname) {
      case '/mcp': {
        if (request.headers.get('authorization') === 'Bearer good') return new Response('', { status: 405 });
        const challenge = mischief.challenge?.(world) ?? 'Bearer';
        return new Response('', { status: 401, headers: challenge === '' ? {} : { 'www-authenticate': challenge } });
      }
      case '/.well-known/oauth-protected-resource/mcp':
        return say(mischief.resource?.(world), { resource: world.url, authorization_servers: [world.issuer] });
      case '/.well-known/oauth-authorization-server/login':
        return say(mischief.server?.(world), metadata(world));
      case '/login/register':
        return say(
          mischief.registration?.(world) ?? Response.json({ client_id: 'registered', token_endpoint_auth_method: 'none' }, { status: 201 }),
          {},
        );
      case '/login/token':
        return say(mischief.token?.(new URLSearchParams(body), world), { access_token: 'good', token_type: 'Bearer', expires_in: 60 });
      case '/login/authorize': {
        const to = searchParams.get('redirect_uri')!;
        const answers = mischief.back?.(searchParams, world) ?? [{ code: 'c0de', state: searchParams.get('state')!, iss: world.issuer }];
        for (const each of answers)
          await fetch(typeof each === 'string' ? each : `${to}?${new URLSearchParams(each).toString()}`).catch(() => undefined);
        return Response.json({});
      }
      default:
        return new Response('', { status: 404 });
    }
  });
  open.push(server, stray);
  Object.assign(world, { url: `${server.url}/mcp`, issuer: `${server.url}/login` });
  return { ...world, asked, strays };
}

const metadata = ({ issuer }: World): Record<string, unknown> => ({
  issuer,
  authorization_endpoint: `${issuer}/authorize`,
  token_endpoint: `${issuer}/token`,
  registration_endpoint: `${issuer}/register`,
  code_challenge_methods_supported: ['S256'],
  authorization_response_iss_parameter_supported: true,
});

/** Signs in, as a person who does what the pages say and gives up soon. */
async function attempt(mischief: Mischief, options: SignInOptions = {}) {
  const world = await mischievous(mischief);
  const steps: SignInStep[] = [];
  const visited: string[] = [];
  const visit = browserVisit({
    waitMs: 400,
    open(page) {
      visited.push(page.url);
      if (new URL(page.url).origin === new URL(world.url).origin) void fetch(page.url).catch(() => undefined);
    },
  });
  const auth = signIn({ visit, store: memorySignIns(), onStep: (step) => steps.push(step), ...options });
  const error = await auth.begin(world.url).then(
    () => undefined,
    (caught: unknown) => caught,
  );
  return { ...world, auth, steps, visited, error, kept: await auth.list() };
}

test('the worlds of these tests keep the rules where they are not told otherwise', async () => {
  const { error, kept, strays, asked } = await attempt({});
  expect([error, kept.length, kept[0]?.token, strays]).toEqual([undefined, 1, 'good', []]);
  const token = asked.find(({ path }) => path === '/login/token')!.body;
  expect(token.get('code_verifier')).toMatch(/^[\w-]{43,}$/);
});

const html = () => new Response('<html>nothing</html>', { headers: { 'content-type': 'text/html' } });
const moved = (to: string) => new Response('', { status: 302, headers: { location: to } });
const other = 'https://other.example';

/** What is done, and what the words have to say: nothing is kept then, no token is asked for where none may be, and no stray is fetched. */
const attacks: readonly (readonly [what: string, mischief: Mischief & { readonly options?: SignInOptions }, says: string])[] = [
  // Metadata of the resource
  [
    'resource: names another resource',
    { resource: ({ issuer }) => ({ resource: `${other}/mcp`, authorization_servers: [issuer] }) },
    'not about',
  ],
  [
    'resource: names a sibling of the endpoint',
    { resource: ({ url, issuer }) => ({ resource: `${url}2`, authorization_servers: [issuer] }) },
    'not about',
  ],
  [
    'resource: names a part below the endpoint',
    { resource: ({ url, issuer }) => ({ resource: `${url}/below`, authorization_servers: [issuer] }) },
    'not about',
  ],
  ['resource: has a query', { resource: ({ url, issuer }) => ({ resource: `${url}?a=1`, authorization_servers: [issuer] }) }, 'not about'],
  ['resource: has a fragment', { resource: ({ url, issuer }) => ({ resource: `${url}#a`, authorization_servers: [issuer] }) }, 'not about'],
  [
    'resource: has a user in it',
    { resource: ({ url, issuer }) => ({ resource: url.replace('//', '//a@'), authorization_servers: [issuer] }) },
    'not about',
  ],
  ['resource: is no text', { resource: ({ issuer }) => ({ resource: 7, authorization_servers: [issuer] }) }, 'not about'],
  [
    'resource: names no authorization server',
    { resource: ({ url }) => ({ resource: url, authorization_servers: [] }) },
    'names no authorization server',
  ],
  [
    'resource: names one over plain HTTP',
    { resource: ({ url }) => ({ resource: url, authorization_servers: ['http://login.example'] }) },
    'names no authorization server',
  ],
  [
    'resource: names a file',
    { resource: ({ url }) => ({ resource: url, authorization_servers: ['file:///etc/passwd'] }) },
    'names no authorization server',
  ],
  [
    'resource: names a script',
    { resource: ({ url }) => ({ resource: url, authorization_servers: ['javascript:alert(1)'] }) },
    'names no authorization server',
  ],
  [
    'resource: a list of other things',
    { resource: ({ url }) => ({ resource: url, authorization_servers: [7, null, {}] }) },
    'names no authorization server',
  ],
  ['resource: another issuer than the user wants', { options: { issuer: other } }, 'does not take sign-ins of'],
  // Metadata of the authorization server
  ['server: of another issuer', { server: (world) => ({ ...metadata(world), issuer: other }) }, 'is the metadata of'],
  [
    'server: of a part of the issuer',
    { server: (world) => ({ ...metadata(world), issuer: world.issuer.replace('/login', '') }) },
    'is the metadata of',
  ],
  ['server: without an issuer', { server: (world) => ({ ...metadata(world), issuer: undefined }) }, 'is the metadata of'],
  ['server: without PKCE', { server: (world) => ({ ...metadata(world), code_challenge_methods_supported: undefined }) }, 'PKCE'],
  ['server: PKCE with plain only', { server: (world) => ({ ...metadata(world), code_challenge_methods_supported: ['plain'] }) }, 'PKCE'],
  ['server: PKCE as a text', { server: (world) => ({ ...metadata(world), code_challenge_methods_supported: 'S256' }) }, 'PKCE'],
  [
    'server: signs in over plain HTTP',
    { server: (world) => ({ ...metadata(world), authorization_endpoint: 'http://login.example/a' }) },
    'no HTTPS address',
  ],
  [
    'server: signs in by a script',
    { server: (world) => ({ ...metadata(world), authorization_endpoint: 'javascript:alert(1)' }) },
    'no HTTPS address',
  ],
  [
    'server: signs in by a program',
    { server: (world) => ({ ...metadata(world), authorization_endpoint: 'editor://a' }) },
    'no HTTPS address',
  ],
  [
    'server: signs in at a fragment',
    { server: (world) => ({ ...metadata(world), authorization_endpoint: `${world.issuer}/authorize#a` }) },
    'no HTTPS address',
  ],
  [
    'server: no authorization endpoint',
    { server: (world) => ({ ...metadata(world), authorization_endpoint: undefined }) },
    'no HTTPS address',
  ],
  [
    'server: tokens over plain HTTP',
    { server: (world) => ({ ...metadata(world), token_endpoint: 'http://login.example/t' }) },
    'no HTTPS address',
  ],
  ['server: no token endpoint', { server: (world) => ({ ...metadata(world), token_endpoint: undefined }) }, 'no HTTPS address'],
  [
    'server: registration over plain HTTP',
    { server: (world) => ({ ...metadata(world), registration_endpoint: 'http://login.example/r' }) },
    'no HTTPS address',
  ],
  [
    'server: revocation in a file',
    { server: (world) => ({ ...metadata(world), revocation_endpoint: 'file:///tmp/x' }) },
    'no HTTPS address',
  ],
  ['server: redirects to itself', { server: (world) => moved(`${world.issuer}/else`) }, 'it redirects'],
  ['server: a page', { server: html }, 'cannot be used'],
  ['server: a list', { server: () => Response.json([1]) }, 'cannot be used'],
  ['server: a megabyte and more', { server: (world) => ({ ...metadata(world), more: 'x'.repeat(1_100_000) }) }, 'cannot be used'],
  // Registration
  ['registration: refused', { registration: () => Response.json({ error: 'invalid_redirect_uri' }, { status: 400 }) }, '--client-id'],
  ['registration: no id', { registration: () => Response.json({}, { status: 201 }) }, 'registration'],
  ['registration: an id that is no text', { registration: () => Response.json({ client_id: { a: 1 } }, { status: 201 }) }, 'registration'],
  ['registration: a page', { registration: html }, 'registration'],
  ['registration: redirects', { registration: () => moved(other) }, 'redirect'],
  // The way back
  ['back: no state', { back: () => [{ code: 'c0de' }] }, 'Nobody came back'],
  ['back: another state', { back: () => [{ code: 'c0de', state: 'fixed' }] }, 'Nobody came back'],
  ['back: a state that is longer', { back: (asked) => [{ code: 'c0de', state: `${asked.get('state')!}x` }] }, 'Nobody came back'],
  [
    'back: two states',
    { back: (asked) => [`${asked.get('redirect_uri')!}?code=c&state=fixed&state=${asked.get('state')!}`] },
    'Nobody came back',
  ],
  [
    'back: at another path',
    { back: (asked) => [`${new URL(asked.get('redirect_uri')!).origin}/?code=c&state=${asked.get('state')!}`] },
    'Nobody came back',
  ],
  ['back: another issuer (mix-up)', { back: (asked) => [{ code: 'c0de', state: asked.get('state')!, iss: other }] }, 'iss'],
  ['back: no issuer, where it was promised', { back: (asked) => [{ code: 'c0de', state: asked.get('state')! }] }, 'iss'],
  ['back: an error', { back: (asked, { issuer }) => [{ error: 'access_denied', state: asked.get('state')!, iss: issuer }] }, 'declined'],
  [
    'back: an error with markup',
    { back: (asked, { issuer }) => [{ error: 'server_error', error_description: '<b>x</b>', state: asked.get('state')!, iss: issuer }] },
    'server_error',
  ],
  [
    'back: an error and a code',
    { back: (asked, { issuer }) => [{ error: 'server_error', code: 'c', state: asked.get('state')!, iss: issuer }] },
    'server_error',
  ],
  ['back: no code', { back: (asked, { issuer }) => [{ state: asked.get('state')!, iss: issuer }] }, 'code'],
  // Tokens
  ['token: refused', { token: () => Response.json({ error: 'invalid_grant' }, { status: 400 }) }, 'invalid_grant'],
  ['token: of another kind', { token: () => ({ access_token: 'good', token_type: 'mac' }) }, 'token'],
  ['token: bound to a key nobody asked for', { token: () => ({ access_token: 'good', token_type: 'DPoP' }) }, 'dpop'],
  ['token: no kind', { token: () => ({ access_token: 'good' }) }, 'token_type'],
  ['token: none', { token: () => ({ token_type: 'Bearer' }) }, 'access_token'],
  ['token: a number', { token: () => ({ access_token: 7, token_type: 'Bearer' }) }, 'access_token'],
  ['token: for minus a minute', { token: () => ({ access_token: 'good', token_type: 'Bearer', expires_in: -60 }) }, 'expires_in'],
  ['token: a page', { token: html }, 'token'],
  ['token: redirects elsewhere', { token: (_asked, world) => moved(`${(world as World & { stray: string }).stray}/steal`) }, 'redirects'],
  ['token: a fault of the server', { token: () => new Response('', { status: 500 }) }, '500'],
];

test.each(attacks)('hostile sign-in: %s', async (_what, { options, ...mischief }, says) => {
  const { error, kept, strays } = await attempt(mischief, options);
  expect(isJexoError(error)).toBe(true);
  const { message, next } = error as { message: string; next: string };
  expect(`${message} ${next}`).toContain(says);
  expect([kept, strays]).toEqual([[], []]);
});

/** What is done, and what comes of it all the same: the mischief is passed over. */
const harmless: readonly (readonly [what: string, mischief: Mischief])[] = [
  [
    'a challenge that names metadata at another origin',
    { challenge: (world) => `Bearer resource_metadata="${(world as World & { stray: string }).stray}/meta"` },
  ],
  ['a challenge that names metadata in a file', { challenge: () => 'Bearer resource_metadata="file:///etc/passwd"' }],
  ['a challenge that names metadata in a cloud', { challenge: () => 'Bearer resource_metadata="http://169.254.169.254/latest/meta-data"' }],
  ['a challenge that names no address', { challenge: () => 'Bearer resource_metadata="nowhere"' }],
  ['a challenge that ends in the middle', { challenge: () => 'Bearer resource_metadata="' }],
  ['no challenge at all', { challenge: () => '' }],
  [
    'an answer with a wrong state, and then the right one',
    {
      back: (asked, { issuer }) => [
        { code: 'evil', state: 'x' },
        { code: 'c0de', state: asked.get('state')!, iss: issuer },
      ],
    },
  ],
  [
    'the right answer, and then another one',
    {
      back: (asked, { issuer }) => [
        { code: 'c0de', state: asked.get('state')!, iss: issuer },
        { code: 'evil', state: asked.get('state')!, iss: issuer },
      ],
    },
  ],
  [
    'an authorization server that cannot be used, before one that can',
    { resource: ({ url, issuer }) => ({ resource: url, authorization_servers: ['http://login.example', issuer] }) },
  ],
];

test.each(harmless)('passed over: %s', async (_what, mischief) => {
  const { error, kept, strays, asked } = await attempt(mischief);
  expect([error, kept.length, strays]).toEqual([undefined, 1, []]);
  expect(asked.filter(({ path }) => path === '/login/token').map(({ body }) => body.get('code'))).toEqual(['c0de']);
});

test('a secret goes to the authorization server that it is for, whatever a hostile server names', async () => {
  expect(() => signIn({ clientId: 'desk', clientSecret: 'secret' })).toThrow('none was named');
  for (const mischief of [{}, { resource: () => new Response('', { status: 404 }) }] as Mischief[]) {
    const world = await mischievous(mischief);
    const how = { clientId: 'desk', clientSecret: 'secret', issuer: other };
    await expect(connect(world.url, { auth: serviceSignIn(how) })).rejects.toMatchObject({ code: 'JEXO_SIGN_IN' });
    await expect(signIn({ ...how, visit: browserVisit({ open: () => {} }) }).begin(world.url)).rejects.toMatchObject({
      code: 'JEXO_SIGN_IN',
    });
    expect(world.asked.filter(({ path }) => path.endsWith('/token'))).toEqual([]);
  }
});

test('a refused refresh asks nobody anything more than once, and what is given is never wider than what a person has seen', async () => {
  let tokens = 0;
  const world = await attempt({
    token: () => ({ access_token: `t${++tokens}`, token_type: 'Bearer', scope: 'hives:read hives:write everything' }),
  });
  // It is told what was really given.
  expect(world.kept[0]!.scopes).toEqual(['hives:read', 'hives:write', 'everything']);
});

test('the page that takes the person back says nothing of what it was given, and runs nothing', async () => {
  let page = '';
  const visit = browserVisit({
    waitMs: 300,
    async open({ url }) {
      const to = new URL(url).searchParams.get('redirect_uri')!;
      const response = await fetch(`${to}?state=x&error=${encodeURIComponent('<script>alert(1)</script>')}`);
      page = await response.text();
      expect([response.status, response.headers.get('content-security-policy'), response.headers.get('referrer-policy')]).toEqual([
        400,
        expect.stringContaining("default-src 'none'"),
        'no-referrer',
      ]);
      expect((await fetch(to, { method: 'POST' })).status).toBe(404);
    },
  });
  const world = await mischievous({});
  await expect(signIn({ visit }).begin(world.url)).rejects.toThrow('Nobody came back');
  expect(page).toContain('does not belong');
  expect(page).not.toContain('alert');
});

test('[MCP-225] a real resource server sends no token on, and no caller into another’s session', async () => {
  const service = await serveHttp(defineServer({ name: 'apiary', version: '1.0.0', offers: [] }), {
    auth: oauth({
      issuer: 'https://login.example',
      resource: 'https://apiary.example/mcp',
      fetch: async () => new Response('', { status: 503 }),
    }),
    onFault: () => {},
  });
  open.push(service);
  // In the query, a token is nothing.
  const response = await fetch(`${service.url}?access_token=good`, {
    method: 'POST',
    headers: { 'content-type': 'application/json', accept: 'application/json, text/event-stream' },
    body: '{}',
  });
  expect(response.status).toBe(401);
  await expect(connect(`${service.url}?access_token=good`)).rejects.toMatchObject({ data: { status: 401 } });
});

/** Where addresses lie, and so from which servers' words they may be fetched. */
const regions: readonly (readonly [address: string, region: string])[] = [
  ['127.0.0.1', 'loopback'],
  ['127.8.9.1', 'loopback'],
  ['::1', 'loopback'],
  ['::ffff:127.0.0.1', 'loopback'],
  ['::ffff:7f00:1', 'loopback'],
  ['10.1.2.3', 'private'],
  ['172.31.0.1', 'private'],
  ['172.32.0.1', 'public'],
  ['192.168.1.1', 'private'],
  ['100.64.0.1', 'private'],
  ['fd00::1', 'private'],
  ['::ffff:10.0.0.1', 'private'],
  ['::ffff:a00:1', 'private'],
  ['64:ff9b::7f00:1', 'private'],
  ['2002:7f00:1::', 'private'],
  ['169.254.169.254', 'forbidden'],
  ['::ffff:169.254.169.254', 'forbidden'],
  ['fe80::1', 'forbidden'],
  ['0.0.0.0', 'forbidden'],
  ['::', 'forbidden'],
  ['224.0.0.1', 'forbidden'],
  ['255.255.255.255', 'forbidden'],
  ['93.184.216.34', 'public'],
  ['2606:4700::1111', 'public'],
];
test.each(regions)('[MCP-241] the address %s is %s', (address, region) => {
  expect(regionOf(address)).toBe(region);
});

/** What a server at the first address may have fetched: names are looked up here. */
const names: Readonly<Record<string, readonly string[]>> = {
  'public.example': ['93.184.216.34'],
  'inside.example': ['10.0.0.7'],
  'both.example': ['93.184.216.34', '10.0.0.7'],
  'cloud.example': ['169.254.169.254'],
  'here.example': ['127.0.0.1'],
  'nowhere.example': [],
};
const ssrf: readonly (readonly [endpoint: string, url: string])[] = [
  ['https://public.example/mcp', 'https://inside.example/'],
  ['https://public.example/mcp', 'https://both.example/'],
  ['https://public.example/mcp', 'https://cloud.example/'],
  ['https://public.example/mcp', 'http://here.example/'],
  ['https://public.example/mcp', 'http://127.0.0.1/'],
  ['https://public.example/mcp', 'http://2130706433/'],
  ['https://public.example/mcp', 'http://0x7f.1/'],
  ['https://public.example/mcp', 'http://[::1]/'],
  ['https://public.example/mcp', 'http://[::ffff:127.0.0.1]/'],
  ['https://public.example/mcp', 'https://nowhere.example/'],
  ['https://both.example/mcp', 'https://inside.example/'],
  ['https://inside.example/mcp', 'http://here.example/'],
  ['https://inside.example/mcp', 'https://cloud.example/'],
  ['http://here.example/mcp', 'https://cloud.example/'],
  ['http://here.example/mcp', 'http://169.254.169.254/latest/'],
];
test.each(ssrf)('[MCP-241] a server at %s does not have %s fetched', async (endpoint, url) => {
  const find = async (host: string) => names[host]!.map((address) => ({ address, family: 4 }));
  const error = await fetchNear(endpoint, find)(url).catch((caught: unknown) => caught);
  expect((error as { cause: Error }).cause.message).toMatch(/has no (?:business|address)/);
});

test('[MCP-241] the address that was checked is the one that is connected to: a name that changes its mind gains nothing', async () => {
  const here = await listen(() => Response.json({ found: true }));
  open.push(here);
  let asked = 0;
  // First this machine, whose server may name it; then a place that may not be named.
  const find = async () => [{ address: asked++ < 2 ? '127.0.0.1' : '169.254.169.254', family: 4 }];
  const fetchBy = fetchNear('http://login.example/mcp', find);
  const url = `http://login.example:${new URL(here.url).port}/`;
  expect(await (await fetchBy(url)).json()).toEqual({ found: true });
  await expect(fetchBy(url)).rejects.toThrow('fetch failed');
  expect(asked).toBe(3);
});

test('what no server may answer with is no answer: too much, a redirect that is not followed', async () => {
  const server = await listen((request) =>
    new URL(request.url).pathname === '/big'
      ? new Response('x'.repeat(1_200_000))
      : new Response('', { status: 302, headers: { location: '/big' } }),
  );
  open.push(server);
  const fetchBy = fetchNear(server.url);
  await expect(fetchBy(`${server.url}/big`)).rejects.toThrow('fetch failed');
  expect((await fetchBy(`${server.url}/moved`)).status).toBe(302);
});

test('challenges are read as RFC 9110 has them, and anything else without harm', () => {
  expect(readChallenges('Basic realm="a, b", Bearer error="x", scope="a b", resource_metadata=https://a.example/x')).toEqual([
    { scheme: 'basic', params: { realm: 'a, b' } },
    { scheme: 'bearer', params: { error: 'x', scope: 'a b', resource_metadata: 'https://a.example/x' } },
  ]);
  expect(readChallenges(String.raw`BEARER realm="a\"b", Realm=second`)).toEqual([{ scheme: 'bearer', params: { realm: 'a"b' } }]);
  expect(readChallenges('Negotiate abc==, Bearer')).toMatchObject([{ scheme: 'negotiate' }, { scheme: 'bearer', params: {} }]);
  fc.assert(
    fc.property(fc.string({ maxLength: 200 }), (text) => {
      for (const { scheme, params } of readChallenges(text))
        expect([typeof scheme, Object.getPrototypeOf(params)]).toEqual(['string', null]);
    }),
  );
  fc.assert(
    fc.property(fc.dictionary(fc.stringMatching(/^[a-z_]{1,10}$/), fc.string({ maxLength: 30 }), { maxKeys: 5, minKeys: 1 }), (given) => {
      const written = Object.entries(given).map(([name, value]) => `${name}="${value.replaceAll(/["\\]/g, String.raw`\$&`)}"`);
      expect({ ...readChallenges(`Bearer ${written.join(', ')}`)[0]!.params }).toEqual({ ...given });
    }),
  );
});

test('[MCP-216] [MCP-218] [MCP-219] the places where metadata may be are tried in the order of the standard', async () => {
  const at = async (found: string, withPath: boolean) => {
    const asked: string[] = [];
    const server = await listen((request) => {
      const { pathname } = new URL(request.url);
      asked.push(pathname);
      const issuer = withPath ? `${server.url}/coop` : server.url;
      if (pathname === '/deep/mcp') return new Response('', { status: 401, headers: { 'www-authenticate': 'Bearer' } });
      if (pathname === '/.well-known/oauth-protected-resource')
        return Response.json({ resource: server.url, authorization_servers: [issuer] });
      if (pathname === found)
        return Response.json({
          issuer,
          authorization_endpoint: `${issuer}/a`,
          token_endpoint: `${issuer}/t`,
          code_challenge_methods_supported: ['S256'],
        });
      return new Response('', { status: 404 });
    });
    open.push(server);
    // It has neither an id nor a registration there: so far it comes.
    await expect(signIn({ visit: browserVisit({ open: () => {} }) }).begin(`${server.url}/deep/mcp`)).rejects.toThrow(
      'takes no registrations',
    );
    return asked.slice(1);
  };
  const resource = ['/.well-known/oauth-protected-resource/deep/mcp', '/.well-known/oauth-protected-resource'];
  expect(await at('/coop/.well-known/openid-configuration', true)).toEqual([
    ...resource,
    '/.well-known/oauth-authorization-server/coop',
    '/.well-known/openid-configuration/coop',
    '/coop/.well-known/openid-configuration',
  ]);
  expect(await at('/.well-known/openid-configuration', false)).toEqual([
    ...resource,
    '/.well-known/oauth-authorization-server',
    '/.well-known/openid-configuration',
  ]);
});

test('[MCP-222] [MCP-234] PKCE has to be announced, and sign-ins come back to this machine or over HTTPS only', async () => {
  const visit = (redirectUrl: string) => ({
    begin: () => ({ redirectUrl, go: async () => new URL('https://never.example'), end: () => {} }),
  });
  for (const wrong of ['http://desk.example/back', 'ftp://127.0.0.1/back', 'app:/back']) {
    const { error, visited } = await attempt({}, { visit: visit(wrong) });
    expect([wrong, (error as Error).message, visited]).toEqual([wrong, `Sign-ins cannot come back to ${wrong}.`, []]);
  }
  const { error, visited } = await attempt({ server: (world) => ({ ...metadata(world), code_challenge_methods_supported: [] }) });
  expect([(error as Error).message, visited]).toEqual([expect.stringContaining('PKCE'), []]);
});

test('a server that wants a key, and names no authorization server, is not taken for one', async () => {
  const server = await listen(() => new Response('', { status: 401, headers: { 'www-authenticate': 'Bearer' } }));
  open.push(server);
  await expect(signIn({ visit: browserVisit({ open: () => {} }) }).begin(`${server.url}/mcp`)).rejects.toMatchObject({
    code: 'JEXO_SIGN_IN',
    message: expect.stringContaining('names no authorization server') as string,
    next: expect.stringContaining('--header') as string,
  });
  await expect(connect(`${server.url}/mcp`, { auth: signIn() })).rejects.toMatchObject({ code: 'JEXO_HTTP_STATUS', data: { status: 401 } });
});

test('a server of 2025-03-26 without metadata is its own authorization server, at the usual places', async () => {
  const asked: string[] = [];
  const server = await listen(async (request) => {
    const { pathname } = new URL(request.url);
    asked.push(pathname);
    if (pathname === '/mcp') return new Response('', { status: 401 });
    if (pathname === '/register') return Response.json({ client_id: 'r' }, { status: 201 });
    if (pathname === '/token') return Response.json({ access_token: 'good', token_type: 'Bearer' });
    return new Response('', { status: 404 });
  });
  open.push(server);
  const visit = browserVisit({
    open: ({ url }) => {
      const { searchParams, pathname } = new URL(url);
      expect([pathname, searchParams.get('code_challenge_method'), searchParams.get('resource')]).toEqual([
        '/authorize',
        'S256',
        `${server.url}/mcp`,
      ]);
      void fetch(`${searchParams.get('redirect_uri')!}?code=c&state=${searchParams.get('state')!}`);
    },
  });
  const kept = await signIn({ visit }).begin(`${server.url}/mcp`);
  expect(kept).toMatchObject({ token: 'good', server: { issuer: server.url } });
  expect(asked).toContain('/.well-known/oauth-authorization-server');
});
