import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import { cpSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { useServer } from 'graphql-ws/use/ws';
import { WebSocketServer } from 'ws';
import {
  bearer,
  connect,
  defineServer,
  env,
  wrapGraphql,
  type Client,
  type ConnectOptions,
  type WrapGraphqlOptions,
} from '../../../src/index.js';
import { sourceChecks } from '../../../src/source-checks.js';
import { freezeServer, thawServer } from '../../../src/offers/thaw.js';
import { cooperative, freshFolder } from '../../support/command-line.js';

const ledgerFolder = join(cooperative, 'ledger');
const sdl = join(ledgerFolder, 'ledger.graphql');
const operations = join(ledgerFolder, 'operations');
interface Ledger {
  readonly url: string;
  readonly schema: never;
  test(id: string, percent: number): number;
  stop(): Promise<void>;
}
const { startLedger } = (await import(join(ledgerFolder, 'server.mjs'))) as { startLedger(options?: { token?: string }): Promise<Ledger> };

const open: (() => Promise<unknown>)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});
async function ledger(options = {}): Promise<Ledger> {
  const started = await startLedger(options);
  open.push(() => started.stop());
  return started;
}
async function serve(
  schema: Parameters<typeof wrapGraphql>[0],
  options: WrapGraphqlOptions = {},
  connecting: ConnectOptions = {},
): Promise<Client> {
  const server = defineServer({ name: 'ledger', version: '1.0.0', offers: [wrapGraphql(schema, options)] });
  const client = await connect(server, connecting);
  open.push(() => client.close().then(() => server.close()));
  return client;
}
/** A service that answers as the test says, and keeps what it was sent. */
async function fake(answer: (body: Record<string, unknown>, request: IncomingMessage, response: ServerResponse) => unknown) {
  const seen: Record<string, unknown>[] = [];
  const server = createServer((request, response) => {
    let text = '';
    request.on('data', (chunk: Buffer) => (text += chunk.toString()));
    request.on('end', () => {
      const body = JSON.parse(text) as Record<string, unknown>;
      seen.push(body);
      const made = answer(body, request, response);
      if (response.writableEnded) return;
      response.setHeader('content-type', 'application/json');
      response.end(JSON.stringify(made));
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  open.push(() => new Promise((resolve) => (server.closeAllConnections(), server.close(resolve))));
  return { url: `http://127.0.0.1:${(server.address() as { port: number }).port}/graphql`, seen };
}
const textOf = (result: { content: readonly unknown[] }, at = 0) => (result.content[at] as { text: string }).text;
const read = (schema: Parameters<typeof wrapGraphql>[0], options: WrapGraphqlOptions = {}) =>
  wrapGraphql(schema, options).read({ settings: {}, signal: new AbortController().signal, progress: () => undefined });
const until = async (what: string, check: () => boolean | Promise<boolean>) => {
  for (let tries = 0; tries < 500; tries++) {
    if (await check()) return;
    await new Promise((resolve) => setTimeout(resolve, 10));
  }
  throw new Error(`It never came to be that ${what}.`);
};

test('operations are tools: names, words, annotations, input and output from the schema and the selection', async () => {
  const { url } = await ledger();
  const client = await serve(sdl, { operations, endpoint: url });
  const tools = Object.fromEntries((await client.tools()).map((tool) => [tool.name, tool]));
  expect(Object.keys(tools)).toEqual(['fill_jars', 'list_lots', 'lot_details']);
  expect(tools.list_lots!.description).toMatch(
    /^Lists honey lots, the newest first, with what the lab says of their water\.\nUse it to find a lot/,
  );
  expect(tools.list_lots!.annotations).toEqual({ readOnlyHint: true });
  expect(tools.list_lots!.inputSchema).toMatchObject({
    properties: {
      filter: {
        type: ['object', 'null'],
        description: expect.stringContaining('narrows the list'),
        additionalProperties: false,
        properties: { honey: { enum: ['BLOSSOM', 'FOREST', 'HEATHER', null] } },
      },
      first: { type: ['integer', 'null'], default: 5 },
      after: { type: ['string', 'null'] },
      pages: { type: 'integer' },
    },
    required: [],
    examples: [{ filter: { honey: 'FOREST' } }],
  });
  expect(tools.lot_details!.description).toMatch(
    /^One lot by its number; null when there is none\. Answers with id \(Its number, as H-204\), honey/,
  );
  expect(tools.lot_details!.description).not.toContain('__typename');
  const lot = tools.lot_details!.outputSchema!.properties!.lot as Record<string, Record<string, never>>;
  expect(lot).toMatchObject({
    type: ['object', 'null'],
    properties: {
      findings: {
        items: {
          properties: { __typename: { enum: ['Moisture', 'Pollen'] }, percent: { type: 'number' }, mainPlant: { type: 'string' } },
          required: ['__typename', 'id', 'measured'],
        },
      },
    },
    required: ['id', 'honey', 'apiary', 'kilograms', 'moisture', 'extracted', 'jars', 'findings'],
  });
  expect(tools.fill_jars!.annotations).toEqual({ destructiveHint: false, idempotentHint: false });
});

test('calls answer with what was selected; pages of a connection are followed; defaults are not sent', async () => {
  const { url } = await ledger();
  const asked: string[] = [];
  const client = await serve(
    sdl,
    { operations, endpoint: url },
    { elicitation: { form: ({ message }) => (asked.push(message), { action: 'accept', content: {} }) } },
  );
  const { structuredContent: page } = await client.call('list_lots', {});
  expect((page as { lots: { nodes: unknown[] } }).lots.nodes).toHaveLength(5);
  const progress: unknown[] = [];
  const { structuredContent: all } = await client.call(
    'list_lots',
    { first: 5, pages: 9 },
    { onProgress: (each) => progress.push(each.progress) },
  );
  const { lots } = all as { lots: { nodes: { id: string }[]; totalCount: number; pageInfo: object } };
  expect([new Set(lots.nodes.map(({ id }) => id)).size, lots.totalCount, lots.pageInfo]).toEqual([
    12,
    12,
    { hasNextPage: false, endCursor: 'H-201' },
  ]);
  expect(progress.length).toBeGreaterThan(0);
  expect((await client.call('lot_details', { id: 'none' })).structuredContent).toEqual({ lot: null });
  const filled = await client.call('fill_jars', { lot: 'H-211', jars: [{ grams: 500, count: 10 }] });
  expect([asked, (filled.structuredContent as { fillJars: { kilograms: number } }).fillJars.kilograms]).toEqual([
    ['Record the jars of lot H-211?'],
    72,
  ]);
  const refused = await client.call('fill_jars', { lot: 'H-211', jars: [{ grams: 500, count: 1000 }] });
  expect([refused.isError, textOf(refused)]).toEqual([
    true,
    expect.stringContaining('fillJars: The jars need 500 kg, and H-211 holds 72.'),
  ]);
  const { url: other, seen } = await fake(() => ({
    data: { lots: { totalCount: 0, nodes: [], pageInfo: { hasNextPage: false, endCursor: null } } },
  }));
  const bare = await serve(sdl, { operations, endpoint: other });
  await bare.call('list_lots', {});
  await bare.call('list_lots', { first: null });
  expect(seen.map(({ variables }) => variables)).toEqual([undefined, { first: null }]);
  expect(seen[0]!.operationName).toBe('ListLots');
  // The fragment lies in the same file, for one operation, and in another, for the other.
  expect(seen[0]!.query).toContain('fragment LotLine on Lot');
});

test('errors beside data are both shown, and what is null because of them; without data the call fails', async () => {
  const answers: unknown[] = [
    {
      data: { lot: null },
      errors: [{ message: 'The lab is closed', path: ['lot', 'findings', 0, 'measured'], extensions: { code: 'CLOSED' } }],
    },
    { errors: [{ message: 'Syntax' }], data: null },
    { data: { lot: { id: 5 } } },
    { nothing: 'of GraphQL' },
  ];
  const { url } = await fake(() => answers.shift());
  const client = await serve(sdl, { operations, endpoint: url });
  const partial = await client.call('lot_details', { id: 'H-1' });
  expect(partial.isError).toBeUndefined();
  expect(partial.structuredContent).toEqual({
    lot: null,
    _errors: [{ message: 'The lab is closed', path: ['lot', 'findings', 0, 'measured'], code: 'CLOSED' }],
  });
  expect(textOf(partial, 1)).toBe(
    'A part could not be answered:\n- lot.findings[0].measured: The lab is closed (CLOSED)\nNull because of them: lot.',
  );
  const failed = await client.call('lot_details', { id: 'H-1' });
  expect([failed.isError, textOf(failed)]).toEqual([true, 'ledger answered with errors and no data:\n- Syntax']);
  const wrong = await client.call('lot_details', { id: 'H-1' });
  expect([wrong.isError, textOf(wrong)]).toEqual([true, expect.stringContaining('lot.id: expected string; got 5')]);
  expect((await client.call('lot_details', { id: 'H-1' })).isError).toBe(true);
});

test('queries are sent again when the service is busy, mutations are not; a refusal says what to do and hides the secret', async () => {
  let busy = 2;
  const { url, seen } = await fake((_body, request, response) => {
    if (request.headers.authorization !== 'Bearer l3dger-token-77') {
      response.writeHead(401, { 'content-type': 'application/json' });
      return response.end(JSON.stringify({ message: `no access for ${request.headers.authorization}` }));
    }
    if (busy-- > 0) {
      response.writeHead(503, { 'retry-after': '0' });
      return response.end();
    }
    return { data: { lot: null } };
  });
  const server = defineServer({
    name: 'ledger',
    version: '1.0.0',
    offers: [wrapGraphql(sdl, { operations, endpoint: url, auth: bearer(env('LEDGER_TOKEN')) })],
  });
  await server.ready({ settings: { LEDGER_TOKEN: 'l3dger-token-77' } });
  expect((await server.catalogue()).settings).toEqual([expect.objectContaining({ variable: 'LEDGER_TOKEN', secret: true })]);
  const client = await connect(server, { elicitation: { form: () => ({ action: 'accept', content: {} }) } });
  open.push(() => client.close().then(() => server.close()));
  expect((await client.call('lot_details', { id: 'H-1' })).structuredContent).toEqual({ lot: null });
  expect(seen).toHaveLength(3);
  busy = 1;
  const refused = await client.call('fill_jars', { lot: 'H-1', jars: [] });
  expect([refused.isError, seen.length]).toEqual([true, 4]);
  const other = await serve(sdl, { operations, endpoint: url, auth: bearer('s3cret-token-of-ours') });
  const denied = await other.call('lot_details', { id: 'H-1' });
  expect(denied.isError).toBe(true);
  expect(JSON.stringify(denied)).not.toContain('s3cret-token-of-ours');
  expect(textOf(denied)).toContain('no access for Bearer (masked)');
});

test('broken operations are reported with file, line and column, and the others serve', async () => {
  const folder = freshFolder('graphql-broken');
  const folderOf = join(folder, 'operations');
  cpSync(operations, folderOf, { recursive: true });
  writeFileSync(join(folderOf, 'a-syntax.graphql'), 'query A {\n  lots {\n    nodes { id }\n');
  writeFileSync(join(folderOf, 'b-field.graphql'), 'query B {\n  lots { nodes { identity } }\n}\n');
  writeFileSync(join(folderOf, 'c-anonymous.graphql'), '{ buyers { id } }\n');
  writeFileSync(join(folderOf, 'd-twice.graphql'), 'query ListLots { buyers { id } }\n');
  writeFileSync(join(folderOf, 'e-tags.graphql'), '# @titel Buyers\nquery E { buyers { id } }\n');
  writeFileSync(join(folderOf, 'f-param.graphql'), '# @param nothing at all\nquery F { buyers { id } }\n');
  writeFileSync(join(folderOf, 'g-internal.graphql'), '# @internal\nquery G { buyers { id } }\n');
  const { offers, omitted } = await read(sdl, { operations: folderOf, endpoint: 'http://127.0.0.1:9/graphql' });
  expect(
    offers
      .filter(({ kind }) => kind === 'tool')
      .map(({ name }) => name)
      .sort(),
  ).toEqual(['fill_jars', 'list_lots', 'lot_details']);
  expect(omitted!.map(({ name, where, why }) => [name, where.replace(`${folderOf}/`, ''), why])).toEqual([
    ['a-syntax.graphql', 'a-syntax.graphql:4:1', 'Syntax Error: Expected Name, found <EOF>'],
    ['B', 'b-field.graphql:2:18', 'Cannot query field "identity" on type "Lot"'],
    ['the query at line 1', 'c-anonymous.graphql:1', 'it has no name, and a tool needs one'],
    ['E', 'e-tags.graphql:2', expect.stringContaining('@titel is no tag of an operation')],
    ['F', 'f-param.graphql:2', expect.stringContaining('@param describes nothing, which is no variable')],
    ['ListLots', expect.stringContaining('.graphql:'), expect.stringContaining('an operation of this name is at')],
  ]);
});

test('schemas come from SDL, a text, an introspection or the service itself; what is wrong with one is named', async () => {
  const { url } = await ledger();
  const text = 'type Query { "The answer." answer(of: Int!): Int }';
  const texts = { ask: 'query Ask($of: Int!) { answer(of: $of) }' };
  expect((await (await serve(text, { operations: texts, endpoint: url })).tools())[0]).toMatchObject({
    name: 'ask',
    description: 'The answer.',
  });
  const live = await serve(url, { operations });
  expect((await live.tools()).map(({ name }) => name)).toEqual(['fill_jars', 'list_lots', 'lot_details']);
  const { introspectionFromSchema, buildSchema } = await import('graphql');
  const introspection = introspectionFromSchema(buildSchema(text));
  expect((await (await serve(introspection, { operations: texts, endpoint: url })).tools())[0]!.name).toBe('ask');
  expect((await (await serve({ data: introspection }, { operations: texts, endpoint: url })).tools())[0]!.name).toBe('ask');
  const file = join(freshFolder('graphql-schema'), 'x.introspection.json');
  writeFileSync(file, JSON.stringify(introspection));
  expect((await (await serve(file, { operations: texts, endpoint: url })).tools())[0]!.name).toBe('ask');
  await expect(read('/nowhere/x.graphql', { operations: texts })).rejects.toMatchObject({ code: 'JEXO_TARGET_MISSING' });
  writeFileSync(file.replace('.introspection.json', '.graphql'), 'type Query {\n  a: Nothing\n}\n');
  await expect(read(file.replace('.introspection.json', '.graphql'), { operations: texts })).rejects.toMatchObject({
    message: expect.stringContaining('Unknown type "Nothing"'),
    where: expect.stringMatching(/x\.graphql:2:6$/),
  });
  // A schema that breaks a rule and can be used all the same is used, and the rule is named.
  const { notes, offers } = await read(`${text} type Twice { a: Int a: Int }`, { operations: texts });
  expect([offers.length > 0, notes]).toEqual([
    true,
    ['The schema as it was given is not quite right: Field "Twice.a" can only be defined once.'],
  ]);
  writeFileSync(file, '{"a": 1}');
  await expect(read(file, { operations: texts })).rejects.toMatchObject({ message: expect.stringContaining('it has no __schema') });
  await expect(read(sdl)).rejects.toMatchObject({ code: 'JEXO_NOTHING_OFFERED', next: expect.stringContaining('--explore') });
  const { url: closed } = await fake(() => ({ errors: [{ message: 'introspection is disabled' }] }));
  await expect(read(closed, { operations: texts })).rejects.toMatchObject({
    code: 'JEXO_DOCUMENT',
    message: expect.stringContaining('introspection is disabled'),
    next: expect.stringContaining('Give the schema as a file'),
  });
  const homeless = await serve(sdl, { operations });
  expect(textOf(await homeless.call('lot_details', { id: 'H-1' }))).toContain('Nothing says where the service of ledger is.');
});

test('a model finds types and fields, and runs queries of its own within limits; errors help to correct it', async () => {
  const { url } = await ledger();
  const client = await serve(sdl, { name: 'ledger', endpoint: url, explore: true });
  expect((await client.tools()).map(({ name }) => name)).toEqual(['find_in_ledger', 'query_ledger']);
  const find = async (input: object) => textOf(await client.call('find_in_ledger', { ...input }));
  expect(await find({ words: 'water of a lot' })).toContain('Lot.moisture: Float  # The water of the newest test');
  expect(await find({ name: 'Lot.findings' })).toMatch(/^Lot\.findings: \[Finding!\]!.*\n\ninterface Finding/s);
  expect(await find({ name: 'Honey' })).toContain('HEATHER  # from the heather');
  expect(await find({})).toContain('lots(first: Int = 5, after: String, filter: LotFilter): LotConnection!');
  expect(await find({ name: 'Lots' })).toBe('There is no type Lots. Did you mean Lot?');
  expect(await find({ name: 'Lot.moistur' })).toBe('Lot has no field moistur. Did you mean moisture?');
  expect(await find({ words: 'xyzzy' })).toContain('Query has: lots, lot');
  const query = async (document: string, variables?: object) => {
    const result = await client.call('query_ledger', { document, ...(variables && { variables }) });
    return result.isError ? `✗ ${textOf(result)}` : textOf(result);
  };
  expect(await query('{ lots(first: 1) { nodes { id } } }')).toBe('{"lots":{"nodes":[{"id":"H-212"}]}}');
  expect(await query('query ($id: ID!) { lot(id: $id) { honey } }', { id: 'H-205' })).toBe('{"lot":{"honey":"FOREST"}}');
  expect(await query('{ lots { nodes { identity } } }')).toContain(
    'Cannot query field "identity" on type "Lot". (line 1, column 18) Lot has: id, honey',
  );
  expect(await query('{ lots { nodes { honney } } }')).toContain('Did you mean "honey"?');
  expect(await query('{ lots(frist: 2) { totalCount } }')).toContain('Did you mean "first"?');
  expect(await query('{ lot { id } }')).toMatch(/argument "id" of type "ID!" is required.*It takes: id: ID!/);
  expect(await query('{ lots {')).toContain('Syntax Error');
  expect(await query('query ($id: ID!) { lot(id: $id) { honey } }', {})).toContain('"$id" of required type "ID!" was not provided');
  expect(await query('mutation { fillJars(lot: "H-1", jars: []) { id } }')).toContain('Only queries are run here');
  expect(await query('subscription { lotTested { id } }')).toContain('A subscription does not end');
  expect(await query('query A { buyers { id } } query B { buyers { id } }')).toContain('Send one operation; this document has 2.');
  const deep = `{ lots(first: 1000) { nodes { jars { grams } findings { id measured ... on Pollen { share } } } } }`;
  expect(await query(deep)).toMatch(/may answer with [\d,]+ values, and 20,000 are allowed/);
  expect(await query(`{ lots { ${Array.from({ length: 200 }, (_, at) => `a${at}: totalCount`).join(' ')} } }`)).toContain(
    '201 fields, and 150 are allowed',
  );
  const shallow = await serve(sdl, { name: 'ledger', endpoint: url, explore: { depth: 2, mutations: true } });
  expect(textOf(await shallow.call('query_ledger', { document: '{ lots { nodes { id } } }' }))).toContain(
    '3 levels of fields, and 2 are allowed',
  );
  expect(textOf(await shallow.call('query_ledger', { document: 'mutation { fillJars(lot: "H-210", jars: []) { id } }' }))).toBe(
    '{"fillJars":{"id":"H-210"}}',
  );
  // Fragments that spread each other make a small text ask for much.
  const bomb = `{ ...F0 } ${Array.from({ length: 20 }, (_, at) => `fragment F${at} on Query { ...F${at + 1} ...F${at + 1} }`).join(' ')} fragment F20 on Query { buyers { id } }`;
  const began = performance.now();
  expect(await query(bomb)).toMatch(/^✗/);
  expect(performance.now() - began).toBeLessThan(3000);
});

test('persisted documents are named in place of their text', async () => {
  const { url, seen } = await fake(() => ({ data: { answer: 1 } }));
  const text = 'type Query { answer: Int }';
  const texts = { ask: 'query Ask { answer }' };
  await (await serve(text, { operations: texts, endpoint: url, persisted: true })).call('ask', {});
  await (await serve(text, { operations: texts, endpoint: url, persisted: { Ask: 'ask-7' } })).call('ask', {});
  expect(seen).toEqual([
    { documentId: expect.stringMatching(/^sha256:[0-9a-f]{64}$/), operationName: 'Ask' },
    { documentId: 'ask-7', operationName: 'Ask' },
  ]);
});

test('custom scalars are any value, or what they are mapped to', async () => {
  const { url } = await fake((body) => ({ data: { at: (body.variables as { day: unknown }).day } }));
  const text = 'scalar Day scalar Odd type Query { at(day: Day!, odd: Odd): Day }';
  const texts = { at: 'query At($day: Day!, $odd: Odd) { at(day: $day, odd: $odd) }' };
  const client = await serve(text, { operations: texts, endpoint: url, scalars: { Day: { type: 'string', format: 'date' } } });
  const [tool] = await client.tools();
  expect(tool!.inputSchema.properties).toEqual({ day: { type: 'string', format: 'date' }, odd: {} });
  expect((await client.call('at', { day: '2026-08-14', odd: { any: 1 } })).structuredContent).toEqual({ at: '2026-08-14' });
  expect((await client.call('at', { day: 'yesterday' })).isError).toBe(true);
});

test('a subscription is a live resource, by server-sent events and by WebSocket', async () => {
  const lab = await ledger();
  const sockets = new WebSocketServer({ port: 0, host: '127.0.0.1', path: '/graphql' });
  await new Promise((resolve) => sockets.once('listening', resolve));
  useServer({ schema: lab.schema }, sockets);
  open.push(() => new Promise((resolve) => sockets.close(resolve)));
  for (const subscriptions of [undefined, `ws://127.0.0.1:${(sockets.address() as { port: number }).port}/graphql`]) {
    const client = await serve(sdl, { name: 'ledger', operations, endpoint: lab.url, ...(subscriptions && { subscriptions }) });
    expect((await client.resources())[0]).toMatchObject({
      uri: 'ledger://live/lot_tested',
      description: 'A lot whenever the lab has tested one.',
    });
    // Two readers at once share a stream; the one that is done first does not end it for the other.
    const readers = [client.read('ledger://live/lot_tested'), client.read('ledger://live/lot_tested')];
    const testing = setInterval(() => lab.test('H-209', 16.5), 20);
    for (const { contents: read } of await Promise.all(readers)) expect((read[0] as { text: string }).text).toContain('H-209');
    clearInterval(testing);
    const heard: string[] = [];
    const stop = await client.watch('ledger://live/lot_tested', (uri) => heard.push(uri));
    await until('it is subscribed, and the test is heard of', () => (lab.test('H-210', 17.2), heard.length > 0));
    const { contents } = await client.read('ledger://live/lot_tested');
    expect(JSON.parse((contents[0] as { text: string }).text)).toMatchObject({
      at: expect.stringMatching(/^20/),
      data: { lotTested: { id: 'H-210', moisture: 17.2 } },
    });
    await stop();
    for (const client_ of sockets.clients) client_.terminate();
  }
  const away = await serve(sdl, { name: 'ledger', operations, endpoint: 'http://127.0.0.1:9/graphql' });
  await expect(away.read('ledger://live/lot_tested')).rejects.toThrow(/The subscription failed/);
});

test('what is frozen serves without its files, and knows no path of this machine', async () => {
  const { url } = await ledger();
  const make = () => defineServer({ name: 'ledger', version: '1.0.0', offers: [wrapGraphql(sdl, { operations, endpoint: url })] });
  const frozen = await freezeServer(make());
  expect(JSON.stringify(frozen)).not.toContain(cooperative);
  const gone = defineServer({
    name: 'ledger',
    version: '1.0.0',
    offers: [wrapGraphql('/gone/ledger.graphql', { operations: {}, endpoint: url })],
  });
  const client = await connect(thawServer(gone, frozen));
  expect((await client.tools()).map(({ name }) => name)).toEqual(['fill_jars', 'list_lots', 'lot_details']);
  expect((await client.call('lot_details', { id: 'H-205' })).structuredContent).toMatchObject({ lot: { id: 'H-205' } });
  await client.close();
});

test('an operation that is saved is served', async () => {
  const { url } = await ledger();
  const folder = join(freshFolder('graphql-watch'), 'operations');
  cpSync(operations, folder, { recursive: true });
  let told = 0;
  const client = await serve(sdl, { operations: folder, endpoint: url }, { onToolsChanged: () => told++ });
  await client.tools();
  writeFileSync(join(folder, 'buyers.graphql'), 'query Buyers { buyers { id kind } }\n');
  await until('the new tool is listed', async () => told > 0 && (await client.tools()).some(({ name }) => name === 'buyers'));
  expect((await client.call('buyers', {})).structuredContent).toEqual({
    buyers: [
      { id: 'B-1', kind: 'bakery' },
      { id: 'B-2', kind: 'market stall' },
    ],
  });
});

describe('as a source', () => {
  for (const { name, run } of sourceChecks(() => wrapGraphql(sdl, { operations, endpoint: 'http://127.0.0.1:9/graphql', explore: true })))
    test(name, run);
});
