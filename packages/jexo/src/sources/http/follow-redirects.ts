import type { HttpCall, Interceptor } from './http-call.js';
import { isRedirect } from './send-once.js';
import { upstreamError } from './upstream-error.js';

const mostRedirects = 5;

/** Follows redirects to the service's own host and to declared ones, and to nowhere else. */
export function followRedirects(title: string, hosts: readonly string[]): Interceptor {
  return (next) => async (call) => {
    let current = call;
    for (let count = 0; ; count++) {
      const received = await next(current);
      const to = isRedirect(received.status) ? received.headers.get('location') : null;
      if (to === null) return received;
      const refuse = (what: string, remedy?: string) => upstreamError(title, current.url, what, remedy);
      if (!URL.canParse(to, current.url)) throw refuse(`redirects to ${JSON.stringify(to)}, which is no address.`);
      const url = new URL(to, current.url);
      if (url.host !== call.home && !hosts.includes(url.host))
        throw refuse(`redirects to ${url.host}, a host that was not declared.`, `If it is right, allow it: hosts: ['${url.host}'].`);
      if (current.url.protocol === 'https:' && url.protocol !== 'https:')
        throw refuse(`redirects from https to ${url.protocol}//${url.host}, which is refused.`);
      if (current.body !== undefined && received.status >= 307 && url.origin !== call.url.origin)
        throw refuse(`redirects what is sent to ${url.host}, another host, which is refused.`, 'Give the address it leads to as the base.');
      if (count >= mostRedirects) throw refuse(`redirects more than ${mostRedirects} times.`);
      current = redirected(call, current, url, received.status);
    }
  };
}

/** The request behind a redirect: a GET where the status says so (RFC 9110, 15.4); another host is told nothing but what is wanted. */
function redirected(first: HttpCall, { method, body }: HttpCall, url: URL, status: number): HttpCall {
  const { body: _, ...bare } = first;
  const becomesGet = status === 303 || (method === 'POST' && status < 303);
  const next: HttpCall = { ...bare, url, ...(becomesGet ? { method: 'GET' } : { method, ...(body !== undefined && { body }) }) };
  if (url.host === first.home) return next;
  // Any other header may hold a secret of this service's.
  const plain = Object.entries(first.headers).filter(([name]) => /^(?:accept|content-type)$/i.test(name));
  return { ...next, headers: Object.fromEntries(plain), cookies: [] };
}
