import type { Prover } from './prover.js';
import type { Interceptor } from './http-call.js';

/** Adds what proves who we are to calls of the service's own host. */
export function signIn(prover: Prover): Interceptor {
  return (next) => async (call) => {
    if (call.url.host !== call.home) return next(call);
    const proof = await prover.prove(call.security, call);
    const url = new URL(call.url);
    if (proof.query.length > 0) url.search = [url.search.slice(1), ...proof.query].filter(Boolean).join('&');
    return next({ ...call, url, headers: { ...call.headers, ...proof.headers }, cookies: [...(call.cookies ?? []), ...proof.cookies] });
  };
}

/** A token may have been revoked before its time: after a 401 the call is made once more, with a new one. */
export function renewAccess(prover: Prover): Interceptor {
  return (next) => async (call) => {
    const received = await next(call);
    return received.status === 401 && prover.forget() ? next(call) : received;
  };
}
