import { LRUCache } from 'lru-cache';
import { tokenOf } from '../../engine/caller-token.js';
import type { Caller } from '../../engine/servable.js';
import { JexoError, messageOf } from '../../errors.js';
import type { Auth } from './auth.js';
import type { AskedBy } from './http-call.js';
import type { Secured, SecurityScheme } from './security.js';

type ClientCredentials = Extract<Auth, { kind: 'clientCredentials' | 'tokenExchange' }>;

/** Seconds before its end from which a token is fetched again. */
const early = 30;
/** Tokens that are kept: one for each caller, where they are exchanged. */
const mostTokens = 10_000;
const accessTokenType = 'urn:ietf:params:oauth:token-type:access_token';
/** Seconds a token is good for when the server does not say. */
const usualSeconds = 300;

/** Tokens of a service's own authorization server (RFC 6749, 4.4), kept until shortly before they run out. */
export interface AccessTokens {
  /** @throws JexoError JEXO_REST when none can be had, JEXO_DEFINITION when nothing says where */
  get(name: string, scheme: SecurityScheme | undefined, auth: ClientCredentials, scopes: readonly string[], by: AskedBy): Promise<string>;
  /** False when there were none. */
  forget(): boolean;
}

/** @param secret reads a setting, and remembers its value as a secret */
export function createAccessTokens(
  service: Secured,
  secret: (setting: ClientCredentials['id'], what: string) => string,
  address: (setting: NonNullable<ClientCredentials['tokenUrl']>) => string,
  remember: (token: string) => void,
  send: typeof fetch,
): AccessTokens {
  const tokens = new LRUCache<string, { readonly value: string; readonly until: number }>({ max: mostTokens });
  return {
    async get(name, scheme, auth, scopes, { signal, caller }) {
      const scope = auth.scope ?? scopes.join(' ');
      const form = auth.kind === 'tokenExchange' ? exchangeForm(service, auth, caller) : { grant_type: 'client_credentials' };
      // What one caller's token was exchanged for is for this caller alone.
      const key = `${name} ${scope} ${'subject_token' in form ? form.subject_token : ''}`;
      const kept = tokens.get(key);
      if (kept !== undefined && kept.until > Date.now()) return kept.value;
      // A caller's token goes to no address that a document from elsewhere names.
      const isDocumented = scheme?.type === 'oauth2' && !(auth.kind === 'tokenExchange' && service.isRemote === true);
      const url = auth.tokenUrl !== undefined ? address(auth.tokenUrl) : isDocumented ? scheme.tokenUrl : undefined;
      if (url === undefined)
        throw new JexoError('JEXO_DEFINITION', `${service.title} does not say where tokens are to be had.`, {
          next: 'Give it a tokenUrl.',
        });
      const id = encodeURIComponent(secret(auth.id, 'The client’s id'));
      const pair = `${id}:${encodeURIComponent(secret(auth.secret, 'The client’s secret'))}`;
      const { token, seconds } = await fetchToken(url, pair, { ...form, ...(scope !== '' && { scope }) }, send, signal);
      remember(token);
      tokens.set(key, { value: token, until: Date.now() + Math.max(1, seconds - early) * 1000 });
      return token;
    },
    forget() {
      const had = tokens.size > 0;
      tokens.clear();
      return had;
    },
  };
}

/** @throws JexoError JEXO_REST when nobody has come with a token */
function exchangeForm(
  { title }: Secured,
  { audience }: Extract<Auth, { kind: 'tokenExchange' }>,
  caller: Caller | undefined,
): Readonly<Record<string, string>> & { readonly subject_token: string } {
  const token = caller === undefined ? undefined : tokenOf(caller);
  if (token === undefined)
    throw new JexoError('JEXO_REST', `${title} is called in the name of the caller, who has not signed in.`, {
      next: 'Serve it over HTTP with oauth(…), and sign in there.',
    });
  return {
    grant_type: 'urn:ietf:params:oauth:grant-type:token-exchange',
    subject_token: token,
    subject_token_type: accessTokenType,
    requested_token_type: accessTokenType,
    ...(audience !== undefined && { audience }),
  };
}

async function fetchToken(
  url: string,
  pair: string,
  form: Readonly<Record<string, string>>,
  send: typeof fetch,
  signal: AbortSignal,
): Promise<{ readonly token: string; readonly seconds: number }> {
  const refuse = (why: string) =>
    new JexoError('JEXO_REST', `No token could be had from ${new URL(url).origin}: ${why}`, {
      where: url,
      next: 'Check the client’s id and secret, and its scopes.',
    });
  let response: Response;
  try {
    response = await send(url, {
      method: 'POST',
      redirect: 'error',
      signal,
      headers: { 'Content-Type': 'application/x-www-form-urlencoded', Accept: 'application/json', Authorization: `Basic ${btoa(pair)}` },
      body: new URLSearchParams(form),
    });
  } catch (error) {
    signal.throwIfAborted();
    throw refuse(messageOf((error as { cause?: unknown }).cause ?? error));
  }
  const answer = (await response.json().catch(() => ({}))) as { access_token?: unknown; expires_in?: unknown; error?: unknown };
  if (!response.ok || typeof answer.access_token !== 'string')
    throw refuse(`HTTP ${response.status}${typeof answer.error === 'string' ? ` ${answer.error}` : ''}`);
  return { token: answer.access_token, seconds: typeof answer.expires_in === 'number' ? answer.expires_in : usualSeconds };
}
