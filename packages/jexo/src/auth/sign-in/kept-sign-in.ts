import type { MaybePromise } from '../../engine/store.js';

/** What this client is to an authorization server. */
export interface KeptClient {
  readonly id: string;
  readonly secret?: string;
  /** When the secret ends, in seconds since the epoch. */
  readonly secretExpiresAt?: number;
  /** How it proves itself at the token endpoint. */
  readonly method: 'none' | 'client_secret_basic' | 'client_secret_post';
  /** Given by a person, the address of a document, or registered by RFC 7591. */
  readonly by: 'given' | 'document' | 'registration';
  /** Where its sign-ins come back to. */
  readonly redirectUrl?: string;
}

/** What is needed of an authorization server after the sign-in. */
export interface KeptServer {
  readonly issuer: string;
  readonly token_endpoint: string;
  readonly revocation_endpoint?: string;
}

/** A sign-in at one server. */
export interface KeptSignIn {
  /** The endpoint’s address, canonical: tokens are sent there and nowhere else. */
  readonly endpoint: string;
  /** What the token is for, as it was asked for (RFC 8707). */
  readonly resource: string;
  readonly server: KeptServer;
  readonly client: KeptClient;
  readonly token: string;
  readonly refreshToken?: string;
  /** Milliseconds since the epoch; undefined when the authorization server did not say. */
  readonly expiresAt?: number;
  readonly scopes: readonly string[];
  /** Who signed in, where the token says so. */
  readonly subject?: string;
  /** Milliseconds since the epoch. */
  readonly signedInAt: number;
}

/** Where sign-ins are kept. */
export interface SignInStore {
  get(endpoint: string): MaybePromise<KeptSignIn | undefined>;
  set(endpoint: string, kept: KeptSignIn | undefined): MaybePromise<void>;
  list(): MaybePromise<readonly KeptSignIn[]>;
  /** Does something that must not be done twice at once, in whatever process: a refresh token may work only once. */
  alone<T>(endpoint: string, work: () => Promise<T>): Promise<T>;
}

/** Keeps sign-ins as long as the process lives, or the page. */
export function memorySignIns(): SignInStore {
  const kept = new Map<string, KeptSignIn>();
  const turns = new Map<string, Promise<unknown>>();
  return {
    get: (endpoint) => kept.get(endpoint),
    set: (endpoint, found) => void (found === undefined ? kept.delete(endpoint) : kept.set(endpoint, found)),
    list: () => [...kept.values()],
    alone(endpoint, work) {
      const turn = (turns.get(endpoint) ?? Promise.resolve()).then(work, work);
      turns.set(endpoint, turn.catch(() => undefined));
      return turn;
    },
  };
}

/** The address of an endpoint as it is compared and sent: no query, no fragment, no slash at the end (Authorization, "Canonical Server URI"). */
export function canonicalEndpoint(url: string): string {
  const { origin, pathname } = new URL(url);
  return `${origin}${pathname.replace(/\/+$/, '')}`;
}
