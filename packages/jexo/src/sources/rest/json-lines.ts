/**
 * The lines of the keys in the upper levels of JSON text, found in one pass without parsing it again: reading a large document a
 * second time to know a line takes many times as long as reading it once.
 *
 * @param deepest how many keys a path may have, from the root; what lies below is found at the last of them
 * @returns the line of a path, counted from 1; that of its nearest ancestor when it is not there
 */
export function jsonLines(text: string, deepest: number): (path: readonly (string | number)[]) => number {
  const lines = new Map<string, number>();
  const path: string[] = [];
  /** For each open bracket, the index its next item has; undefined in an object. */
  const open: (number | undefined)[] = [];
  let line = 1;
  let key: { readonly text: string; readonly line: number } | undefined;
  const enter = (name: string, at: number) => {
    path[open.length - 1] = name;
    path.length = open.length;
    lines.set(path.join('\0'), at);
  };
  for (let at = 0; at < text.length; at++) {
    const code = text.charCodeAt(at);
    if (code === 10) line++;
    else if (code === 34) {
      const start = at;
      for (at++; text.charCodeAt(at) !== 34 && at < text.length; at++) if (text.charCodeAt(at) === 92) at++;
      if (open.length <= deepest && open.at(-1) === undefined) key = { text: text.slice(start, at + 1), line };
    } else if (code === 58) {
      if (open.length <= deepest && key !== undefined) enter(JSON.parse(key.text) as string, key.line);
      key = undefined;
    } else if (code === 123 || code === 91) {
      const list = open.at(-1);
      if (list !== undefined && open.length <= deepest) enter(String(list), line);
      open.push(code === 91 ? 0 : undefined);
    } else if (code === 125 || code === 93) open.pop();
    else if (code === 44 && open.at(-1) !== undefined) open[open.length - 1]!++;
  }
  return (wanted) => {
    for (let length = Math.min(wanted.length, deepest); length > 0; length--) {
      const found = lines.get(wanted.slice(0, length).join('\0'));
      if (found !== undefined) return found;
    }
    return 1;
  };
}
