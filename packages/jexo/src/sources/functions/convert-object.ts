import type ts from 'typescript';
import type { JsonSchema } from '../../protocol/json-schema.js';
import { Unreadable, type Converted } from './converted.js';
import { readPropertyDoc } from './doc-comment.js';
import { convertLibraryType, isFromLibrary } from './library-types.js';
import type { Revive } from './shape.js';
import { templatePattern } from './template-pattern.js';
import type { TypeConverter } from './type-converter.js';
import { withDoc } from './with-doc.js';

export function convertObject(c: TypeConverter, type: ts.Type): Converted {
  if (type.getCallSignatures().length > 0)
    throw c.direction === 'out'
      ? new Unreadable('is a function, which cannot be sent', 'Wrap it in a function that calls it and gives the result.')
      : new Unreadable(
          'is a callback, and a caller cannot send a function',
          'Write a schema for it with tool(), leave it out, or wrap it in a function without the callback.',
        );
  if (c.checker.isTupleType(type)) return c.once(type, 'array', () => convertTuple(c, type as ts.TypeReference));
  if (c.checker.isArrayType(type)) return c.once(type, 'array', () => c.listOf(c.checker.getTypeArguments(type as ts.TypeReference)[0]!));
  const known = isFromLibrary(type) ? convertLibraryType(c, type, type.symbol.getName()) : undefined;
  return known ?? convertOwnJson(c, type) ?? c.once(type, 'object', () => convertFields(c, type));
}

/** A class that says how it is written as JSON is described by what that gives. */
function convertOwnJson(c: TypeConverter, type: ts.Type): Converted | undefined {
  const own = c.direction === 'out' ? type.getProperty('toJSON') : undefined;
  const signature = own && c.checker.getTypeOfSymbolAtLocation(own, c.at).getCallSignatures()[0];
  return signature && c.convert(signature.getReturnType());
}

function convertTuple(c: TypeConverter, type: ts.TypeReference): Converted {
  const target = type.target as ts.TupleType;
  const items = c.checker.getTypeArguments(type).map((part) => c.convertItem(part));
  const restAt = target.elementFlags.findIndex((flag) => (flag & c.ts.ElementFlags.Variable) !== 0);
  if (restAt >= 0 && restAt !== items.length - 1)
    throw new Unreadable(`has the type ${c.text(type)}, whose rest is not at the end`, 'Put the rest at the end, or take a list.');
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

function convertFields(c: TypeConverter, type: ts.Type): Converted {
  const properties: Record<string, JsonSchema> = {};
  const revived: Record<string, Revive> = {};
  const required: string[] = [];
  let methods = 0;
  const isInstance = ((type.symbol?.flags ?? 0) & c.ts.SymbolFlags.Class) !== 0;
  for (const property of c.checker.getPropertiesOfType(type)) {
    const key = property.getName();
    if (!isData(c, property)) continue;
    const propertyType = c.checker.getTypeOfSymbolAtLocation(property, c.at);
    const optional = (property.flags & c.ts.SymbolFlags.Optional) !== 0 || c.mayBeUndefined(propertyType);
    // What cannot be called from outside is left behind when it leaves, and cannot be made up when it arrives.
    if (c.direction === 'out' && c.checker.getNonNullableType(propertyType).getCallSignatures().length > 0) {
      methods++;
      continue;
    }
    // Of options that need not be given, one that cannot be sent is omitted; an instance without a method is none.
    const isSpare = optional || (!c.isNeeded && c.path.length === 0 && !isInstance);
    const found = c.attempt(`.${key}`, isSpare, () => c.convert(propertyType));
    if (found === undefined) continue;
    const doc = readPropertyDoc(property, c.checker, c.ts);
    properties[key] = withDoc(found.schema, doc.description, doc.keywords);
    if (found.revive) revived[key] = found.revive;
    if (!optional) required.push(key);
  }
  const patterns: Record<string, JsonSchema> = {};
  let rest: Converted | undefined;
  for (const index of c.checker.getIndexInfosOfType(type)) {
    const found = c.convert(index.type);
    if (c.has(index.keyType, c.ts.TypeFlags.TemplateLiteral))
      patterns[templatePattern(c, index.keyType as ts.TemplateLiteralType)] = found.schema;
    else if (!c.has(index.keyType, c.ts.TypeFlags.ESSymbolLike)) rest = found;
  }
  const hasPatterns = Object.keys(patterns).length > 0;
  if (c.direction === 'out' && methods > 0 && Object.keys(properties).length === 0 && rest === undefined && !hasPatterns)
    throw new Unreadable(`is ${c.text(type)}, which has methods but no data`, 'Return the values themselves, or give it a toJSON method.');
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
function isData(c: TypeConverter, property: ts.Symbol): boolean {
  const key = property.getName();
  if (key.startsWith('__@') || key.startsWith('#')) return false;
  const declaration = property.valueDeclaration ?? property.declarations?.[0];
  if (declaration === undefined) return true;
  if ((c.ts.getCombinedModifierFlags(declaration) & (c.ts.ModifierFlags.Private | c.ts.ModifierFlags.Protected)) !== 0) return false;
  return !(c.ts.isAccessor(declaration) && c.ts.isClassLike(declaration.parent));
}
