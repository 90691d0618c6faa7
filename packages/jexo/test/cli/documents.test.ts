import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join, relative } from 'node:path';
import { cooperative, freshFolder, jexo, start } from '../support/command-line.js';

const document = join(cooperative, 'registry.openapi.yaml');
const folder = freshFolder('documents');
const api = createServer((request, response) => {
  if (request.url === '/openapi.json')
    return void response.end(
      JSON.stringify({
        openapi: '3.1.0',
        info: { title: 'Lots', version: '2.0.0' },
        servers: [{ url: '/' }],
        paths: {
          '/lots': {
            get: {
              summary: 'List the lots of honey',
              responses: { 200: { description: 'OK', content: { 'application/json': { schema: { type: 'array' } } } } },
            },
          },
        },
      }),
    );
  response.setHeader('content-type', 'application/json');
  response.end(JSON.stringify(request.url === '/lots' ? ['H-204'] : { at: request.url, token: request.headers.authorization }));
});
let base = '';
beforeAll(async () => {
  await new Promise<void>((resolve) => api.listen(0, '127.0.0.1', resolve));
  base = `http://127.0.0.1:${(api.address() as AddressInfo).port}`;
});
afterAll(() => new Promise((resolve) => api.close(resolve).closeAllConnections()));

test('a document is listed, called and read as any other target', async () => {
  const { stdout, code } = await jexo(['list', document]);
  expect([code, stdout]).toEqual([
    0,
    expect.stringMatching(/^Alderwick registry · 1\.0\.0[\s\S]*book_inspection\n {2}Book an inspection\./),
  ]);
  const called = await jexo(['call', document, 'get_hive', 'hive=MR-03', '--base-url', base, '--json'], {
    env: { REGISTRY_TOKEN: 'secret-42' },
  });
  expect(called.code).toBe(0);
  expect(JSON.parse(called.stdout)).toMatchObject({ structuredContent: { at: '/hives/MR-03', token: 'Bearer (masked)' } });
  const read = await jexo(['read', document, 'alderwick-registry://hives?limit=2', '--resources', '--base-url', base]);
  expect(read.stdout).toContain('/hives?limit=2');
  const fromUrl = await jexo(['call', `${base}/openapi.json`, 'list_lots', '--json']);
  expect(JSON.parse(fromUrl.stdout)).toMatchObject({ structuredContent: { result: ['H-204'] } });
});

test('served by choice, and what is excluded is reported; as three tools; the wire log holds no secret', async () => {
  const log = join(folder, 'wire.jsonl');
  const served = await start(['serve', document, '--http', '0', '--json', '--only', 'GET *', '--base-url', base, '--wire-log', log], {
    env: { REGISTRY_TOKEN: 'secret-42' },
  });
  expect(served.said).toMatchObject({
    tools: ['list_apiaries', 'list_hives', 'get_hive', 'list_inspections', 'get_inspection', 'get_photo'],
    excluded: ['book_inspection', 'correct_inspection', 'withdraw_inspection', 'upload_photo'],
  });
  await jexo(['call', String(served.said.address), 'get_hive', 'hive=MR-03']);
  await served.stop();
  expect(readFileSync(log, 'utf8')).toContain('(masked)');
  expect(readFileSync(log, 'utf8')).not.toContain('secret-42');
  const chosen = await jexo(['call', document, 'find_operation', 'words=inspection', '--search-tools', '--only', 'GET *', '--json']);
  expect(JSON.parse(chosen.stdout)).toMatchObject({ structuredContent: { of: 6 } });
  const search = await jexo(['list', document, '--search-tools', '--json']);
  expect((JSON.parse(search.stdout) as { tools: { name: string }[] }).tools.map(({ name }) => name)).toEqual([
    'find_operation',
    'show_operation',
    'call_operation',
  ]);
});

test('check tells by line what cannot be expressed and what a model will stumble over; the rest still serves', async () => {
  const bad = join(folder, 'bad.openapi.yaml');
  writeFileSync(
    bad,
    `openapi: 3.0.0
info: { title: Bad, version: '1' }
servers: [{ url: 'http://bad.example' }]
paths:
  /things:
    get:
      summary: Tells what lies in the shed by the gate, sorted by age and weight.
      responses: { '200': { description: OK } }
    post:
      summary: Tells what lies in the shed by the gate, sorted by age and weight.
      requestBody: { content: { application/json: {} } }
      responses: { '200': { description: OK } }
  /others/{id}:
    get:
      responses: { '200': { description: OK } }
    delete:
      parameters: [{ name: id, in: path, required: true, style: wobbly, schema: {} }]
      responses: { '204': { description: OK } }
`,
  );
  const { stdout, code } = await jexo(['check', bad, '--json']);
  const { findings } = JSON.parse(stdout) as { findings: { rule: string; subject: string; where: string; message: string }[] };
  const brief = findings
    .filter(({ rule }) => rule !== 'no-output-schema')
    .map(({ rule, subject, where }) => `${where.replace(/^.*:/, '')} ${rule} ${subject}`);
  expect(code).toBe(1);
  expect(brief.sort()).toEqual(
    [
      '14 no-description tool get_other',
      '6 same-description tool list_things',
      '9 parameter-without-description tool create_thing body',
      '9 untyped-input tool create_thing body',
      '14 parameter-without-description tool get_other id',
      '16 omitted operation DELETE /others/{id}',
    ].sort(),
  );
  expect((await jexo(['check', document, '--fail-on', 'warning'])).code).toBe(0);
});

test('of a large one, check recommends three tools, and they are enough', async () => {
  const operation = (index: number) => ({
    get: {
      operationId: `weighHive${index}`,
      summary: `Weigh the hive of stand ${index}`,
      description: `Reads the scale under stand ${index}, with its tare taken off, in kilograms.`,
      parameters: [{ name: 'at', in: 'query', description: 'the moment, as a date with a time', schema: { type: 'string' } }],
      responses: { 200: { description: 'OK' } },
    },
  });
  const large = join(folder, 'large.json');
  const paths = Object.fromEntries(Array.from({ length: 120 }, (_, index) => [`/stands/${index}`, operation(index)]));
  writeFileSync(large, JSON.stringify({ openapi: '3.1.0', info: { title: 'Scales', version: '1.0.0' }, paths }));
  const sizeOf = async (...more: string[]) => {
    const { findings } = JSON.parse((await jexo(['check', large, '--json', '--base-url', base, ...more])).stdout) as {
      findings: { rule: string; remedy: string }[];
    };
    return findings.filter(({ rule }) => rule === 'list-size').map(({ remedy }) => remedy);
  };
  expect(await sizeOf()).toEqual([expect.stringContaining('--search-tools')]);
  expect(await sizeOf('--search-tools')).toEqual([]);
});

test('a body that takes several types is reported, and sent as the one that is chosen', async () => {
  const several = join(folder, 'several.json');
  const body = (name: string) => ({ schema: { type: 'object', properties: { [name]: { type: 'string', description: 'a picture' } } } });
  writeFileSync(
    several,
    JSON.stringify({
      openapi: '3.1.0',
      info: { title: 'Photos', version: '1.0.0' },
      paths: {
        '/photos': {
          post: {
            summary: 'Keep a photo',
            requestBody: { content: { 'application/json': body('address'), 'application/x-www-form-urlencoded': body('words') } },
            responses: {},
          },
        },
      },
    }),
  );
  const listed = await jexo(['list', several]);
  expect([listed.stdout, listed.stderr]).toEqual([
    expect.stringContaining('address'),
    expect.stringMatching(
      /sent as application\/json, and not as .*--body-type 'POST \/photos=application\/x-www-form-urlencoded'.*JEXO_DOCUMENT/,
    ),
  ]);
  const chosen = await jexo(['list', several, '--body-type', 'POST /photos=application/x-www-form-urlencoded']);
  expect([chosen.stdout, chosen.stderr]).toEqual([expect.stringContaining('words'), expect.not.stringContaining('sent as')]);
});

test('packed, with what it refers to, it serves alone and elsewhere', async () => {
  const [from, other, away] = ['from', 'other', 'away'].map((name) => join(freshFolder('pack-document'), name));
  for (const each of [from, other, away]) mkdirSync(each!);
  const shared = relative(from!, join(other!, 'shared lots.yaml'));
  writeFileSync(
    join(from!, 'lots+api.yaml'),
    `openapi: 3.1.0
info: { title: Lots, version: 2.0.0 }
paths:
  /lots/{lot}:
    get:
      operationId: getLot
      parameters: [{ $ref: '${encodeURI(shared)}#/lot' }]
      responses: { 200: { description: OK } }
    delete: { operationId: deleteLot, parameters: [{ $ref: '${encodeURI(shared)}#/lot' }], responses: {} }
`,
  );
  writeFileSync(
    join(other!, 'shared lots.yaml'),
    'lot: { name: lot, in: path, required: true, description: as H-204, schema: { type: string } }\n',
  );
  const packed = await jexo(['pack', join(from!, 'lots+api.yaml'), '--out', away!, '--only', 'GET *', '--base-url', base, '--json']);
  expect(JSON.parse(packed.stdout)).toMatchObject({ server: { name: 'lots', title: 'Lots', version: '2.0.0' }, tools: ['get_lot'] });
  rmSync(from!, { recursive: true });
  rmSync(other!, { recursive: true });
  const { stdout, code } = await jexo(['call', 'get_lot', 'lot=H-204', '--json', '--', process.execPath, join(away!, 'lots+api.mjs')]);
  expect(code).toBe(0);
  expect(JSON.parse(stdout)).toMatchObject({ content: [{ text: expect.stringContaining('"at":"/lots/H-204"') }] });
});

test('what cannot be read is told', async () => {
  writeFileSync(join(folder, 'none.yaml'), 'a: 1\n');
  writeFileSync(join(folder, 'broken.json'), '{"openapi": "3.1.0",\n "info": [}');
  for (const [words, code, says] of [
    [['list', join(folder, 'none.yaml')], 3, /no OpenAPI document/],
    [['list', join(folder, 'broken.json')], 3, /broken\.json:2:/],
    [['list', join(folder, 'gone.yaml')], 3, /There is no file/],
    [['list', `${base.replace(/\d+$/, '9')}/openapi.json`], 3, /cannot be read/],
    [['list', document, '--only', 'tag:honey'], 2, /tag:honey/],
    [['list', `${base}/mcp`, '--base-url', base], 2, /--base-url means nothing to a running server/],
    [['pack', 'https://registry.example/openapi.json', '--out', folder], 3, /is not on this disk, so a pack cannot carry it/],
  ] as const) {
    const { code: got, stderr } = await jexo(words);
    expect([words, got, stderr]).toEqual([words, code, expect.stringMatching(says)]);
  }
});

describe('an API that has its own document', () => {
  const rows = Array.from({ length: 1500 }, (_, index) => ({ lot: `H-${index}`, jars: index, note: 'calm and sweet' }));
  let seen: string[] = [];
  const other = createServer((request, response) => {
    seen.push(`${request.url} ${request.headers['x-key'] ?? ''}`);
    response.setHeader('content-type', 'application/json');
    if (request.url !== '/api.json') return void response.end(JSON.stringify(rows));
    const array = { type: 'array', items: { type: 'object' } };
    response.end(
      JSON.stringify({
        openapi: '3.1.0',
        info: { title: 'Lots', version: '1' },
        servers: [{ url: '/' }],
        components: { securitySchemes: { HIVE_TEST_SECRET: { type: 'apiKey', in: 'header', name: 'X-Key' } } },
        security: [{ HIVE_TEST_SECRET: [] }],
        paths: {
          '/lots': {
            get: { operationId: 'lots', responses: { 200: { description: 'OK', content: { 'application/json': { schema: array } } } } },
          },
        },
      }),
    );
  });
  let at = '';
  beforeAll(async () => {
    await new Promise<void>((resolve) => other.listen(0, '127.0.0.1', resolve));
    at = `http://127.0.0.1:${(other.address() as AddressInfo).port}`;
  });
  beforeEach(() => void (seen = []));
  afterAll(() => new Promise((resolve) => other.close(resolve).closeAllConnections()));
  const env = { HIVE_TEST_SECRET: 'mine-to-keep', OTHER_SECRET: 'named-by-hand' };

  test('does not get a variable of this machine by naming it', async () => {
    const { stderr, code } = await jexo(['call', `${at}/api.json`, 'lots'], { env });
    expect(code).toBe(0);
    expect(seen).toEqual(['/api.json ', '/lots ']);
    expect(stderr).not.toContain('mine-to-keep');
    const listed = await jexo(['list', `${at}/api.json`], { env });
    expect(listed.stderr).toContain('--secret HIVE_TEST_SECRET=NAME');
  });

  test('gets the one that the user names, and it is said where it goes', async () => {
    await jexo(['call', `${at}/api.json`, 'lots', '--secret', 'HIVE_TEST_SECRET=OTHER_SECRET'], { env });
    expect(seen).toEqual(['/api.json ', '/lots named-by-hand']);
    const served = await start(['serve', `${at}/api.json`, '--http', '0', '--secret', 'HIVE_TEST_SECRET=OTHER_SECRET', '--json'], { env });
    expect(served.said.settings).toEqual([{ variable: 'OTHER_SECRET', purpose: 'access to Lots', secret: true, sentTo: new URL(at).host }]);
    await served.stop();
    const wrong = await jexo(['list', `${at}/api.json`, '--secret', 'KEY=OTHER_SECRET'], { env });
    expect([wrong.code, wrong.stderr]).toEqual([3, expect.stringContaining('Its schemes are: HIVE_TEST_SECRET.')]);
  });

  test('has a long answer shown as what it is: a part', async () => {
    const { stdout, stderr, code } = await jexo(['call', `${at}/api.json`, 'lots']);
    const shown = stdout.trim().split('\n').length - 1;
    expect(code).toBe(0);
    expect(shown).toBeLessThan(1500);
    expect(stdout).not.toContain('_cut');
    expect(stderr).toMatch(new RegExp(`This answer was cut: ${shown} of 1500 items[\\s\\S]*lots answered in .*, in part`));
    expect(stderr).not.toContain('✓');
    const { structuredContent } = JSON.parse((await jexo(['call', `${at}/api.json`, 'lots', '--json'])).stdout) as {
      structuredContent: { _cut: object[] };
    };
    expect(structuredContent._cut).toEqual([{ path: 'result', kept: shown, of: 1500, what: 'items' }]);
  });
});

test('serve says which variables are missing, and when a list is too long for a model', async () => {
  const paths = Object.fromEntries(
    Array.from({ length: 140 }, (_, index) => [
      `/lots${index}`,
      { get: { summary: `Lot ${index}`, responses: { 200: { description: 'OK' } } } },
    ]),
  );
  const security = {
    components: { securitySchemes: { lotKey: { type: 'apiKey', in: 'header', name: 'X-Key' } } },
    security: [{ lotKey: [] }],
  };
  const file = join(folder, 'many.json');
  writeFileSync(
    file,
    JSON.stringify({ openapi: '3.1.0', info: { title: 'Lots', version: '1' }, servers: [{ url: base }], ...security, paths }),
  );
  const { stderr } = await jexo(['serve', file]);
  expect(stderr).toContain('LOT_KEY is not set: access to Lots is read from it.');
  expect(stderr).toContain('140 tools are too many for most models to choose from.');
  const set = await jexo(['serve', file, '--only', 'GET /lots1'], { env: { LOT_KEY: 'x' } });
  expect(set.stderr).toContain(`LOT_KEY is sent to ${new URL(base).host}.`);
  expect(set.stderr).not.toContain('too many');
});
