/** Numbers in a row, fit to be drawn: one line for each named list over a common axis. */
export interface Series {
  /** What the axis counts: a field's name, or `position`. */
  readonly axis: string;
  /** Seconds since the epoch where the axis is time; otherwise numbers, or positions of labels. */
  readonly x: readonly number[];
  readonly isTime: boolean;
  /** Words under the positions, where the axis has neither numbers nor times. */
  readonly labels?: readonly string[];
  readonly lines: readonly { readonly name: string; readonly y: readonly (number | null)[] }[];
}

const fewest = 3;
const mostPoints = 20_000;

/** Finds the first series an answer holds: a list of numbers, or a list of objects with numeric fields. */
export function seriesOf(value: unknown, depth = 0): Series | undefined {
  if (Array.isArray(value)) return value.length < fewest || value.length > mostPoints ? undefined : seriesOfList(value as unknown[]);
  if (typeof value !== 'object' || value === null || depth > 3) return undefined;
  for (const item of Object.values(value)) {
    const found = seriesOf(item, depth + 1);
    if (found !== undefined) return Array.isArray(item) ? inUnit(found, (value as { unit?: unknown }).unit) : found;
  }
  return undefined;
}

/** A unit that stands beside a list of single values is theirs: `value (°C)`. */
function inUnit(series: Series, unit: unknown): Series {
  const [only, ...others] = series.lines;
  if (typeof unit !== 'string' || unit === '' || unit.length > 16 || only === undefined || others.length > 0) return series;
  return { ...series, lines: [{ ...only, name: `${only.name} (${unit})` }] };
}

function seriesOfList(list: readonly unknown[]): Series | undefined {
  if (list.every((item) => typeof item === 'number'))
    return { axis: 'position', x: list.map((_, index) => index + 1), isTime: false, lines: [{ name: 'value', y: list }] };
  if (!list.every((item): item is Record<string, unknown> => typeof item === 'object' && item !== null && !Array.isArray(item)))
    return undefined;
  const keys = Object.keys(list[0]!);
  const numeric = keys.filter(
    (key) =>
      list.every((item) => item[key] === null || item[key] === undefined || typeof item[key] === 'number') &&
      list.some((item) => typeof item[key] === 'number'),
  );
  const times = keys.find((key) => list.every((item) => typeof item[key] === 'string' && isTime(item[key])));
  const line = (key: string) => ({ name: key, y: list.map((item) => (typeof item[key] === 'number' ? item[key] : null)) });
  if (times !== undefined && numeric.length > 0)
    return { axis: times, x: list.map((item) => Date.parse(item[times] as string) / 1000), isTime: true, lines: numeric.map(line) };
  const label = keys.find((key) => list.every((item) => typeof item[key] === 'string'));
  if (label !== undefined && numeric.length > 0)
    return {
      axis: label,
      x: list.map((_, index) => index),
      isTime: false,
      labels: list.map((item) => item[label] as string),
      lines: numeric.map(line),
    };
  if (numeric.length < 2) return undefined;
  const [axis, ...rest] = numeric;
  return { axis: axis!, x: list.map((item) => item[axis!] as number), isTime: false, lines: rest.map(line) };
}

function isTime(text: string): boolean {
  return /^\d{4}-\d{2}-\d{2}(?:[T ]\d{2}:\d{2})?/.test(text) && !Number.isNaN(Date.parse(text));
}
