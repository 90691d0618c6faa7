import { JexoError } from '../errors.js';

/** Reads `--header "Authorization: Bearer ..."`. */
export function readHeaders(texts: readonly string[] | undefined): Record<string, string> {
  const headers: Record<string, string> = {};
  for (const text of texts ?? []) {
    const at = text.indexOf(':');
    const name = text.slice(0, at).trim();
    // Header injection: neither part may hold what would start another header.
    if (at < 1 || !/^[\w!#$%&'*+.^`|~-]+$/.test(name) || /[\r\n\0]/.test(text))
      throw new JexoError('JEXO_USAGE', `--header ${JSON.stringify(text)} is not of the form "Name: value".`, { where: '--header' });
    headers[name.toLowerCase()] = text.slice(at + 1).trim();
  }
  return headers;
}
