import { JexoError } from '../../errors.js';

const mostRedirects = 5;

/**
 * Sends a request and follows redirects within its own origin only: headers that the user gave, the session and the body are not for
 * anybody else.
 * @throws JexoError JEXO_HTTP_STATUS when a redirect leads elsewhere
 */
export async function fetchWithin(send: typeof fetch, url: string, init: RequestInit): Promise<Response> {
  let at = url;
  for (let redirects = 0; ; redirects++) {
    const response = await send(at, { ...init, redirect: 'manual' });
    const refuse = (what: string, next?: string) =>
      new JexoError('JEXO_HTTP_STATUS', `${url} ${what}.`, {
        where: url,
        data: { status: response.status },
        ...(next !== undefined && { next }),
      });
    if (response.type === 'opaqueredirect') throw refuse('redirects, which is not followed in a browser', 'Give the address it leads to.');
    const to = response.status >= 300 && response.status < 400 ? response.headers.get('location') : null;
    if (to === null) return response;
    await response.body?.cancel();
    if (!URL.canParse(to, at)) throw refuse(`redirects to ${JSON.stringify(to.slice(0, 200))}, which is no address`);
    const next = new URL(to, at);
    if (next.origin !== new URL(url).origin)
      throw refuse(
        `redirects to ${next.origin}, another place than the one that was given`,
        `If it is right, give that address: ${next.href}`,
      );
    // With any other status a POST would become a GET, and its message would be lost (RFC 9110, 15.4).
    if (init.method === 'POST' && response.status !== 307 && response.status !== 308)
      throw refuse(`redirects by HTTP ${response.status}, which drops what is posted`, `Give the address it leads to: ${next.href}`);
    if (redirects >= mostRedirects) throw refuse(`redirects more than ${mostRedirects} times`);
    at = next.href;
  }
}
