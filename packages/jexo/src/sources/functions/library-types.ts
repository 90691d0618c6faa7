import type ts from 'typescript';
import type { JsonSchema } from '../../protocol/json-schema.js';
import { Unreadable, type Converted } from './converted.js';
import { isLibraryFile } from './program.js';
import type { TypeConverter } from './type-converter.js';

const numberLists = /^(?:Int8|Uint8Clamped|Int16|Uint16|Int32|Uint32|Float16|Float32|Float64)Array$/;
const lists = /^(?:Iterable|ArrayLike|Generator|Iterator|IterableIterator|IteratorObject|ArrayIterator|SetIterator|MapIterator)$/;
export const asyncLists = /^(?:AsyncIterable|AsyncGenerator|AsyncIterator|AsyncIterableIterator|AsyncIteratorObject)$/;
const errors = /^(?:Error|\w+Error)$/;

export function convertLibraryType(c: TypeConverter, type: ts.Type, name: string): Converted | undefined {
  const args = (type as ts.TypeReference).target === undefined ? [] : c.checker.getTypeArguments(type as ts.TypeReference);
  const base64: JsonSchema = { type: 'string', contentEncoding: 'base64' };
  switch (name) {
    case 'Date':
      return c.direction === 'out'
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
      const properties: Record<string, JsonSchema> = {
        data: base64,
        mimeType: { type: 'string' },
        ...(name === 'File' && { name: { type: 'string' } }),
      };
      return {
        schema: { type: 'object', properties, required: name === 'File' ? ['data', 'name'] : ['data'] },
        revive: { to: name === 'File' ? 'file' : 'blob' },
      };
    }
    case 'Set':
    case 'ReadonlySet': {
      const item = c.convertItem(args[0]!);
      return {
        schema: { type: 'array', items: item.schema, uniqueItems: true },
        revive: { to: 'set', ...(item.revive && { item: item.revive }) },
      };
    }
    case 'Map':
    case 'ReadonlyMap':
      return convertMap(c, args[0]!, args[1]!);
  }
  if (numberLists.test(name)) return { schema: { type: 'array', items: { type: 'number' } }, revive: { to: 'numbers', of: name } };
  if (lists.test(name)) return c.listOf(args[0]!);
  if (asyncLists.test(name)) {
    const { schema, revive } = c.convertItem(args[0]!);
    return { schema: { type: 'array', items: schema }, revive: { to: 'async-list', ...(revive && { item: revive }) } };
  }
  if (errors.test(name) && c.direction === 'out')
    return {
      schema: { type: 'object', properties: { name: { type: 'string' }, message: { type: 'string' } }, required: ['name', 'message'] },
    };
  const behaves = c.checker.getPropertiesOfType(type).some(({ flags }) => (flags & c.ts.SymbolFlags.Method) !== 0);
  if (behaves) throw new Unreadable(`has the type ${c.text(type)}, which JSON cannot carry`, 'Take or give a plain value instead.');
  return undefined;
}

function convertMap(c: TypeConverter, key: ts.Type, item: ts.Type): Converted {
  const all = (flags: number) => c.has(key, flags) || (key.isUnion() && key.types.every((part) => c.has(part, flags)));
  const numberKeys = all(c.ts.TypeFlags.NumberLike);
  if (!numberKeys && !all(c.ts.TypeFlags.StringLike) && !c.has(key, c.ts.TypeFlags.Any | c.ts.TypeFlags.TypeParameter)) {
    throw new Unreadable(
      'is a Map whose keys are neither strings nor numbers, and JSON objects have no other keys',
      'Take a Map with string keys, or a list of pairs.',
    );
  }
  const value = c.convert(item);
  return {
    schema: { type: 'object', additionalProperties: value.schema },
    revive: { to: 'map', ...(numberKeys && { numberKeys }), ...(value.revive && { value: value.revive }) },
  };
}

export function isFromLibrary(type: ts.Type): boolean {
  const file = type.symbol?.declarations?.[0]?.getSourceFile();
  return file !== undefined && isLibraryFile(file);
}
