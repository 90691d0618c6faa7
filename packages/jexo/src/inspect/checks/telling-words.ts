const everyday = new Set(
  'a an and any are as at be by can do does for from get gets give gives given has have how if in into is it its list of on one or returns return same set show that the them then there this to tool use used uses using want wants what when where which with you your'.split(
    ' ',
  ),
);

/** The words of a text that carry meaning, without endings. */
export function tellingWords(text: string): string[] {
  const words =
    text
      .replaceAll(/([a-z])([A-Z])/g, '$1 $2')
      .toLowerCase()
      .match(/[\p{L}\p{N}]+/gu) ?? [];
  return [...new Set(words.filter((word) => !everyday.has(word)).map((word) => word.replace(/(?:ies|es|s|ing|ed)$/, '')))];
}
