import { resolve } from 'node:path';
import { audit } from '../middleware/audit.js';
import { cache } from '../middleware/cache.js';
import { circuitBreaker } from '../middleware/circuit-breaker.js';
import { concurrency } from '../middleware/concurrency.js';
import { rateLimit } from '../middleware/rate-limit.js';
import { redact } from '../middleware/redact.js';
import { retry } from '../middleware/retry.js';
import { timeout } from '../middleware/timeout.js';
import { isRecord } from '../protocol/is-record.js';
import type { Middleware } from '../offers/middleware.js';

/** A layer as a plan names it: its name, and what it is given. */
export interface PlanLayer {
  readonly name: string;
  /** What stands in the call of its function, in order. */
  readonly given: readonly unknown[];
}

/** `{ timeout: 30 s }` or `{ timeout: { after: 30 s, only: [...] } }` as the call of a function. */
export function layerOf(entry: Readonly<Record<string, unknown>>, folder: string): PlanLayer {
  const [[name, value]] = Object.entries(entry) as [[string, unknown]];
  if (name === 'timeout') {
    if (!isRecord(value)) return { name, given: [value] };
    const { after, ...selection } = value;
    return { name, given: [after, selection] };
  }
  if (name === 'audit') {
    const { file, ...options } = (isRecord(value) ? value : { file: value }) as { file: string };
    return { name, given: [resolve(folder, file), ...(Object.keys(options).length > 0 ? [options] : [])] };
  }
  if (name === 'redact' && isRecord(value) && Array.isArray(value.patterns))
    return { name, given: [{ ...value, patterns: value.patterns.map((pattern) => new RegExp(String(pattern), 'g')) }] };
  return { name, given: value === null || value === true ? [] : [value] };
}

/** Makes the layer. @throws JexoError JEXO_DEFINITION */
export function buildLayer({ name, given }: PlanLayer): Middleware {
  const all = { timeout, rateLimit, cache, retry, concurrency, redact, audit, circuitBreaker } as unknown as Record<
    string,
    (...given: readonly unknown[]) => Middleware
  >;
  return all[name]!(...given);
}
