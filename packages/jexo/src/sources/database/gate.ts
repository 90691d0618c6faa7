import { JexoError } from '../../errors.js';
import { nearest } from '../../offers/nearest.js';
import type { Dialect } from './place.js';
import { sqliteModules } from './safe-functions.js';
import { tokensOf, trimmed, type Token } from './sql-text.js';

/** What a statement of somebody unknown may name. */
export interface GateRules {
  readonly dialect: Dialect;
  /** Functions that may be called, in lower case. */
  readonly functions: ReadonlySet<string>;
  /** Names that must not stand in it at all: hidden tables and columns, in lower case. */
  readonly hidden: ReadonlySet<string>;
  /** Names of schemas and databases that may not stand before a table, where tables are replaced by what may be seen of them. */
  readonly schemas: ReadonlySet<string>;
}

/** A statement that passed. */
export interface Passed {
  readonly sql: string;
  readonly tokens: readonly Token[];
  /** Its plan is wanted, not its rows. */
  readonly explain: boolean;
}

const starts = new Set(['select', 'with', 'values', '(', 'table']);
/** Words that write, lock or leave the statement. They stand before the database's own refusal, which has gaps. */
const refusedWords = new Set(
  'insert update delete merge into outfile dumpfile procedure handler call do lock attach detach vacuum pragma reindex analyze copy grant revoke'.split(
    ' ',
  ),
);
/** Words before a parenthesis that are no functions. */
const notFunctions = new Set(
  `and or not in exists any all some as on using over filter within values select from where having by limit offset union intersect except
  case when then else end between like ilike similar is join inner outer cross natural lateral distinct with recursive materialized group
  window array row interval only sets rollup cube collate escape separator div xor regexp rlike left right`.split(/\s+/),
);
/** Names of types that take a length: `cast(x as varchar(10))`, `x::numeric(6, 2)`. */
const types = new Set(
  'varchar char character varying nchar nvarchar text numeric decimal dec number float double real bit varbit timestamp timestamptz time timetz interval datetime binary varbinary blob signed unsigned integer int'.split(
    ' ',
  ),
);

/**
 * Lets one statement through that can do nothing but read: by the words, functions and names in it. The database's own read-only
 * transaction, limits and user come after; each of the three has gaps that another closes.
 *
 * @throws JexoError JEXO_SQL, with what to write instead
 */
export function pass(text: string, rules: GateRules): Passed {
  const all = tokensOf(text, rules.dialect);
  const sql = trimmed(text, all);
  let tokens = all.filter(({ at }) => at < sql.length);
  const explain = tokens[0]?.value === 'explain' && tokens[0].kind === 'word';
  if (explain) tokens = withoutExplain(tokens);
  const [first] = tokens;
  if (first === undefined) refuse('The statement is empty', 'Write one SELECT statement.');
  const separator = tokens.find(({ kind, value }) => kind === 'sign' && value === ';');
  if (separator !== undefined)
    refuse(`Only one statement can be run, and another begins at character ${separator.at + 1}`, 'Send them one by one.');
  if (!starts.has(first!.value) || first!.kind === 'quoted' || first!.kind === 'text')
    refuse(`A statement that begins with ${first!.raw} is not run here: it only reads`, 'Begin with SELECT, WITH or VALUES.');
  checkWords(tokens, rules);
  checkFunctions(tokens, rules);
  checkNames(tokens, rules);
  return { sql: explain ? sql.slice(first!.at) : sql, tokens, explain };
}

function refuse(why: string, next: string, at?: Token): never {
  throw new JexoError('JEXO_SQL', `${why}.`, { ...(at && { where: `character ${at.at + 1}` }), next });
}

function withoutExplain(tokens: readonly Token[]): Token[] {
  const rest = tokens.slice(1);
  if (rest[0]?.value === 'query' && rest[1]?.value === 'plan') return rest.slice(2);
  return rest;
}

function checkWords(tokens: readonly Token[], { dialect }: GateRules): void {
  tokens.forEach((token, index) => {
    const { kind, value, raw } = token;
    const before = tokens[index - 1];
    const isName = before?.value === '.' && before.kind === 'sign';
    if (
      kind === 'word' &&
      !isName &&
      refusedWords.has(value) &&
      !(value === 'insert' && tokens[index + 1]?.value === '(' && dialect === 'mysql')
    )
      refuse(`${raw.toUpperCase()} is not run here: this tool only reads`, 'Write a SELECT statement without it.', token);
    if (kind === 'word' && value === 'for' && /^(?:update|share|no|key|system_time)$/.test(tokens[index + 1]?.value ?? ''))
      refuse('Rows are not locked here', `Remove ${raw.toUpperCase()} ${tokens[index + 1]!.raw.toUpperCase()}.`, token);
    if (dialect === 'mysql' && kind === 'word' && value === 'value' && tokens[index + 1]?.value === 'for')
      refuse('Sequences are not advanced here', 'Write a SELECT statement without it.', token);
    // The second of two adjacent texts is read by the rules of the first.
    if (dialect === 'postgres' && kind === 'text' && before?.kind === 'text')
      refuse('A text is continued by another', 'Join them with ||.', token);
    if (kind === 'parameter') refuse(`The statement has a parameter, ${raw}`, 'Write the value itself.', token);
    if (kind === 'sign' && (value === ':=' || value === '@@' || (value === '@' && dialect !== 'postgres')))
      refuse('Variables are not read or set here', 'Write the value itself.', token);
    if (kind === 'sign' && value.startsWith('/*'))
      refuse('Comments that the database carries out are not run', 'Remove the comment.', token);
    if (value === '\u0000') refuse('Names with Unicode escapes are not read here', 'Write the name itself.', token);
    if (kind === 'sign' && (value === '?' || value === '$') && dialect !== 'postgres')
      refuse(`The statement has a parameter, ${value}`, 'Write the value itself.', token);
    if (kind === 'sign' && value === '.' && !endsName(before)) refuse('A dot stands before a name', 'Write the name alone.', token);
    if (kind === 'sign' && value === '\\') refuse('A backslash stands outside of a text', 'Remove it.', token);
  });
}

const endsName = (token: Token | undefined) =>
  token !== undefined &&
  (token.kind === 'word' || token.kind === 'quoted' || token.value === ')' || token.value === ']' || token.kind === 'text');

/** Places of the names of common table expressions, which may be followed by a list of columns. */
function commonNames(tokens: readonly Token[]): ReadonlySet<number> {
  const found = new Set<number>();
  const after = (open: number): number => {
    let depth = 0;
    for (let index = open; index < tokens.length; index++) {
      const { kind, value } = tokens[index]!;
      if (kind !== 'sign') continue;
      if (value === '(') depth++;
      if (value === ')' && --depth === 0) return index + 1;
    }
    return tokens.length;
  };
  tokens.forEach(({ kind, value }, index) => {
    if (kind !== 'word' || value !== 'with') return;
    let at = index + 1;
    if (tokens[at]?.value === 'recursive') at++;
    for (;;) {
      const name = at;
      at++;
      if (tokens[at]?.value === '(') at = after(at);
      if (tokens[at]?.value !== 'as') return;
      at++;
      if (tokens[at]?.value === 'not') at++;
      if (tokens[at]?.value === 'materialized') at++;
      if (tokens[at]?.value !== '(') return;
      found.add(name);
      at = after(at);
      if (tokens[at]?.value !== ',') return;
      at++;
    }
  });
  return found;
}

function checkFunctions(tokens: readonly Token[], { functions, dialect }: GateRules): void {
  const common = commonNames(tokens);
  tokens.forEach((token, index) => {
    const next = tokens[index + 1];
    if (next?.kind !== 'sign' || next.value !== '(') return;
    const { kind, value, raw } = token;
    if (kind === 'text' && dialect !== 'mysql')
      refuse(`${raw} is called as a function`, 'Write the name of the function without quotes.', token);
    if (kind !== 'word' && kind !== 'quoted') return;
    const name = value.toLowerCase();
    const before = tokens[index - 1];
    const isQualified = before?.kind === 'sign' && before.value === '.';
    if (kind === 'word' && !isQualified && notFunctions.has(name)) return;
    if (common.has(index)) return;
    // `as t (a, b)`, `) t (a, b)` and types name no function.
    if (!isQualified && (before?.value === 'as' || (before?.kind === 'sign' && (before.value === ')' || before.value === '::')))) return;
    if (kind === 'word' && !isQualified && types.has(name)) return;
    if (functions.has(name) && (!isQualified || tokens[index - 2]?.value === 'pg_catalog')) return;
    const like = nearest(name, functions);
    refuse(
      `The function ${raw} is not called here: it is not on the list of functions that only read`,
      like === undefined ? 'Write the statement without it.' : `Write the statement without it; ${like} may be called.`,
      token,
    );
  });
}

/** SQLite takes a text for a name where it expects one. */
const isNameLike = (token: Token | undefined, dialect: Dialect) =>
  token?.kind === 'word' || token?.kind === 'quoted' || (token?.kind === 'text' && dialect === 'sqlite');

function checkNames(tokens: readonly Token[], { dialect, hidden, schemas }: GateRules): void {
  tokens.forEach((token, index) => {
    const { raw } = token;
    if (!isNameLike(token, dialect)) return;
    const name = token.value.toLowerCase();
    const next = tokens[index + 1];
    const isBefore = next?.kind === 'sign' && next.value === '.' && isNameLike(tokens[index + 2], dialect);
    if (hidden.has(name)) refuse(`There is no ${raw} here`, 'Use the tables that the description names.', token);
    if (dialect === 'sqlite' && (sqliteModules.test(name) || /^sqlite_/.test(name)))
      refuse(`${raw} is not read here: it reaches beyond the tables`, 'Use the tables that the description names.', token);
    if (dialect === 'postgres' && (/^pg_(?!catalog$)/.test(name) || name === 'information_schema') && next?.value !== '(')
      refuse(`${raw} is not read here: it belongs to the database itself`, 'Use the tables that the description names.', token);
    if (dialect === 'mysql' && isBefore && /^(?:mysql|information_schema|performance_schema|sys)$/.test(name))
      refuse(`${raw} is not read here: it belongs to the database itself`, 'Use the tables that the description names.', token);
    if (isBefore && schemas.has(name)) refuse(`A schema stands before a table: ${raw}`, 'Write the name of the table alone.', token);
  });
}
