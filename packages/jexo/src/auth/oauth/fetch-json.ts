import { deadline } from '../../engine/deadline.js';
import { JexoError, messageOf } from '../../errors.js';
import { isRecord } from '../../protocol/is-record.js';

/** Bytes that a document of an authorization server may have. */
const mostBytes = 1_000_000;
const waitMs = 5000;

/** True for addresses that may be fetched from: HTTPS, and plain HTTP on this machine (Authorization, "Communication Security"). */
export function isFetchable(url: URL): boolean {
  return url.protocol === 'https:' || (url.protocol === 'http:' && /^(?:localhost|127(?:\.\d{1,3}){3}|\[::1\])$/.test(url.hostname));
}

/**
 * Fetches a document of an authorization server: no redirect is followed, and no more is read than such documents have.
 * @returns undefined for a 404
 * @throws JexoError JEXO_SIGN_IN
 */
export async function fetchJson(url: URL, fetchBy: typeof fetch = fetch): Promise<Record<string, unknown> | undefined> {
  const fail = (why: string, cause?: unknown) =>
    new JexoError('JEXO_SIGN_IN', `${url.href} cannot be used: ${why}.`, { where: url.href, cause });
  if (!isFetchable(url)) throw fail('it is not HTTPS');
  const limit = deadline(waitMs);
  try {
    const response = await fetchBy(url, { redirect: 'manual', signal: limit.signal, headers: { accept: 'application/json' } });
    if (response.status === 404) {
      await response.body?.cancel();
      return undefined;
    }
    if (response.status !== 200) {
      await response.body?.cancel();
      throw fail(response.status >= 300 && response.status < 400 ? 'it redirects' : `it answered with HTTP ${response.status}`);
    }
    const value: unknown = JSON.parse(await limited(response, fail));
    if (!isRecord(value)) throw fail('it is not a JSON object');
    return value;
  } catch (error) {
    if (error instanceof JexoError) throw error;
    throw fail(
      limit.isOver ? 'it did not answer in time' : messageOf((error as { cause?: unknown }).cause ?? error).replace(/\.$/, ''),
      error,
    );
  } finally {
    limit.clear();
  }
}

async function limited(response: Response, fail: (why: string) => JexoError): Promise<string> {
  const decoder = new TextDecoder();
  let text = '';
  let bytes = 0;
  for await (const part of (response.body ?? []) as AsyncIterable<Uint8Array>) {
    bytes += part.byteLength;
    if (bytes > mostBytes) throw fail(`it has more than ${mostBytes} bytes`);
    text += decoder.decode(part, { stream: true });
  }
  return text + decoder.decode();
}
