import { JexoError } from '../../errors.js';

/**
 * The address under which others reach a server, from what somebody wrote.
 *
 * @throws JexoError JEXO_USAGE when it is no HTTP address, or holds a user, a query or a fragment
 */
export function readPublicUrl(text: string, where = 'publicUrl'): URL {
  const url = URL.canParse(text) ? new URL(text) : undefined;
  if (url !== undefined && /^https?:$/.test(url.protocol) && url.username === '' && url.search === '' && url.hash === '') return url;
  throw new JexoError('JEXO_USAGE', `The public address must be as https://apiary.example/mcp; ${JSON.stringify(text)} is not.`, { where });
}
