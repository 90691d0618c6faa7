import type ts from 'typescript';
import type { Compiler } from './compiler.js';

/** The value of an initialiser that is written out; anything computed has none. */
export function literalValue(
  ts: Compiler,
  checker: ts.TypeChecker | undefined,
  node: ts.Expression,
): { readonly value: unknown } | undefined {
  if (ts.isStringLiteralLike(node)) return { value: node.text };
  if (ts.isNumericLiteral(node)) return { value: Number(node.text) };
  if (node.kind === ts.SyntaxKind.TrueKeyword) return { value: true };
  if (node.kind === ts.SyntaxKind.FalseKeyword) return { value: false };
  if (node.kind === ts.SyntaxKind.NullKeyword) return { value: null };
  if (ts.isAsExpression(node) || ts.isSatisfiesExpression(node) || ts.isParenthesizedExpression(node))
    return literalValue(ts, checker, node.expression);
  if (ts.isPrefixUnaryExpression(node) && node.operator === ts.SyntaxKind.MinusToken) {
    const operand = literalValue(ts, checker, node.operand);
    return typeof operand?.value === 'number' ? { value: -operand.value } : undefined;
  }
  if (ts.isArrayLiteralExpression(node)) {
    const items = node.elements.map((element) => literalValue(ts, checker, element));
    return items.every((item) => item !== undefined) ? { value: items.map((item) => item.value) } : undefined;
  }
  if (ts.isNewExpression(node) && node.expression.getText() === 'Date' && node.arguments !== undefined && node.arguments.length > 0) {
    const given = node.arguments.map((argument) => literalValue(ts, checker, argument)?.value as number);
    // A day without a zone means the same everywhere, whichever machine reads it.
    const time = given.length === 1 ? new Date(given[0]!).getTime() : Date.UTC(...(given as [number, number]));
    return Number.isNaN(time) ? undefined : { value: new Date(time).toISOString() };
  }
  if (ts.isObjectLiteralExpression(node)) {
    const entries: [string, unknown][] = [];
    for (const property of node.properties) {
      if (!ts.isPropertyAssignment(property) || !(ts.isIdentifier(property.name) || ts.isStringLiteral(property.name))) return undefined;
      const value = literalValue(ts, checker, property.initializer);
      if (value === undefined) return undefined;
      entries.push([property.name.text, value.value]);
    }
    return { value: Object.fromEntries(entries) };
  }
  if (ts.isPropertyAccessExpression(node) || ts.isElementAccessExpression(node)) {
    // A member of an enum, or of an object of constants, has a type with one value.
    const type = checker?.getTypeAtLocation(node);
    return type !== undefined && (type.isStringLiteral() || type.isNumberLiteral()) ? { value: type.value } : undefined;
  }
  return undefined;
}
