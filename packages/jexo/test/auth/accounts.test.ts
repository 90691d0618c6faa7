import {
  accounts,
  defineServer,
  keys,
  memorySignIns,
  serveHttp,
  tool,
  type Accounts,
  type AccountsOptions,
  type Client,
} from '../../src/index.js';
import { createKey, writeKeys } from '../../src/auth/key-file.js';
import { startAuthorizationServer, configuration, type AuthorizationServer } from '../support/authorization-server.js';
import { freshFolder } from '../support/command-line.js';
import { connect } from '../support/connect.js';
import { freePort } from '../support/nginx.js';
import { join } from 'node:path';

const open: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});

interface World {
  readonly cloud: Accounts;
  readonly login: AuthorizationServer;
  readonly origin: string;
  /** A client of a caller with this name; where the person is sent is noted. */
  client(name: 'ines' | 'marek', visit?: (url: string) => void, canVisit?: boolean): Promise<Client>;
}

async function world(more: Partial<AccountsOptions> = {}): Promise<World> {
  const port = await freePort();
  const origin = `http://127.0.0.1:${port}`;
  const login = await startAuthorizationServer({
    clients: [
      ...configuration().clients!,
      {
        client_id: 'apiary',
        client_secret: 'a-secret-of-the-apiary',
        application_type: 'native',
        grant_types: ['authorization_code', 'refresh_token'],
        redirect_uris: [`${origin}/accounts/scale-cloud/callback`],
      },
    ],
  });
  open.push(() => login.close());
  const cloud = accounts({
    name: 'scale-cloud',
    title: 'Scale Cloud',
    issuer: login.issuer,
    clientId: 'apiary',
    clientSecret: 'a-secret-of-the-apiary',
    scopes: ['hives:read'],
    resource: 'https://scales.example/api',
    publicUrl: origin,
    ...more,
  });
  const file = join(freshFolder('accounts'), 'keys.json');
  const made = { ines: createKey({ name: 'ines' }), marek: createKey({ name: 'marek' }) };
  writeKeys(
    file,
    Object.values(made).map(({ kept }) => kept),
  );
  const server = defineServer({
    name: 'apiary',
    version: '1.0.0',
    offers: [
      tool('weigh', { description: 'Weighs.' }, async (_input, call) =>
        JSON.stringify(JSON.parse(atob((await cloud.token(call)).split('.')[1]!)) as object),
      ),
      tool('disconnect', { description: 'Gives the account up.' }, async (_input, call) => String(await cloud.disconnect(call))),
    ],
  });
  const service = await serveHttp(server, { port, auth: keys(file), routes: cloud.routes });
  open.push(() => service.close());
  return {
    cloud,
    login,
    origin,
    async client(name, visit = () => {}, canVisit = true) {
      const client = await connect(service.url, {
        headers: { authorization: `Bearer ${made[name].key}` },
        ...(canVisit && {
          elicitation: {
            url: ({ url }) => {
              visit(url);
              return { action: 'accept' as const };
            },
          },
        }),
      });
      open.push(() => client.close());
      return client;
    },
  };
}

/** A browser with its cookies. */
function browser() {
  let cookie = '';
  const ask = async (url: string, form?: Record<string, string>, headers: Record<string, string> = {}) => {
    const response = await fetch(url, {
      redirect: 'manual',
      headers: { cookie, ...headers },
      ...(form && { method: 'POST', body: new URLSearchParams(form) }),
    });
    const set = response.headers.get('set-cookie');
    if (set !== null) cookie = set.split(';')[0]!;
    return { status: response.status, to: response.headers.get('location'), page: await response.text(), headers: response.headers };
  };
  const hidden = (page: string) =>
    Object.fromEntries([...page.matchAll(/name="(\w+)" value="([^"]*)"/g)].map(([, name, value]) => [name!, value!]));
  return { ask, hidden };
}

const claims = (result: Awaited<ReturnType<Client['call']>>) =>
  JSON.parse((result.content[0] as { text: string }).text) as { sub: string; aud: string };

test('[MCP-237] a person connects an account over a page of this server, and tools use it in their name until it is given up', async () => {
  const { client, login } = await world();
  const pages: string[] = [];
  const person = browser();
  const connectBy = async (url: string, name: string) => {
    pages.push(url);
    const asked = await person.ask(url);
    expect(asked.page).toContain('Connect your account at Scale Cloud?');
    expect(asked.page).toContain('127.0.0.1');
    expect(asked.headers.get('content-security-policy')).toContain("frame-ancestors 'none'");
    const sent = await person.ask(url, person.hidden(asked.page));
    expect(sent.status).toBe(303);
    const back = await login.visit(sent.to!, { name, comesBack: false });
    const connected = await person.ask(back.href);
    expect([connected.status, connected.page]).toEqual([200, expect.stringContaining('Connected with Scale Cloud')]);
    // The state has been used.
    expect((await person.ask(back.href)).status).toBe(404);
  };
  const ines = await client('ines', (url) => void connectBy(url, 'ines-at-the-cloud'));
  expect(claims(await ines.call('weigh'))).toMatchObject({ sub: 'ines-at-the-cloud', aud: 'https://scales.example/api' });
  await ines.call('weigh');
  expect(pages.length).toBe(1);
  expect(new URL(pages[0]!).search).not.toContain('ines');
  // The account is hers alone.
  const marek = await client('marek', (url) => void connectBy(url, 'marek-at-the-cloud'));
  expect(claims(await marek.call('weigh')).sub).toBe('marek-at-the-cloud');
  expect((await ines.call('disconnect')).content).toEqual([{ type: 'text', text: 'true' }]);
  expect((await ines.call('disconnect')).content).toEqual([{ type: 'text', text: 'false' }]);
  await ines.call('weigh');
  expect(pages.length).toBe(3);
  expect(claims(await marek.call('weigh')).sub).toBe('marek-at-the-cloud');
});

test('what others could do with the page’s address does nothing: other browsers, other origins, invented states, a second use', async () => {
  const { client, login, origin } = await world();
  let url = '';
  const sent = new Promise<void>((resolve) => {
    void client('ines', (given) => ((url = given), resolve())).then((ines) => ines.call('weigh').catch(() => undefined));
  });
  await sent;
  const [person, thief] = [browser(), browser()];
  const form = person.hidden((await person.ask(url)).page);
  const statuses = {
    'another browser opens it': (await thief.ask(url)).status,
    'another browser posts the form': (await thief.ask(url, form)).status,
    'a form from another page': (await person.ask(url, form, { origin: 'https://evil.example' })).status,
    'a form without its secret': (await person.ask(url, { ticket: form.ticket! })).status,
    'a form with an invented secret': (await person.ask(url, { ...form, csrf: 'x'.repeat(32) })).status,
    'a form too long to be one': (await person.ask(url, { ...form, more: 'x'.repeat(20_000) })).status,
    'an invented ticket': (await person.ask(`${origin}/accounts/scale-cloud?ticket=invented`)).status,
    'no ticket': (await person.ask(`${origin}/accounts/scale-cloud`)).status,
    'an invented state': (await person.ask(`${origin}/accounts/scale-cloud/callback?code=a&state=invented`)).status,
    'no state': (await person.ask(`${origin}/accounts/scale-cloud/callback`)).status,
  };
  expect(statuses).toEqual({
    'another browser opens it': 403,
    'another browser posts the form': 403,
    'a form from another page': 403,
    'a form without its secret': 403,
    'a form with an invented secret': 403,
    'a form too long to be one': 403,
    'an invented ticket': 404,
    'no ticket': 404,
    'an invented state': 404,
    'no state': 404,
  });
  const on = await person.ask(url, form);
  const back = await login.visit(on.to!, { comesBack: false });
  expect((await thief.ask(back.href)).status).toBe(403);
  expect((await person.ask(back.href)).status).toBe(200);
});

test('a person who declines at the service ends the call with words', async () => {
  const { client, login } = await world();
  const person = browser();
  const ines = await client('ines', (url) => {
    void (async () => {
      const on = await person.ask(url, person.hidden((await person.ask(url)).page));
      const back = await login.visit(on.to!, { declines: true, comesBack: false });
      expect((await person.ask(back.href)).page).toContain('Not connected');
    })();
  });
  const result = await ines.call('weigh');
  expect([result.isError, JSON.stringify(result.content)]).toEqual([true, expect.stringContaining('declined')]);
});

test('where the server knows who sits at the browser, nobody else connects an account for a caller', async () => {
  let there: string | undefined = 'marek';
  const { client } = await world({ whoIsThere: () => there });
  const statuses: number[] = [];
  const person = browser();
  const visited = new Promise<void>((resolve) => {
    void client('ines', (url) => {
      void (async () => {
        statuses.push((await person.ask(url)).status);
        there = undefined;
        statuses.push((await person.ask(url)).status);
        there = 'ines';
        statuses.push((await person.ask(url)).status);
        resolve();
      })();
    }).then((ines) => ines.call('weigh').catch(() => undefined));
  });
  await visited;
  expect(statuses.slice(0, 2)).toEqual([403, 403]);
});

test('a client that cannot send its person to a page is told the address; callers without an identity have no accounts', async () => {
  const { client, origin, cloud } = await world();
  const plain = await client('ines', undefined, false);
  const result = await plain.call('weigh');
  expect(JSON.stringify(result.content)).toContain(`${origin}/accounts/scale-cloud?ticket=`);
  await expect(cloud.disconnect({ caller: { transport: 'http' } })).rejects.toMatchObject({ code: 'JEXO_NOT_SUPPORTED' });
  expect(await cloud.disconnect({ caller: { transport: 'stdio' } })).toBe(false);
});

test('a token is renewed when it ends; nobody who comes in time is a failure', async () => {
  const store = memorySignIns();
  const { client, login } = await world({ store, waitMs: 300 });
  const person = browser();
  let isThere = true;
  const ines = await client('ines', (url) => {
    if (!isThere) return;
    void (async () => {
      const on = await person.ask(url, person.hidden((await person.ask(url)).page));
      await person.ask((await login.visit(on.to!, { comesBack: false })).href);
    })();
  });
  await ines.call('weigh');
  const [kept] = await store.list();
  await store.set(kept!.endpoint, { ...kept!, expiresAt: Date.now() });
  isThere = false;
  expect((await ines.call('weigh')).isError).toBeUndefined();
  expect((await store.list())[0]!.token).not.toBe(kept!.token);
  await store.set(kept!.endpoint, undefined);
  const result = await ines.call('weigh');
  expect([result.isError, JSON.stringify(result.content)]).toEqual([true, expect.stringContaining('in time')]);
});

test('definitions that make no sense are refused', () => {
  const good = { name: 'scale-cloud', issuer: 'https://login.example', clientId: 'a', publicUrl: 'https://apiary.example' };
  for (const [more, says] of [
    [{ name: 'Scale Cloud' }, 'is no name'],
    [{ issuer: undefined }, 'give an issuer'],
    [{ issuer: 'http://login.example' }, 'no HTTPS address'],
    [{ publicUrl: 'apiary.example' }, 'no HTTPS address'],
  ] as const)
    expect(() => accounts({ ...good, ...more } as AccountsOptions)).toThrow(says);
});
