import type { JsonSchema } from '../../protocol/types.js';
import { isRecord } from '../../protocol/is-record.js';
import { compileSchema } from '../../offers/schema.js';
import { differences, same, type Difference } from '../difference.js';
import { parsePath, valueAt } from '../value-path.js';
import { masked, plainResult, type AnswerValue } from './answer-value.js';
import type { Must } from './call-sheet.js';
import { says } from './sheet-text.js';

/** One way in which an answer is not what the sheet wants. */
export interface Wrong {
  /** In a sentence. */
  readonly message: string;
  /** Where in the answer, and what stands there and should; for `be`, `have` and `at`. */
  readonly differences?: readonly Difference[];
}

export type Outcome = { readonly failed: false; readonly answer: AnswerValue } | { readonly failed: true; readonly words: string };

/** What is wrong with what came, by what must come. */
export async function judgeAnswer(outcome: Outcome, must: Must = {}, masks: readonly string[], tookMs: number): Promise<Wrong[]> {
  const found: Wrong[] = [];
  if (must.maxMs !== undefined && tookMs > must.maxMs)
    found.push({ message: `It took ${Math.round(tookMs)} ms; at most ${must.maxMs} ms were wanted.` });
  if (must.fail !== undefined) return [...found, ...judgeFailure(outcome, must.fail)];
  if (outcome.failed) return [...found, { message: `It failed: ${outcome.words}` }];
  const { text } = outcome.answer;
  const value = masked(outcome.answer.value, masks);
  if ('be' in must) {
    const wanted = masked(plainResult(must.be), masks);
    if (!same(wanted, value)) found.push({ message: 'The answer differs.', differences: differences(wanted, value) });
  }
  if ('have' in must) {
    const wanted = masked(plainResult(must.have), masks);
    const missing = differences(wanted, likeness(wanted, value));
    if (missing.length > 0) found.push({ message: 'The answer does not have what it must have.', differences: missing });
  }
  for (const [path, wanted] of Object.entries(must.at ?? {})) {
    const there = valueAt(value, parsePath(path));
    const expected = masked(wanted, masks);
    if (!same(expected, there))
      found.push({
        message: `${path} is not what it must be.`,
        differences:
          there === undefined ? [{ path, kind: 'removed', before: expected }] : [{ path, kind: 'changed', before: expected, after: there }],
      });
  }
  for (const wanted of [must.say ?? []].flat())
    if (!says(text, wanted)) found.push({ message: `The answer does not say ${wanted}; it says: ${cut(text)}` });
  if (must.fit !== undefined) {
    const { $defs, ...schema } = must.fit;
    const wrapped: JsonSchema = {
      type: 'object',
      required: ['answer'],
      properties: { answer: schema },
      ...($defs !== undefined && { $defs }),
    };
    const checked = await compileSchema(wrapped, 'output', 'the sheet').check({ answer: structuredClone(outcome.answer.value) });
    if (!checked.ok)
      for (const { path, expected, got } of checked.issues)
        found.push({ message: `${path.replace(/^answer\.?/, '') || 'The answer'} does not fit: expected ${expected}; got ${got}` });
  }
  return found;
}

/** The words of a failure without the reference of a fault, which is another each time. */
export function stableWords(words: string): string {
  return words.replaceAll(/\breference [0-9a-f]{6}\b/g, 'reference …');
}

function judgeFailure(outcome: Outcome, fail: NonNullable<Must['fail']>): Wrong[] {
  if (!outcome.failed) return [{ message: `It must fail, but it answered: ${cut(outcome.answer.text)}` }];
  const wanted = fail === true ? [] : [fail].flat();
  return wanted
    .filter((each) => !says(stableWords(outcome.words), stableWords(each)) && !says(outcome.words, each))
    .map((each) => ({ message: `It failed as it must, but does not say ${each}; it says: ${cut(outcome.words)}` }));
}

/** Of a value, what the wanted one names: the same fields, and as many items. */
export function likeness(wanted: unknown, value: unknown): unknown {
  if (Array.isArray(wanted) && Array.isArray(value))
    return value.length < wanted.length ? value : wanted.map((item, index) => likeness(item, value[index]));
  if (!isRecord(wanted) || !isRecord(value)) return value;
  return Object.fromEntries(
    Object.keys(wanted).flatMap((key) => (Object.hasOwn(value, key) ? [[key, likeness(wanted[key], value[key])] as const] : [])),
  );
}

function cut(text: string): string {
  const line = text.replaceAll(/\s+/g, ' ').trim();
  return line.length > 300 ? `${line.slice(0, 300)}…` : line === '' ? '(nothing)' : line;
}
