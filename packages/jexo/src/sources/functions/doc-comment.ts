import type ts from 'typescript';
import type { Compiler } from './compiler.js';

/** JSON Schema keywords that may be written as tags, and how their text is read. */
const keywords: Record<string, 'number' | 'text' | 'json' | 'flag'> = {
  minimum: 'number',
  maximum: 'number',
  exclusiveMinimum: 'number',
  exclusiveMaximum: 'number',
  multipleOf: 'number',
  minLength: 'number',
  maxLength: 'number',
  minItems: 'number',
  maxItems: 'number',
  uniqueItems: 'flag',
  pattern: 'text',
  format: 'text',
  title: 'text',
  default: 'json',
  example: 'json',
};
const trailingTag = /\s+@([a-zA-Z]+)(?:[ \t]+([^@]*?))?(?=\s+@[a-zA-Z]+|\s*$)/gs;

export interface Documented {
  readonly description?: string;
  readonly keywords: Readonly<Record<string, unknown>>;
}

function readKeyword(tag: string, text: string): Record<string, unknown> {
  if (tag === 'integer') return { type: 'integer' };
  const kind = keywords[tag];
  if (kind === undefined) return {};
  if (kind === 'flag') return { [tag]: true };
  const value = text.trim();
  if (kind === 'text') return { [tag]: value };
  if (kind === 'number') return Number.isFinite(Number(value)) && value !== '' ? { [tag]: Number(value) } : {};
  const parsed = parseLoosely(value);
  return tag === 'example' ? { examples: [parsed] } : { [tag]: parsed };
}

function parseLoosely(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return text.replaceAll(/^['`]|['`]$/g, ''); // a bare word is a text
  }
}

function merge(into: Record<string, unknown>, more: Record<string, unknown>): void {
  const examples = [...((into.examples as unknown[] | undefined) ?? []), ...((more.examples as unknown[] | undefined) ?? [])];
  Object.assign(into, more, examples.length > 0 && { examples });
}

/** Separates `how many colonies are fed  @minimum 1` into its text and its keywords. */
export function splitText(text: string): Documented {
  const found: Record<string, unknown> = {};
  const description = text.replaceAll(trailingTag, (all, tag: string, value: string | undefined) => {
    if (!(tag in keywords) && tag !== 'integer') return all;
    merge(found, readKeyword(tag, value ?? ''));
    return '';
  });
  const trimmed = description.replace(/^\s*-\s+/, '').trim();
  return { ...(trimmed !== '' && { description: trimmed }), keywords: found };
}

export interface FunctionDoc {
  readonly description?: string;
  readonly parameters: ReadonlyMap<string, Documented>;
  readonly returns?: string;
  readonly tags: ReadonlyMap<string, string>;
  /** The texts of `@example`: a call of the function, or its input as JSON. */
  readonly examples: readonly string[];
}

function textOf(comment: ts.JSDocTag['comment'] | undefined, ts: Compiler): string {
  return withoutLinks(ts.getTextOfJSDocComment(comment) ?? '');
}

/** `{@link Coord|a place}` is read as `a place`. */
function withoutLinks(text: string): string {
  return text.replaceAll(/\{@link(?:code|plain)?\s+([^}|\s]+)\s*\|?\s*([^}]*)\}/g, (_all, to: string, shown: string) => shown.trim() || to);
}

/**
 * Reads the comment above a function. A keyword on a line of its own belongs to the `@param` before it; a title or an
 * example that calls the function is the function's own.
 */
export function readFunctionDoc(node: ts.Node, ts: Compiler): FunctionDoc {
  const comments = ts.getJSDocCommentsAndTags(node).filter((part): part is ts.JSDoc => ts.isJSDoc(part));
  const comment = comments.at(-1);
  const parameters = new Map<string, { description?: string; keywords: Record<string, unknown> }>();
  const tags = new Map<string, string>();
  const examples: string[] = [];
  let returns: string | undefined;
  let current: { description?: string; keywords: Record<string, unknown> } | undefined;
  for (const tag of comment?.tags ?? []) {
    const name = tag.tagName.text;
    const text = textOf(tag.comment, ts);
    if (ts.isJSDocParameterTag(tag)) {
      const split = splitText(` ${text}`);
      current = { ...split, keywords: { ...split.keywords } };
      parameters.set(tag.name.getText(), current);
    } else if (name === 'returns' || name === 'return') {
      returns = splitText(text).description;
      current = undefined;
    } else if (name === 'example' && (current === undefined || /^(?:```|<caption>|[\w.]+\()/.test(text.trim()))) {
      examples.push(text.trim());
    } else if (current !== undefined && name !== 'title' && (name in keywords || name === 'integer')) {
      merge(current.keywords, readKeyword(name, text));
    } else {
      // `@resource` and its like name something with a slash or braces in it, which the compiler takes for a part of the tag.
      tags.set(name, text.trim());
    }
  }
  const description = textOf(comment?.comment, ts).trim() || ownDescription(tags);
  return { ...(description !== '' && { description }), parameters, ...(returns !== undefined && { returns }), tags, examples };
}

/** Comments that use tags for everything: the summary, where the description is a page. */
function ownDescription(tags: ReadonlyMap<string, string>): string {
  const description = tags.get('description') ?? '';
  const summary = tags.get('summary') ?? '';
  return description === '' || (summary !== '' && description.length > 400) ? summary : description;
}

/** Reads the comment of a property of a type. */
export function readPropertyDoc(symbol: ts.Symbol, checker: ts.TypeChecker, ts: Compiler): Documented {
  const text = ts.displayPartsToString(symbol.getDocumentationComment(checker));
  const split = splitText(` ${withoutLinks(text)}`);
  const found = { ...split.keywords };
  for (const tag of symbol.getJsDocTags(checker)) merge(found, readKeyword(tag.name, ts.displayPartsToString(tag.text)));
  return { ...(split.description !== undefined && { description: split.description }), keywords: found };
}
