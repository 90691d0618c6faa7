import type { Offer } from '../../offers/offer.js';
import { template } from '../../offers/resource.js';

/** The latest answers are kept: so many, of so many characters together. */
const keptAnswers = 20;
const keptCharacters = 20_000_000;

/** Answers too long for a model: what was cut of them can be read on, part by part, for a while. */
export interface LongAnswers {
  /** Keeps a text, and gives the URI of its first part. */
  keep(text: string): string;
  /** The template by which they are read; it comes along whatever was chosen. */
  readonly offer: Offer;
}

/** @param most characters of a part */
export function createLongAnswers(title: string, slug: string, most: number): LongAnswers {
  const scheme = `${slug}-answer`;
  const answers = new Map<string, string>();
  const keep = (text: string): string => {
    const id = crypto.randomUUID(); // what is kept for one caller is not to be guessed by another
    answers.set(id, text);
    let held = 0;
    for (const [age, [key, each]] of [...answers].reverse().entries()) {
      held += each.length;
      if (age > 0 && (held > keptCharacters || age >= keptAnswers)) answers.delete(key);
    }
    return `${scheme}://${id}/1`;
  };
  const offer = template(
    `${scheme}://{id}/{part}`,
    {
      name: scheme,
      title: `Long answers of ${title}`,
      description: 'What an answer that was cut holds, part by part. An answer names its own.',
    },
    ({ id, part }) => {
      const text = answers.get(String(id));
      const from = (Number(part) - 1) * most;
      if (text === undefined || !(from >= 0) || from >= text.length) return undefined;
      const end = from + most;
      return text.slice(from, end) + (end < text.length ? `\n(continued at ${scheme}://${String(id)}/${Number(part) + 1})` : '');
    },
  );
  return { keep, offer: { ...offer, comesAlong: true } };
}
