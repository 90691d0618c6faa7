import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { apiKey } from '../../../src/index.js';
import { freshFolder } from '../../support/command-line.js';
import { documentOf, fakeApi, ok, wrapped } from '../../support/fake-api.js';

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
            Honey: {
              type: 'object',
              properties: { in: { type: 'string', enum: ['Honey', 'Coins'], default: 'Coins', example: 'Coins' }, kg: { type: 'number' } },
            },
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
        { baseUrl: 'http://visits.example' },
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
    write('api.json', documentOf({ '/x': { get: ok({ $ref: 'gone.json#/x' }) }, '/lots': { get: ok() } }));
    // What is missing takes along only what needs it.
    const partly = await wrapped(join(folder, 'api.json'));
    expect(partly.names).toEqual(['list_lots']);
    expect(partly.omitted).toEqual([
      expect.objectContaining({ name: 'get_x', why: expect.stringMatching(/There is no file .*gone\.json/) }),
    ]);
    await expect(wrapped(join(folder, 'nowhere.json'))).rejects.toMatchObject({ code: 'JEXO_TARGET_MISSING' });
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
