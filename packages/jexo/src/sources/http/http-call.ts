import type { Caller } from '../../engine/servable.js';
import type { SecurityNeeds } from './security.js';

/** One request to an upstream service, as interceptors see it. */
export interface HttpCall {
  readonly method: string;
  readonly url: URL;
  readonly headers: Readonly<Record<string, string>>;
  readonly cookies?: readonly string[];
  readonly body?: string | Uint8Array<ArrayBuffer> | FormData;
  readonly signal: AbortSignal;
  /** In whose name it is made, where somebody called. */
  readonly caller?: Caller;
  /** The service's own host: credentials go there and nowhere else. */
  readonly home: string;
  /** Alternatives of what proves who we are, each with all of its schemes; empty when the service wants nothing. */
  readonly security: readonly SecurityNeeds[];
  /** True for a request that may be sent twice although its method does not say so. */
  readonly isRepeatable?: boolean;
}

/** Who wants something of an upstream service. A call of a handler is one. */
export interface AskedBy {
  readonly signal: AbortSignal;
  readonly caller?: Caller;
}

/** An answer, read whole. */
export interface Received {
  readonly status: number;
  readonly statusText: string;
  readonly headers: Headers;
  readonly bytes: Uint8Array;
}

/** @throws JexoError JEXO_REST, in words for whoever called */
export type Send = (call: HttpCall) => Promise<Received>;

/** Wraps one concern around a send. */
export type Interceptor = (next: Send) => Send;

/** The send with all interceptors around it, the first one outermost. */
export function intercepted(send: Send, interceptors: readonly Interceptor[]): Send {
  return interceptors.reduceRight<Send>((next, intercept) => intercept(next), send);
}
