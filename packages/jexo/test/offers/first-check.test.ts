import fc from 'fast-check';
import { passesAtOnce } from '../../src/offers/first-check.js';
import { compileCheck } from '../../src/offers/json-schema-check.js';
import { compileSchema } from '../../src/offers/schema.js';
import type { JsonSchemaInput as JsonSchema } from '../../src/offers/schema.js';

const names = fc.constantFrom('hive', 'kg', 'season', 'notes');
const leaf = fc.oneof(
  fc.constantFrom('autumn', 'spring', '', 'MR-03', '🐝'),
  fc.integer({ min: -3, max: 6 }),
  fc.constantFrom(0.5, 1e21),
  fc.boolean(),
  fc.constant(null),
);
const value = fc.letrec((tie) => ({
  any: fc.oneof(
    { depthSize: 'small', withCrossShrink: true },
    leaf,
    fc.array(tie('any'), { maxLength: 3 }),
    fc.dictionary(names, tie('any'), { maxKeys: 4 }),
  ),
})).any;
const count = fc.integer({ min: 0, max: 4 });
const limits = fc.record(
  {
    type: fc.oneof(
      fc.constantFrom('string', 'number', 'integer', 'boolean', 'object', 'array', 'null'),
      fc.uniqueArray(fc.constantFrom('string', 'integer', 'object', 'array', 'null'), { minLength: 1, maxLength: 3 }),
    ),
    description: fc.string(),
    enum: fc.array(leaf, { minLength: 1, maxLength: 4 }),
    const: leaf,
    minimum: count,
    maximum: count,
    exclusiveMinimum: count,
    exclusiveMaximum: count,
    minLength: count,
    maxLength: count,
    minItems: count,
    maxItems: count,
    minProperties: count,
    maxProperties: count,
    required: fc.uniqueArray(names, { maxLength: 2 }),
  },
  { requiredKeys: [] },
);
/** A few keywords at a time: schemas with all of them pass nothing. */
const someLimits = fc.tuple(limits, fc.uniqueArray(fc.nat(16), { maxLength: 3 })).map(([all, keys]) =>
  pickKeys(
    all,
    keys.map((key) => Object.keys(all)[key % Object.keys(all).length]!),
  ),
);
const pickKeys = (all: object, keys: readonly string[]) => Object.fromEntries(Object.entries(all).filter(([key]) => keys.includes(key)));
const schema: fc.Arbitrary<JsonSchema> = fc.letrec<{ any: JsonSchema }>((tie) => ({
  any: fc
    .tuple(
      someLimits,
      fc.option(
        fc.record(
          {
            properties: fc.dictionary(names, tie('any'), { maxKeys: 3 }),
            additionalProperties: fc.oneof(fc.boolean(), tie('any')),
            items: tie('any'),
            anyOf: fc.array(tie('any'), { minLength: 1, maxLength: 2 }),
            oneOf: fc.array(tie('any'), { minLength: 1, maxLength: 2 }),
          },
          { requiredKeys: [] },
        ),
        { depthSize: 'small', maxDepth: 3 },
      ),
    )
    .map(([own, nested]) => ({ ...own, ...nested })),
})).any;

test('what passes at once passes the compiled check, and the other way round; defaults are filled in alike', () => {
  let passed = 0;
  fc.assert(
    fc.property(schema, fc.dictionary(names, leaf), value, (made, defaults, given) => {
      const { anyOf: _, oneOf: __, ...plain } = made;
      const withDefaults = {
        ...(Object.keys(defaults).length > 0 ? plain : made),
        properties: {
          ...(made.properties as object | undefined),
          ...Object.fromEntries(
            Object.entries(defaults).map(([name, own]) => [name, { ...(made.properties as Record<string, object>)?.[name], default: own }]),
          ),
        },
      };
      const [one, other] = [structuredClone(given), structuredClone(given)];
      const compiled = compileCheck(withDefaults, 'the property test')(one);
      const atOnce = passesAtOnce(withDefaults, other);
      expect(atOnce === true).toBe(compiled.ok);
      if (compiled.ok) {
        passed++;
        expect(other).toEqual(one);
      } else expect(other).toEqual(given);
    }),
    { numRuns: 400 },
  );
  expect(passed).toBeGreaterThan(40);
});

test.each<[string, JsonSchema]>([
  ['a format', { properties: { at: { type: 'string', format: 'date' } } }],
  ['a pattern', { properties: { hive: { pattern: '^MR' } } }],
  ['a reference', { properties: { hive: { $ref: '#/$defs/hive' } }, $defs: { hive: {} } }],
  ['a default further down', { properties: { queen: { properties: { year: { default: 2026 } } } } }],
  ['a keyword of ours alone', { properties: { hive: { nullable: true } } }],
  ['a type that does not exist', { properties: { hive: { type: 'beehive' } } }],
  ['a name every object has', { properties: { constructor: { type: 'string' } } }],
])('%s is left to the compiled check', (_, part) => {
  expect(passesAtOnce({ type: 'object', ...part }, {})).toBeUndefined();
});

test('a large value is left to the compiled check, and so is one that is no JSON', () => {
  const list = { type: 'object', properties: { kg: { type: 'array' } } };
  expect(passesAtOnce(list, { kg: Array.from({ length: 100 }, () => 1) })).toBe(true);
  expect(passesAtOnce(list, { kg: Array.from({ length: 1000 }, () => 1) })).toBeUndefined();
  const round: Record<string, unknown> = {};
  round.self = round;
  expect(passesAtOnce({ type: 'object' }, round)).toBeUndefined();
  expect(passesAtOnce(list, { kg: undefined })).toBeUndefined();
});

test('a schema says the same however often it is used, and a broken one fails at the first use', async () => {
  const season = compileSchema(
    { type: 'object', properties: { season: { enum: ['spring', 'autumn'], default: 'spring' }, kg: { type: 'number' } }, required: ['kg'] },
    'input',
    'season',
  );
  for (let use = 0; use < 8; use++) {
    expect(await season.check({ kg: use })).toEqual({ ok: true, value: { kg: use, season: 'spring' } });
    expect(await season.check({ season: 'winter' })).toEqual({
      ok: false,
      issues: [
        { path: 'kg', expected: 'a value is required', got: 'nothing' },
        { path: 'season', expected: 'expected one of "spring", "autumn"', got: '"winter"' },
      ],
    });
  }
  const broken = compileSchema({ type: 'object', properties: { kg: { type: 'nunber' } } }, 'input', 'broken');
  await expect(Promise.resolve(broken.check({}))).rejects.toMatchObject({ code: 'JEXO_SCHEMA_INVALID' });
});
