/** Plain words: markup taken out, cut at the end of a sentence. */
export function cutText(text: string, most: number): string {
  if (text.length <= most && !/[<\n\t]|^ | $| {2}/.test(text)) return text;
  const plain = text
    .replaceAll(/<(?:br|\/p|\/li|\/h\d)\s*\/?>/gi, '\n')
    .replaceAll(/<\/?[a-z][^<>]*>/gi, '')
    .replaceAll(/[ \t]+/g, ' ')
    .replaceAll(/ ?\n ?/g, '\n')
    .replaceAll(/\n{3,}/g, '\n\n')
    .trim();
  if (plain.length <= most) return plain;
  const head = plain.slice(0, most);
  const sentence = Math.max(head.lastIndexOf('. '), head.lastIndexOf('.\n'), head.lastIndexOf('\n\n'));
  if (sentence > most / 3) return head.slice(0, sentence + 1).trim();
  return `${head.slice(0, head.lastIndexOf(' ')).replace(/[\s,;:]+$/, '')}…`;
}
