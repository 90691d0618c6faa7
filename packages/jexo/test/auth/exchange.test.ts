import { connect, defineServer, oauth, serveHttp, tokenExchange, wrapEndpoints } from '../../src/index.js';
import { startAuthorizationServer } from '../support/authorization-server.js';
import { listen } from '../support/listen.js';

const open: { close(): Promise<unknown> }[] = [];
afterEach(async () => {
  for (const each of open.splice(0).reverse()) await each.close();
});

test('[MCP-225] an API is called in the caller’s name by an exchanged token; the caller’s own goes to the authorization server alone', async () => {
  const login = await startAuthorizationServer();
  open.push(login);
  const seen: string[] = [];
  const registry = await listen((request) => {
    seen.push(request.headers.get('authorization') ?? '');
    return Response.json({ hives: ['MR-03'] });
  });
  const exchanges: URLSearchParams[] = [];
  const exchange = await listen(async (request) => {
    const form = new URLSearchParams(await request.text());
    exchanges.push(form);
    if (request.headers.get('authorization') !== `Basic ${btoa('apiary:a-secret-of-the-apiary')}`)
      return Response.json({ error: 'invalid_client' }, { status: 401 });
    return Response.json({
      access_token: `for-registry-${exchanges.length}`,
      token_type: 'Bearer',
      expires_in: 300,
      issued_token_type: 'urn:ietf:params:oauth:token-type:access_token',
    });
  });
  open.push(registry, exchange);
  const resource = 'https://apiary.example/mcp';
  const offers = [
    wrapEndpoints([{ at: 'GET /hives', description: 'Lists hives.' }], {
      baseUrl: registry.url,
      auth: tokenExchange({
        id: 'apiary',
        secret: 'a-secret-of-the-apiary',
        tokenUrl: `${exchange.url}/token`,
        audience: 'https://registry.example',
        scope: 'registry:read',
      }),
    }),
  ];
  const apiary = defineServer({ name: 'apiary', version: '1.0.0', offers });
  const service = await serveHttp(apiary, { auth: oauth({ issuer: login.issuer, resource }) });
  open.push(service);
  const tokens = [await login.token(resource), await login.token(resource)];
  for (const token of tokens) {
    const client = await connect(service.url, { headers: { authorization: `Bearer ${token}` } });
    open.push(client);
    for (let calls = 0; calls < 2; calls++) expect((await client.call('list_hives')).isError).toBeUndefined();
  }
  // One exchange for each token, kept until it ends; what is sent to the API is never the caller's.
  expect(seen).toEqual(['Bearer for-registry-1', 'Bearer for-registry-1', 'Bearer for-registry-2', 'Bearer for-registry-2']);
  expect(exchanges.map((form) => form.get('subject_token'))).toEqual(tokens);
  expect(Object.fromEntries(exchanges[0]!)).toMatchObject({
    grant_type: 'urn:ietf:params:oauth:grant-type:token-exchange',
    subject_token_type: 'urn:ietf:params:oauth:token-type:access_token',
    audience: 'https://registry.example',
    scope: 'registry:read',
  });
  // A caller without a token has no name that the API could be called in.
  const nobody = await connect(apiary);
  open.push(nobody);
  const refused = await nobody.call('list_hives');
  expect([refused.isError, JSON.stringify(refused.content)]).toEqual([true, expect.stringContaining('has not signed in')]);
  expect(seen.length).toBe(4);
});
