import type { Call } from './call.js';
import type { Offer } from './offer.js';

/** What a client can ask for that middleware runs around. */
export type RequestKind = 'tools/call' | 'resources/read' | 'prompts/get' | 'completion/complete';

/** What a middleware is given of a call. */
export interface Request {
  /** What is asked for. */
  readonly method: RequestKind;
  /** The tool called, the resource or template read, the prompt rendered, or what an argument is completed for. */
  readonly offer: Offer;
  /**
   * The validated input: a tool's arguments, a resource's `{ uri }`, a template's variables, a prompt's arguments; for a completion
   * `{ argument, value, arguments }`.
   */
  readonly input: unknown;
  /** The way back to the caller. */
  readonly call: Call;
}

/**
 * Runs around every handler, outermost first. It may look, change, answer by itself or refuse by throwing.
 *
 * @example
 * const timed: Middleware = async (request, next) => {
 *   const start = performance.now();
 *   try { return await next(request); } finally { console.error(request.offer.name, performance.now() - start); }
 * };
 */
export type Middleware = (request: Request, next: (request: Request) => unknown) => unknown;

const handle = ({ offer, input, call }: Request): unknown => offer.run(input as never, call);

/** Names a middleware's type where it is written. */
export function middleware(run: Middleware): Middleware {
  return run;
}

/** Folds the list into one function, once, when the server is defined. */
export function compose(list: readonly Middleware[]): (request: Request) => unknown {
  return list.reduceRight<(request: Request) => unknown>((next, layer) => (request) => layer(request, next), handle);
}
