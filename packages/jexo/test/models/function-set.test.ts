import { Validator } from '@cfworker/json-schema';
import fc from 'fast-check';
import { functionSet, type JsonSchema, type Tool } from '../../src/index.js';

const toolOf = (inputSchema: object, name = 'note'): Tool => ({ name, inputSchema: { type: 'object', ...inputSchema } as JsonSchema });
const parametersOf = (inputSchema: object) => functionSet([toolOf(inputSchema)]).functions[0]!.function.parameters;

test('names that services do not take are shortened, never meet, and are found again', () => {
  const long = 'season_report_'.repeat(8);
  const names = ['lots.list', 'lots_list', 'lots/list', `${long}a`, `${long}b`, 'Wabe zählen', '…'];
  const set = functionSet(names.map((name) => toolOf({}, name)));
  const given = set.functions.map((each) => each.function.name);
  expect(new Set(given).size).toBe(names.length);
  for (const name of given) expect(name).toMatch(/^[A-Za-z0-9_-]{1,64}$/);
  expect(given.map((name) => set.toTool({ name, arguments: {} }).name)).toEqual(names);
  // A name that needs no change keeps it, whatever the others would like to be called.
  expect(given[1]).toBe('lots_list');
  expect(set.toTool({ name: 'no_such', arguments: { a: 1 } })).toEqual({ name: 'no_such', input: { a: 1 } });
});

test('schema keywords that services do not take are rewritten in those they take', () => {
  expect(
    parametersOf({
      $schema: 'https://json-schema.org/draft/2020-12/schema',
      properties: {
        hive: { $ref: '#/$defs/hive' },
        season: { const: 'autumn' },
        weight: { oneOf: [{ type: 'number' }, { type: 'string', pattern: '^\\d+ kg$' }] },
        until: { type: ['string', 'null'], format: 'date', description: 'The last day.' },
        place: { prefixItems: [{ type: 'number' }, { type: 'number' }], items: false },
        both: { allOf: [{ type: 'object', properties: { a: { type: 'string' } }, required: ['a'] }, { required: ['b'] }] },
      },
      required: ['hive'],
      if: { required: ['until'] },
      $defs: { hive: { type: 'string', pattern: '^[A-Z]{2}-\\d\\d$' } },
    }),
  ).toEqual({
    type: 'object',
    properties: {
      hive: { type: 'string', pattern: '^[A-Z]{2}-\\d\\d$' },
      season: { enum: ['autumn'] },
      weight: { anyOf: [{ type: 'number' }, { type: 'string', pattern: '^\\d+ kg$' }] },
      until: {
        description: 'The last day.',
        anyOf: [
          { format: 'date', type: 'string' },
          { format: 'date', type: 'null' },
        ],
      },
      place: { maxItems: 2, items: { anyOf: [{ type: 'number' }, { type: 'number' }] } },
      both: { type: 'object', properties: { a: { type: 'string' } }, required: ['a'] },
    },
    required: ['hive'],
  });
});

test('the root has no alternatives: all of their properties are there, required is what all of them require', () => {
  expect(
    parametersOf({
      oneOf: [
        { properties: { hive: { type: 'string' }, from: { type: 'string' } }, required: ['hive', 'from'], additionalProperties: false },
        { properties: { hive: { type: 'string' }, lot: { type: 'string' } }, required: ['hive'], additionalProperties: false },
      ],
    }),
  ).toEqual({
    type: 'object',
    properties: { hive: { anyOf: [{ type: 'string' }, { type: 'string' }] }, from: { type: 'string' }, lot: { type: 'string' } },
    required: ['hive'],
    additionalProperties: false,
  });
});

test('a schema that refers to itself is written out twice, and open beyond', () => {
  const schema = parametersOf({
    properties: { tree: { $ref: '#/$defs/tree' } },
    $defs: {
      tree: { type: 'object', properties: { name: { type: 'string' }, inner: { type: 'array', items: { $ref: '#/$defs/tree' } } } },
    },
  });
  expect(JSON.stringify(schema)).not.toContain('$ref');
  expect(JSON.stringify(schema).match(/"name"/g)).toHaveLength(2);
});

test('property names that services do not take are replaced, and put back in calls, at every depth', () => {
  const tool = toolOf({
    properties: {
      'hive id': { type: 'string' },
      hive_id: { type: 'string' },
      rows: { type: 'array', items: { anyOf: [{ type: 'object', properties: { 'kg/day': { type: 'number' } } }, { type: 'null' }] } },
      more: { type: 'object', additionalProperties: { type: 'object', properties: { 'ä ö': { type: 'string' } } } },
    },
    required: ['hive id'],
  });
  const set = functionSet([tool]);
  const { parameters } = set.functions[0]!.function;
  expect(Object.keys(parameters.properties!)).toEqual(['hive_id_2', 'hive_id', 'rows', 'more']);
  expect(parameters.required).toEqual(['hive_id_2']);
  const written = { hive_id_2: 'MR-03', hive_id: 'x', rows: [{ kg_day: 2 }, null], more: { any: { _: 'y' } } };
  const own = { 'hive id': 'MR-03', hive_id: 'x', rows: [{ 'kg/day': 2 }, null], more: { any: { 'ä ö': 'y' } } };
  expect(set.toTool({ name: 'note', arguments: written }).input).toEqual(own);
  expect(set.toFunction({ name: 'note', input: own }).arguments).toEqual(written);
});

/** Schemas with the keywords that are rewritten, and values that mostly fit them. */
const name = fc.constantFrom('a', 'b', 'c d', 'é/1', 'x_1');
const { schema: anySchema } = fc.letrec<{ schema: Record<string, unknown> }>((tie) => ({
  schema: fc.oneof(
    { depthSize: 'small', withCrossShrink: true },
    fc.constantFrom<Record<string, unknown>>(
      { type: 'string' },
      { type: 'integer', minimum: 0 },
      { type: ['string', 'null'] },
      { const: 1 },
      {},
    ),
    fc.constant({ $ref: '#/$defs/shared' }),
    fc.array(tie('schema'), { minLength: 1, maxLength: 2 }).map((list) => ({ oneOf: list })),
    fc.array(tie('schema'), { minLength: 1, maxLength: 2 }).map((list) => ({ allOf: list })),
    fc.array(tie('schema'), { minLength: 1, maxLength: 2 }).map((list) => ({ type: 'array', prefixItems: list, items: false })),
    tie('schema').map((items) => ({ type: 'array', items })),
    fc
      .record({
        properties: fc.dictionary(name, tie('schema'), { maxKeys: 3 }),
        required: fc.uniqueArray(name, { maxLength: 2 }),
        open: fc.boolean(),
      })
      .map(({ properties, required, open }) => ({
        type: 'object',
        properties,
        required: required.filter((each) => each in properties),
        ...(!open && { additionalProperties: false }),
      })),
  ),
}));
const value = fc.letrec<{ value: unknown }>((tie) => ({
  value: fc.oneof(
    { depthSize: 'small' },
    fc.constantFrom(1, 0, -1, 'a', null, true),
    fc.array(tie('value'), { maxLength: 3 }),
    fc.dictionary(name, tie('value'), { maxKeys: 3 }),
  ),
})).value;

test('whatever fits a tool’s schema fits the rewritten one, and comes back as it was', () => {
  let fitting = 0;
  fc.assert(
    fc.property(
      fc.dictionary(name, anySchema, { minKeys: 1, maxKeys: 3 }),
      fc.dictionary(name, value, { maxKeys: 3 }),
      anySchema,
      (properties, input, shared) => {
        // A reference within what is referred to would be without end.
        fc.pre(!JSON.stringify(shared).includes('$ref'));
        const inputSchema = { type: 'object', properties, $defs: { shared } } as unknown as JsonSchema;
        const set = functionSet([{ name: 'note', inputSchema }]);
        const { arguments: written } = set.toFunction({ name: 'note', input });
        expect(set.toTool({ name: 'note', arguments: written }).input).toEqual(input);
        const fits = (schema: JsonSchema, each: unknown) => new Validator(schema as object, '2020-12').validate(each).valid;
        if (!fits(inputSchema, input)) return;
        fitting++;
        const plain = set.functions[0]!.function.parameters;
        expect([fits(plain, written), plain]).toEqual([true, plain]);
        expect(JSON.stringify(plain)).not.toMatch(/"(?:\$ref|oneOf|allOf|const|prefixItems)":/);
      },
    ),
    { numRuns: 1000 },
  );
  expect(fitting).toBeGreaterThan(100);
});
