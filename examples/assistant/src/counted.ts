/** `1 tool`, `12 tools`. */
export const counted = (number: number, word: string): string => `${number} ${word}${number === 1 ? '' : 's'}`;
