import type ts from 'typescript';
import { propertiesOf } from '../../protocol/json-schema.js';
import { kindOf, Unreadable, type Converted } from './converted.js';
import type { JsonKind, Revive } from './shape.js';
import type { TypeConverter } from './type-converter.js';

export function convertUnion(c: TypeConverter, union: ts.UnionType): Converted {
  const members = union.types.filter((part) => !c.has(part, c.ts.TypeFlags.Undefined | c.ts.TypeFlags.Void));
  const nullable = members.some((part) => c.has(part, c.ts.TypeFlags.Null));
  const rest = members.filter((part) => !c.has(part, c.ts.TypeFlags.Null));
  const isLiteral = (part: ts.Type) =>
    c.has(part, c.ts.TypeFlags.StringLiteral | c.ts.TypeFlags.NumberLiteral | c.ts.TypeFlags.BooleanLiteral);
  const literals = convertLiterals(c, rest.filter(isLiteral));
  const others = rest.filter((part) => !isLiteral(part));
  const branches: Converted[] = [...literals, ...convertMembers(c, union, others, literals.length > 0 || nullable)];
  if (branches.length === 0) return { schema: { type: 'null' } };
  if (branches.some(({ schema }) => Object.keys(schema).length === 0)) return { schema: {} }; // one of them takes anything
  if (branches.length === 1) {
    const only = branches[0]!;
    if (!nullable) return only;
    const { type, enum: values } = only.schema;
    if (typeof type === 'string' && only.schema.oneOf === undefined) {
      return {
        ...only,
        schema: { ...only.schema, type: [type, 'null'], ...(values !== undefined && { enum: [...values, null] }) },
      };
    }
  }
  const revive = branches.length === 1 ? branches[0]!.revive : reviveByKind(c, union, branches);
  const unique = [...new Map(branches.map(({ schema }) => [JSON.stringify(schema), schema])).values()];
  return { schema: { anyOf: [...unique, ...(nullable ? [{ type: 'null' } as const] : [])] }, ...(revive && { revive }) };
}

/** Literals of one kind are a list of values; the members of a numeric enum carry their names. */
function convertLiterals(c: TypeConverter, literals: readonly ts.Type[]): Converted[] {
  const value = (part: ts.Type) => (part as ts.LiteralType).value;
  const strings = literals.filter((part) => c.has(part, c.ts.TypeFlags.StringLiteral));
  const numbers = literals.filter((part) => c.has(part, c.ts.TypeFlags.NumberLiteral));
  const booleans = literals.filter((part) => c.has(part, c.ts.TypeFlags.BooleanLiteral));
  const branches: Converted[] = [];
  if (strings.length > 0) branches.push({ schema: { type: 'string', enum: strings.map(value) } });
  if (numbers.length > 0) {
    const named = numbers.every((part) => c.has(part, c.ts.TypeFlags.EnumLiteral));
    branches.push({
      schema: named
        ? { type: 'number', oneOf: numbers.map((part) => ({ const: value(part), title: part.symbol.getName() })) }
        : { type: 'number', enum: numbers.map(value) },
    });
  }
  if (booleans.length === 2) branches.push({ schema: { type: 'boolean' } });
  else if (booleans.length === 1) branches.push(c.convert(booleans[0]!));
  return branches;
}

/**
 * The members of a union that are no literals. A function that takes a list or a set, a text or a date, is given the plain
 * one: it takes that too, and JSON could not tell which was meant.
 *
 * @param hasMore true when the union has values beside these members, so that something is left when none of them can be sent
 */
function convertMembers(c: TypeConverter, union: ts.UnionType, members: readonly ts.Type[], hasMore: boolean): Converted[] {
  const found: Converted[] = [];
  let problem: Unreadable | undefined;
  for (const member of members) {
    try {
      found.push(c.convert(member));
    } catch (error) {
      if (!(error instanceof Unreadable)) throw error;
      problem = error; // a function that takes several kinds is offered with those that can be sent
    }
  }
  if (found.length === 0 && !hasMore && problem !== undefined) throw problem;
  // Of what leaves, one kind cannot be promised: then nothing is, and what comes is sent as it is.
  if (c.direction === 'out' && problem !== undefined) return [{ schema: {} }];
  if (problem !== undefined)
    c.onOmitted(c.path.join(''), new Unreadable(`takes ${c.text(union)}, of which a part is omitted: ${problem.why}`, problem.next));
  if (c.direction === 'out') return found;
  const plain = new Set(found.filter(({ revive }) => revive === undefined).map(kindOf));
  const isStructure = (how: Revive) => how.to === 'object' || how.to === 'ref';
  return found.filter((each) => each.revive === undefined || isStructure(each.revive) || !plain.has(kindOf(each)));
}

/** How a value is revived whose type is one of several: by the kind of JSON it is, and by its discriminating property. */
function reviveByKind(c: TypeConverter, union: ts.UnionType, branches: readonly Converted[]): Revive | undefined {
  if (c.direction === 'out' || branches.every(({ revive }) => revive === undefined)) return undefined;
  const kinds: Partial<Record<JsonKind, Revive>> = {};
  for (const kind of new Set(branches.map(kindOf))) {
    const those = branches.filter((each) => kindOf(each) === kind);
    if (those.every(({ revive }) => revive === undefined)) continue;
    const revive = those.length === 1 ? those[0]!.revive : kind === 'object' ? reviveByCase(those) : undefined;
    if (kind === undefined || revive === undefined)
      throw new Unreadable(
        `is ${c.text(union)}, and JSON can't distinguish them`,
        'Take only one of these types, or give each a property that says which it is.',
      );
    kinds[kind] = revive;
  }
  return { to: 'kind', kinds };
}

function reviveByCase(branches: readonly Converted[]): Revive | undefined {
  const constants = branches.map(({ schema }) =>
    Object.entries(propertiesOf(schema)).flatMap(([key, { const: value }]) => (typeof value === 'string' ? [[key, value] as const] : [])),
  );
  const property = constants[0]?.find(([key]) => {
    const values = constants.map((each) => each.find(([other]) => other === key)?.[1]);
    return values.every((value) => value !== undefined) && new Set(values).size === values.length;
  })?.[0];
  if (property === undefined) return undefined;
  const cases = branches.flatMap(({ revive }, index) =>
    revive === undefined ? [] : [[constants[index]!.find(([key]) => key === property)![1], revive] as const],
  );
  return { to: 'case', property, cases: Object.fromEntries(cases) };
}
