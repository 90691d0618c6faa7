import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import fc from 'fast-check';
import {
  apiKey,
  basic,
  bearer,
  clientCredentials,
  connect,
  defineServer,
  env,
  wrapRest,
  type WrapRestOptions,
} from '../../../src/index.js';
import { cooperative, freshFolder } from '../../support/command-line.js';
import { expectedPath, expectedQuery, type Value } from './reading.js';

interface Sent {
  readonly method: string;
  readonly url: URL;
  readonly headers: Headers;
  readonly body: string;
  readonly form: FormData | undefined;
}

/** An API that notes what it is sent, and answers as it is told. */
function fakeApi(answer: (request: Sent) => Response | Promise<Response> = () => Response.json({})) {
  const sent: Sent[] = [];
  const send = (async (input: URL | string, init: RequestInit = {}) => {
    const request = new Request(input, init);
    const isForm = request.headers.get('content-type')?.startsWith('multipart/');
    const form = isForm ? await request.clone().formData() : undefined;
    const one = {
      method: request.method,
      url: new URL(String(input)),
      headers: request.headers,
      body: isForm ? '' : await request.text(),
      form,
    };
    sent.push(one);
    return answer(one);
  }) as typeof fetch;
  return { sent, send };
}

type Paths = Record<string, Record<string, object | string>>;
const documentOf = (paths: Paths, more: object = {}) => ({
  openapi: '3.1.0',
  info: { title: 'Registry', version: '1.0.0' },
  servers: [{ url: 'http://registry.example/v1' }],
  paths,
  ...more,
});
const ok = (schema?: object) => ({
  responses: { 200: { description: 'OK', ...(schema && { content: { 'application/json': { schema } } }) } },
});

async function wrapped(document: object | string, options: WrapRestOptions = {}) {
  const server = defineServer({ name: 'registry', version: '1.0.0', offers: [wrapRest(document, options)] });
  await server.ready();
  const client = await connect(server);
  const { omitted, leftOut } = await server.catalogue();
  const tools = client.server.capabilities.tools === undefined ? [] : await client.tools();
  return {
    client,
    server,
    omitted,
    leftOut,
    tools,
    names: tools.map(({ name }) => name),
    tool: (name: string) => tools.find((each) => each.name === name)!,
  };
}
const textOf = ({ content }: { content: readonly object[] }) => content.map((block) => (block as { text?: string }).text ?? '').join('\n');

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
        'GET /hives.debug': { hide: true },
      },
    });
    expect(tool('list_hives').inputSchema.properties).toEqual({
      limit: { type: 'string', default: '5', description: 'how many' },
      words: { type: 'string' },
    });
    await client.call('list_hives', { words: 'x' });
    expect(sent[0]!.url.search).toBe('?tenant=alderwick&limit=5&q=x');
    await expect(wrapped(document, { inputs: { 'list_hive.q': { hide: true } } })).rejects.toMatchObject({ code: 'JEXO_CHOICE' });
    expect((await wrapped(document, { inputs: { 'list_hives.tenant': { hide: true } } })).omitted).toMatchObject([
      { why: expect.stringContaining('required') },
    ]);
  });
});

describe('schemas', () => {
  test('of 3.0, 3.1 and 2.0 become plain JSON Schema; recursion is kept; answers are not held to limits', async () => {
    const { tool, omitted } = await wrapped({
      openapi: '3.0.3',
      info: { title: 'Old', version: '1' },
      servers: [{ url: 'http://old.example' }],
      paths: {
        '/trees': {
          post: {
            operationId: 'plant',
            requestBody: { required: true, content: { 'application/json': { schema: { $ref: '#/components/schemas/Tree' } } } },
            ...ok({ $ref: '#/components/schemas/Tree' }),
          },
          get: { operationId: 'broken', parameters: [{ $ref: '#/components/parameters/none' }], ...ok() },
        },
      },
      components: {
        schemas: {
          Tree: {
            type: 'object',
            required: ['height', 'kind'],
            properties: {
              height: { type: 'integer', format: 'int32', minimum: 0, exclusiveMinimum: true, example: 12 },
              kind: { type: 'string', enum: ['lime', 'oak'], nullable: true },
              branches: { type: 'array', items: { $ref: '#/components/schemas/Tree' } },
              shape: { oneOf: [{ type: 'string' }, { type: 'integer' }], discriminator: { propertyName: 'x' } },
              id: { type: 'string', readOnly: true },
            },
          },
        },
      },
    });
    const { inputSchema, outputSchema } = tool('plant');
    const def = (inputSchema.$defs as Record<string, object>).Tree;
    expect(def).toMatchObject({
      required: ['height', 'kind'],
      properties: {
        height: { type: 'integer', exclusiveMinimum: 0, examples: [12] },
        kind: { type: ['string', 'null'], enum: ['lime', 'oak', null] },
        branches: { items: { $ref: '#/$defs/Tree' } },
      },
    });
    expect(JSON.stringify(inputSchema)).not.toMatch(/"minimum"|int32|discriminator|"id"/);
    expect(JSON.stringify(outputSchema)).not.toMatch(/"enum"|exclusiveMinimum/);
    expect(omitted).toMatchObject([{ name: 'broken', why: expect.stringContaining('parameters/none') }]);
  });

  test('a discriminator says in each branch which value leads to it; a base stands for the kinds it names', async () => {
    const { sent, send } = fakeApi();
    const hive = (more: object, required: string[] = []) => ({
      allOf: [{ $ref: '#/components/schemas/Visit' }, { type: 'object', required, properties: more }],
    });
    const { client, tool } = await wrapped(
      {
        openapi: '3.0.3',
        info: { title: 'Visits', version: '1' },
        servers: [{ url: 'http://visits.example' }],
        paths: {
          '/visits': {
            post: {
              operationId: 'noteVisit',
              requestBody: { required: true, content: { 'application/json': { schema: { $ref: '#/components/schemas/Visit' } } } },
              ...ok({ $ref: '#/components/schemas/Visit' }),
            },
          },
          '/payments': {
            post: {
              operationId: 'pay',
              requestBody: {
                content: {
                  'application/json': {
                    schema: {
                      type: 'object',
                      properties: {
                        id: { $ref: '#/components/schemas/Id' },
                        by: {
                          oneOf: [{ $ref: '#/components/schemas/Honey' }, { $ref: '#/components/schemas/Coins' }],
                          discriminator: { propertyName: 'in' },
                        },
                      },
                    },
                  },
                },
              },
              ...ok(),
            },
          },
        },
        components: {
          schemas: {
            Id: { type: 'string', readOnly: true },
            Honey: { type: 'object', properties: { in: { type: 'string', enum: ['Honey', 'Coins'] }, kg: { type: 'number' } } },
            Coins: { type: 'object', required: ['sum'], properties: { in: { type: 'string' }, sum: { type: 'integer' } } },
            Visit: {
              type: 'object',
              required: ['kind'],
              properties: { kind: { type: 'string', description: 'What was done.' }, on: { type: 'string' } },
              discriminator: {
                propertyName: 'kind',
                mapping: {
                  look: '#/components/schemas/Visit',
                  feed: '#/components/schemas/Feeding',
                  top_up: 'Feeding',
                  treat: 'Treatment',
                  lost: '#/components/schemas/NotThere',
                },
              },
            },
            Feeding: hive({ syrupL: { type: 'number' } }, ['syrupL']),
            Treatment: hive({ means: { type: 'string' } }),
          },
        },
      },
      { send },
    );
    expect((tool('note_visit').inputSchema.properties as Record<string, object>).body).toMatchObject({
      oneOf: [
        { properties: { kind: { const: 'look', description: 'What was done.' }, on: { type: 'string' } }, required: ['kind'] },
        { properties: { kind: { enum: ['feed', 'top_up'] }, syrupL: { type: 'number' } }, required: ['kind', 'syrupL'] },
        { properties: { kind: { const: 'treat' }, means: { type: 'string' } } },
      ],
    });
    expect((tool('pay').inputSchema.properties as Record<string, object>).by).toEqual({
      oneOf: [
        { type: 'object', properties: { in: { type: 'string', const: 'Honey' }, kg: { type: 'number' } }, required: ['in'] },
        { type: 'object', properties: { in: { type: 'string', const: 'Coins' }, sum: { type: 'integer' } }, required: ['sum', 'in'] },
      ],
    });
    expect(tool('pay').inputSchema.properties).not.toHaveProperty('id');

    await client.call('note_visit', { body: { kind: 'top_up', syrupL: 2 } });
    expect(sent.at(-1)).toMatchObject({ body: '{"kind":"top_up","syrupL":2}' });
    await client.call('pay', { by: { in: 'Coins', sum: 12 } });
    const count = sent.length;
    // One kind's name with another's fields is refused before anything is sent.
    for (const [name, input] of [
      ['note_visit', { body: { kind: 'feed', means: 'acid' } }],
      ['pay', { by: { in: 'Coins', kg: 1 } }],
    ] as const)
      expect(await client.call(name, input)).toMatchObject({ isError: true });
    expect(sent).toHaveLength(count);
  });

  test.each([
    ['3.0', { openapi: '3.0.3' }, '#/components/schemas/', { propertyName: 'kind' }],
    ['2.0', { swagger: '2.0', host: 'visits.example' }, '#/definitions/', 'kind'],
  ])(
    '%s: kinds that only their allOf names are offered beside the base; a pattern no reader takes is left to the API',
    async (_, head, place, discriminator) => {
      const schemas = {
        Visit: {
          type: 'object',
          discriminator,
          properties: {
            kind: { type: 'string' },
            hive: { type: 'string', pattern: '^[A-Z]+\\-\\d$' },
            note: { type: 'string', pattern: '^\\S' },
          },
        },
        Feeding: { allOf: [{ $ref: `${place}Visit` }, { type: 'object', properties: { syrupL: { type: 'number' } } }] },
        Broken: { allOf: [{ $ref: `${place}NotThere` }] },
        Means: { type: 'object', discriminator, properties: { kind: { type: 'string', enum: ['acid', 'heat'] } } },
        Acid: { allOf: [{ $ref: `${place}Means` }], properties: { ml: { type: 'number' } } },
      };
      const isOld = 'swagger' in head;
      const bodyOf = (name: string) =>
        isOld
          ? { parameters: [{ name: 'body', in: 'body', schema: { $ref: place + name } }] }
          : { requestBody: { content: { 'application/json': { schema: { $ref: place + name } } } } };
      const { tool } = await wrapped(
        {
          ...head,
          info: { title: 'Visits', version: '1' },
          paths: {
            '/visits': { post: { operationId: 'noteVisit', ...bodyOf('Visit'), responses: {} } },
            '/means': { post: { operationId: 'noteMeans', ...bodyOf('Means'), responses: {} } },
          },
          ...(isOld ? { definitions: schemas } : { components: { schemas } }),
        },
        { base: 'http://visits.example' },
      );
      const hive = { type: 'string' };
      const note = { type: 'string', pattern: '^\\S' };
      expect((tool('note_visit').inputSchema.properties as Record<string, object>).body).toMatchObject({
        anyOf: [
          {
            type: 'object',
            properties: { kind: { type: 'string', const: 'Feeding' }, hive, note, syrupL: { type: 'number' } },
            required: ['kind'],
          },
          { type: 'object', properties: { kind: { type: 'string' }, hive, note } },
        ],
      });
      expect(JSON.stringify(tool('note_visit'))).not.toContain('A-Z');
      expect((tool('note_means').inputSchema.properties as Record<string, object>).body).toMatchObject({
        anyOf: [
          { properties: { kind: { enum: ['acid', 'heat'] }, ml: { type: 'number' } } },
          { properties: { kind: { enum: ['acid', 'heat'] } } },
        ],
      });
    },
  );

  test('Swagger 2.0', async () => {
    const { sent, send } = fakeApi();
    const { client, tool, names } = await wrapped(
      {
        swagger: '2.0',
        info: { title: 'Older', version: '1' },
        host: 'older.example',
        basePath: '/base',
        schemes: ['http', 'https'],
        securityDefinitions: { key: { type: 'apiKey', in: 'header', name: 'X-Key' } },
        security: [{ key: [] }],
        paths: {
          '/hives': {
            get: {
              operationId: 'findHives',
              parameters: [{ name: 'colours', in: 'query', type: 'array', items: { type: 'string' }, collectionFormat: 'pipes' }],
              responses: { 200: { description: 'x', schema: { type: 'array', items: { $ref: '#/definitions/Hive' } } } },
            },
            post: {
              operationId: 'addHive',
              parameters: [{ name: 'hive', in: 'body', required: true, schema: { $ref: '#/definitions/Hive' } }],
              responses: { 200: { description: 'x' } },
            },
          },
          '/photos': {
            post: {
              operationId: 'addPhoto',
              consumes: ['multipart/form-data'],
              parameters: [{ name: 'file', in: 'formData', type: 'file', required: true }],
              responses: { 204: { description: 'x' } },
            },
          },
        },
        definitions: { Hive: { type: 'object', required: ['id'], properties: { id: { type: 'string' } } } },
      },
      { send, auth: apiKey('k-123456') },
    );
    expect(names).toEqual(['find_hives', 'add_hive', 'add_photo']);
    expect(tool('find_hives').outputSchema).toMatchObject({ properties: { result: { type: ['array', 'null'] } } });
    await client.call('find_hives', { colours: ['red', 'blue'] });
    await client.call('add_hive', { id: 'MR-03' });
    await client.call('add_photo', { file: 'aGVsbG8=' });
    expect(sent.map(({ url, headers, body, form }) => [url.href, headers.get('x-key'), body, form?.has('file')])).toEqual([
      ['https://older.example/base/hives?colours=red%7Cblue', 'k-123456', '', undefined],
      ['https://older.example/base/hives', 'k-123456', '{"id":"MR-03"}', undefined],
      ['https://older.example/base/photos', 'k-123456', '', true],
    ]);
  });

  test('references lead to other files, and round in circles', async () => {
    const folder = freshFolder('refs');
    const write = (name: string, value: object) => writeFileSync(join(folder, name), JSON.stringify(value));
    write('api.json', { ...documentOf({ '/hives': { $ref: './paths.json#/hives' } }) });
    write('paths.json', {
      hives: {
        post: {
          operationId: 'add',
          requestBody: { required: true, content: { 'application/json': { schema: { $ref: 'schemas.json#/Hive' } } } },
          ...ok(),
        },
      },
    });
    write('schemas.json', {
      Hive: { type: 'object', properties: { id: { type: 'string' }, queen: { $ref: '#/Queen' } } },
      Queen: { type: 'object', properties: { mother: { $ref: 'schemas.json#/Queen' } } },
    });
    for (const place of [join(folder, 'api.json'), pathToFileURL(join(folder, 'api.json')).href]) {
      const { tool } = await wrapped(place);
      expect(tool('add').inputSchema).toMatchObject({
        properties: { id: { type: 'string' }, queen: { $ref: '#/$defs/Queen' } },
        $defs: { Queen: { properties: { mother: { $ref: '#/$defs/Queen' } } } },
      });
    }
    write('api.json', documentOf({ '/x': { get: ok({ $ref: 'gone.json#/x' }) } }));
    await expect(wrapped(join(folder, 'api.json'))).rejects.toMatchObject({ code: 'JEXO_TARGET_MISSING' });
    writeFileSync(join(folder, 'bad.yaml'), 'openapi: 3.1.0\n  info: [');
    await expect(wrapped(join(folder, 'bad.yaml'))).rejects.toMatchObject({
      code: 'JEXO_SYNTAX',
      message: expect.stringMatching(/bad\.yaml:\d+:\d+: /),
    });
    write('no.json', { info: {} });
    await expect(wrapped(join(folder, 'no.json'))).rejects.toMatchObject({
      code: 'JEXO_DOCUMENT',
      message: expect.stringContaining('neither openapi nor swagger'),
    });
  });
});

describe('choosing', () => {
  const registry = join(cooperative, 'registry.openapi.yaml');

  test('by method, path, tag, operationId and name; what is left out is told, and nothing else is exposed', async () => {
    const chosen = async (options: WrapRestOptions) => (await wrapped(registry, options)).names;
    expect(await chosen({ only: ['GET /inspections*'] })).toEqual(['list_inspections', 'get_inspection', 'get_photo']);
    expect(await chosen({ only: ['tag:hives'] })).toEqual(['list_apiaries', 'list_hives', 'get_hive']);
    expect(await chosen({ only: ['getHive', 'book_inspection'], rename: { getHive: 'look' }, prefix: 'r_' })).toEqual([
      'r_look',
      'r_book_inspection',
    ]);
    const { names, leftOut } = await wrapped(registry, { except: ['GET *', 'POST *'] });
    expect([names, leftOut.length]).toEqual([['correct_inspection'], 9]);
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
    const { client } = await wrapped(registry, { send, base: 'http://registry.example', auth: bearer('t'), resources: ['tag:hives'] });
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
      base: 'http://registry.example',
      confirm: ['withdrawInspection'],
    });
    expect(names).toEqual(['find_operation', 'show_operation', 'invoke_operation']);
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
    expect(await client.call('invoke_operation', { operation: 'get_hive', input: { hive: 'nonsense' } })).toMatchObject({
      isError: true,
      content: [{ text: expect.stringContaining('hive') }],
    });
    expect(textOf(await client.call('invoke_operation', { operation: 'get_hive', input: { hive: 'MR-03' } }))).toBe('{"id":"MR-03"}');
    expect(await client.call('invoke_operation', { operation: 'withdraw_inspection', input: { id: 1 } })).toMatchObject({ isError: true });
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

  test('a token is fetched when it is needed, kept while it lasts, and fetched anew when it is refused', async () => {
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

describe('long answers', () => {
  const pages = (name: string, item: object = {}) =>
    documentOf({
      '/hives': {
        get: {
          operationId: 'listHives',
          parameters: [{ name, in: 'query', schema: { type: name === 'cursor' ? 'string' : 'integer' } }],
          ...ok({ type: 'object', properties: { items: { type: 'array', items: item }, next: {} } }),
        },
      },
    });
  const all = Array.from({ length: 25 }, (_, index) => ({ id: index }));

  test.each([
    [
      'page',
      ({ url }: Sent) => {
        const page = Number(url.searchParams.get('page') ?? 1);
        return Response.json({ items: all.slice((page - 1) * 10, page * 10) });
      },
    ],
    [
      'offset',
      ({ url }: Sent) => {
        const from = Number(url.searchParams.get('offset') ?? 0);
        return Response.json({ items: all.slice(from, from + 10) });
      },
    ],
    [
      'cursor',
      ({ url }: Sent) => {
        const from = Number(url.searchParams.get('cursor') ?? 0);
        return Response.json({ items: all.slice(from, from + 10), next: from + 10 < 25 ? String(from + 10) : null });
      },
    ],
    [
      'page',
      ({ url }: Sent) => {
        const from = Number(url.searchParams.get('from') ?? 0);
        return Response.json(
          { items: all.slice(from, from + 10) },
          { headers: from + 10 < 25 ? { link: `</v1/hives?from=${from + 10}>; rel="next"` } : {} },
        );
      },
    ],
  ])('pages are followed on request, by %s', async (name, answer) => {
    const { sent, send } = fakeApi(answer);
    const { client } = await wrapped(pages(name), { send });
    expect((await client.call('list_hives')).structuredContent).toMatchObject({ items: all.slice(0, 10) });
    expect(sent).toHaveLength(1);
    const progress: number[] = [];
    const whole = await client.call('list_hives', { pages: 9 }, { onProgress: (update) => progress.push(update.progress) });
    expect(whole.structuredContent!.items).toEqual(all);
    expect(sent.length).toBeLessThanOrEqual(5);
    expect((await client.call('list_hives', { pages: 2 })).structuredContent!.items).toEqual(all.slice(0, 20));
    expect(progress.length).toBeGreaterThanOrEqual(2);
  });

  test('a next page elsewhere is refused, and what came before a fault is kept', async () => {
    const elsewhere = fakeApi(() => Response.json({ items: [1], next: 'http://evil.example/next' }));
    const first = await wrapped(pages('cursor'), { send: elsewhere.send });
    expect(textOf(await first.client.call('list_hives', { pages: 3 }))).toContain(
      'evil.example for the next page, a host that was not declared',
    );
    expect(elsewhere.sent).toHaveLength(1);
    // A host that was declared is asked, but not told who we are.
    const two = fakeApi(({ url }) =>
      Response.json({ items: [1], next: url.host === 'files.example' ? null : 'http://files.example/next' }),
    );
    const declared = await wrapped(pages('cursor'), {
      send: two.send,
      hosts: ['files.example'],
      auth: bearer('t-123456'),
      headers: { 'X-Own': 'own' },
    });
    expect((await declared.client.call('list_hives', { pages: 3 })).structuredContent).toEqual({ items: [1, 1], next: null });
    expect(two.sent.map(({ url, headers }) => [url.host, headers.get('authorization'), headers.get('x-own')])).toEqual([
      ['registry.example', 'Bearer t-123456', 'own'],
      ['files.example', null, null],
    ]);
    const failing = fakeApi(({ url }) =>
      url.searchParams.has('page') ? new Response('', { status: 500 }) : Response.json({ items: all.slice(0, 10) }),
    );
    const second = await wrapped(pages('page'), { send: failing.send, retries: 0 });
    const kept = await second.client.call('list_hives', { pages: 3 });
    expect([kept.structuredContent, textOf(kept)]).toEqual([
      { items: all.slice(0, 10) },
      expect.stringContaining('Page 2 could not be fetched (HTTP 500)'),
    ]);
  });

  test('are cut with a pointer to the rest', async () => {
    const { send } = fakeApi(() => Response.json({ items: all.map(({ id }) => ({ id, note: 'x'.repeat(100) })), next: null }));
    const { client } = await wrapped(pages('page', { type: 'object' }), { send, answerCharacters: 1000 });
    const cut = await client.call('list_hives');
    const note = cut.content[1] as { text: string };
    expect((cut.structuredContent!.items as unknown[]).length).toBeLessThan(10);
    expect(note.text).toMatch(
      /^This answer was cut: \d of 25 items of items\. The whole of it, \d+ characters, is at registry-answer:\/\/[0-9a-f-]{36}\/1/,
    );
    const [place] = /registry-answer:\/\/[0-9a-f-]{36}/.exec(note.text)!;
    let whole = '';
    for (let part = 1; part < 10; part++) {
      const [contents] = (await client.read(`${place}/${part}`)).contents as unknown as { text: string }[];
      whole += contents!.text.replace(/\n\(continued at .*\)$/, '');
      if (!contents!.text.includes('continued at')) break;
    }
    expect(JSON.parse(whole).items).toHaveLength(25);
    await expect(client.read(`${place}/99`)).rejects.toMatchObject({ code: -32002 });
  });

  test('fields are chosen by a JMESPath expression', async () => {
    const { send } = fakeApi(() => Response.json({ items: all, next: null }));
    const { client, tool } = await wrapped(pages('page'), { send, pick: true });
    expect(tool('list_hives').outputSchema).toBeUndefined();
    expect(textOf(await client.call('list_hives', { pick: 'items[:3].id' }))).toBe('[0,1,2]');
    expect(await client.call('list_hives', { pick: 'items[' })).toMatchObject({
      isError: true,
      content: [{ text: expect.stringContaining('no JMESPath expression') }],
    });
  });

  test('pictures, sounds, texts and bytes come as what they are; an answer that breaks its promise says so', async () => {
    let answer = () => new Response('');
    const { send } = fakeApi(() => answer());
    const { client } = await wrapped(
      documentOf({
        '/a': { get: { operationId: 'first', ...ok() } },
        '/b': { get: { operationId: 'second', ...ok({ type: 'object', properties: { n: { type: 'integer' } } }) } },
      }),
      { send },
    );
    const as = (type: string) => () => new Response('abc', { headers: { 'content-type': type } });
    for (const [type, expected] of [
      ['image/png', [{ type: 'image', data: 'YWJj', mimeType: 'image/png' }]],
      ['audio/wav', [{ type: 'audio', data: 'YWJj', mimeType: 'audio/wav' }]],
      ['text/csv; charset=utf-8', [{ type: 'text', text: 'abc' }]],
      [
        'application/zip',
        [
          { type: 'text', text: '3 bytes of application/zip (200).' },
          { type: 'resource', resource: expect.objectContaining({ blob: 'YWJj' }) },
        ],
      ],
    ] as const) {
      answer = as(type);
      expect((await client.call('first')).content).toEqual(expected);
    }
    answer = () => Response.json({ n: 'many' });
    expect(textOf(await client.call('second'))).toMatch(/does not promise:\n- n: .*\nIts answer: \{"n":"many"\}/);
    answer = () => Response.json({ n: null, more: 1 });
    expect((await client.call('second')).structuredContent).toEqual({ n: null, more: 1 });
    answer = () => new Response(null, { status: 204 });
    expect(await client.call('second')).toMatchObject({ structuredContent: {}, content: [{ text: 'Done: 204 without content.' }] });
  });

  test('of many answers that were cut, the latest twenty can be read on', async () => {
    const { send } = fakeApi(({ url }) =>
      Response.json({ items: Array.from({ length: 100 }, (_, index) => `${url.searchParams.get('page')}-${index}`) }),
    );
    const { client } = await wrapped(pages('page', { type: 'string' }), { send, answerCharacters: 300 });
    const places: string[] = [];
    for (let page = 1; page <= 22; page++)
      places.push(/registry-answer:\/\/[\w-]+\/1/.exec(textOf(await client.call('list_hives', { page })))![0]);
    const readable = await Promise.all(
      places.map((uri) =>
        client.read(uri).then(
          ({ contents }) => (contents[0] as { text: string }).text.includes('-0'),
          () => false,
        ),
      ),
    );
    expect(readable).toEqual([false, false, ...Array.from({ length: 20 }, () => true)]);
  });
});
