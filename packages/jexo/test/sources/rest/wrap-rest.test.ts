import { join } from 'node:path';
import fc from 'fast-check';
import { apiKey, basic, bearer, clientCredentials, env, type WrapRestOptions } from '../../../src/index.js';
import { cooperative } from '../../support/command-line.js';
import { documentOf, fakeApi, ok, textOf, wrapped, type Sent, type Paths } from '../../support/fake-api.js';
import { expectedPath, expectedQuery, type Value } from './reading.js';

describe('names', () => {
  test('are those a person would write, whatever the document gives', async () => {
    const nested = { ...ok(), parameters: [] };
    const { names } = await wrapped(
      documentOf({
        '/api/v2/hives': { get: ok({ type: 'array' }), post: nested },
        '/api/v2/hives/{hive}': { get: nested, put: nested, patch: nested, delete: nested },
        '/api/v2/hives/{hive}/inspections': { get: { operationId: 'get_inspections_api_v2_hives__hive__inspections_get', ...ok() } },
        '/inspections/{id}/withdraw': { post: nested },
        '/health': { get: nested },
        '/queens': { get: { operationId: 'Queens.listAllQueens', ...ok() } },
        '/lots': { get: { operationId: 'getLots-v2', ...ok() }, post: { operationId: 'get lots v2', ...ok() } },
        [`/${'very-long-segment/'.repeat(6)}end`]: {
          get: { operationId: 'anOperationWhoseNameIsFarTooLongForAnyHostToTakeAsTheNameOfATool', ...ok() },
        },
      }),
    );
    expect(names).toEqual([
      'list_hives',
      'create_hive',
      'get_hive',
      'replace_hive',
      'update_hive',
      'delete_hive',
      'list_hive_inspections',
      'withdraw_inspection',
      'get_health',
      'queens_list_all_queens',
      'get_lots_v2',
      'create_lot',
      expect.stringMatching(/^an_operation_whose_name.{20,}_[0-9a-z]{4}$/),
    ]);
    expect(names.every((name) => name.length <= 64)).toBe(true);
  });

  test('stay when the document grows, are unique, and fit hosts', async () => {
    const segment = fc.constantFrom('hives', 'api', '{id}', 'queens', 'v1', 'é/ü', 'a-b', 'inspections', '{hive}');
    const path = fc.array(segment, { minLength: 1, maxLength: 4 }).map((parts) => `/${parts.join('/')}`);
    const operation = fc.record({
      path,
      method: fc.constantFrom('get', 'post', 'put', 'delete', 'patch'),
      id: fc.option(fc.string({ maxLength: 90 }), { nil: undefined }),
    });
    const paths = (list: { path: string; method: string; id: string | undefined }[]) => {
      const made: Paths = {};
      for (const each of list)
        (made[each.path] ??= {})[each.method] ??= { ...(each.id !== undefined && { operationId: each.id }), ...ok() };
      return made;
    };
    await fc.assert(
      fc.asyncProperty(fc.array(operation, { minLength: 1, maxLength: 12 }), async (list) => {
        const { names } = await wrapped(documentOf(paths(list)));
        expect(new Set(names).size).toBe(names.length);
        for (const name of names) expect(name).toMatch(/^[A-Za-z][A-Za-z0-9_]{0,63}$/);
        // One more that has a longer path and an id of its own changes no name.
        const grown = await wrapped(
          documentOf(paths([...list, { path: '/zzz/a/very/long/path/of/its/own', method: 'get', id: 'quiteItsOwn' }])),
        );
        expect(grown.names.filter((name) => name !== 'quite_its_own')).toEqual(names);
      }),
      { numRuns: 60 },
    );
  });
});

describe('inputs', () => {
  test('are one flat object of all that is sent; clashes say where they go', async () => {
    const { sent, send } = fakeApi();
    const { client, tool } = await wrapped(
      documentOf({
        '/hives/{id}': {
          put: {
            operationId: 'putHive',
            parameters: [
              { name: 'id', in: 'path', required: true, schema: { type: 'integer' } },
              { name: 'id', in: 'query', schema: { type: 'string' } },
              { name: 'X-Trace', in: 'header', schema: { type: 'string' } },
              { name: 'Authorization', in: 'header', schema: { type: 'string' } },
              { name: 'visit', in: 'cookie', schema: { type: 'string' } },
              { name: 'filter[kind]', in: 'query', schema: { type: 'string' } },
            ],
            requestBody: {
              required: true,
              content: {
                'application/json': {
                  schema: {
                    allOf: [
                      {
                        type: 'object',
                        required: ['id', 'name'],
                        properties: { id: { type: 'string' }, name: { type: 'string' }, made: { type: 'string', readOnly: true } },
                      },
                      { properties: { secret: { type: 'string', writeOnly: true } } },
                    ],
                  },
                },
              },
            },
            ...ok(),
          },
        },
      }),
      { send },
    );
    expect(tool('put_hive').inputSchema).toMatchObject({ required: ['id', 'id_body', 'name'], additionalProperties: false });
    expect(Object.keys(tool('put_hive').inputSchema.properties as object)).toEqual([
      'id',
      'id_query',
      'X-Trace',
      'visit',
      'filter_kind',
      'id_body',
      'name',
      'secret',
    ]);
    await client.call('put_hive', {
      id: 7,
      id_query: 'q',
      'X-Trace': 't',
      visit: 'v',
      filter_kind: 'f',
      id_body: 'b',
      name: 'n',
      secret: 's',
    });
    expect(sent[0]!.url.href).toBe('http://registry.example/v1/hives/7?id=q&filter%5Bkind%5D=f');
    expect([sent[0]!.headers.get('x-trace'), sent[0]!.headers.get('cookie'), JSON.parse(sent[0]!.body)]).toEqual([
      't',
      'visit=v',
      { id: 'b', name: 'n', secret: 's' },
    ]);
  });

  test('whatever the parameter, what goes over HTTP is what an independent reading gives', async () => {
    const word = fc.string({ minLength: 1, maxLength: 6 });
    const value: fc.Arbitrary<Value> = fc.oneof(
      word,
      fc.array(word, { minLength: 1, maxLength: 3 }),
      fc.dictionary(fc.stringMatching(/^[a-z]{1,4}$/), word, { minKeys: 1, maxKeys: 3 }).map((record) => ({ ...record })),
    );
    const { sent, send } = fakeApi();
    await fc.assert(
      fc.asyncProperty(
        fc.record({
          path: fc.constantFrom('simple', 'label', 'matrix'),
          query: fc.constantFrom('form', 'spaceDelimited', 'pipeDelimited', 'deepObject'),
        }),
        fc.boolean(),
        fc.boolean(),
        value,
        value,
        async (styles, explode, allowReserved, inPath, inQuery) => {
          const first = expectedPath('p', styles.path, explode, inPath);
          fc.pre(!/^\.{1,2}$/.test(first));
          const { client } = await wrapped(
            documentOf({
              '/at/{p}': {
                get: {
                  operationId: 'look',
                  parameters: [
                    { name: 'p', in: 'path', required: true, style: styles.path, explode, schema: {} },
                    { name: 'q', in: 'query', style: styles.query, explode, allowReserved, schema: {} },
                  ],
                  ...ok(),
                },
              },
            }),
            { send },
          );
          await client.call('look', { p: inPath, q: inQuery });
          const query = expectedQuery('q', styles.query, explode, allowReserved, inQuery);
          // A URL writes a quote as %27 in a query by itself (WHATWG URL, "special-query").
          expect(sent.at(-1)!.url.href).toBe(`http://registry.example/v1/at/${first}?${query.replaceAll("'", '%27')}`);
          await client.close();
        },
      ),
      { numRuns: 150 },
    );
  });

  test('a value that would lead to another path is refused', async () => {
    const { sent, send } = fakeApi();
    const { client } = await wrapped(documentOf({ '/hives/{hive}': { get: ok() } }), { send });
    for (const hive of ['..', '.', ''])
      expect(await client.call('get_hive', { hive })).toMatchObject({
        isError: true,
        content: [{ text: expect.stringContaining('another path') }],
      });
    await client.call('get_hive', { hive: '../../admin?x=1#y' });
    expect(sent.map(({ url }) => url.href)).toEqual(['http://registry.example/v1/hives/..%2F..%2Fadmin%3Fx%3D1%23y']);
  });

  test('forms, uploads, texts and bytes', async () => {
    const { sent, send } = fakeApi();
    const body = (type: string, schema: object, encoding?: object) => ({
      requestBody: { required: true, content: { [type]: { schema, ...(encoding && { encoding }) } } },
      ...ok(),
    });
    const png = Buffer.from([0x89, 0x50, 0x4e, 0x47, 13, 10]).toString('base64');
    const { client, tool } = await wrapped(
      documentOf({
        '/form': {
          post: body(
            'application/x-www-form-urlencoded',
            {
              type: 'object',
              properties: { name: { type: 'string' }, tags: { type: 'array', items: { type: 'string' } }, place: { type: 'object' } },
            },
            { tags: { style: 'form', explode: false } },
          ),
        },
        '/upload': {
          post: body('multipart/form-data', {
            type: 'object',
            required: ['photo'],
            properties: { photo: { type: 'string', format: 'binary' }, about: { type: 'object' }, n: { type: 'integer' } },
          }),
        },
        '/text': { post: body('text/plain', { type: 'string' }) },
        '/bytes': { post: body('application/octet-stream', { type: 'string', format: 'binary' }) },
        '/list': { post: body('application/json', { type: 'array', items: { type: 'integer' } }) },
      }),
      { send },
    );
    await client.call('create_form', { name: 'a&b', tags: ['x', 'y'], place: { a: 1 } });
    expect([sent[0]!.headers.get('content-type'), sent[0]!.body]).toEqual([
      'application/x-www-form-urlencoded',
      'name=a%26b&tags=x,y&place=%7B%22a%22%3A1%7D',
    ]);
    expect((tool('create_upload').inputSchema.properties as Record<string, object>).photo).toMatchObject({
      contentEncoding: 'base64',
      description: expect.stringContaining('base64'),
    });
    await client.call('create_upload', { photo: png, about: { a: 1 }, n: 3 });
    const form = sent[1]!.form!;
    const photo = form.get('photo') as File;
    expect([photo.type, photo.name, photo.size, form.get('n'), await (form.get('about') as File).text()]).toEqual([
      'image/png',
      'photo.png',
      6,
      '3',
      '{"a":1}',
    ]);
    expect(await client.call('create_upload', { photo: '§' })).toMatchObject({
      isError: true,
      content: [{ text: expect.stringContaining('photo is not base64') }],
    });
    await client.call('create_text', { body: 'calm' });
    await client.call('create_byte', { body: `data:application/zip;base64,${png}` });
    await client.call('create_list', { body: [1, 2] });
    expect(sent.slice(2).map(({ body: text }) => text.slice(0, 20))).toEqual(['calm', expect.stringContaining('PNG'), '[1,2]']);
  });

  test('of a body that takes several types, one is chosen', async () => {
    const { sent, send } = fakeApi();
    const schema = { type: 'object', properties: { a: { type: 'string' } } };
    const document = documentOf({
      '/x': {
        post: {
          operationId: 'addOne',
          requestBody: { content: { 'text/plain': {}, 'application/x-www-form-urlencoded': { schema }, 'application/json': { schema } } },
          ...ok(),
        },
      },
    });
    await (await wrapped(document, { send })).client.call('add_one', { a: 'b' });
    await (
      await wrapped(document, { send, bodyTypes: { addOne: 'application/x-www-form-urlencoded' } })
    ).client.call('add_one', { a: 'b' });
    await (await wrapped(document, { send, bodyTypes: { 'POST /x': 'text/plain' } })).client.call('add_one', { body: 'c' });
    expect(sent.map(({ body }) => body)).toEqual(['{"a":"b"}', 'a=b', 'c']);
    // The form has the same fields and needs no word; the text has not.
    expect((await wrapped(document)).omitted).toEqual([
      expect.objectContaining({
        name: 'add_one as text/plain',
        partial: true,
        next: expect.stringContaining('{ "addOne": "text/plain" }'),
      }),
    ]);
    expect((await wrapped(document, { bodyTypes: { addOne: 'text/plain' } })).omitted).toEqual([]);
    expect((await wrapped(document, { bodyTypes: { addOne: 'image/png' } })).omitted).toMatchObject([
      { why: expect.stringContaining('it takes text/plain,') },
    ]);
  });

  test('may be fixed, defaulted, described, renamed and hidden', async () => {
    const { sent, send } = fakeApi();
    const parameters = ['tenant', 'limit', 'q', 'debug'].map((name) => ({
      name,
      in: 'query',
      required: name === 'tenant',
      schema: { type: 'string' },
    }));
    const document = documentOf({ '/hives': { get: { operationId: 'listHives', parameters, ...ok() } } });
    const { client, tool } = await wrapped(document, {
      send,
      inputs: {
        '*.tenant': { fix: 'alderwick' },
        'list_hives.limit': { default: '5', describe: 'how many' },
        'listHives.q': { rename: 'words' },
        'GET /hives.debug': { omit: true },
      },
    });
    expect(tool('list_hives').inputSchema.properties).toEqual({
      limit: { type: 'string', default: '5', description: 'how many' },
      words: { type: 'string' },
    });
    await client.call('list_hives', { words: 'x' });
    expect(sent[0]!.url.search).toBe('?tenant=alderwick&limit=5&q=x');
    await expect(wrapped(document, { inputs: { 'list_hive.q': { omit: true } } })).rejects.toMatchObject({ code: 'JEXO_CHOICE' });
    expect((await wrapped(document, { inputs: { 'list_hives.tenant': { omit: true } } })).omitted).toMatchObject([
      { why: expect.stringContaining('required') },
    ]);
  });
});

describe('choosing', () => {
  const registry = join(cooperative, 'registry.openapi.yaml');

  test('by method, path, tag, operationId and name; what is excluded is reported, and nothing else is exposed', async () => {
    const chosen = async (options: WrapRestOptions) => (await wrapped(registry, options)).names;
    expect(await chosen({ only: ['GET /inspections*'] })).toEqual(['list_inspections', 'get_inspection', 'get_photo']);
    expect(await chosen({ only: ['tag:hives'] })).toEqual(['list_apiaries', 'list_hives', 'get_hive']);
    expect(await chosen({ only: ['getHive', 'book_inspection'], rename: { getHive: 'look' }, prefix: 'r_' })).toEqual([
      'r_look',
      'r_book_inspection',
    ]);
    const { names, excluded } = await wrapped(registry, { except: ['GET *', 'POST *'] });
    expect([names, excluded.length]).toEqual([['correct_inspection'], 9]);
    await expect(wrapped(registry, { only: ['tag:honey'] })).rejects.toMatchObject({ code: 'JEXO_CHOICE' });
  });

  test('annotations come from the method; places are lines of the document', async () => {
    const { tool, server } = await wrapped(registry);
    expect(tool('get_hive').annotations).toEqual({ readOnlyHint: true });
    expect(tool('correct_inspection').annotations).toEqual({ destructiveHint: true });
    expect(tool('book_inspection').annotations).toEqual({ destructiveHint: false });
    expect(tool('withdraw_inspection').annotations).toEqual({ destructiveHint: true });
    const { tools } = await server.catalogue();
    expect(tools.get('list_apiaries')!.offer.where).toMatch(/registry\.openapi\.yaml:\d+$/);
  });

  test('GETs as resources and templates', async () => {
    const { sent, send } = fakeApi(({ url }) =>
      url.pathname.endsWith('XX-00') ? new Response('{}', { status: 404 }) : Response.json({ at: url.pathname + url.search }),
    );
    const { client } = await wrapped(registry, { send, baseUrl: 'http://registry.example', auth: bearer('t'), resources: ['tag:hives'] });
    expect((await client.resources()).map(({ uri }) => uri)).toEqual(['alderwick-registry://apiaries']);
    expect((await client.templates()).map(({ uriTemplate }) => uriTemplate)).toEqual([
      'alderwick-registry://hives{?apiary,marked,limit,cursor}',
      'alderwick-registry://hives/{hive}',
      'alderwick-registry-answer://{id}/{part}',
    ]);
    expect(await client.read('alderwick-registry://hives?limit=3')).toMatchObject({
      contents: [{ mimeType: 'application/json', text: '{"at":"/hives?limit=3"}' }],
    });
    await client.read('alderwick-registry://hives/MR-03');
    expect(sent.at(-1)!.url.href).toBe('http://registry.example/hives/MR-03');
    await expect(client.read('alderwick-registry://hives/XX-00')).rejects.toMatchObject({ code: -32002 });
  });

  test('three generic tools in place of many', async () => {
    const { sent, send } = fakeApi(() => Response.json({ id: 'MR-03' }));
    const { client, names } = await wrapped(registry, {
      as: 'search',
      send,
      baseUrl: 'http://registry.example',
      confirm: ['withdrawInspection'],
    });
    expect(names).toEqual(['find_operation', 'show_operation', 'call_operation']);
    const found = await client.call('find_operation', { words: 'look up one hive' });
    expect((found.structuredContent as { found: { operation: string }[] }).found[0]).toMatchObject({
      operation: 'get_hive',
      readOnly: true,
    });
    expect((await client.call('show_operation', { operation: 'get_hive' })).structuredContent).toMatchObject({
      input: { required: ['hive'] },
    });
    expect(await client.call('show_operation', { operation: 'get_hives' })).toMatchObject({
      isError: true,
      content: [{ text: expect.stringContaining('Did you mean get_hive?') }],
    });
    expect(await client.call('call_operation', { operation: 'get_hive', input: { hive: 'nonsense' } })).toMatchObject({
      isError: true,
      content: [{ text: expect.stringContaining('hive') }],
    });
    expect(textOf(await client.call('call_operation', { operation: 'get_hive', input: { hive: 'MR-03' } }))).toBe('{"id":"MR-03"}');
    expect(await client.call('call_operation', { operation: 'withdraw_inspection', input: { id: 1 } })).toMatchObject({ isError: true });
    expect(sent).toHaveLength(1);
  });
});

describe('proving who we are', () => {
  const schemes = {
    components: {
      securitySchemes: {
        tok: { type: 'http', scheme: 'bearer' },
        user: { type: 'http', scheme: 'basic' },
        key: { type: 'apiKey', in: 'query', name: 'k' },
        jar: { type: 'apiKey', in: 'cookie', name: 'c' },
        grant: { type: 'oauth2', flows: { clientCredentials: { tokenUrl: 'http://login.example/token', scopes: { read: '' } } } },
      },
    },
  };
  const at = (security: object[]) => documentOf({ '/x': { get: { operationId: 'look', security, ...ok() } } }, schemes);
  const seen = ({ headers, url }: Sent) => [headers.get('authorization'), url.search, headers.get('cookie')];

  test.each([
    ['tok', bearer('secret-token'), ['Bearer secret-token', '', null]],
    ['user', basic('jo', 'pässword'), ['Basic am86cMOkc3N3b3Jk', '', null]],
    ['key', apiKey('a&b-secret'), [null, '?k=a%26b-secret', null]],
    ['jar', apiKey('cookie-secret'), [null, '', 'c=cookie-secret']],
  ])('%s', async (scheme, auth, expected) => {
    const { sent, send } = fakeApi(() => Response.json({ echo: 'secret-token a&b-secret cookie-secret pässword' }));
    const { client } = await wrapped(at([{ [scheme]: [] }]), { send, auth: { [scheme]: auth } });
    const answer = await client.call('look');
    expect(seen(sent[0]!)).toEqual(expected);
    // The API may repeat it; the model does not get to see it.
    const own = { tok: 'secret-token', user: 'pässword', key: 'a&b-secret', jar: 'cookie-secret' }[scheme]!;
    expect(JSON.stringify(answer)).not.toContain(own);
    expect(JSON.stringify(answer)).toContain('(masked)');
  });

  test('a token is fetched when it is needed, kept while it lasts, and fetched again when it is refused', async () => {
    let token = 0;
    let refuse = false;
    const { sent, send } = fakeApi(({ url, headers }) => {
      if (url.host === 'login.example') return Response.json({ access_token: `granted-${++token}`, expires_in: 3600 });
      return refuse && headers.get('authorization') === 'Bearer granted-1' ? new Response('', { status: 401 }) : Response.json({});
    });
    const { client } = await wrapped(at([{ grant: ['read'] }]), { send, auth: clientCredentials({ id: 'me', secret: 'very-secret' }) });
    await client.call('look');
    await client.call('look');
    refuse = true;
    expect((await client.call('look')).isError).toBeUndefined();
    expect(sent.map(({ url }) => url.host)).toEqual([
      'login.example',
      'registry.example',
      'registry.example',
      'registry.example',
      'login.example',
      'registry.example',
    ]);
    expect([sent[0]!.headers.get('authorization'), sent[0]!.body]).toEqual([
      `Basic ${btoa('me:very-secret')}`,
      'grant_type=client_credentials&scope=read',
    ]);
  });

  test('a header of one’s own that holds a secret is kept out of answers; others are not', async () => {
    const { send } = fakeApi(({ headers }) => Response.json({ key: headers.get('x-api-key'), season: headers.get('x-season') }));
    const { client } = await wrapped(documentOf({ '/hives': { get: { operationId: 'listHives', ...ok() } } }), {
      send,
      headers: { 'X-Api-Key': 'k-123456', 'X-Season': 'autumn' },
    });
    expect(textOf(await client.call('list_hives'))).toBe('{"key":"(masked)","season":"autumn"}');
  });

  test('secrets come from the environment under the scheme’s name; a missing one is named', async () => {
    const { sent, send } = fakeApi(({ headers }) => (headers.has('authorization') ? Response.json({}) : new Response('', { status: 401 })));
    process.env.TOK = 'from-outside';
    expect((await (await wrapped(at([{ tok: [] }]), { send })).client.call('look')).isError).toBeUndefined();
    expect(seen(sent[0]!)[0]).toBe('Bearer from-outside');
    delete process.env.TOK;
    expect(textOf(await (await wrapped(at([{ tok: [] }]), { send })).client.call('look'))).toContain('read from TOK');
    const named = await wrapped(at([{ tok: [] }]), { send, auth: bearer(env('NOWHERE_SET')) });
    expect(textOf(await named.client.call('look'))).toContain('NOWHERE_SET, which is not set');
    await expect(wrapped(at([]), { auth: { nobody: bearer('x') } })).rejects.toMatchObject({ code: 'JEXO_DEFINITION' });
    expect(sent.at(-1)!.headers.has('authorization')).toBe(false);
  });
});
