/** The URL with its password taken out, and with query parameters that hold secrets by their names. Any other text stays as it is. */
export function withoutPassword(text: string): string {
  if (!/^[a-z][a-z0-9+.-]*:\/\//i.test(text)) return text;
  // A URL that cannot be read may still hold a password.
  if (!URL.canParse(text)) return text.replace(/(:\/\/[^/:@\s]*):[^\s]*@/, '$1@');
  const url = new URL(text);
  const secret = [...url.searchParams.keys()].filter((key) => /pass|secret|token/i.test(key));
  if (url.password === '' && secret.length === 0) return text;
  url.password = '';
  for (const key of secret) url.searchParams.delete(key);
  return url.href;
}
