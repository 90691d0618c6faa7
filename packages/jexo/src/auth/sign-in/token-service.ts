import * as oauth from 'oauth4webapi';
import { deadline } from '../../engine/deadline.js';
import { isJexoError, JexoError, messageOf } from '../../errors.js';
import { isRecord } from '../../protocol/is-record.js';
import type { SignInStep } from '../../transports/http/client-auth.js';
import { isFetchable } from '../oauth/fetch-json.js';
import { scopesIn } from './challenges.js';
import { wordsOf, type ServerFound } from './discover.js';
import type { KeptClient, KeptServer, KeptSignIn } from './kept-sign-in.js';
import { claimsOf, withoutSecrets } from './readable.js';
import type { SignInPage } from './sign-in.js';

/** One sign-in by a person. */
export interface PersonSignIn {
  readonly endpoint: string;
  readonly resource: string;
  readonly server: ServerFound;
  readonly client: KeptClient;
  readonly scopes: readonly string[];
  readonly redirectUrl: string;
  readonly signal: AbortSignal;
  go(page: SignInPage): Promise<URL>;
}

/** What is asked of authorization servers. */
export interface TokenService {
  /** Registers this client (RFC 7591). */
  register(server: ServerFound, about: { readonly name: string; readonly redirectUrl: string }): Promise<KeptClient>;
  /** Sends a person to the authorization server, and takes the token that comes of it. */
  signIn(wish: PersonSignIn): Promise<KeptSignIn>;
  /** A new token in place of an older one. @returns undefined when the refresh token is refused */
  refresh(kept: KeptSignIn): Promise<KeptSignIn | undefined>;
  /** Gives tokens up (RFC 7009). @returns why not, when it takes no revocations */
  revoke(kept: KeptSignIn): Promise<string | undefined>;
  /** A token for a service itself, by its own credentials. */
  ofClient(server: ServerFound, client: KeptClient, resource: string, scopes: readonly string[]): Promise<TokenFound>;
}

/** A token, as an authorization server gave it. */
export interface TokenFound {
  readonly token: string;
  readonly refreshToken?: string;
  readonly expiresAt?: number;
  readonly scopes: readonly string[];
  readonly subject?: string;
}

const waitMs = 15_000;

/** Speaks with authorization servers; every exchange is told, without secrets. @throws JexoError JEXO_SIGN_IN */
export function tokenService(fetchBy: typeof fetch, tell: (step: SignInStep) => void): TokenService {
  const exchange = exchangeBy(fetchBy, tell);
  return {
    register: (server, about) => register(server, about, exchange),
    async signIn(wish) {
      const { endpoint, resource, server, client, scopes } = wish;
      const { code, verifier, redirectUrl } = await authorizationOf(wish, tell);
      const as = server as unknown as oauth.AuthorizationServer;
      const token = await exchange(
        'token for the code',
        server.token_endpoint,
        (options) =>
          oauth.authorizationCodeGrantRequest(as, clientOf(client), authOf(client), code, redirectUrl, verifier, {
            ...options,
            additionalParameters: resource === '' ? {} : { resource },
          }),
        (response) => oauth.processAuthorizationCodeResponse(as, clientOf(client), response),
      );
      const kept: KeptServer = {
        issuer: server.issuer,
        token_endpoint: server.token_endpoint,
        ...(server.revocation_endpoint !== undefined && { revocation_endpoint: server.revocation_endpoint }),
      };
      return { endpoint, resource, server: kept, client, ...found(token, scopes), signedInAt: Date.now() };
    },
    async refresh(kept) {
      const { server, client, resource, refreshToken } = kept;
      const as = server as unknown as oauth.AuthorizationServer;
      try {
        const token = await exchange(
          'token renewed',
          server.token_endpoint,
          (options) =>
            oauth.refreshTokenGrantRequest(as, clientOf(client), authOf(client), refreshToken!, {
              ...options,
              additionalParameters: resource === '' ? {} : { resource },
            }),
          (response) => oauth.processRefreshTokenResponse(as, clientOf(client), response),
        );
        return { ...kept, ...found(token, kept.scopes), refreshToken: token.refresh_token ?? refreshToken! };
      } catch (error) {
        const { cause } = error as { cause?: unknown };
        // What the authorization server has decided; anything else may pass.
        if (cause instanceof oauth.ResponseBodyError && cause.status < 500) return undefined;
        throw error;
      }
    },
    revoke: (kept) => revoke(kept, exchange),
    async ofClient(server, client, resource, scopes) {
      const as = server as unknown as oauth.AuthorizationServer;
      const parameters = { resource, ...(scopes.length > 0 && { scope: scopes.join(' ') }) };
      const token = await exchange(
        'token for this service',
        server.token_endpoint,
        (options) => oauth.clientCredentialsGrantRequest(as, clientOf(client), authOf(client), parameters, options),
        (response) => oauth.processClientCredentialsResponse(as, clientOf(client), response),
      );
      return found(token, scopes);
    },
  };
}

type Exchange = <T>(
  step: string,
  where: string,
  send: (options: ReturnType<typeof optionsBy>) => Promise<Response>,
  read: (response: Response) => Promise<T>,
) => Promise<T>;

/** One exchange: sent, told, and its failure put into words. */
function exchangeBy(fetchBy: typeof fetch, tell: (step: SignInStep) => void): Exchange {
  return async <T>(
    step: string,
    where: string,
    send: (options: ReturnType<typeof optionsBy>) => Promise<Response>,
    read: (response: Response) => Promise<T>,
  ): Promise<T> => {
    if (!isFetchable(new URL(where))) throw problem(step, where, 'it is not HTTPS');
    const limit = deadline(waitMs);
    const noted: { sent?: Record<string, unknown> } = {};
    let status: number | undefined;
    let received: Record<string, unknown> | undefined;
    try {
      const response = await send(optionsBy(fetchBy, limit.signal, noted));
      status = response.status;
      received = await bodyOf(response);
      if (status >= 300 && status < 400) throw problem(step, where, 'it redirects');
      return await read(response);
    } catch (error) {
      if (isJexoError(error)) throw error;
      const plain = status !== undefined && status >= 400 ? `it answered with HTTP ${status}` : plainWords(error);
      const words = wordsOf(received) || (limit.isOver ? 'it did not answer in time' : plain);
      throw problem(step, where, words, error);
    } finally {
      limit.clear();
      tell({
        step,
        url: where,
        method: 'POST',
        ...(status !== undefined && { status }),
        ...(noted.sent && { sent: withoutSecrets(noted.sent) }),
        ...(received && { received: withoutSecrets(received) }),
      });
    }
  };
}

/** Gives the refresh token up, then the access token. @returns why not, when it takes none back */
async function revoke({ server, client, token, refreshToken }: KeptSignIn, exchange: Exchange): Promise<string | undefined> {
  const place = server.revocation_endpoint;
  if (place === undefined) return `${server.issuer} takes no revocations: the token counts there until it ends`;
  const as = server as unknown as oauth.AuthorizationServer;
  const give = (kind: string, text: string) =>
    exchange(
      'token revoked',
      place,
      (options) =>
        oauth.revocationRequest(as, clientOf(client), authOf(client), text, {
          ...options,
          additionalParameters: { token_type_hint: kind },
        }),
      (response) => oauth.processRevocationResponse(response),
    );
  if (refreshToken !== undefined) await give('refresh_token', refreshToken);
  try {
    await give('access_token', token);
  } catch (error) {
    // Signed tokens are checked by their signature alone at many places, and cannot be revoked (RFC 7009, 2.2.1).
    if (((error as Error).cause as { error?: unknown } | undefined)?.error !== 'unsupported_token_type') throw error;
    return `${server.issuer} revokes no access tokens: this one counts until it ends`;
  }
  return undefined;
}

async function register(
  server: ServerFound,
  { name, redirectUrl }: { readonly name: string; readonly redirectUrl: string },
  exchange: Exchange,
): Promise<KeptClient> {
  const made = await exchange(
    'registration',
    server.registration_endpoint!,
    (options) =>
      oauth.dynamicClientRegistrationRequest(
        server as unknown as oauth.AuthorizationServer,
        {
          client_name: name,
          redirect_uris: [redirectUrl],
          grant_types: ['authorization_code', 'refresh_token'],
          response_types: ['code'],
          token_endpoint_auth_method: 'none',
          // No scopes: a client that was registered with those of today could not ask for more tomorrow.
          application_type: redirectUrl.startsWith('https:') ? 'web' : 'native',
        },
        options,
      ),
    (response) => oauth.processDynamicClientRegistrationResponse(response),
  );
  const secret = typeof made.client_secret === 'string' ? made.client_secret : undefined;
  const method = made.token_endpoint_auth_method === 'client_secret_post' ? 'client_secret_post' : 'client_secret_basic';
  const end = made.client_secret_expires_at;
  return {
    id: made.client_id,
    method: secret === undefined || made.token_endpoint_auth_method === 'none' ? 'none' : method,
    by: 'registration',
    redirectUrl,
    ...(secret !== undefined && { secret }),
    ...(typeof end === 'number' && end > 0 && { secretExpiresAt: end }),
  };
}

/** Sends the person to the authorization server. @returns the parameters of the answer, whose `state` and issuer hold (RFC 9207) */
async function authorizationOf(
  { endpoint, resource, server, client, scopes, redirectUrl, signal, go }: PersonSignIn,
  tell: (step: SignInStep) => void,
): Promise<{ code: URLSearchParams; verifier: string; redirectUrl: string }> {
  const verifier = oauth.generateRandomCodeVerifier();
  const state = oauth.generateRandomState();
  const url = new URL(server.authorization_endpoint);
  const parameters = {
    response_type: 'code',
    client_id: client.id,
    redirect_uri: redirectUrl,
    code_challenge: await oauth.calculatePKCECodeChallenge(verifier),
    code_challenge_method: 'S256',
    state,
    ...(resource !== '' && { resource }),
    ...(scopes.length > 0 && { scope: scopes.join(' ') }),
  };
  for (const [name, value] of Object.entries(parameters)) url.searchParams.set(name, value);
  tell({ step: 'a person is sent to the authorization server', url: server.authorization_endpoint, sent: withoutSecrets(parameters) });
  const isAnswer = (address: URL) => address.searchParams.get('state') === state;
  const answer = await go({ url: url.href, endpoint, issuer: server.issuer, scopes, isAnswer, signal });
  const said = Object.fromEntries(answer.searchParams);
  tell({ step: 'the person came back', received: withoutSecrets(said) });
  try {
    const code = oauth.validateAuthResponse(server as unknown as oauth.AuthorizationServer, clientOf(client), answer, state);
    return { code, verifier, redirectUrl };
  } catch (error) {
    const refused = said.error === 'access_denied' ? 'it was declined there' : wordsOf(said) || plainWords(error);
    throw problem('sign-in', server.issuer, refused, error);
  }
}

const clientOf = ({ id }: KeptClient): oauth.Client => ({ client_id: id });

function authOf({ method, secret }: KeptClient): oauth.ClientAuth {
  if (secret === undefined || method === 'none') return oauth.None();
  return method === 'client_secret_post' ? oauth.ClientSecretPost(secret) : oauth.ClientSecretBasic(secret);
}

function optionsBy(fetchBy: typeof fetch, signal: AbortSignal, noted: { sent?: Record<string, unknown> }) {
  return {
    // Plain HTTP is for this machine only: every address has been checked for that.
    [oauth.allowInsecureRequests]: true,
    [oauth.customFetch]: (url: string, init: RequestInit) => {
      const { body } = init;
      if (body instanceof URLSearchParams) noted.sent = Object.fromEntries(body);
      else if (typeof body === 'string') noted.sent = { ...(JSON.parse(body) as object) };
      return fetchBy(url, init);
    },
    signal,
  } as const;
}

function found(token: oauth.TokenEndpointResponse, asked: readonly string[]): TokenFound {
  const { access_token: text, refresh_token: refreshToken, expires_in: seconds, scope } = token;
  const claims = claimsOf(text);
  const subject = oauth.getValidatedIdTokenClaims(token)?.sub ?? (typeof claims?.sub === 'string' ? claims.sub : undefined);
  if (token.token_type !== 'bearer')
    throw new JexoError('JEXO_SIGN_IN', `The authorization server gave a token of the kind ${token.token_type}, which was not asked for.`);
  return {
    token: text,
    scopes: scope === undefined ? asked : scopesIn(scope),
    ...(refreshToken !== undefined && { refreshToken }),
    ...(seconds !== undefined && { expiresAt: Date.now() + 1000 * seconds }),
    ...(subject !== undefined && { subject }),
  };
}

/** What came back, where it is a document. */
async function bodyOf(response: Response): Promise<Record<string, unknown> | undefined> {
  const value: unknown = await response
    .clone()
    .json()
    .catch(() => undefined);
  return isRecord(value) ? value : undefined;
}

function problem(step: string, where: string, words: string, cause?: unknown): JexoError {
  const known = Object.entries(advice).find(([code]) => words.startsWith(code));
  return new JexoError('JEXO_SIGN_IN', `The sign-in failed (${step}): ${where}: ${words.replace(/\.$/, '')}.`, {
    where,
    ...(known && { next: known[1] }),
    cause,
  });
}

const advice: Readonly<Record<string, string>> = {
  'it was declined': 'Sign in again, and agree there.',
  access_denied: 'Sign in again, and agree there.',
  invalid_grant: 'The code or the refresh token has been used, or has ended. Sign in again.',
  invalid_client:
    'The authorization server does not know this client any more. Sign out, then sign in again; check the client’s id and secret.',
  invalid_scope: 'The authorization server does not give these scopes. Ask who runs it, or name others with --scope.',
  invalid_target: 'The authorization server gives no tokens for this server. Its operator has to register the server’s address there.',
  invalid_redirect_uri:
    'The authorization server does not take an address on this machine. Register a client by hand, and give --client-id.',
  temporarily_unavailable: 'Try again later.',
  server_error: 'The fault is at the authorization server. Try again later.',
};

/** Failures of the library in words: its messages are for programmers. */
function plainWords(error: unknown): string {
  const { cause } = error as { cause?: unknown };
  const inner = cause instanceof Error ? `: ${cause.message}` : '';
  return `${messageOf(error)}${inner}`;
}
