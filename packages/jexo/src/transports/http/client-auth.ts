import type { MaybePromise } from '../../engine/store.js';

/** A refused request, as `ClientAuth.refused` gets it. */
export interface RefusedRequest {
  /** The endpoint’s address. */
  readonly url: string;
  /** 401: nobody was recognised. 403: the caller may not. */
  readonly status: 401 | 403;
  /** The value of `WWW-Authenticate`, as it came. */
  readonly challenge: string | undefined;
  /** What was sent to prove who calls. */
  readonly sent: Readonly<Record<string, string>>;
  /** Fires when nobody waits for the answer any more. */
  readonly signal: AbortSignal;
  /** Notes a step of a sign-in on the wire tap. */
  readonly tell: (step: SignInStep) => void;
}

/** One step of a sign-in, without secrets: an exchange with an authorization server, or what a person or this side did. */
export interface SignInStep {
  /** What was done, in a few words: `authorization server metadata`. */
  readonly step: string;
  /** Where, for an exchange over HTTP. */
  readonly url?: string;
  /** The method of the exchange. */
  readonly method?: string;
  /** The status it was answered with. */
  readonly status?: number;
  /** What was sent; secrets are masked. */
  readonly sent?: Readonly<Record<string, unknown>>;
  /** What came back; secrets are masked, and the claims of signed tokens are readable. */
  readonly received?: Readonly<Record<string, unknown>>;
  /** What is wrong, and what follows from it. */
  readonly note?: string;
}

/**
 * Proves to servers who calls. It is asked before every request, also within a session (Authorization, "Access Token Usage").
 *
 * @example
 * const auth: ClientAuth = { headers: () => ({ 'x-apiary-key': key }), refused: () => false };
 */
export interface ClientAuth {
  /** The headers of one request to a server; they are sent to its origin alone, and no trace shows their values. */
  headers(request: {
    readonly url: string;
    readonly method: string;
    readonly signal: AbortSignal;
  }): MaybePromise<Readonly<Record<string, string>>>;
  /**
   * Called when a server answers 401 or 403.
   * @returns true when the request is worth sending once more; it is sent at most three times
   * @throws what the request fails with in place of the status
   */
  refused(request: RefusedRequest): MaybePromise<boolean>;
}
