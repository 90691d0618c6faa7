import { JexoError } from '../errors.js';

const units: Readonly<Record<string, number>> = { ms: 1, s: 1000, min: 60_000, h: 3_600_000, d: 86_400_000 };

/** Milliseconds of `30 s`, `5 min`, `1.5 h`, or of a number that is milliseconds already. @throws JexoError JEXO_DEFINITION */
export function durationOf(given: string | number, where: string): number {
  const [, amount, unit = 'ms'] = /^\s*(\d+(?:\.\d+)?)\s*(ms|s|min|h|d)?\s*$/.exec(String(given)) ?? [];
  const ms = amount === undefined ? Number.NaN : Number(amount) * units[unit]!;
  if (Number.isFinite(ms) && ms > 0) return ms;
  throw new JexoError('JEXO_DEFINITION', `${where}: ${JSON.stringify(given)} is no duration.`, {
    where,
    next: 'Write it as 30 s, 5 min or a number of milliseconds.',
  });
}
