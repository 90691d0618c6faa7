/**
 * About how many tokens a text costs a model: a rule of thumb (four characters of prose, or three of JSON, make one),
 * not any model's own count.
 */
export function estimateTokens(value: unknown): number {
  if (typeof value === 'string') return Math.ceil(value.length / 4);
  return Math.ceil((JSON.stringify(value) ?? '').length / 3);
}
