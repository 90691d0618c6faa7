import type ts from 'typescript';
import type { TypeConverter } from './type-converter.js';

/** What fits a template literal, as a regular expression. */
export function templatePattern(c: TypeConverter, type: ts.TemplateLiteralType): string {
  const quote = (part: string) => part.replaceAll(/[.*+?^${}()|[\]\\/]/g, String.raw`\$&`);
  const hole = (part: ts.Type): string => {
    if (c.has(part, c.ts.TypeFlags.NumberLike)) return String.raw`-?\d+(?:\.\d+)?`;
    if (part.isUnion()) return `(?:${part.types.map(hole).join('|')})`;
    if (c.has(part, c.ts.TypeFlags.StringLiteral)) return quote((part as ts.StringLiteralType).value);
    return '.*';
  };
  return `^${type.texts.map((part, index) => quote(part) + (index < type.types.length ? hole(type.types[index]!) : '')).join('')}$`;
}
