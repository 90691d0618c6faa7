import type { ClientAuth, RefusedRequest, SignInStep } from '../../transports/http/client-auth.js';
import { tokenChallenge } from './challenges.js';
import { chooseServer, discoverResource, wantedScopes } from './discover.js';
import { fetchNear } from './fetch-near.js';
import { canonicalEndpoint, type KeptClient } from './kept-sign-in.js';
import type { TokenFound } from './token-service.js';

/** How a service signs in, where no person is. */
export interface ServiceSignInOptions {
  /** Its id at the authorization server. */
  readonly clientId: string;
  /** Its secret there. */
  readonly clientSecret: string;
  /** Scopes beyond those that the server names. */
  readonly scopes?: readonly string[];
  /** The authorization server that knows it: the secret is sent there alone, whatever a server names. */
  readonly issuer: string;
  /** Called with every step, without secrets. */
  readonly onStep?: (step: SignInStep) => void;
  /** Fetches what authorization servers say. Default: one that does not follow a public server into private networks. */
  readonly fetch?: typeof fetch;
}

const earlyMs = 30_000;

/**
 * Signs a service in by its own credentials (client credentials, RFC 6749, 4.4): a job, another server, a pipeline. Tokens are kept in memory, renewed
 * before they end, and once after a refusal.
 *
 * @example
 * const client = await connect('https://apiary.example/mcp', { auth: serviceSignIn({ issuer: 'https://login.example', clientId: 'scales', clientSecret: process.env.SCALES_SECRET! }) });
 */
export function serviceSignIn(options: ServiceSignInOptions): ClientAuth {
  const { clientId: id, clientSecret: secret, issuer, onStep } = options;
  const tokens = new Map<string, { readonly found: TokenFound; readonly again: () => Promise<void> }>();
  const under = new Map<string, Promise<void>>();
  const fetchToken = async (endpoint: string, { challenge: header, tell }: Pick<RefusedRequest, 'challenge' | 'tell'>): Promise<void> => {
    const send = options.fetch ?? fetchNear(endpoint);
    const note = (step: SignInStep) => {
      tell(step);
      onStep?.(step);
    };
    const challenge = tokenChallenge(header);
    const resource = await discoverResource(endpoint, challenge, send, (why) => note({ step: 'resource metadata', note: why }));
    const server = await chooseServer(endpoint, resource, issuer, send);
    note({ step: 'authorization server metadata', url: server.issuer, received: { ...server } });
    const methods = server.token_endpoint_auth_methods_supported ?? ['client_secret_basic'];
    const client: KeptClient = {
      id,
      secret,
      by: 'given',
      method: methods.includes('client_secret_basic') ? 'client_secret_basic' : 'client_secret_post',
    };
    const scopes = [...new Set([...wantedScopes(challenge, resource), ...(options.scopes ?? [])])];
    const { tokenService } = await import('./token-service.js');
    const ask = async () => {
      const found = await tokenService(send, note).ofClient(server, client, resource?.resource ?? endpoint, scopes);
      tokens.set(endpoint, { found, again: ask });
    };
    await ask();
  };
  /** One at a time: many calls that are refused at once want one token. */
  const once = (endpoint: string, work: () => Promise<void>): Promise<void> => {
    const before = under.get(endpoint) ?? work().finally(() => under.delete(endpoint));
    under.set(endpoint, before);
    return before;
  };
  return {
    async headers({ url }) {
      const endpoint = canonicalEndpoint(url);
      const kept = tokens.get(endpoint);
      if (kept === undefined) return {};
      const { expiresAt = Infinity } = kept.found;
      // When it cannot be had, the older one may still do; the server says so.
      if (expiresAt - earlyMs < Date.now()) await once(endpoint, kept.again).catch(() => undefined);
      return { authorization: `Bearer ${tokens.get(endpoint)!.found.token}` };
    },
    async refused(request) {
      const endpoint = canonicalEndpoint(request.url);
      if (request.status === 403) return false; // nobody is there who could give more
      const kept = tokens.get(endpoint);
      if (kept !== undefined && request.sent.authorization !== `Bearer ${kept.found.token}`) return true;
      if (request.challenge !== undefined && tokenChallenge(request.challenge) === undefined) return false;
      await once(endpoint, () => fetchToken(endpoint, request));
      return true;
    },
  };
}
