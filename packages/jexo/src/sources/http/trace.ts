import { outgoingTrace } from '../../offers/tracing.js';
import type { Interceptor } from './http-call.js';

/** Hands the running trace on, unless the request carries one of its own. */
export const trace: Interceptor = (next) => (call) => {
  const carried = outgoingTrace();
  return next(Object.keys(carried).length === 0 ? call : { ...call, headers: { ...carried, ...call.headers } });
};
