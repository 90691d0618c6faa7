/**
 * A number with its word: `1 tool`, `12 tools`, `1,200 entries`.
 * @param plural the word for all but one; default the word with an s
 */
export const counted = (number: number, word: string, plural = `${word}s`): string =>
  `${number.toLocaleString('en')} ${number === 1 ? word : plural}`;
