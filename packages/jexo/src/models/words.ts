import { stemmer } from 'stemmer';

const common = new Set(
  `a about above after again all also am an and any are as at be because been before being below between both but by can could did do does
doing down during each few for from further get give given gives had has have having he her here hers him his how i if in into is it its
just let like come comes came off still yet go got made make many may me more most much must my need needs no nor not now of off on once only or other our ours out over own
per please same shall she should show so some such take tell than thanks that the their theirs them then there these they this those
through to too under until up us use used uses using very want wanted wants was we were what when where whether which while who whom why
will with would you your yours someone somebody something asks ask asked`.split(/\s+/),
);

const numbers = new Map(
  'zero one two three four five six seven eight nine ten eleven twelve thirteen fourteen fifteen sixteen seventeen eighteen nineteen twenty'
    .split(' ')
    .map((word, value) => [word, value] as const),
);
numbers.set('dozen', 12);

/** The number a word stands for, as `12`, `3.5` or `twelve`; undefined when it stands for none. */
export function numberOf(word: string): number | undefined {
  const value = /^-?\d+(?:\.\d+)?%?$/.test(word) ? Number(word.replace('%', '')) : numbers.get(word.toLowerCase());
  return value;
}

/** The words of a text as they stand: names in snake_case and camelCase are taken apart. */
export function wordsOf(text: string): string[] {
  return text.replaceAll(/([a-z\d])([A-Z])/g, '$1 $2').match(/\p{L}+(?:['’]\p{L}+)?|-?\d+(?:\.\d+)?%?/gu) ?? [];
}

/** What a word is compared by: its stem; undefined for words that say nothing about a tool, and for numbers. */
export function stemOf(word: string): string | undefined {
  const plain = word.toLowerCase().replace(/['’]\p{L}*$/u, '');
  if (plain.length < 2 || common.has(plain) || numberOf(plain) !== undefined) return undefined;
  return stemmer(plain);
}
