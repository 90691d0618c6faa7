import { JexoError, messageOf } from '../../errors.js';
import { snakeCase } from '../functions/snake-case.js';
import { env, isEnvSetting, readSetting, type Setting } from '../setting.js';
import type { Settings } from '../../offers/source.js';
import type { Secured, SecurityNeeds, SecurityScheme } from './security.js';

/** A way to prove who we are to an API. Made by `bearer`, `basic`, `apiKey` or `clientCredentials`. */
export type Auth =
  | { readonly kind: 'bearer'; readonly token: Setting }
  | { readonly kind: 'basic'; readonly user: Setting; readonly password: Setting }
  | { readonly kind: 'apiKey'; readonly value: Setting }
  | {
      readonly kind: 'clientCredentials';
      readonly id: Setting;
      readonly secret: Setting;
      readonly tokenUrl?: Setting;
      readonly scope?: string;
    };

/** `Authorization: Bearer <token>`. */
export const bearer = (token: Setting): Auth => ({ kind: 'bearer', token });
/** `Authorization: Basic …` (RFC 7617). */
export const basic = (user: Setting, password: Setting): Auth => ({ kind: 'basic', user, password });
/** A key in the header, query parameter or cookie the document names. */
export const apiKey = (value: Setting): Auth => ({ kind: 'apiKey', value });
/** A token from the API's own authorization server, fetched when it is needed and again before it runs out (RFC 6749, 4.4). */
export const clientCredentials = (options: Omit<Extract<Auth, { kind: 'clientCredentials' }>, 'kind'>): Auth => ({
  kind: 'clientCredentials',
  ...options,
});

/** What is added to one request. */
export interface Proof {
  readonly headers: Record<string, string>;
  readonly query: readonly string[];
  readonly cookies: readonly string[];
}

export interface Prover {
  /** @throws JexoError JEXO_SETTING when a secret is missing, JEXO_REST when no token can be had */
  prove(security: readonly SecurityNeeds[], signal: AbortSignal): Promise<Proof>;
  /** Forgets tokens that were refused; false when there is nothing to be done about it. */
  forget(): boolean;
  /** Secrets that have been used, to be kept out of answers and messages. */
  secrets(): readonly string[];
  /** Variables the secrets are read from, for messages. */
  readonly variables: readonly string[];
  /** Variables that calls of this security need: those of the first alternative that is set, or of the first we know. */
  needed(calls: readonly (readonly SecurityNeeds[])[]): readonly string[];
  /** Schemes whose secrets are not looked for, because the document that names them is not on this disk. */
  readonly notTrusted: readonly string[];
}

const none: Proof = { headers: {}, query: [], cookies: [] };
/** Seconds before its end from which a token is fetched anew. */
const early = 30;

export interface ProverOptions {
  readonly auth?: Auth | Readonly<Record<string, Auth>>;
  /** Variables in which secrets are looked for, by the name of the security scheme. */
  readonly secrets?: Readonly<Record<string, string>>;
}

/**
 * Chooses for each operation the first alternative of its security that we have the means for.
 *
 * A document on this disk names the variables its secrets are looked for in. One from elsewhere could name any variable of this
 * machine and have it sent to its own server: there only variables that the developer has named are read.
 */
export function createProver(
  api: Secured,
  { auth: given, secrets = {}, settings }: ProverOptions & { readonly settings: Settings },
  send: typeof fetch,
): Prover {
  requireSchemes(api, 'secrets', Object.keys(secrets));
  const known = new Set<string>();
  const tokens = new Map<string, { value: string; until: number }>();
  const isOne = given !== undefined && typeof (given as Auth).kind === 'string';
  const byScheme = new Map<string, { scheme: SecurityScheme; auth: Auth; declared: boolean }>();
  for (const [name, scheme] of Object.entries(api.schemes)) {
    const own =
      given === undefined
        ? secrets[name] !== undefined || !api.isRemote
          ? fromEnvironment(name, scheme, secrets[name])
          : undefined
        : isOne
          ? suits(given as Auth, scheme)
            ? (given as Auth)
            : undefined
          : (given as Record<string, Auth>)[name];
    if (own !== undefined) byScheme.set(name, { scheme, auth: own, declared: given !== undefined || secrets[name] !== undefined });
  }
  if (given !== undefined && !isOne) requireSchemes(api, 'auth', Object.keys(given));
  // A document that says nothing of security is sent what it was given.
  const plain = isOne && byScheme.size === 0 ? (given as Auth) : undefined;
  const secret = (setting: Setting, what: string) => {
    const value = readSetting(setting, what, settings);
    known.add(value);
    return value;
  };

  const apply = async (
    name: string,
    scheme: SecurityScheme | undefined,
    auth: Auth,
    scopes: readonly string[],
    signal: AbortSignal,
  ): Promise<Proof> => {
    if (auth.kind === 'basic') {
      const pair = `${secret(auth.user, 'The user')}:${secret(auth.password, 'The password')}`;
      const coded = btoa(String.fromCharCode(...new TextEncoder().encode(pair)));
      known.add(coded);
      return { ...none, headers: { Authorization: `Basic ${coded}` } };
    }
    if (auth.kind === 'bearer') return { ...none, headers: { Authorization: `Bearer ${secret(auth.token, 'The token')}` } };
    if (auth.kind === 'clientCredentials')
      return { ...none, headers: { Authorization: `Bearer ${await token(name, scheme, auth, scopes, signal)}` } };
    const value = secret(auth.value, 'The key');
    if (scheme?.type !== 'apiKey' || scheme.in === 'header')
      return { ...none, headers: { [scheme?.type === 'apiKey' ? scheme.name : 'X-API-Key']: value } };
    const part = `${encodeURIComponent(scheme.name)}=${encodeURIComponent(value)}`;
    known.add(encodeURIComponent(value));
    return scheme.in === 'query' ? { ...none, query: [part] } : { ...none, cookies: [part] };
  };

  const token = async (
    name: string,
    scheme: SecurityScheme | undefined,
    auth: Extract<Auth, { kind: 'clientCredentials' }>,
    scopes: readonly string[],
    signal: AbortSignal,
  ): Promise<string> => {
    const scope = auth.scope ?? scopes.join(' ');
    const key = `${name} ${scope}`;
    const kept = tokens.get(key);
    if (kept !== undefined && kept.until > Date.now()) return kept.value;
    const url =
      auth.tokenUrl !== undefined
        ? readSetting(auth.tokenUrl, 'The token’s address', settings)
        : scheme?.type === 'oauth2'
          ? scheme.tokenUrl
          : undefined;
    if (url === undefined)
      throw new JexoError('JEXO_DEFINITION', `${api.title} does not say where tokens are to be had.`, {
        next: 'Give clientCredentials a tokenUrl.',
      });
    const pair = `${encodeURIComponent(secret(auth.id, 'The client’s id'))}:${encodeURIComponent(secret(auth.secret, 'The client’s secret'))}`;
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
        body: new URLSearchParams({ grant_type: 'client_credentials', ...(scope !== '' && { scope }) }),
      });
    } catch (error) {
      signal.throwIfAborted();
      throw refuse(messageOf((error as { cause?: unknown }).cause ?? error));
    }
    const answer = (await response.json().catch(() => ({}))) as { access_token?: unknown; expires_in?: unknown; error?: unknown };
    if (!response.ok || typeof answer.access_token !== 'string')
      throw refuse(`HTTP ${response.status}${typeof answer.error === 'string' ? ` ${answer.error}` : ''}`);
    const seconds = typeof answer.expires_in === 'number' ? answer.expires_in : 300;
    known.add(answer.access_token);
    tokens.set(key, { value: answer.access_token, until: Date.now() + Math.max(1, seconds - early) * 1000 });
    return answer.access_token;
  };

  return {
    variables: [
      ...new Set([...byScheme.values(), ...(plain === undefined ? [] : [{ auth: plain }])].flatMap(({ auth }) => variablesIn(auth))),
    ],
    needed(calls) {
      if (plain !== undefined) return calls.length > 0 ? variablesIn(plain) : [];
      const all = calls.flatMap((security) => {
        if (security.some((needs) => needs.length === 0)) return [];
        const able = security
          .filter((needs) => needs.every(({ scheme }) => byScheme.has(scheme)))
          .map((needs) => needs.flatMap(({ scheme }) => variablesIn(byScheme.get(scheme)!.auth)));
        return able.find((variables) => variables.every((variable) => settings[variable])) ?? able[0] ?? [];
      });
      return [...new Set(all)];
    },
    notTrusted:
      given === undefined && api.isRemote
        ? Object.entries(api.schemes).flatMap(([name, scheme]) =>
            !(name in secrets) && fromEnvironment(name, scheme) !== undefined ? [name] : [],
          )
        : [],
    secrets: () => [...known],
    forget() {
      const had = tokens.size > 0;
      tokens.clear();
      return had;
    },
    async prove(security, signal) {
      if (plain !== undefined) return apply('', undefined, plain, [], signal);
      if (security.length === 0 || security.some((needs) => needs.length === 0 && security.length === 1)) return none;
      const able = security.find((needs) => needs.length > 0 && needs.every(({ scheme }) => byScheme.has(scheme)));
      if (able === undefined) return none;
      const proofs = [];
      for (const { scheme, scopes } of able) {
        const { scheme: own, auth, declared } = byScheme.get(scheme)!;
        try {
          proofs.push(await apply(scheme, own, auth, scopes, signal));
        } catch (error) {
          // What was only looked for in the environment may be missing: the API says whether it minds.
          if (declared || !(error instanceof JexoError) || error.code !== 'JEXO_SETTING') throw error;
          return none;
        }
      }
      return {
        headers: Object.assign({}, ...proofs.map(({ headers }) => headers)) as Record<string, string>,
        query: proofs.flatMap(({ query }) => query),
        cookies: proofs.flatMap(({ cookies }) => cookies),
      };
    },
  };
}

function requireSchemes({ schemes, title }: Secured, field: string, names: readonly string[]): void {
  for (const name of names)
    if (!Object.hasOwn(schemes, name))
      throw new JexoError('JEXO_DEFINITION', `${field} names ${name}, which is no security scheme of ${title}.`, {
        where: `${field}.${name}`,
        next: `Its schemes are: ${Object.keys(schemes).join(', ') || 'none'}.`,
      });
}

/** Variables without which this cannot be proven. */
function variablesIn(auth: Auth): string[] {
  return Object.values(auth).flatMap((value: unknown) => (isEnvSetting(value) && value.fallback === undefined ? [value.variable] : []));
}

function suits(auth: Auth, scheme: SecurityScheme): boolean {
  if (auth.kind === 'apiKey') return scheme.type === 'apiKey';
  if (auth.kind === 'basic') return scheme.type === 'http' && scheme.scheme === 'basic';
  if (auth.kind === 'clientCredentials') return scheme.type === 'oauth2' || scheme.type === 'openIdConnect';
  return (scheme.type === 'http' && scheme.scheme === 'bearer') || scheme.type === 'oauth2' || scheme.type === 'openIdConnect';
}

/** The variables in which the secrets of an API are looked for when nothing else is said. */
export function variablesOf(api: Secured, secrets: Readonly<Record<string, string>> = {}): string[] {
  return Object.entries(api.schemes).flatMap(([name, scheme]) =>
    Object.values(fromEnvironment(name, scheme, secrets[name]) ?? {}).flatMap((value: unknown) =>
      isEnvSetting(value) ? [value.variable] : [],
    ),
  );
}

/** The variable a scheme of this name is looked for in. */
export function variableNamed(scheme: string): string {
  return snakeCase(scheme.replaceAll(/\W+/g, '_')).toUpperCase();
}

/** Where a secret is looked for when nothing was said: `registryToken` is read from REGISTRY_TOKEN. */
function fromEnvironment(name: string, scheme: SecurityScheme, given?: string): Auth | undefined {
  const variable = given ?? variableNamed(name);
  if (scheme.type === 'apiKey') return apiKey(env(variable));
  if (scheme.type === 'http')
    return scheme.scheme === 'basic'
      ? basic(env(`${variable}_USER`), env(`${variable}_PASSWORD`))
      : scheme.scheme === 'bearer'
        ? bearer(env(variable))
        : undefined;
  if (scheme.type === 'oauth2' && scheme.tokenUrl !== undefined)
    return clientCredentials({ id: env(`${variable}_CLIENT_ID`), secret: env(`${variable}_CLIENT_SECRET`) });
  return scheme.type === 'oauth2' || scheme.type === 'openIdConnect' ? bearer(env(variable)) : undefined;
}
