import type { Call } from './call.js';
import type { ToolOffer } from './offer.js';

export interface Request {
  readonly tool: ToolOffer;
  /** The validated input. Middleware may hand another one to `next`. */
  readonly input: unknown;
  readonly call: Call;
}

/**
 * Runs around every handler, outermost first. It may look, change, answer by itself or refuse by throwing.
 *
 * @example
 * const timed: Middleware = async (request, next) => {
 *   const start = performance.now();
 *   try { return await next(request); } finally { console.error(request.tool.name, performance.now() - start); }
 * };
 */
export type Middleware = (request: Request, next: (request: Request) => unknown) => unknown;

const handle = ({ tool, input, call }: Request): unknown => tool.run(input as never, call);

/** Names a middleware's type where it is written. */
export function middleware(run: Middleware): Middleware {
  return run;
}

/** Folds the list into one function, once, when the server is defined. */
export function compose(list: readonly Middleware[]): (request: Request) => unknown {
  return list.reduceRight<(request: Request) => unknown>((next, layer) => (request) => layer(request, next), handle);
}
