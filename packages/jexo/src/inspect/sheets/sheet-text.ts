import { LineCounter, parseDocument, type Document } from 'yaml';
import { JexoError } from '../../errors.js';
import { compileSchema } from '../../offers/schema.js';
import type { JsonSchema } from '../../protocol/types.js';
import { parsePath } from '../value-path.js';

/** What is wrong in a sheet, by line. */
export interface SheetIssue {
  readonly line: number;
  readonly message: string;
}

export interface SheetText {
  readonly document: Document;
  readonly value: Record<string, unknown>;
  /** The line, from 1, on which the value at a path begins. */
  lineOf(path: readonly (string | number)[]): number;
}

/**
 * Reads a sheet's text, YAML or JSON, and checks it by the schema.
 * @throws JexoError JEXO_SHEET, with every line that is wrong in `data`
 */
export async function readSheetText(text: string, file: string, schema: JsonSchema): Promise<SheetText> {
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines, prettyErrors: false });
  const [broken] = document.errors;
  if (broken !== undefined) throw sheetError(file, [{ line: lines.linePos(broken.pos[0]).line, message: broken.message }]);
  const lineOf = (path: readonly (string | number)[]): number => {
    for (let length = path.length; length >= 0; length--) {
      const node =
        length === 0
          ? document.contents
          : (document.getIn(path.slice(0, length), true) as { range?: [number, number, number] } | undefined);
      if (node?.range) return lines.linePos(node.range[0]).line;
    }
    return 1;
  };
  const value: unknown = document.toJS();
  const checked = await compileSchema(schema, 'input', file).check(structuredClone(value));
  if (!checked.ok)
    throw sheetError(
      file,
      checked.issues.map(({ path, expected, got }) => ({
        line: lineOf(parsePath(path).filter((step) => typeof step !== 'symbol')),
        message: `${path === '' ? 'the sheet' : path}: ${expected}; got ${got}`,
      })),
    );
  return { document, value: value as Record<string, unknown>, lineOf };
}

/** Every line that is wrong, in one error. */
export function sheetError(file: string, issues: readonly SheetIssue[]): JexoError {
  return new JexoError('JEXO_SHEET', issues.map(({ line, message }) => `${file}:${line}: ${message}`).join('\n'), {
    where: `${file}:${issues[0]?.line ?? 1}`,
    data: { issues },
  });
}

/** True when a text holds another, or matches a pattern written as `/…/flags`. */
export function says(text: string, wanted: string): boolean {
  const pattern = patternOf(wanted);
  return pattern === undefined ? text.includes(wanted) : pattern.test(text);
}

/** The pattern a text written as `/…/flags` stands for. @throws SyntaxError when it cannot be read */
export function patternOf(text: string): RegExp | undefined {
  const [, source, flags] = /^\/(.+)\/([imsu]*)$/s.exec(text) ?? [];
  return source === undefined ? undefined : new RegExp(source, flags);
}
