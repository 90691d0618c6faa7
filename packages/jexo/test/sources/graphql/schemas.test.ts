import fc from 'fast-check';
import * as g from 'graphql';
import { compileCheck } from '../../../src/offers/json-schema-check.js';
import { variablesSchema } from '../../../src/sources/graphql/input-schema.js';
import { answerSchema } from '../../../src/sources/graphql/output-schema.js';
import { starterOperations } from '../../../src/sources/graphql/starter-operations.js';

const leaf = fc.constantFrom('Int', 'Float', 'String', 'Boolean', 'ID', 'Kind', 'Odd');
/** `[Int!]!` and the like, of leaves and of the input objects. */
const wrap = (inner: fc.Arbitrary<string>) =>
  fc.tuple(inner, fc.constantFrom('%', '%!', '[%]', '[%!]', '[%!]!', '[[%]!]')).map(([name, shape]) => shape.replace('%', name));
const inputType = wrap(fc.oneof({ weight: 3, arbitrary: leaf }, { weight: 1, arbitrary: fc.constantFrom('A', 'B', 'One') }));
/** An input object may not hold itself without an end: those that lead on are nullable. */
const fieldType = fc.oneof(wrap(leaf), fc.constantFrom('A', 'B', '[A!]', 'One'));

const schemaOf = fc
  .record({
    a: fc.array(fieldType, { minLength: 1, maxLength: 4 }),
    b: fc.array(fieldType, { minLength: 1, maxLength: 4 }),
    variables: fc.array(inputType, { maxLength: 4 }),
  })
  .map(({ a, b, variables }) => {
    const fields = (types: readonly string[]) => types.map((type, at) => `f${at}: ${type}`).join(' ');
    const args = variables.map((type, at) => `v${at}: ${type}`).join(' ');
    const text = `enum Kind { BROOD HONEY } scalar Odd
      input A { ${fields(a)} } input B { ${fields(b)} } input One @oneOf { a: Int b: String c: A }
      type Query { ask${args === '' ? '' : `(${args})`}: Int }`;
    const given = variables.map((_, at) => `v${at}: $v${at}`).join(' ');
    const declared = variables.map((type, at) => `$v${at}: ${type}`).join(' ');
    return {
      schema: g.buildSchema(text),
      document: g.parse(`query Ask${declared === '' ? '' : `(${declared})`} { ask${given === '' ? '' : `(${given})`} }`),
    };
  });

/** Values near what is wanted: of the right shape, or off in one place. */
function valueFor(type: g.GraphQLInputType, depth = 0): fc.Arbitrary<unknown> {
  if (g.isNonNullType(type)) return valueFor(type.ofType as g.GraphQLInputType, depth);
  const wrong = fc.constantFrom<unknown>(null, true, 'x', 1.5, 3_000_000_000, [], {}, '7');
  const right = (): fc.Arbitrary<unknown> => {
    if (g.isListType(type)) return fc.array(valueFor(type.ofType as g.GraphQLInputType, depth + 1), { maxLength: 2 });
    if (g.isInputObjectType(type)) {
      const fields = Object.values(type.getFields());
      if (depth > 3) return fc.constant({});
      return fc
        .record(Object.fromEntries(fields.map(({ name, type: own }) => [name, valueFor(own, depth + 1)])), { requiredKeys: [] })
        .chain((made) => fc.boolean().map((isMore) => (isMore && depth === 0 ? { ...made, more: 1 } : made)));
    }
    const name = (type as g.GraphQLNamedType).name;
    const own: Record<string, fc.Arbitrary<unknown>> = {
      Int: fc.integer({ min: -100, max: 100 }),
      Float: fc.double({ noNaN: true, noDefaultInfinity: true }),
      String: fc.string({ maxLength: 4 }),
      Boolean: fc.boolean(),
      ID: fc.oneof(fc.string({ maxLength: 4 }), fc.integer()),
      Kind: fc.constantFrom('BROOD', 'HONEY', 'WAX'),
      Odd: fc.jsonValue({ maxDepth: 1 }),
    };
    return own[name]!;
  };
  return fc.oneof({ weight: 8, arbitrary: right() }, { weight: 1, arbitrary: wrong });
}

/** GraphQL takes a single value for a list; a tool wants the list. */
function hasBareValue(type: g.GraphQLInputType, value: unknown): boolean {
  if (g.isNonNullType(type)) return hasBareValue(type.ofType as g.GraphQLInputType, value);
  if (value === null || value === undefined) return false;
  if (g.isListType(type)) return !Array.isArray(value) || value.some((each) => hasBareValue(type.ofType as g.GraphQLInputType, each));
  if (!g.isInputObjectType(type) || typeof value !== 'object') return false;
  return Object.values(type.getFields()).some(({ name, type: own }) => hasBareValue(own, (value as Record<string, unknown>)[name]));
}

test('the input schema takes exactly what GraphQL takes for the variables, but for a single value in place of a list', () => {
  let [taken, refused] = [0, 0];
  fc.assert(
    fc.property(
      schemaOf.chain((made) => {
        const [operation] = made.document.definitions as [g.OperationDefinitionNode];
        const variables = (operation.variableDefinitions ?? []).map(
          ({ variable, type }) =>
            [variable.name.value, g.typeFromAST(made.schema, type as never) as unknown as g.GraphQLInputType] as const,
        );
        const values = fc.record(Object.fromEntries(variables.map(([name, type]) => [name, valueFor(type)])), { requiredKeys: [] });
        return values.map((given) => ({
          ...made,
          operation,
          variables,
          given: JSON.parse(JSON.stringify(given)) as Record<string, unknown>,
        }));
      }),
      ({ schema, operation, variables, given }) => {
        fc.pre(!variables.some(([name, type]) => hasBareValue(type, given[name])));
        const json = variablesSchema(g, schema, operation, {}, new Map());
        const { ok } = compileCheck(json as never, 'variables', false)(given);
        const { errors } = g.getVariableValues(schema, operation.variableDefinitions ?? [], given);
        if (errors === undefined) taken++;
        else refused++;
        expect([ok, JSON.stringify(json), JSON.stringify(given), errors?.[0]?.message]).toEqual([
          errors === undefined,
          JSON.stringify(json),
          JSON.stringify(given),
          errors?.[0]?.message,
        ]);
      },
    ),
    { numRuns: 1500 },
  );
  expect([taken > 200, refused > 100]).toEqual([true, true]);
});

const sdl = `
  enum Kind { BROOD HONEY }
  interface Box { id: ID! kind: Kind next: Box inside: [Box!] }
  type Super implements Box { id: ID! kind: Kind next: Box inside: [Box!] frames: Int! note: String }
  type Deep implements Box { id: ID! kind: Kind next: Box inside: [Box!] frames: Float mites: [Int!] }
  union Thing = Super | Deep
  type Query { box: Box! boxes: [Box] thing: Thing things: [Thing!]! count(of: Kind): Int! }
`;
const schema = g.buildSchema(sdl);

const selection = (depth: number): fc.Arbitrary<string> => {
  const common = fc.constantFrom('id', 'kind', '__typename', 'again: id', 'maybe: id @include(if: $yes)', 'gone: kind @skip(if: $yes)');
  const deeper =
    depth > 0
      ? [
          fc
            .tuple(fc.constantFrom('next', 'inside', 'other: next'), fc.nat())
            .chain(([name]) => selection(depth - 1).map((inner) => `${name} { ${inner} }`)),
        ]
      : [];
  const own = fc.constantFrom(
    '... on Super { frames note }',
    '... on Deep { amount: frames mites }',
    '... on Deep { mites }',
    '... F',
    '... on Box { id }',
    '... @include(if: $yes) { kind }',
  );
  return fc.array(fc.oneof({ weight: 3, arbitrary: common }, own, ...deeper), { minLength: 1, maxLength: 5 }).map((all) => all.join(' '));
};

/** A box with everything, as deep as it is asked for. */
const made = (random: () => number, depth = 0): unknown => {
  const isSuper = random() < 0.5;
  const some = <T>(value: T) => (random() < 0.3 ? null : value);
  return {
    __typename: isSuper ? 'Super' : 'Deep',
    id: String(random()),
    kind: some(random() < 0.5 ? 'BROOD' : 'HONEY'),
    next: () => (depth > 3 ? null : some(made(random, depth + 1))),
    inside: () => (depth > 3 ? [] : some([made(random, depth + 1)])),
    frames: isSuper ? 10 : some(4.5),
    note: some('calm'),
    mites: some([1, 2]),
  };
};

test('whatever a service answers to an operation, it fits the output schema', () => {
  fc.assert(
    fc.property(
      fc.tuple(
        fc.constantFrom('box', 'boxes', 'thing', 'things'),
        fc.array(selection(2), { minLength: 1, maxLength: 2 }),
        fc.boolean(),
        fc.integer(),
      ),
      ([root, selections, yes, seed]) => {
        const isUnion = root.startsWith('thing');
        const inner = isUnion ? selections.map((each) => `... on Box { ${each} }`).join(' ') : selections.join(' ');
        const text = `query Q($yes: Boolean!) { ${root} { ${inner} } count } fragment F on Box { kind }`;
        const document = g.parse(text);
        // Two selections may want one key for two things: such an operation is none.
        fc.pre(
          g.validate(
            schema,
            document,
            g.specifiedRules.filter((rule) => rule !== g.NoUnusedFragmentsRule && rule !== g.NoUnusedVariablesRule),
          ).length === 0,
        );
        let random = seed;
        const chance = () => (random = Math.abs((random * 1664525 + 1013904223) % 4294967296)) / 4294967296;
        const rootValue = {
          box: () => made(chance),
          boxes: () => [made(chance), null],
          thing: () => made(chance),
          things: () => [made(chance), made(chance)],
          count: 3,
        };
        const { data, errors } = g.executeSync({ schema, document, rootValue, variableValues: { yes } });
        expect(errors).toBeUndefined();
        const [operation, fragment] = document.definitions as [g.OperationDefinitionNode, g.FragmentDefinitionNode];
        const json = answerSchema(g, schema, operation, new Map([['F', fragment]]), {});
        const checked = compileCheck(json as never, 'answer', false)(JSON.parse(JSON.stringify(data)));
        expect([checked, text]).toEqual([expect.objectContaining({ ok: true }), text]);
        // What is sure to come is required.
        expect(JSON.stringify(json)).toContain('"required"');
      },
    ),
    { numRuns: 800 },
  );
});

test('an answer that breaks a promise is found', () => {
  const document = g.parse('{ box { id kind ... on Super { frames } } things { __typename } count }');
  const json = answerSchema(g, schema, document.definitions[0] as g.OperationDefinitionNode, new Map(), {});
  const check = compileCheck(json as never, 'answer', false);
  const good = { box: { id: '1', kind: null }, things: [{ __typename: 'Deep' }], count: 2 };
  expect(check(good).ok).toBe(true);
  for (const wrong of [
    { ...good, box: null },
    { ...good, box: { id: 1, kind: null } },
    { ...good, box: { id: '1' } },
    { ...good, box: { id: '1', kind: 'WAX' } },
    { ...good, box: { id: '1', kind: null, frames: 'ten' } },
    { ...good, things: [null] },
    { ...good, things: [{ __typename: 'Query' }] },
    { ...good, count: null },
    { ...good, count: 1.5 },
  ])
    expect([check(wrong).ok, wrong]).toEqual([false, wrong]);
});

test('a first set of operations is valid against its schema, and each selects something', () => {
  const texts = starterOperations(g, schema);
  expect(Object.keys(texts).sort()).toEqual(['box.graphql', 'boxes.graphql', 'count.graphql', 'thing.graphql', 'things.graphql']);
  for (const text of Object.values(texts)) expect(g.validate(schema, g.parse(text))).toEqual([]);
});
