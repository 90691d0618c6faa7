import { connectUrl } from '../client/connect-url.js';
import { isJexoError, JexoError } from '../errors.js';

/** Paths that servers are most often at; tried only to say where the right one is. */
const usualPaths = ['/mcp', '/sse', '/'];

/**
 * Connects to an address; where nothing answers at its path, it is looked for at the usual ones.
 * @throws JexoError JEXO_HTTP_STATUS that names the right address, when there is one
 */
export async function atRightPath<T>(
  url: string,
  headers: Readonly<Record<string, string>> | undefined,
  open: () => Promise<T>,
): Promise<T> {
  try {
    return await open();
  } catch (error) {
    const status = isJexoError(error) ? (error.data as { status?: number } | undefined)?.status : undefined;
    if (status !== 404 && status !== 405) throw error;
    const found = await rightPath(url, headers);
    if (found === undefined) throw error;
    throw new JexoError('JEXO_HTTP_STATUS', `There is no server at this path (HTTP ${status}), but there is one at ${found}.`, {
      where: url,
      next: `Connect to ${found} instead.`,
      cause: error,
    });
  }
}

async function rightPath(url: string, headers: Readonly<Record<string, string>> | undefined): Promise<string | undefined> {
  for (const path of usualPaths) {
    const other = new URL(path, url).href;
    if (other === new URL(url).href) continue;
    const client = await connectUrl(other, { ...(headers && { headers }), timeoutMs: 2000 }).catch(() => undefined);
    if (client === undefined) continue;
    await client.close();
    return other;
  }
  return undefined;
}
