import type { MaybePromise } from '../../engine/store.js';

/** What this client is to an authorization server. */
export interface KeptClient {
  /** Its id at the authorization server. */
  readonly id: string;
  /** Its secret there, when it has one. */
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
  /** As its metadata names it. */
  readonly issuer: string;
  /** Where tokens are to be had. */
  readonly token_endpoint: string;
  /** Where tokens are given up; undefined where they cannot be. */
  readonly revocation_endpoint?: string;
}

/** A sign-in at one server. */
export interface KeptSignIn {
  /** The endpoint’s address, canonical: tokens are sent there and nowhere else. */
  readonly endpoint: string;
  /** What the token is for, as it was asked for (RFC 8707). */
  readonly resource: string;
  /** Who gave the token. */
  readonly server: KeptServer;
  /** What this client is to it. */
  readonly client: KeptClient;
  /** The access token: a secret. */
  readonly token: string;
  /** What renews the token: a secret. */
  readonly refreshToken?: string;
  /** Milliseconds since the epoch; undefined when the authorization server did not say. */
  readonly expiresAt?: number;
  /** What the token may be used for. */
  readonly scopes: readonly string[];
  /** Who signed in, where the token says so. */
  readonly subject?: string;
  /** Milliseconds since the epoch. */
  readonly signedInAt: number;
}

/** Where sign-ins are kept. */
export interface SignInStore {
  /** The sign-in at an endpoint. */
  get(endpoint: string): MaybePromise<KeptSignIn | undefined>;
  /** Keeps a sign-in, or forgets it. */
  set(endpoint: string, kept: KeptSignIn | undefined): MaybePromise<void>;
  /** All that is kept. */
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
      turns.set(
        endpoint,
        turn.catch(() => undefined),
      );
      return turn;
    },
  };
}

/** The address of an endpoint as it is compared and sent: no query, no fragment, no slash at the end (Authorization, "Canonical Server URI"). */
export function canonicalEndpoint(url: string): string {
  const { origin, pathname } = new URL(url);
  return `${origin}${pathname.replace(/\/+$/, '')}`;
}
