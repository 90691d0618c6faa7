import { isRecord } from '../protocol/is-record.js';

/** A step into a value: a field, an item, or any of either (`*`, `[]`). */
export type Step = string | number | typeof any;
export const any = Symbol('any field or item');

/**
 * Reads a path as a person writes it: `apiaries[0].gain`, `hives[].id`, `["a.b"]`, `*.id`; `$` or nothing is the whole value.
 * @throws SyntaxError where it cannot be read
 */
export function parsePath(text: string): Step[] {
  const rest = text.replace(/^\$\.?/, '');
  const steps: Step[] = [];
  const token = /(?:^|\.)([^.[\]"]+)|\[(\d*|\*|"(?:[^"\\]|\\.)*")\]/gy;
  let at = 0;
  while (at < rest.length) {
    token.lastIndex = at;
    const found = token.exec(rest);
    if (found === null)
      throw new SyntaxError(`${JSON.stringify(text)} is not a path: it cannot be read from ${JSON.stringify(rest.slice(at))} on`);
    const [whole, field, index] = found;
    if (field !== undefined) steps.push(field === '*' ? any : field);
    else if (index === '' || index === '*') steps.push(any);
    else steps.push(index!.startsWith('"') ? (JSON.parse(index!) as string) : Number(index));
    at += whole.length;
  }
  return steps;
}

/** The value at a path; undefined when there is none. With `any`, the list of all that are there. */
export function valueAt(value: unknown, steps: readonly Step[]): unknown {
  const [step, ...rest] = steps;
  if (step === undefined) return value;
  if (step === any) return childrenOf(value).map(([, child]) => valueAt(child, rest));
  const child = Array.isArray(value) ? value[Number(step)] : isRecord(value) && Object.hasOwn(value, step) ? value[step] : undefined;
  return valueAt(child, rest);
}

/** A copy with what lies at the path replaced; unchanged when there is nothing there. */
export function replaceAt(value: unknown, steps: readonly Step[], make: (old: unknown) => unknown): unknown {
  const [step, ...rest] = steps;
  if (step === undefined) return make(value);
  const hit = (key: string | number) => step === any || String(key) === String(step);
  if (Array.isArray(value)) return value.map((item: unknown, index) => (hit(index) ? replaceAt(item, rest, make) : item));
  if (!isRecord(value)) return value;
  return Object.fromEntries(Object.entries(value).map(([key, item]) => [key, hit(key) ? replaceAt(item, rest, make) : item]));
}

function childrenOf(value: unknown): (readonly [string | number, unknown])[] {
  if (Array.isArray(value)) return value.map((item, index) => [index, item] as const);
  return isRecord(value) ? Object.entries(value) : [];
}
