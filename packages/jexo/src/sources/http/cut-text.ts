/** Plain words: HTML and Markdown taken out, cut at the end of a sentence. */
export function cutText(text: string, most: number): string {
  if (text.length <= most && !/[<\n\t\]]|\*\*|^[ >#]| $| {2}/.test(text)) return text;
  const plain = withoutMarkdown(text)
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

/** Links become their text, quotes and notes lose their marks, headings and bold their signs. Code keeps its backticks. */
function withoutMarkdown(text: string): string {
  return text
    .replaceAll(/<((?:https?|mailto):[^\s<>]+)>/gi, '$1')
    .replaceAll(/^ {0,3}\[[^\]\n]{1,200}\]:[ \t]+\S+.*$/gm, '')
    .replaceAll(
      /!?\[([^[\]]{0,500})\](?:\([^()\s]{0,2000}(?:\([^()\s]{0,200}\)[^()\s]{0,2000})?(?:\s+"[^"\n]{0,200}")?\)|\[[^\]\n]{0,200}\])/g,
      '$1',
    )
    .replaceAll(/^ {0,3}(?:> ?)+/gm, '')
    .replaceAll(/^\[!(\w+)\][ \t]*$/gm, (_, kind: string) => `${kind[0]!.toUpperCase()}${kind.slice(1).toLowerCase()}:`)
    .replaceAll(/^ {0,3}#{1,6}[ \t]+(.*?)[ \t]*#*$/gm, '$1')
    .replaceAll(/\*\*(?=\S)([^*\n]{1,500})\*\*/g, '$1');
}
