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

/** What one expression may have produced, as a pattern with one group. */
function patternOf({ operator, variables }: Expression, isLast: boolean): string {
  const rest = isLast ? '' : '?';
  const exploded = variables.some(({ explode }) => explode);
  switch (operator) {
    case '+':
      return `(.*${rest})`;
    case '#':
      return `((?:#.*${rest})?)`;
    case '/':
      return exploded ? String.raw`((?:\/[^?#]*${rest})?)` : String.raw`((?:\/[^/?#]*){0,${variables.length}})`;
    case '.':
      return exploded ? String.raw`((?:\.[^/?#]*${rest})?)` : String.raw`((?:\.[^/?#.]*){0,${variables.length}})`;
    case ';':
      return String.raw`((?:;[^/?#]*)?)`;
    case '?':
      return String.raw`((?:\?[^#]*)?)`;
    case '&':
      return '((?:&[^#]*)?)';
    default:
      return exploded || variables.length > 1 ? '([^/?#]*)' : '([^/?#,]*)';
  }
}

function compileMatcher(parts: readonly Part[]): (uri: string) => Record<string, string | string[]> | undefined {
  const quote = (text: string) => text.replaceAll(/[.*+?^${}()|[\]\\/]/g, String.raw`\$&`);
  const expressions = parts.filter((part) => typeof part !== 'string');
  const source = parts
    .map((part, index) => (typeof part === 'string' ? quote(encodeLiteral(part)) : patternOf(part, index === parts.length - 1)))
    .join('');
  const pattern = new RegExp(`^${source}$`, 'u');
  return (uri) => {
    const found = pattern.exec(uri);
    if (found === null) return undefined;
    const values: Record<string, string | string[]> = {};
    for (const [index, expression] of expressions.entries()) {
      if (!readGroup(expression, found[index + 1] ?? '', values)) return undefined;
    }
    return values;
  };
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
