/** RFC 6570 URI templates: expansion to level 4, and matching for the forms used in resource templates. */

export type TemplateValue =
  | string
  | number
  | boolean
  | null
  | undefined
  | readonly (string | number | boolean)[]
  | Readonly<Record<string, string | number | boolean>>;

interface Variable {
  readonly name: string;
  readonly explode: boolean;
  readonly prefix: number | undefined;
}
interface Expression {
  readonly operator: string;
  readonly variables: readonly Variable[];
}
type Part = string | Expression;

/** A parsed URI template (RFC 6570). */
export interface UriTemplate {
  readonly text: string;
  /** The names of its variables, each once, in order. */
  readonly variables: readonly string[];
  expand(values: Readonly<Record<string, TemplateValue>>): string;
  /** The values by which the URI could have been made; undefined when it could not. Exploded variables give lists. */
  match(uri: string): Record<string, string | string[]> | undefined;
}

/** How an operator joins and names its variables (RFC 6570, appendix A). */
interface Rule {
  readonly first: string;
  readonly separator: string;
  readonly named: boolean;
  readonly ifEmpty: string;
  readonly reserved: boolean;
}
const rules: Readonly<Record<string, Rule>> = {
  '': { first: '', separator: ',', named: false, ifEmpty: '', reserved: false },
  '+': { first: '', separator: ',', named: false, ifEmpty: '', reserved: true },
  '#': { first: '#', separator: ',', named: false, ifEmpty: '', reserved: true },
  '.': { first: '.', separator: '.', named: false, ifEmpty: '', reserved: false },
  '/': { first: '/', separator: '/', named: false, ifEmpty: '', reserved: false },
  ';': { first: ';', separator: ';', named: true, ifEmpty: '', reserved: false },
  '?': { first: '?', separator: '&', named: true, ifEmpty: '=', reserved: false },
  '&': { first: '&', separator: '&', named: true, ifEmpty: '=', reserved: false },
};

/**
 * Reads a template.
 * @throws Error naming what is wrong and where, for text that is no template
 */
export function parseTemplate(text: string): UriTemplate {
  const parts = readParts(text);
  const variables = [...new Set(parts.flatMap((part) => (typeof part === 'string' ? [] : part.variables.map(({ name }) => name))))];
  let matcher: ReturnType<typeof compileMatcher> | undefined;
  return {
    text,
    variables,
    expand: (values) => parts.map((part) => (typeof part === 'string' ? encodeLiteral(part) : expandExpression(part, values))).join(''),
    match: (uri) => (matcher ??= compileMatcher(parts))(uri),
  };
}

function readParts(text: string): Part[] {
  const parts: Part[] = [];
  let at = 0;
  while (at < text.length) {
    const open = text.indexOf('{', at);
    const stray = text.indexOf('}', at);
    if (stray >= 0 && (open < 0 || stray < open)) throw new Error(`The template ${text} has a } at ${stray + 1} that closes nothing.`);
    if (open < 0) {
      parts.push(text.slice(at));
      break;
    }
    if (open > at) parts.push(text.slice(at, open));
    const close = text.indexOf('}', open);
    if (close < 0) throw new Error(`The template ${text} has a { at ${open + 1} that is never closed.`);
    parts.push(readExpression(text.slice(open + 1, close), text));
    at = close + 1;
  }
  return parts;
}

function readExpression(inner: string, text: string): Expression {
  const operator = /^[+#./;?&]/.exec(inner)?.[0] ?? '';
  const variables = inner.slice(operator.length).split(',');
  return {
    operator,
    variables: variables.map((variable) => {
      const found = /^((?:\w|%[0-9A-Fa-f]{2})(?:\.?(?:\w|%[0-9A-Fa-f]{2}))*)(?:(\*)|:([1-9]\d{0,3}))?$/.exec(variable);
      if (found === null) throw new Error(`The template ${text} has ${JSON.stringify(variable)} where the name of a variable is wanted.`);
      return { name: found[1]!, explode: found[2] !== undefined, prefix: found[3] === undefined ? undefined : Number(found[3]) };
    }),
  };
}

const percent = (character: string) =>
  [...new TextEncoder().encode(character)].map((byte) => `%${byte.toString(16).toUpperCase().padStart(2, '0')}`).join('');

function encodeValue(text: string, reserved: boolean): string {
  const kept = reserved ? /%[0-9A-Fa-f]{2}|[A-Za-z0-9\-._~:/?#[\]@!$&'()*+,;=]/uy : /[A-Za-z0-9\-._~]/uy;
  let encoded = '';
  for (let at = 0; at < text.length;) {
    kept.lastIndex = at;
    const found = kept.exec(text)?.[0];
    const next = found ?? String.fromCodePoint(text.codePointAt(at)!);
    encoded += found ?? percent(next);
    at += next.length;
  }
  return encoded;
}

function encodeLiteral(text: string): string {
  return encodeValue(text, true);
}

function expandExpression({ operator, variables }: Expression, values: Readonly<Record<string, TemplateValue>>): string {
  const rule = rules[operator]!;
  const encode = (value: unknown) => encodeValue(String(value), rule.reserved);
  const named = (name: string, value: string) => (rule.named ? (value === '' ? `${name}${rule.ifEmpty}` : `${name}=${value}`) : value);
  const found: string[] = [];
  for (const { name, explode, prefix } of variables) {
    const value = Object.hasOwn(values, name) ? values[name] : undefined;
    if (value === undefined || value === null) continue;
    if (Array.isArray(value)) {
      if (value.length === 0) continue;
      if (explode) found.push(...value.map((item) => named(name, encode(item))));
      else found.push(named(name, value.map(encode).join(',')));
    } else if (typeof value === 'object') {
      const entries = Object.entries(value);
      if (entries.length === 0) continue;
      if (explode)
        found.push(
          ...entries.map(([key, item]) =>
            rule.named && String(item) === '' ? `${encode(key)}${rule.ifEmpty}` : `${encode(key)}=${encode(item)}`,
          ),
        );
      else found.push(named(name, entries.flatMap(([key, item]) => [encode(key), encode(item)]).join(',')));
    } else {
      const text = String(value);
      found.push(named(name, encode(prefix === undefined ? text : [...text].slice(0, prefix).join(''))));
    }
  }
  return found.length === 0 ? '' : rule.first + found.join(rule.separator);
}

/** Characters a URI may have to be matched: matching takes time in proportion to them. */
const mostUriCharacters = 8192;

/** A piece of a URI: a text; or characters of a kind, after a mark that may be missing with all of them. */
type Piece =
  | { readonly literal: string }
  | { readonly mark: string; readonly allows: RegExp; readonly isGreedy: boolean; readonly expression: number };

/** What one expression may have produced. */
function piecesOf({ operator, variables }: Expression, expression: number, isLast: boolean): Piece[] {
  const isExploded = variables.some(({ explode }) => explode);
  const piece = (mark: string, allows: RegExp, isGreedy = true): Piece => ({ mark, allows, isGreedy, expression });
  const several = (one: Piece) => variables.map(() => one);
  switch (operator) {
    case '+':
      return [piece('', /./s, isLast)];
    case '#':
      return [piece('#', /./s, isLast)];
    case '/':
      return isExploded ? [piece('/', /[^?#]/, isLast)] : several(piece('/', /[^/?#]/));
    case '.':
      return isExploded ? [piece('.', /[^/?#]/, isLast)] : several(piece('.', /[^/?#.]/));
    case ';':
      return [piece(';', /[^/?#]/)];
    case '?':
      return [piece('?', /[^#]/)];
    case '&':
      return [piece('&', /[^#]/)];
    default:
      return [piece('', isExploded || variables.length > 1 ? /[^/?#]/ : /[^/?#,]/)];
  }
}

/**
 * Matches in time linear in the URI, whatever the template: from the end it is noted where the rest of the pieces fits, and then the
 * URI is walked once.
 */
function compileMatcher(parts: readonly Part[]): (uri: string) => Record<string, string | string[]> | undefined {
  const expressions = parts.filter((part) => typeof part !== 'string');
  let at = 0;
  const pieces = parts.flatMap((part, index) =>
    typeof part === 'string' ? [{ literal: encodeLiteral(part) }] : piecesOf(part, at++, index === parts.length - 1),
  );
  const [first] = pieces;
  return (uri) => {
    if (uri.length > mostUriCharacters) return undefined;
    if (first !== undefined && 'literal' in first && !uri.startsWith(first.literal)) return undefined;
    const groups = walk(uri, pieces, expressions.length);
    if (groups === undefined) return undefined;
    const values: Record<string, string | string[]> = {};
    for (const [index, expression] of expressions.entries()) if (!readGroup(expression, groups[index]!, values)) return undefined;
    return values;
  };
}

/** What each expression stands for in a URI; undefined when it does not fit. */
function walk(uri: string, pieces: readonly Piece[], expressions: number): string[] | undefined {
  const end = uri.length;
  // fits[i][at]: from `at`, pieces i and on fit to the end; within[i][at]: the same from inside the characters of piece i.
  const fits = Array.from({ length: pieces.length + 1 }, () => new Uint8Array(end + 1));
  const within = pieces.map(() => new Uint8Array(end + 2));
  fits[pieces.length]![end] = 1;
  for (let index = pieces.length - 1; index >= 0; index--) {
    const piece = pieces[index]!;
    const [own, next, inside] = [fits[index]!, fits[index + 1]!, within[index]!] as const;
    for (let at = end; at >= 0; at--) {
      if ('literal' in piece) {
        own[at] = uri.startsWith(piece.literal, at) ? (next[at + piece.literal.length] ?? 0) : 0;
        continue;
      }
      inside[at] = next[at]! || (at < end && piece.allows.test(uri[at]!) ? inside[at + 1]! : 0);
      own[at] = piece.mark === '' ? inside[at]! : next[at]! || (uri[at] === piece.mark ? inside[at + 1]! : 0);
    }
  }
  if (fits[0]![0] === 0) return undefined;
  const groups = Array.from({ length: expressions }, () => '');
  let at = 0;
  for (const [index, piece] of pieces.entries()) {
    if ('literal' in piece) {
      at += piece.literal.length;
      continue;
    }
    const start = at;
    const [next, inside] = [fits[index + 1]!, within[index]!];
    if (piece.mark !== '') {
      const canEnter = uri[at] === piece.mark && inside[at + 1] === 1;
      if (!canEnter || (!piece.isGreedy && next[at] === 1)) continue;
      at++;
    }
    while (at < end && inside[at + 1] === 1 && piece.allows.test(uri[at]!) && (piece.isGreedy || next[at] === 0)) at++;
    groups[piece.expression] += uri.slice(start, at);
  }
  return groups;
}

/** Takes one group apart into its variables; false when it cannot be theirs. */
function readGroup({ operator, variables }: Expression, group: string, values: Record<string, string | string[]>): boolean {
  const { first, separator, named } = rules[operator]!;
  const put = (name: string, value: string | string[]) => {
    Object.defineProperty(values, name, { value, enumerable: true, configurable: true, writable: true });
    return true;
  };
  const decode = (text: string) => {
    try {
      return decodeURIComponent(text);
    } catch {
      return text; // a lone percent sign is what was sent
    }
  };
  if (group === '') return first !== '' || variables.length > 1 ? true : put(variables[0]!.name, variables[0]!.explode ? [] : '');
  const body = group.slice(first.length);
  if (named) {
    for (const pair of body.split(separator)) {
      const at = pair.indexOf('=');
      const key = decode(at < 0 ? pair : pair.slice(0, at));
      const variable = variables.find(({ name }) => name === key);
      if (variable === undefined) continue; // a query may hold more than the template asks for
      const value = decode(at < 0 ? '' : pair.slice(at + 1));
      if (variable.explode) put(key, [...((values[key] as string[] | undefined) ?? []), value]);
      else put(key, value);
    }
    return true;
  }
  if (variables.length === 1) {
    const [{ name, explode }] = variables as [Variable];
    return put(name, explode ? body.split(separator).map(decode) : decode(body));
  }
  const pieces = body.split(separator);
  if (pieces.length > variables.length) return false;
  return pieces.every((piece, index) => put(variables[index]!.name, decode(piece)));
}
