import { JexoError } from '../../errors.js';
import type { Dialect } from './place.js';

/** One piece of a statement. Comments and white space are none. */
export interface Token {
  readonly kind: 'word' | 'quoted' | 'text' | 'number' | 'parameter' | 'sign';
  /** As it is written. */
  readonly raw: string;
  /** What it names or holds: quotes removed, words in lower case. */
  readonly value: string;
  readonly at: number;
}

interface Rule {
  readonly kind: Token['kind'] | 'space';
  readonly pattern: RegExp;
  readonly value?: (raw: string) => string;
}

const lower = (raw: string) => raw.toLowerCase();
const unquote = (raw: string) => raw.slice(1, -1).replaceAll(raw[0]! + raw[0]!, raw[0]!);
const space: Rule = { kind: 'space', pattern: /[ \t\n\r\f\v]+/y };
const lineComment: Rule = { kind: 'space', pattern: /--[^\n]*/y };
const blockComment: Rule = { kind: 'space', pattern: /\/\*[\s\S]*?\*\//y };
/** Every character beyond ASCII belongs to a name, white space too: all three databases read them so. */
const word: Rule = { kind: 'word', pattern: /[A-Za-z_\u0080-\uffff][\w$\u0080-\uffff]*/y, value: lower };
const number: Rule = { kind: 'number', pattern: /(?:0x[0-9a-f]+|\d[\d_]*(?:\.\d*)?(?:e[+-]?\d+)?|\.\d+(?:e[+-]?\d+)?)/iy };
const parameter: Rule = { kind: 'parameter', pattern: /:[A-Za-z_]\w*/y, value: (raw) => raw.slice(1) };
const doubleQuoted: Rule = { kind: 'quoted', pattern: /"(?:[^"]|"")*"/y, value: unquote };
const backticked: Rule = { kind: 'quoted', pattern: /`(?:[^`]|``)*`/y, value: unquote };
const plainText: Rule = { kind: 'text', pattern: /'(?:[^']|'')*'/y, value: unquote };
const sign: Rule = { kind: 'sign', pattern: /::|:=|<=>|->>|->|<=|>=|<>|!=|\|\||@@|[^\w]/y };

const rules: Readonly<Record<Dialect, readonly Rule[]>> = {
  sqlite: [
    space,
    lineComment,
    // A comment that is not closed ends with the text.
    { kind: 'space', pattern: /\/\*[\s\S]*?(?:\*\/|$)/y },
    plainText,
    doubleQuoted,
    backticked,
    { kind: 'quoted', pattern: /\[[^\]]*\]/y, value: (raw) => raw.slice(1, -1) },
    { kind: 'text', pattern: /x'[0-9a-f]*'/iy },
    number,
    word,
    parameter,
    sign,
  ],
  postgres: [
    space,
    lineComment,
    blockComment,
    // Texts with escapes, of bits, of Unicode escapes; and dollar-quoted ones.
    { kind: 'text', pattern: /e'(?:[^'\\]|''|\\[\s\S])*'/iy },
    { kind: 'text', pattern: /(?:[bxn]|u&)'(?:[^']|'')*'/iy },
    { kind: 'quoted', pattern: /u&"(?:[^"]|"")*"/iy, value: () => '\u0000' },
    plainText,
    doubleQuoted,
    { kind: 'text', pattern: /\$((?:[A-Za-z_\u0080-\uffff][\w\u0080-\uffff]*)?)\$[\s\S]*?\$\1\$/y },
    number,
    word,
    { kind: 'sign', pattern: /::/y },
    parameter,
    sign,
  ],
  mysql: [
    space,
    // Two dashes begin a comment only before white space.
    { kind: 'space', pattern: /--(?=[\u0000- ]|$)[^\n]*/y },
    { kind: 'space', pattern: /#[^\n]*/y },
    // What a comment with ! or + holds is carried out.
    { kind: 'sign', pattern: /\/\*(?:!|M!|\+)/iy },
    blockComment,
    { kind: 'text', pattern: /(?:[nbx])?'(?:[^'\\]|''|\\[\s\S])*'/iy, value: (raw) => raw.replace(/^[^']*'/, '').slice(0, -1) },
    // Without ANSI_QUOTES a double-quoted piece is a text.
    { kind: 'text', pattern: /"(?:[^"\\]|""|\\[\s\S])*"/y, value: (raw) => raw.slice(1, -1) },
    backticked,
    number,
    word,
    { kind: 'sign', pattern: /:=/y },
    parameter,
    sign,
  ],
};

/**
 * Reads a statement as the database would: quotes, comments and signs of its own dialect.
 * @throws JexoError JEXO_SQL for a text or a comment that is not closed, and for what databases read differently
 */
export function tokensOf(sql: string, dialect: Dialect): Token[] {
  const found: Token[] = [];
  for (let at = 0; at < sql.length;) {
    const [rule, raw] = match(sql, at, dialect);
    const why = unreadable(raw, sql, at, dialect);
    if (why !== undefined)
      throw new JexoError('JEXO_SQL', `${why} at character ${at + 1}.`, {
        where: `character ${at + 1}`,
        next: 'Correct it, and send the statement again.',
      });
    if (rule.kind !== 'space') found.push({ kind: rule.kind, raw, value: rule.value?.(raw) ?? raw, at });
    at += raw.length;
  }
  return found;
}

function unreadable(raw: string, sql: string, at: number, dialect: Dialect): string | undefined {
  if (raw === '\u0000') return 'A NUL character stands';
  if (raw === '/' && sql[at + 1] === '*') return 'A comment that is not closed begins';
  if (raw === "'" || raw === '"' || raw === '`' || (raw === '[' && dialect === 'sqlite')) return 'A quoted piece that is not closed begins';
  if (raw === '$' && dialect === 'postgres' && /^\$\w*\$/.test(sql.slice(at, at + 70))) return 'A text that is not closed begins';
  // PostgreSQL nests comments and the others do not.
  if (raw.startsWith('/*') && raw.includes('/*', 2)) return 'A comment inside a comment begins';
  // PostgreSQL ends a comment at a carriage return, the others go on to the end of the line.
  if (/^(?:--|#)/.test(raw) && /\r(?!$)/.test(raw)) return 'A comment with a carriage return in it begins';
  return undefined;
}

function match(sql: string, at: number, dialect: Dialect): readonly [Rule, string] {
  for (const rule of rules[dialect]) {
    rule.pattern.lastIndex = at;
    const raw = rule.pattern.exec(sql)?.[0];
    if (raw !== undefined && raw !== '') return [rule, raw];
  }
  return [sign, sql[at]!];
}

/** A statement with `:name` in it, as its driver wants it. */
export interface Prepared {
  readonly sql: string;
  /** The names in the order of their placeholders. */
  readonly order: readonly string[];
}

/**
 * Replaces each `:name` by a placeholder of the driver; a list is expanded to one for each entry.
 *
 * @param lengths how many entries each list has, by its name
 */
export function withPlaceholders(
  sql: string,
  tokens: readonly Token[],
  dialect: Dialect,
  lengths: Readonly<Record<string, number>> = {},
): Prepared {
  const order: string[] = [];
  const numbers = new Map<string, number>();
  let text = '';
  let last = 0;
  for (const { kind, raw, value, at } of tokens) {
    if (kind !== 'parameter') continue;
    const count = lengths[value];
    const places = Array.from({ length: count ?? 1 }, (_, index) => {
      const name = count === undefined ? value : `${value}[${index}]`;
      if (dialect !== 'postgres') {
        order.push(name);
        return '?';
      }
      let number = numbers.get(name);
      if (number === undefined) numbers.set(name, (number = order.push(name)));
      return `$${number}`;
    });
    // `in (:hives)` without entries is true of nothing.
    text += sql.slice(last, at) + (count === 0 ? 'null' : places.join(', '));
    last = at + raw.length;
  }
  return { sql: text + sql.slice(last), order };
}

/** True when the statement bounds its own rows: LIMIT or FETCH outside any parentheses. */
export function hasLimit(tokens: readonly Token[]): boolean {
  let depth = 0;
  for (const { kind, value } of tokens) {
    if (value === '(' && kind === 'sign') depth++;
    else if (value === ')' && kind === 'sign') depth--;
    else if (depth === 0 && kind === 'word' && (value === 'limit' || value === 'fetch')) return true;
  }
  return false;
}

/** The statement without a semicolon at its end. */
export function trimmed(sql: string, tokens: readonly Token[]): string {
  const last = tokens.findLast(({ value, kind }) => !(kind === 'sign' && value === ';'));
  return last === undefined ? '' : sql.slice(0, last.at + last.raw.length);
}
