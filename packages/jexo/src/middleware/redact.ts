import type { Middleware } from '../offers/middleware.js';
import { selects, type Selection } from '../offers/selection.js';

/** What is taken out of answers. */
export interface RedactOptions extends Selection {
  /** Names of fields whose values are taken out, in any case. */
  readonly fields?: readonly string[];
  /** Patterns that are taken out of texts. */
  readonly patterns?: readonly RegExp[];
  /** Stands in their place. Default `***`. */
  readonly mask?: string;
}

const mostDepth = 100;

/**
 * Takes values out of answers before anybody sees them: fields by name, and what matches a pattern in any text.
 *
 * @example
 * redact({ fields: ['phone', 'email'], patterns: [/\b\d{3}-\d{4}\b/g] })
 */
export function redact({ fields = [], patterns = [], mask = '***', ...selection }: RedactOptions): Middleware {
  const isFor = selects(selection);
  const hidden = new Set(fields.map((field) => field.toLowerCase()));
  const global = patterns.map((pattern) => new RegExp(pattern.source, pattern.flags.includes('g') ? pattern.flags : `${pattern.flags}g`));
  const inText = (text: string): string => {
    const whole = global.reduce((rest, pattern) => rest.replace(pattern, mask), text);
    if (hidden.size === 0 || !/^\s*[[{]/.test(whole)) return whole;
    // The text of an answer is often its structure as JSON.
    try {
      return JSON.stringify(clean(JSON.parse(whole), 0));
    } catch {
      return whole;
    }
  };
  const clean = (value: unknown, depth: number): unknown => {
    if (typeof value === 'string') return inText(value);
    if (typeof value !== 'object' || value === null || depth > mostDepth || value instanceof Uint8Array) return value;
    if (Array.isArray(value)) return value.map((each) => clean(each, depth + 1));
    const made = Object.create(Object.getPrototypeOf(value) as object) as Record<string | symbol, unknown>;
    for (const key of Reflect.ownKeys(value)) {
      const each = (value as Record<string | symbol, unknown>)[key];
      made[key] = typeof key === 'string' && hidden.has(key.toLowerCase()) ? mask : clean(each, depth + 1);
    }
    return made;
  };
  return async (request, next) => {
    const value = await next(request);
    // What is suggested for a hidden field would show its values.
    const { argument } = (request.method === 'completion/complete' ? request.input : {}) as { argument?: string };
    if (argument !== undefined && isFor(request.offer) && hidden.has(argument.toLowerCase()))
      return { completion: { values: [], total: 0, hasMore: false } };
    return isFor(request.offer) ? clean(value, 0) : value;
  };
}
