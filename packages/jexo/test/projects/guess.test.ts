import fc from 'fast-check';
import { guessEndpoints, jsonSchema } from '../../src/projects/guess-endpoints.js';
import { parseCurl, shellWords } from '../../src/projects/parse-curl.js';
import { endpointsProject } from '../../src/projects/project-files.js';
import { readHar } from '../../src/projects/read-har.js';
import { compileSchema } from '../../src/offers/schema.js';
import { quoteForShell } from '../../src/inspect/input-text.js';

test('words are taken apart as a shell does', () => {
  fc.assert(
    fc.property(fc.array(fc.string(), { maxLength: 6 }), (words) => {
      expect(shellWords(words.map((word) => (word === '' ? "''" : quoteForShell(word))).join(' '))).toEqual(words);
    }),
  );
  expect(shellWords(`curl "a \\"b\\" \\$c" \\\n  $'it\\'s\\n\\u00e4' d\\ e ^\n f`)).toEqual(['curl', 'a "b" $c', "it's\nä", 'd e', 'f']);
});

test.each([
  ['curl https://a.example/hives', 'GET', '/hives', undefined],
  ['curl -XPUT a.example/hives/3 --json \'{"n":1}\'', 'PUT', '/hives/3', { type: 'application/json', text: '{"n":1}' }],
  ["curl 'https://a.example/x' -d a=1 -d 'b=2 3'", 'POST', '/x', { type: 'application/x-www-form-urlencoded', text: 'a=1&b=2 3' }],
  ['curl -G https://a.example/x --data-urlencode "q=a b" -o out.json -sS', 'GET', '/x?q=a+b', undefined],
  [
    "curl https://a.example/p -F photo=@hive.png -F 'caption=Brood;type=text/plain'",
    'POST',
    '/p',
    {
      type: 'multipart/form-data',
      fields: [
        ['photo', '@hive.png', true],
        ['caption', 'Brood', false],
      ],
    },
  ],
  ['$ curl --request=DELETE --url https://a.example/x -k --compressed', 'DELETE', '/x', undefined],
])('%s', (line, method, path, body) => {
  const found = parseCurl(line);
  expect([found.method, found.url.pathname + found.url.search, found.body]).toEqual([method, path, body]);
});

test('a user and a password of any script are sent as UTF-8 (RFC 7617)', () => {
  const { headers } = parseCurl("curl https://a.example/x -u 'jo:5 €'");
  expect(headers).toEqual([['Authorization', `Basic ${Buffer.from('jo:5 €').toString('base64')}`]]);
});

test('a line that is no request is refused, whatever it is', () => {
  for (const line of ['', 'curl', 'curl -H', 'curl "http://["'])
    expect(() => parseCurl(line)).toThrow(expect.objectContaining({ code: 'JEXO_USAGE' }));
  fc.assert(
    fc.property(fc.string(), (line) => {
      try {
        parseCurl(line);
      } catch (error) {
        expect(error).toMatchObject({ code: 'JEXO_USAGE' });
      }
    }),
  );
});

test('secrets are moved to the environment, wherever they stood; none stays in the code', () => {
  const guessed = guessEndpoints([
    parseCurl(
      "curl 'https://a.example/hives/MR-03?api_key=query-secret&limit=5' -H 'Authorization: Bearer bearer-secret' -H 'X-Api-Key: header-secret' -H 'Cookie: sid=cookie-secret' -H 'Accept: */*'",
    ),
    parseCurl("curl https://a.example/login -d 'user=jo&password=body-secret'"),
  ]);
  expect(guessed.secrets).toEqual({
    API_TOKEN: 'bearer-secret',
    API_KEY: 'header-secret',
    API_KEY_2: 'query-secret',
    API_COOKIE: 'sid=cookie-secret',
  });
  const files = endpointsProject({ name: 'hives', version: '1.0.0' }, { ...guessed, secrets: { ...guessed.secrets } });
  const { '.env': env, ...others } = files;
  for (const secret of ['bearer-secret', 'header-secret', 'cookie-secret']) expect(env).toContain(secret);
  for (const [path, text] of Object.entries(others))
    expect([path, text]).toEqual([path, expect.not.stringMatching(/(?:bearer|header|cookie|query|body)-secret/)]);
  expect(files['server.ts']).toContain("inputs: { '*.api_key': { fix: env('API_KEY_2') } }");
});

test('a recording gives the endpoints of its busiest host, ids as variables, schemas of all that was seen', () => {
  const entry = (method: string, url: string, answer: unknown, more: object = {}) => ({
    request: { method, url, headers: [{ name: 'Authorization', value: 'Basic am86c2VjcmV0' }], ...more },
    response: { status: 200, content: { mimeType: 'application/json; charset=utf-8', text: JSON.stringify(answer) } },
  });
  const har = {
    log: {
      entries: [
        entry('GET', 'https://api.example/hives?apiary=MR', [{ id: 1, name: 'a', strength: 3 }]),
        entry('GET', 'https://api.example/hives?apiary=UC&limit=5', [{ id: 2, name: null }]),
        entry('GET', 'https://api.example/hives/12', { id: 12, at: '2026-07-01T10:00:00Z' }),
        entry('GET', 'https://api.example/hives/13/inspections/0a1b2c3d-0000-4000-8000-000000000001', {}),
        entry(
          'POST',
          'https://api.example/hives',
          { id: 3 },
          { postData: { mimeType: 'application/json', text: '{"name":"c","tags":["x"]}' } },
        ),
        {
          request: { method: 'GET', url: 'https://api.example/logo.png', headers: [] },
          response: { status: 200, content: { mimeType: 'image/png' } },
        },
        {
          request: { method: 'GET', url: 'https://api.example/', headers: [] },
          response: { status: 200, content: { mimeType: 'text/html' } },
        },
        entry('GET', 'https://metrics.example/ping', {}),
      ],
    },
  };
  const { base, endpoints, auth, secrets } = guessEndpoints(readHar(JSON.stringify(har), 'x.har'));
  expect([base, auth, secrets]).toEqual([
    'https://api.example',
    "basic(env('API_USER'), env('API_PASSWORD'))",
    { API_USER: 'jo', API_PASSWORD: 'secret' },
  ]);
  expect(endpoints.map(({ at }) => at)).toEqual([
    'GET /hives',
    'GET /hives/{hive}',
    'GET /hives/{hive}/inspections/{inspection}',
    'POST /hives',
  ]);
  expect(endpoints[0]).toMatchObject({
    query: { apiary: { type: 'string', examples: ['MR', 'UC'] }, limit: { type: 'integer' } },
    answer: {
      type: 'array',
      items: {
        properties: { id: { type: 'integer' }, name: { type: ['string', 'null'] }, strength: { type: 'integer' } },
        required: ['id', 'name'],
      },
    },
  });
  expect(endpoints[1]).toMatchObject({ path: { hive: { type: 'integer' } }, answer: { properties: { at: { format: 'date-time' } } } });
  expect(endpoints[3]).toMatchObject({
    body: { properties: { tags: { type: 'array', items: { type: 'string' } } }, required: ['name', 'tags'] },
  });
  for (const text of ['{', '{}', '{"log":{"entries":[]}}'])
    expect(() => readHar(text, 'x.har')).toThrow(expect.objectContaining({ code: 'JEXO_USAGE' }));
});

test('a guessed schema fits every value it was guessed from', async () => {
  await fc.assert(
    fc.asyncProperty(fc.array(fc.jsonValue({ maxDepth: 3 }), { minLength: 1, maxLength: 4 }), async (values) => {
      const plain = JSON.parse(JSON.stringify(values)) as unknown[];
      const schema = jsonSchema(plain, true);
      const check = compileSchema({ type: 'object', properties: { value: schema } }, 'input', 'guess');
      for (const value of plain) expect(await check.check({ value })).toMatchObject({ ok: true });
    }),
    { examples: [[[{}, { valueOf: null, constructor: 1 }]]] },
  );
});
