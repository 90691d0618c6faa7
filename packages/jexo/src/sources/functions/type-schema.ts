import type ts from 'typescript';
import type { JsonSchema } from '../../protocol/types.js';
import type { Compiler } from './compiler.js';
import { readPropertyDoc } from './doc-comment.js';
import { isLibraryFile } from './program.js';
import type { JsonKind, Revive } from './shape.js';

/** A type that has no counterpart in JSON Schema. */
export class Unreadable extends Error {
  constructor(
    readonly why: string,
    readonly next: string,
  ) {
    super(why);
  }
}

export interface Converted {
  readonly schema: JsonSchema;
  readonly revive?: Revive;
  /** What a reference stands for, where it is one kind of JSON. */
  readonly kind?: JsonKind | undefined;
}

export interface Definitions {
  /** What `convert` has referred to so far, for `$defs`. */
  readonly schemas?: Record<string, JsonSchema>;
  readonly revives?: Record<string, Revive>;
}

export interface TypeReader {
  /**
   * @param needed false for a parameter that need not be given: a member of it that cannot be expressed is left out, required or not
   * @throws Unreadable
   */
  convert(type: ts.Type, needed?: boolean): Converted;
  takeDefinitions(): Definitions;
}

/** Types one function's schema may be made of: beyond that no model reads it, and it is most likely a whole library. */
const mostParts = 800;
const numberLists = /^(?:Int8|Uint8Clamped|Int16|Uint16|Int32|Uint32|Float16|Float32|Float64)Array$/;
const lists = /^(?:Iterable|ArrayLike|Generator|Iterator|IterableIterator|IteratorObject|ArrayIterator|SetIterator|MapIterator)$/;
export const asyncLists = /^(?:AsyncIterable|AsyncGenerator|AsyncIterator|AsyncIterableIterator|AsyncIteratorObject)$/;
const errors = /^(?:Error|\w+Error)$/;

/**
 * Turns types into JSON Schema, for what one function takes (`in`) or gives (`out`). The two differ where a value crosses
 * the border only one way: a method is no data when it leaves, and cannot be made when it arrives.
 */
export function createTypeReader(
  ts: Compiler,
  checker: ts.TypeChecker,
  at: ts.Node,
  direction: 'in' | 'out',
  /** Told of optional parts that had to be left out. */
  onLeftOut: (path: string, problem: Unreadable) => void,
): TypeReader {
  const { TypeFlags, SymbolFlags } = ts;
  const open = new Map<ts.Type, string | undefined>();
  const path: string[] = [];
  let schemas: Record<string, JsonSchema> = {};
  let revives: Record<string, Revive> = {};
  let parts = 0;
  let isNeeded = true;

  const has = (type: ts.Type, flags: number) => (type.flags & flags) !== 0;
  const text = (type: ts.Type) => checker.typeToString(type, at);

  function convert(type: ts.Type): Converted {
    if (has(type, TypeFlags.Any | TypeFlags.Unknown)) return { schema: {} };
    if (has(type, TypeFlags.BigIntLike)) return { schema: { type: 'string', pattern: String.raw`^-?\d+$` }, revive: { to: 'bigint' } };
    if (has(type, TypeFlags.ESSymbolLike)) throw new Unreadable('is a symbol, which JSON does not have', 'Take a string instead.');
    if (has(type, TypeFlags.TypeParameter | TypeFlags.Conditional | TypeFlags.IndexedAccess | TypeFlags.Substitution)) {
      // Whatever fits the bound of a type parameter may be given; one without a bound takes anything.
      const bound = checker.getBaseConstraintOfType(type);
      return bound === undefined || bound === type ? { schema: {} } : convert(bound);
    }
    if (has(type, TypeFlags.Index)) return { schema: { type: 'string' } };
    if (has(type, TypeFlags.Never)) throw new Unreadable('has the type never, which no value fits', 'Give it a type that has values.');
    if (type.isUnion()) return once(type, undefined, () => convertUnion(type));
    if (has(type, TypeFlags.StringLiteral | TypeFlags.NumberLiteral)) return { schema: { const: (type as ts.LiteralType).value } };
    if (has(type, TypeFlags.BooleanLiteral)) return { schema: { const: text(type) === 'true' } };
    if (has(type, TypeFlags.TemplateLiteral))
      return { schema: { type: 'string', pattern: templatePattern(type as ts.TemplateLiteralType) } };
    if (has(type, TypeFlags.StringLike)) return { schema: { type: 'string' } };
    if (has(type, TypeFlags.NumberLike)) return { schema: { type: 'number' } };
    if (has(type, TypeFlags.BooleanLike)) return { schema: { type: 'boolean' } };
    if (has(type, TypeFlags.Null)) return { schema: { type: 'null' } };
    if (has(type, TypeFlags.Undefined | TypeFlags.Void)) return { schema: {} };
    if (type.isIntersection()) {
      const primitive = type.types.find((part) =>
        has(part, TypeFlags.StringLike | TypeFlags.NumberLike | TypeFlags.BooleanLike | TypeFlags.BigIntLike),
      );
      if (primitive !== undefined) return convert(primitive); // a branded primitive
    }
    if (has(type, TypeFlags.NonPrimitive)) return { schema: { type: 'object' } };
    if (has(type, TypeFlags.Object | TypeFlags.Intersection)) return convertObject(type);
    throw new Unreadable(
      `has the type ${text(type)}, which cannot be written as JSON Schema`,
      'Write a schema for it with tool(), or leave it out.',
    );
  }

  function convertUnion(union: ts.UnionType): Converted {
    const members = union.types.filter((part) => !has(part, TypeFlags.Undefined | TypeFlags.Void));
    const nullable = members.some((part) => has(part, TypeFlags.Null));
    const rest = members.filter((part) => !has(part, TypeFlags.Null));
    const isLiteral = (part: ts.Type) => has(part, TypeFlags.StringLiteral | TypeFlags.NumberLiteral | TypeFlags.BooleanLiteral);
    const literals = convertLiterals(rest.filter(isLiteral));
    const others = rest.filter((part) => !isLiteral(part));
    const branches: Converted[] = [...literals, ...convertMembers(union, others, literals.length > 0 || nullable)];
    if (branches.length === 0) return { schema: { type: 'null' } };
    if (branches.some(({ schema }) => Object.keys(schema).length === 0)) return { schema: {} }; // one of them takes anything
    if (branches.length === 1) {
      const only = branches[0]!;
      if (!nullable) return only;
      const { type, enum: values } = only.schema;
      if (typeof type === 'string' && only.schema.oneOf === undefined) {
        return {
          ...only,
          schema: { ...only.schema, type: [type, 'null'], ...(values !== undefined && { enum: [...(values as unknown[]), null] }) },
        };
      }
    }
    const revive = branches.length === 1 ? branches[0]!.revive : reviveByKind(union, branches);
    const unique = [...new Map(branches.map(({ schema }) => [JSON.stringify(schema), schema])).values()];
    return { schema: { anyOf: [...unique, ...(nullable ? [{ type: 'null' }] : [])] }, ...(revive && { revive }) };
  }

  /** Literals of one kind are a list of values; the members of a numeric enum carry their names. */
  function convertLiterals(literals: readonly ts.Type[]): Converted[] {
    const value = (part: ts.Type) => (part as ts.LiteralType).value;
    const strings = literals.filter((part) => has(part, TypeFlags.StringLiteral));
    const numbers = literals.filter((part) => has(part, TypeFlags.NumberLiteral));
    const booleans = literals.filter((part) => has(part, TypeFlags.BooleanLiteral));
    const branches: Converted[] = [];
    if (strings.length > 0) branches.push({ schema: { type: 'string', enum: strings.map(value) } });
    if (numbers.length > 0) {
      const named = numbers.every((part) => has(part, TypeFlags.EnumLiteral));
      branches.push({
        schema: named
          ? { type: 'number', oneOf: numbers.map((part) => ({ const: value(part), title: part.symbol.getName() })) }
          : { type: 'number', enum: numbers.map(value) },
      });
    }
    if (booleans.length === 2) branches.push({ schema: { type: 'boolean' } });
    else if (booleans.length === 1) branches.push(convert(booleans[0]!));
    return branches;
  }

  /**
   * The members of a union that are no literals. A function that takes a list or a set, a text or a date, is given the plain
   * one: it takes that too, and JSON could not tell which was meant.
   *
   * @param hasMore true when the union has values beside these members, so that something is left when none of them can be sent
   */
  function convertMembers(union: ts.UnionType, members: readonly ts.Type[], hasMore: boolean): Converted[] {
    const found: Converted[] = [];
    let problem: Unreadable | undefined;
    for (const member of members) {
      try {
        found.push(convert(member));
      } catch (error) {
        if (!(error instanceof Unreadable)) throw error;
        problem = error; // a function that takes several kinds is offered with those that can be sent
      }
    }
    if (found.length === 0 && !hasMore && problem !== undefined) throw problem;
    // Of what leaves, one kind cannot be promised: then nothing is, and what comes is sent as it is.
    if (direction === 'out' && problem !== undefined) return [{ schema: {} }];
    if (problem !== undefined)
      onLeftOut(path.join(''), new Unreadable(`takes ${text(union)}, of which a part is left out: ${problem.why}`, problem.next));
    if (direction === 'out') return found;
    const plain = new Set(found.filter(({ revive }) => revive === undefined).map(kindOf));
    const isStructure = (how: Revive) => how.to === 'object' || how.to === 'ref';
    return found.filter((each) => each.revive === undefined || isStructure(each.revive) || !plain.has(kindOf(each)));
  }

  /** How a value is revived whose type is one of several: by the kind of JSON it is, and by its discriminating property. */
  function reviveByKind(union: ts.UnionType, branches: readonly Converted[]): Revive | undefined {
    if (direction === 'out' || branches.every(({ revive }) => revive === undefined)) return undefined;
    const kinds: Partial<Record<JsonKind, Revive>> = {};
    for (const kind of new Set(branches.map(kindOf))) {
      const those = branches.filter((each) => kindOf(each) === kind);
      if (those.every(({ revive }) => revive === undefined)) continue;
      const revive = those.length === 1 ? those[0]!.revive : kind === 'object' ? reviveByCase(those) : undefined;
      if (kind === undefined || revive === undefined)
        throw new Unreadable(
          `is ${text(union)}, and JSON cannot tell which of them a value is meant to be`,
          'Take only one of these types, or give each a property that says which it is.',
        );
      kinds[kind] = revive;
    }
    return { to: 'kind', kinds };
  }

  function reviveByCase(branches: readonly Converted[]): Revive | undefined {
    const constants = branches.map(({ schema }) =>
      Object.entries((schema.properties ?? {}) as Record<string, JsonSchema>).flatMap(([key, { const: value }]) =>
        typeof value === 'string' ? [[key, value] as const] : [],
      ),
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

  function templatePattern(type: ts.TemplateLiteralType): string {
    const quote = (part: string) => part.replaceAll(/[.*+?^${}()|[\]\\/]/g, String.raw`\$&`);
    const hole = (part: ts.Type): string => {
      if (has(part, TypeFlags.NumberLike)) return String.raw`-?\d+(?:\.\d+)?`;
      if (part.isUnion()) return `(?:${part.types.map(hole).join('|')})`;
      if (has(part, TypeFlags.StringLiteral)) return quote((part as ts.StringLiteralType).value);
      return '.*';
    };
    return `^${type.texts.map((part, index) => quote(part) + (index < type.types.length ? hole(type.types[index]!) : '')).join('')}$`;
  }

  function convertObject(type: ts.Type): Converted {
    if (type.getCallSignatures().length > 0)
      throw direction === 'out'
        ? new Unreadable('is a function, which cannot be sent', 'Wrap it in a function that calls it and gives the result.')
        : new Unreadable(
            'is a callback, and a caller cannot send a function',
            'Write a schema for it with tool(), leave it out, or wrap it in a function without the callback.',
          );
    if (checker.isTupleType(type)) return once(type, 'array', () => convertTuple(type as ts.TypeReference));
    if (checker.isArrayType(type)) return once(type, 'array', () => listOf(checker.getTypeArguments(type as ts.TypeReference)[0]!));
    const known = isFromLibrary(type) ? convertLibraryType(type, type.symbol.getName()) : undefined;
    return known ?? convertOwnJson(type) ?? once(type, 'object', () => convertFields(type));
  }

  function convertLibraryType(type: ts.Type, name: string): Converted | undefined {
    const args = (type as ts.TypeReference).target === undefined ? [] : checker.getTypeArguments(type as ts.TypeReference);
    const base64 = { type: 'string', contentEncoding: 'base64' };
    switch (name) {
      case 'Date':
        return direction === 'out'
          ? { schema: { type: 'string', format: 'date-time' } }
          : { schema: { type: 'string', anyOf: [{ format: 'date-time' }, { format: 'date' }] }, revive: { to: 'date' } };
      case 'URL':
        return { schema: { type: 'string', format: 'uri' }, revive: { to: 'url' } };
      case 'RegExp':
        return { schema: { type: 'string', format: 'regex' }, revive: { to: 'regexp' } };
      case 'Uint8Array':
      case 'Buffer':
        return { schema: base64, revive: { to: 'bytes' } };
      case 'ArrayBuffer':
        return { schema: base64, revive: { to: 'array-buffer' } };
      case 'ReadableStream':
      case 'Readable':
        return { schema: base64, revive: { to: 'stream' } };
      case 'Blob':
      case 'File': {
        const properties = { data: base64, mimeType: { type: 'string' }, ...(name === 'File' && { name: { type: 'string' } }) };
        return {
          schema: { type: 'object', properties, required: name === 'File' ? ['data', 'name'] : ['data'] },
          revive: { to: name === 'File' ? 'file' : 'blob' },
        };
      }
      case 'Set':
      case 'ReadonlySet': {
        const item = convertItem(args[0]!);
        return {
          schema: { type: 'array', items: item.schema, uniqueItems: true },
          revive: { to: 'set', ...(item.revive && { item: item.revive }) },
        };
      }
      case 'Map':
      case 'ReadonlyMap':
        return convertMap(args[0]!, args[1]!);
    }
    if (numberLists.test(name)) return { schema: { type: 'array', items: { type: 'number' } }, revive: { to: 'numbers', of: name } };
    if (lists.test(name)) return listOf(args[0]!);
    if (asyncLists.test(name)) {
      const { schema, revive } = convertItem(args[0]!);
      return { schema: { type: 'array', items: schema }, revive: { to: 'async-list', ...(revive && { item: revive }) } };
    }
    if (errors.test(name) && direction === 'out')
      return {
        schema: { type: 'object', properties: { name: { type: 'string' }, message: { type: 'string' } }, required: ['name', 'message'] },
      };
    const behaves = checker.getPropertiesOfType(type).some(({ flags }) => (flags & SymbolFlags.Method) !== 0);
    if (behaves) throw new Unreadable(`has the type ${text(type)}, which JSON cannot carry`, 'Take or give a plain value instead.');
    return undefined;
  }

  function convertMap(key: ts.Type, item: ts.Type): Converted {
    const all = (flags: number) => has(key, flags) || (key.isUnion() && key.types.every((part) => has(part, flags)));
    const numberKeys = all(TypeFlags.NumberLike);
    if (!numberKeys && !all(TypeFlags.StringLike) && !has(key, TypeFlags.Any | TypeFlags.TypeParameter)) {
      throw new Unreadable(
        'is a Map whose keys are neither strings nor numbers, and JSON objects have no other keys',
        'Take a Map with string keys, or a list of pairs.',
      );
    }
    const value = convert(item);
    return {
      schema: { type: 'object', additionalProperties: value.schema },
      revive: { to: 'map', ...(numberKeys && { numberKeys }), ...(value.revive && { value: value.revive }) },
    };
  }

  /** A class that says how it is written as JSON is described by what that gives. */
  function convertOwnJson(type: ts.Type): Converted | undefined {
    const own = direction === 'out' ? type.getProperty('toJSON') : undefined;
    const signature = own && checker.getTypeOfSymbolAtLocation(own, at).getCallSignatures()[0];
    return signature && convert(signature.getReturnType());
  }

  /** An item of a list: what is undefined leaves as null, to keep its place. */
  function convertItem(item: ts.Type): Converted {
    const made = convert(item);
    return direction === 'out' && mayBeUndefined(item) ? { ...made, schema: orNull(made.schema) } : made;
  }

  function listOf(item: ts.Type): Converted {
    const { schema, revive } = convertItem(item);
    return { schema: { type: 'array', items: schema }, ...(revive && { revive: { to: 'list', item: revive } }) };
  }

  function convertTuple(type: ts.TypeReference): Converted {
    const target = type.target as ts.TupleType;
    const items = checker.getTypeArguments(type).map((part) => convertItem(part));
    const restAt = target.elementFlags.findIndex((flag) => (flag & ts.ElementFlags.Variable) !== 0);
    if (restAt >= 0 && restAt !== items.length - 1)
      throw new Unreadable(`has the type ${text(type)}, whose rest is not at the end`, 'Put the rest at the end, or take a list.');
    const fixed = restAt < 0 ? items : items.slice(0, restAt);
    const revive: Revive | undefined = items.some((item) => item.revive !== undefined)
      ? { to: 'tuple', items: items.map((item) => item.revive ?? null) }
      : undefined;
    return {
      schema: {
        type: 'array',
        ...(fixed.length > 0 && { prefixItems: fixed.map((item) => item.schema) }),
        minItems: target.minLength,
        ...(restAt < 0 ? { items: false, maxItems: fixed.length } : { items: items[restAt]!.schema }),
      },
      ...(revive && { revive }),
    };
  }

  /** A type that contains itself is written once under $defs and referred to. */
  function once(type: ts.Type, kind: JsonKind | undefined, make: () => Converted): Converted {
    if (open.has(type)) {
      const known = open.get(type) ?? definitionName(type);
      open.set(type, known);
      return { schema: { $ref: `#/$defs/${known}` }, revive: { to: 'ref', name: known }, kind };
    }
    if (++parts > mostParts)
      throw new Unreadable(`has the type ${text(type)}, which is too large for a model to read`, 'Take only the fields that are needed.');
    open.set(type, undefined);
    let made: Converted;
    let known: string | undefined;
    try {
      made = make();
    } finally {
      known = open.get(type);
      open.delete(type);
    }
    const revive = made.revive !== undefined && doesWork(made.revive, known) ? made.revive : undefined;
    if (known === undefined) return { schema: made.schema, ...(revive && { revive }), kind: made.kind };
    schemas[known] = made.schema;
    const reference = { schema: { $ref: `#/$defs/${known}` }, kind };
    if (revive === undefined) return reference;
    revives[known] = revive;
    return { ...reference, revive: { to: 'ref', name: known } };
  }

  function convertFields(type: ts.Type): Converted {
    const properties: Record<string, JsonSchema> = {};
    const revived: Record<string, Revive> = {};
    const required: string[] = [];
    let methods = 0;
    const isInstance = ((type.symbol?.flags ?? 0) & SymbolFlags.Class) !== 0;
    for (const property of checker.getPropertiesOfType(type)) {
      const key = property.getName();
      if (!isData(property)) continue;
      const propertyType = checker.getTypeOfSymbolAtLocation(property, at);
      const optional = (property.flags & SymbolFlags.Optional) !== 0 || mayBeUndefined(propertyType);
      // What cannot be called from outside is left behind when it leaves, and cannot be made up when it arrives.
      if (direction === 'out' && checker.getNonNullableType(propertyType).getCallSignatures().length > 0) {
        methods++;
        continue;
      }
      // Of options that need not be given, one that cannot be sent is left out; an instance without a method is none.
      const isSpare = optional || (!isNeeded && path.length === 0 && !isInstance);
      const found = attempt(`.${key}`, isSpare, () => convert(propertyType));
      if (found === undefined) continue;
      const doc = readPropertyDoc(property, checker, ts);
      properties[key] = withDoc(found.schema, doc.description, doc.keywords);
      if (found.revive) revived[key] = found.revive;
      if (!optional) required.push(key);
    }
    const patterns: Record<string, JsonSchema> = {};
    let rest: Converted | undefined;
    for (const index of checker.getIndexInfosOfType(type)) {
      const found = convert(index.type);
      if (has(index.keyType, TypeFlags.TemplateLiteral)) patterns[templatePattern(index.keyType as ts.TemplateLiteralType)] = found.schema;
      else if (!has(index.keyType, TypeFlags.ESSymbolLike)) rest = found;
    }
    const hasPatterns = Object.keys(patterns).length > 0;
    if (direction === 'out' && methods > 0 && Object.keys(properties).length === 0 && rest === undefined && !hasPatterns)
      throw new Unreadable(`is ${text(type)}, which has methods but no data`, 'Return the values themselves, or give it a toJSON method.');
    return {
      schema: {
        type: 'object',
        ...((Object.keys(properties).length > 0 || (rest === undefined && !hasPatterns)) && { properties }),
        ...(required.length > 0 && { required }),
        ...(hasPatterns && { patternProperties: patterns }),
        ...(rest !== undefined && { additionalProperties: rest.schema }),
      },
      ...((Object.keys(revived).length > 0 || rest?.revive !== undefined) && {
        revive: { to: 'object', properties: revived, ...(rest?.revive && { rest: rest.revive }) },
      }),
    };
  }

  /** Symbols, private fields and computed members are no part of what is sent. */
  function isData(property: ts.Symbol): boolean {
    const key = property.getName();
    if (key.startsWith('__@') || key.startsWith('#')) return false;
    const declaration = property.valueDeclaration ?? property.declarations?.[0];
    if (declaration === undefined) return true;
    if ((ts.getCombinedModifierFlags(declaration) & (ts.ModifierFlags.Private | ts.ModifierFlags.Protected)) !== 0) return false;
    return !(ts.isAccessor(declaration) && ts.isClassLike(declaration.parent));
  }

  function mayBeUndefined(type: ts.Type): boolean {
    return has(type, TypeFlags.Undefined) || (type.isUnion() && type.types.some((part) => has(part, TypeFlags.Undefined)));
  }

  /** Converts a part; an optional one that cannot be converted is left out and told of. */
  function attempt(step: string, optional: boolean, read: () => Converted): Converted | undefined {
    path.push(step);
    try {
      return read();
    } catch (error) {
      if (!(error instanceof Unreadable)) throw error;
      if (!optional || direction === 'out')
        throw new Unreadable(error.why.startsWith('(') ? `(${step}${error.why.slice(1)}` : `(${step}) ${error.why}`, error.next);
      onLeftOut(path.join(''), error);
      return undefined;
    } finally {
      path.pop();
    }
  }

  function definitionName(type: ts.Type): string {
    const wanted = (type.aliasSymbol?.getName() ?? type.symbol?.getName() ?? '').replaceAll(/[^A-Za-z0-9]/g, '') || 'Value';
    const taken = new Set([...Object.keys(schemas), ...open.values()]);
    let free = wanted;
    for (let count = 2; taken.has(free); count++) free = `${wanted}${count}`;
    return free;
  }

  function isFromLibrary(type: ts.Type): boolean {
    const file = type.symbol?.declarations?.[0]?.getSourceFile();
    return file !== undefined && isLibraryFile(file);
  }

  return {
    convert(type, needed = true) {
      isNeeded = needed;
      return convert(type);
    },
    takeDefinitions() {
      const taken: Definitions = {
        ...(Object.keys(schemas).length > 0 && { schemas }),
        ...(Object.keys(revives).length > 0 && { revives }),
      };
      schemas = {};
      revives = {};
      parts = 0;
      return taken;
    },
  };
}

/** The kind of JSON a type is sent as, when it is one. */
function kindOf({ schema, kind }: Converted): JsonKind | undefined {
  if (kind !== undefined) return kind;
  const type = typeof schema.type === 'string' ? schema.type : typeof schema.const;
  return type === 'string' || type === 'number' || type === 'boolean' || type === 'array' || type === 'object' ? type : undefined;
}

/** False when reviving would only copy: a type that contains itself and nothing but JSON. */
function doesWork(revive: Revive, self: string | undefined): boolean {
  switch (revive.to) {
    case 'ref':
      return revive.name !== self;
    case 'list':
      return doesWork(revive.item, self);
    case 'tuple':
      return revive.items.some((item) => item !== null && doesWork(item, self));
    case 'object':
      return [...Object.values(revive.properties), ...(revive.rest ? [revive.rest] : [])].some((each) => doesWork(each, self));
    case 'case':
      return Object.values(revive.cases).some((each) => doesWork(each, self));
    case 'kind':
      return Object.values(revive.kinds).some((each) => doesWork(each, self));
    default:
      return true;
  }
}

/** The same, or null. */
export function orNull(schema: JsonSchema): JsonSchema {
  const { type, enum: values } = schema;
  if (Object.keys(schema).length === 0) return schema;
  const types = [type].flat() as unknown[];
  if (types.includes('null')) return schema;
  if (type === undefined || schema.anyOf !== undefined || schema.oneOf !== undefined || schema.const !== undefined)
    return Array.isArray(schema.anyOf) && type === undefined
      ? { ...schema, anyOf: [...(schema.anyOf as JsonSchema[]).filter((each) => each.type !== 'null'), { type: 'null' }] }
      : { anyOf: [schema, { type: 'null' }] };
  return { ...schema, type: [...types, 'null'], ...(Array.isArray(values) && { enum: [...(values as unknown[]), null] }) };
}

/** A description and keywords beside a schema; beside a `$ref` they are allowed since 2019-09. */
export function withDoc(schema: JsonSchema, description: string | undefined, keywords: Readonly<Record<string, unknown>>): JsonSchema {
  const { type, default: given, ...rest } = keywords;
  const usual = given === undefined ? undefined : defaultFor(schema, given);
  const others = usual === undefined ? rest : { ...rest, default: usual.value };
  return {
    ...schema,
    ...(type === 'integer' && schema.type === 'number' && { type }),
    ...(description !== undefined && { description }),
    ...others,
  };
}

/** A default as a comment writes it: of an enum its member's value, and nothing that the schema would refuse, as the word `undefined`. */
function defaultFor(schema: JsonSchema, given: unknown): { readonly value: unknown } | undefined {
  const members = (Array.isArray(schema.oneOf) ? schema.oneOf : []) as JsonSchema[];
  if (typeof given === 'string' && members.length > 0) {
    const member = members.find(({ title, const: value }) => title === given.split('.').at(-1) || String(value) === given);
    return member === undefined ? undefined : { value: member.const };
  }
  if (Array.isArray(schema.enum)) return schema.enum.includes(given) ? { value: given } : undefined;
  const types = [schema.type].flat().filter((each) => typeof each === 'string');
  const kind = given === null ? 'null' : Array.isArray(given) ? 'array' : typeof given;
  const fits = types.length === 0 || types.includes(kind) || (kind === 'number' && types.includes('integer'));
  return fits && given !== 'undefined' ? { value: given } : undefined;
}
