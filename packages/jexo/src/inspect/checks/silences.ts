import type { Finding, Rule } from './finding.js';

/** A finding that is accepted, and why. */
export interface Silence {
  /** The rule that finds it. */
  readonly rule: Rule;
  /** Only what is about this name; everything when absent. */
  readonly name?: string;
  /** Why it is accepted. */
  readonly reason: string;
}

/** Puts aside what was silenced, with the reason. */
export function applySilences(
  found: readonly Finding[],
  silences: readonly Silence[],
): { kept: Finding[]; silenced: (Finding & { reason: string })[] } {
  const kept: Finding[] = [];
  const silenced: (Finding & { reason: string })[] = [];
  for (const finding of found) {
    const silence = silences.find(
      ({ rule, name }) => rule === finding.rule && (name === undefined || finding.subject.split(' ').includes(name)),
    );
    if (silence === undefined) kept.push(finding);
    else silenced.push({ ...finding, reason: silence.reason });
  }
  return { kept, silenced };
}
