import { readFileSync } from 'node:fs';
import { grammarOf, misanswer, misread } from '../../src/protocol/grammar.js';
import { revisions, type Revision } from '../../src/protocol/revisions.js';
import { misfit } from '../support/judge.js';

interface Sample {
  readonly about: string;
  readonly def: string;
  readonly valid: boolean;
  readonly message: unknown;
}
const samplesOf = (revision: Revision) =>
  readFileSync(new URL(`../samples/${revision}.jsonl`, import.meta.url), 'utf8')
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line) as Sample);
const results = JSON.parse(readFileSync(new URL('../../assets/schema/results.json', import.meta.url), 'utf8')) as Record<
  Revision,
  Record<string, string>
>;

/** Our own verdict on a sample. */
function judge(revision: Revision, { def, message }: Pick<Sample, 'def' | 'message'>): string | undefined {
  if (def === 'ClientMessage') return misread(revision, 'client', message);
  if (def === 'ServerMessage') return misread(revision, 'server', message);
  if (def === 'Tool') return grammarOf(revision).tool(message, 'tool');
  if (def === 'Resource') return grammarOf(revision).resource(message, 'resource');
  const method = Object.entries(results[revision]).find(([, name]) => name === def)?.[0];
  if (method === undefined) throw new Error(`No method is answered by ${def}.`);
  return misanswer(revision, method, message);
}

test.each(revisions)('every sample of %s is judged as the reference says', (revision) => {
  const samples = samplesOf(revision);
  expect(samples.length).toBeGreaterThan(300);
  const wrong = samples
    .filter((sample) => (judge(revision, sample) === undefined) !== sample.valid)
    .map(
      (sample) => `${sample.def}: ${sample.about} (valid: ${sample.valid}): ${judge(revision, sample)} ${JSON.stringify(sample.message)}`,
    );
  expect(wrong).toEqual([]);
});

test.each(revisions)('our grammar and the schema of %s agree on samples with one part changed', (revision) => {
  const odd = [null, true, 0, 1.5, '', 'x', [], {}, [1], { x: 1 }];
  const disagreements: string[] = [];
  let judged = 0;
  for (const { def, valid, message } of samplesOf(revision)) {
    if (!valid) continue;
    for (const [path, changed] of variants(message, odd)) {
      judged++;
      const ours = judge(revision, { def, message: changed });
      const theirs = misfit(revision, def, changed);
      if ((ours === undefined) !== (theirs === undefined))
        disagreements.push(`${def} at ${path}: ${JSON.stringify(changed)}: ours ${ours}, schema ${theirs}`);
    }
  }
  expect(judged).toBeGreaterThan(1000);
  expect(disagreements.slice(0, 20)).toEqual([]);
});

/** The value with each of its parts removed or replaced, one at a time. */
function* variants(value: unknown, odd: readonly unknown[], path = ''): Generator<[string, unknown]> {
  if (typeof value !== 'object' || value === null) return;
  for (const key of Object.keys(value)) {
    const at = `${path}/${key}`;
    const put = (part: unknown) =>
      Array.isArray(value) ? value.map((each: unknown, index) => (String(index) === key ? part : each)) : { ...value, [key]: part };
    if (!Array.isArray(value)) {
      const { [key]: _, ...rest } = value as Record<string, unknown>;
      yield [`${at} removed`, rest];
    }
    for (const part of odd) yield [at, put(part)];
    for (const [deeper, part] of variants((value as Record<string, unknown>)[key], odd, at)) yield [deeper, put(part)];
  }
}
