import { stemmer } from 'stemmer';

const common = new Set(
  'a an and are as at be but by do does for from how i if in is it my of on or our should that the their them then they this to was we what when where which who will with you your'.split(
    ' ',
  ),
);

/** The stem of a word; null for one that is in every text. */
export function stemOf(term: string): string | null {
  const plain = plainOf(term);
  return plain === '' || common.has(plain) ? null : stemmer(plain);
}

/** A word in small letters, without accents and without the ending of a genitive. */
const plainOf = (term: string) =>
  term
    .toLowerCase()
    .normalize('NFKD')
    .replaceAll(/\p{M}/gu, '')
    .replaceAll(/['’]s?$/g, '');

/** The words of a question, each once, without common ones. */
export function wordsOf(question: string): { readonly word: string; readonly stem: string }[] {
  const found = new Map<string, string>();
  for (const [word] of question.matchAll(/[\p{L}\p{N}]+/gu)) {
    const stem = stemOf(word);
    if (stem !== null && !found.has(stem)) found.set(stem, plainOf(word));
  }
  return [...found].map(([stem, word]) => ({ word, stem }));
}

/** What stands in quotes in a question. */
export const phrasesOf = (question: string): string[] =>
  [...question.matchAll(/"([^"]+)"/g)].map(([, phrase]) => phrase!.trim()).filter(Boolean);

const snippetChars = 240;
const word = /\p{L}[\p{L}\p{N}'’-]*/gu;

/** The part of a text around the first words that were found, with those between `**`. */
export function snippetOf(text: string, stems: ReadonlySet<string>): string {
  const plain = text
    .replace(/^#.*\n/, '')
    .replaceAll(/\s+/g, ' ')
    .trim();
  const isHit = (each: string) => each.split(/['’-]/).some((part) => stems.has(stemOf(part) ?? '')) || stems.has(stemOf(each) ?? '');
  const first = [...plain.matchAll(word)].find(([each]) => isHit(each));
  const from = Math.max(0, (first?.index ?? 0) - 60);
  const start = from === 0 ? 0 : plain.indexOf(' ', from) + 1;
  const part = plain.slice(start, start + snippetChars);
  const marked = part.replaceAll(word, (each) => (isHit(each) ? `**${each}**` : each));
  return `${start > 0 ? '… ' : ''}${marked}${start + snippetChars < plain.length ? ' …' : ''}`;
}
