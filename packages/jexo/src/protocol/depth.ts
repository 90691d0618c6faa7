/** Lists and objects within one another, at most: what any real message has many times over, and no stack minds. */
export const maxDepth = 200;

/** True when a value nests deeper than `maxDepth`. */
export function isValueTooDeep(value: unknown, left = maxDepth): boolean {
  if (typeof value !== 'object' || value === null) return false;
  return left === 0 || Object.values(value).some((item) => isValueTooDeep(item, left - 1));
}

/** True when JSON text nests deeper than `maxDepth`, told without parsing it. */
export function isTooDeep(text: string): boolean {
  if (text.length <= 2 * maxDepth) return false;
  let depth = 0;
  let inString = false;
  for (let at = 0; at < text.length; at++) {
    const code = text.charCodeAt(at);
    if (inString) {
      if (code === 92) at++;
      else if (code === 34) inString = false;
    } else if (code === 34) inString = true;
    else if (code === 91 || code === 123) {
      if (++depth > maxDepth) return true;
    } else if (code === 93 || code === 125) depth--;
  }
  return false;
}
