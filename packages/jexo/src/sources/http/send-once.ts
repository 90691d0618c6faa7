import { JexoError } from '../../errors.js';
import type { Send } from './http-call.js';
import { readAll } from './read-all.js';
import { UnreachedError, upstreamError } from './upstream-error.js';

/** Sends a request once and reads its answer, up to `maxBytes` of it. A redirect is given as it is, without its body. */
export function sendOnce(title: string, fetchOne: typeof fetch, maxBytes: number): Send {
  return async ({ method, url, headers, cookies = [], body, signal }) => {
    try {
      const response = await fetchOne(url, {
        method,
        redirect: 'manual',
        signal,
        headers: { ...headers, ...(cookies.length > 0 && { Cookie: cookies.join('; ') }) },
        ...(body !== undefined && { body }),
      });
      const { status, statusText, headers: received } = response;
      if (isRedirect(status) && received.has('location')) {
        await response.body?.cancel();
        return { status, statusText, headers: received, bytes: new Uint8Array(0) };
      }
      const tooLarge = () =>
        upstreamError(
          title,
          url,
          `answered with more than ${megabytes(maxBytes)}.`,
          'Ask for less: with a filter, a limit, or fewer fields.',
        );
      return { status, statusText, headers: received, bytes: await readAll(response, maxBytes, tooLarge) };
    } catch (error) {
      if (error instanceof JexoError || signal.aborted) throw error;
      throw new UnreachedError(title, url, error);
    }
  };
}

export const isRedirect = (status: number) => status >= 300 && status < 400;

const megabytes = (bytes: number) => `${Math.round(bytes / 100_000) / 10} MB`;
