import { isRecord } from './is-record.js';
/** Small checks that compose into the grammar of messages. A check gives the reason a value does not fit, with its path. */
export type Check = (value: unknown, path: string) => string | undefined;

export interface Optional {
  readonly optional: Check;
}

const said = (path: string, wanted: string): string => `${path === '' ? 'it' : path} must be ${wanted}`;

function kind(wanted: string, fits: (value: unknown) => boolean): Check {
  return (value, path) => (fits(value) ? undefined : said(path, wanted));
}

export const anything: Check = () => undefined;
export const text = kind('a string', (value) => typeof value === 'string');
export const boolean = kind('true or false', (value) => typeof value === 'boolean');
export const number = kind('a number', (value) => typeof value === 'number');
export const integer = kind('a whole number', (value) => Number.isInteger(value));
export const share = kind('a number from 0 to 1', (value) => typeof value === 'number' && value >= 0 && value <= 1);
export const object = kind('an object', isRecord);
export const identifier = kind('a string or a whole number', (value) => typeof value === 'string' || Number.isInteger(value));
export const milliseconds = kind('a number or null', (value) => value === null || typeof value === 'number');

export const opt = (check: Check): Optional => ({ optional: check });

/** One of these values. */
export function oneOf(...values: readonly unknown[]): Check {
  return kind(
    values.length === 1 ? JSON.stringify(values[0]) : `one of ${values.map((value) => JSON.stringify(value)).join(', ')}`,
    (value) => values.includes(value),
  );
}

export function matching(wanted: string, pattern: RegExp): Check {
  return kind(wanted, (value) => typeof value === 'string' && pattern.test(value));
}

export function list(item: Check, most = Number.POSITIVE_INFINITY): Check {
  return (value, path) => {
    if (!Array.isArray(value)) return said(path, 'a list');
    if (value.length > most) return said(path, `a list of at most ${most}`);
    for (let index = 0; index < value.length; index++) {
      const why = item(value[index], `${path}[${index}]`);
      if (why !== undefined) return why;
    }
    return undefined;
  };
}

/** An object whose values all fit. */
export function mapOf(item: Check): Check {
  return (value, path) => {
    if (!isRecord(value)) return said(path, 'an object');
    for (const [key, each] of Object.entries(value)) {
      const why = item(each, join(path, key));
      if (why !== undefined) return why;
    }
    return undefined;
  };
}

/** An object with these members; others pass, as receivers ignore what they do not know. */
export function shape(fields: Readonly<Record<string, Check | Optional>>): Check {
  const entries = Object.entries(fields);
  return (value, path) => {
    if (!isRecord(value)) return said(path, 'an object');
    for (const [name, field] of entries) {
      const given = Object.hasOwn(value, name) ? value[name] : undefined;
      if (typeof field === 'function') {
        if (given === undefined) return `${join(path, name)} is missing`;
        const why = field(given, join(path, name));
        if (why !== undefined) return why;
      } else if (given !== undefined) {
        const why = field.optional(given, join(path, name));
        if (why !== undefined) return why;
      }
    }
    return undefined;
  };
}

/** Picks the check by the value of one member. */
export function byMember(name: string, cases: Readonly<Record<string, Check>>): Check {
  const known = oneOf(...Object.keys(cases));
  return (value, path) => {
    if (!isRecord(value)) return said(path, 'an object');
    const chosen = value[name];
    return known(chosen, join(path, name)) ?? cases[chosen as string]!(value, path);
  };
}

export function either(choose: (value: Record<string, unknown>) => Check): Check {
  return (value, path) => (isRecord(value) ? choose(value)(value, path) : said(path, 'an object'));
}

/** One value, or a list of them. */
export function oneOrMany(item: Check): Check {
  const many = list(item);
  return (value, path) => (Array.isArray(value) ? many : item)(value, path);
}

function join(path: string, name: string): string {
  return path === '' ? name : `${path}.${name}`;
}
