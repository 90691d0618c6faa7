import type ts from 'typescript';
import type { JsonSchema } from '../../protocol/types.js';
import type { Compiler } from './compiler.js';
import { readPropertyDoc } from './doc-comment.js';
import type { Revive } from './shape.js';

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
}

export interface TypeReader {
  /** @throws Unreadable */
  convert(type: ts.Type): Converted;
  /** Definitions that `convert` has referred to so far. */
  takeDefinitions(): Record<string, JsonSchema> | undefined;
}

/** Turns types into JSON Schema, for the input or the output of one function. */
export function createTypeReader(ts: Compiler, checker: ts.TypeChecker, at: ts.Node): TypeReader {
  const { TypeFlags, SymbolFlags } = ts;
  const open = new Map<ts.Type, string | undefined>();
  let definitions: Record<string, JsonSchema> = {};

  const has = (type: ts.Type, flags: number) => (type.flags & flags) !== 0;
  const text = (type: ts.Type) => checker.typeToString(type, at);

  function convert(type: ts.Type): Converted {
    if (has(type, TypeFlags.Any | TypeFlags.Unknown)) return { schema: {} };
    if (has(type, TypeFlags.BigIntLike))
      throw new Unreadable('is a bigint, which JSON does not have', 'Take a string or a number and convert it inside.');
    if (has(type, TypeFlags.ESSymbolLike)) throw new Unreadable('is a symbol, which JSON does not have', 'Take a string instead.');
    if (has(type, TypeFlags.TypeParameter))
      throw new Unreadable(
        `has the generic type ${text(type)}, which stands for no type in particular`,
        'Wrap it in a function that says which type it takes.',
      );
    if (has(type, TypeFlags.Never)) throw new Unreadable('has the type never, which no value fits', 'Give it a type that has values.');
    if (type.isUnion()) return convertUnion(type);
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
      const primitive = type.types.find((part) => has(part, TypeFlags.StringLike | TypeFlags.NumberLike | TypeFlags.BooleanLike));
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
    const strings = rest.filter((part) => has(part, TypeFlags.StringLiteral));
    const numbers = rest.filter((part) => has(part, TypeFlags.NumberLiteral));
    const booleans = rest.filter((part) => has(part, TypeFlags.BooleanLiteral));
    const others = rest.filter((part) => !has(part, TypeFlags.StringLiteral | TypeFlags.NumberLiteral | TypeFlags.BooleanLiteral));
    const branches: Converted[] = [];
    const value = (part: ts.Type) => (part as ts.LiteralType).value;
    if (strings.length > 0) branches.push({ schema: { type: 'string', enum: strings.map(value) } });
    if (numbers.length > 0) branches.push({ schema: { type: 'number', enum: numbers.map(value) } });
    if (booleans.length === 2) branches.push({ schema: { type: 'boolean' } });
    else if (booleans.length === 1) branches.push(convert(booleans[0]!));
    for (const part of others) branches.push(convert(part));
    if (branches.length === 0) return { schema: { type: 'null' } };
    if (branches.length === 1) {
      const only = branches[0]!;
      if (!nullable) return only;
      const { type, enum: values } = only.schema;
      if (typeof type === 'string' && only.revive === undefined) {
        return {
          schema: { ...only.schema, type: [type, 'null'], ...(values !== undefined && { enum: [...(values as unknown[]), null] }) },
        };
      }
    }
    if (branches.some(({ revive }) => revive !== undefined) && branches.length > 1) {
      throw new Unreadable(`is ${text(union)}, and JSON cannot tell which of them a value is meant to be`, 'Take only one of these types.');
    }
    const revive = branches.length === 1 ? branches[0]!.revive : undefined;
    return {
      schema: { anyOf: [...branches.map(({ schema }) => schema), ...(nullable ? [{ type: 'null' }] : [])] },
      ...(revive && { revive }),
    };
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
    const name = type.symbol?.getName() ?? '';
    if (type.getCallSignatures().length > 0)
      throw new Unreadable(
        'is a callback, and a caller cannot send a function',
        'Write a schema for it with tool(), leave it out, or wrap it in a function without the callback.',
      );
    if (checker.isTupleType(type)) return convertTuple(type as ts.TypeReference);
    if (checker.isArrayType(type)) return listOf(checker.getTypeArguments(type as ts.TypeReference)[0]!);
    const args = (type as ts.TypeReference).target === undefined ? [] : checker.getTypeArguments(type as ts.TypeReference);
    if (isFromLibrary(type)) {
      switch (name) {
        case 'Date':
          return { schema: { type: 'string', format: 'date-time' }, revive: { to: 'date' } };
        case 'URL':
          return { schema: { type: 'string', format: 'uri' }, revive: { to: 'url' } };
        case 'Uint8Array':
        case 'Buffer':
          return { schema: { type: 'string', contentEncoding: 'base64' }, revive: { to: 'bytes' } };
        case 'Set':
        case 'ReadonlySet': {
          const item = convert(args[0]!);
          return {
            schema: { type: 'array', items: item.schema, uniqueItems: true },
            revive: { to: 'set', ...(item.revive && { item: item.revive }) },
          };
        }
        case 'Map':
        case 'ReadonlyMap': {
          if (
            !has(args[0]!, TypeFlags.StringLike) &&
            !(args[0]!.isUnion() && args[0].types.every((part) => has(part, TypeFlags.StringLike)))
          ) {
            throw new Unreadable(
              'is a Map whose keys are not strings, and JSON objects have no other keys',
              'Take a Map with string keys, or a list of pairs.',
            );
          }
          const value = convert(args[1]!);
          return {
            schema: { type: 'object', additionalProperties: value.schema },
            revive: { to: 'map', ...(value.revive && { value: value.revive }) },
          };
        }
        case 'RegExp':
        case 'WeakMap':
        case 'WeakSet':
        case 'Promise':
        case 'AsyncIterable':
        case 'AsyncGenerator':
        case 'AsyncIterableIterator':
        case 'Generator':
        case 'Iterable':
          throw new Unreadable(`has the type ${text(type)}, which JSON cannot carry`, 'Take or give a plain value instead.');
      }
    }
    return convertRecord(type, name);
  }

  function listOf(item: ts.Type): Converted {
    const { schema, revive } = convert(item);
    return { schema: { type: 'array', items: schema }, ...(revive && { revive: { to: 'list', item: revive } }) };
  }

  function convertTuple(type: ts.TypeReference): Converted {
    const target = type.target as ts.TupleType;
    const items = checker.getTypeArguments(type).map((part) => convert(part));
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
        prefixItems: fixed.map((item) => item.schema),
        minItems: target.minLength,
        ...(restAt < 0 ? { items: false, maxItems: fixed.length } : { items: items[restAt]!.schema }),
      },
      ...(revive && { revive }),
    };
  }

  function convertRecord(type: ts.Type, name: string): Converted {
    // A type that contains itself is written once under $defs and referred to.
    if (open.has(type)) {
      const known = open.get(type) ?? definitionName(type, name);
      open.set(type, known);
      return { schema: { $ref: `#/$defs/${known}` } };
    }
    open.set(type, undefined);
    const properties: Record<string, JsonSchema> = {};
    const revives: Record<string, Revive> = {};
    const required: string[] = [];
    for (const property of checker.getPropertiesOfType(type)) {
      const key = property.getName();
      if (key.startsWith('__@') || key.startsWith('#')) continue; // symbols and private fields
      const declaration = property.valueDeclaration ?? property.declarations?.[0];
      if (
        declaration !== undefined &&
        (ts.getCombinedModifierFlags(declaration) & (ts.ModifierFlags.Private | ts.ModifierFlags.Protected)) !== 0
      )
        continue;
      const propertyType = checker.getTypeOfSymbolAtLocation(property, at);
      const isMethod = (property.flags & SymbolFlags.Method) !== 0;
      if (isMethod && type.isClassOrInterface()) continue; // behaviour, not data
      const doc = readPropertyDoc(property, checker, ts);
      const { schema, revive } = within(`.${key}`, () => convert(propertyType));
      properties[key] = withDoc(schema, doc.description, doc.keywords);
      if (revive) revives[key] = revive;
      if ((property.flags & SymbolFlags.Optional) === 0) required.push(key);
    }
    const index = checker.getIndexInfoOfType(type, ts.IndexKind.String);
    const rest = index === undefined ? undefined : convert(index.type);
    const schema: JsonSchema = {
      type: 'object',
      ...((Object.keys(properties).length > 0 || rest === undefined) && { properties }),
      ...(required.length > 0 && { required }),
      ...(rest !== undefined && { additionalProperties: rest.schema }),
    };
    const known = open.get(type);
    open.delete(type);
    const revive: Revive | undefined =
      Object.keys(revives).length > 0 || rest?.revive !== undefined
        ? { to: 'object', properties: revives, ...(rest?.revive && { rest: rest.revive }) }
        : undefined;
    if (known === undefined) return { schema, ...(revive && { revive }) };
    if (revive)
      throw new Unreadable(
        `has the type ${text(type)}, which contains itself and values that are not JSON`,
        'Use plain JSON values in it.',
      );
    definitions[known] = schema;
    return { schema: { $ref: `#/$defs/${known}` } };
  }

  function definitionName(type: ts.Type, name: string): string {
    const wanted = (type.aliasSymbol?.getName() ?? name).replaceAll(/[^A-Za-z0-9]/g, '') || 'Value';
    const taken = new Set([...Object.keys(definitions), ...open.values()]);
    let free = wanted;
    for (let count = 2; taken.has(free); count++) free = `${wanted}${count}`;
    return free;
  }

  function isFromLibrary(type: ts.Type): boolean {
    const file = type.symbol?.declarations?.[0]?.getSourceFile();
    return (
      file !== undefined &&
      (file.hasNoDefaultLib || file.fileName.startsWith('/jexo-lib/') || /[\\/]@types[\\/]node[\\/]/.test(file.fileName))
    );
  }

  return {
    convert,
    takeDefinitions() {
      const taken = Object.keys(definitions).length > 0 ? definitions : undefined;
      definitions = {};
      return taken;
    },
  };
}

/** Adds the path of a nested property to what could not be read. */
function within<T>(step: string, read: () => T): T {
  try {
    return read();
  } catch (error) {
    if (error instanceof Unreadable)
      throw new Unreadable(error.why.startsWith('(') ? `(${step}${error.why.slice(1)}` : `(${step}) ${error.why}`, error.next);
    throw error;
  }
}

/** A description and keywords beside a schema; beside a `$ref` they are allowed since 2019-09. */
export function withDoc(schema: JsonSchema, description: string | undefined, keywords: Readonly<Record<string, unknown>>): JsonSchema {
  const { type, ...others } = keywords;
  return {
    ...schema,
    ...(type === 'integer' && schema.type === 'number' && { type }),
    ...(description !== undefined && { description }),
    ...others,
  };
}
