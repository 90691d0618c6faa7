import { snakeCase } from '../functions/snake-case.js';
import { env, isEnvSetting, type Setting } from '../setting.js';
import type { Secured, SecurityScheme } from './security.js';

/** A way to prove who we are to an API. Made by `bearer`, `basic`, `apiKey`, `clientCredentials` or `tokenExchange`. */
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
    }
  | {
      readonly kind: 'tokenExchange';
      readonly id: Setting;
      readonly secret: Setting;
      readonly tokenUrl?: Setting;
      readonly audience?: string;
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

/**
 * The API is called in the caller's own name: the token that the caller came with is exchanged for one for the API at its authorization server
 * (RFC 8693), and kept until it ends. The caller's token itself goes to nobody else. For servers with `auth: oauth(…)`.
 *
 * @example
 * wrapRest('./registry.openapi.yaml', { auth: tokenExchange({ id: 'apiary', secret: env('APIARY_SECRET'), tokenUrl: 'https://login.example/token', audience: 'https://registry.example' }) })
 */
export const tokenExchange = (options: Omit<Extract<Auth, { kind: 'tokenExchange' }>, 'kind'>): Auth => ({
  kind: 'tokenExchange',
  ...options,
});

/** Variables without which this cannot be proven. */
export function variablesIn(auth: Auth): string[] {
  return Object.values(auth).flatMap((value: unknown) => (isEnvSetting(value) && value.fallback === undefined ? [value.variable] : []));
}

/** True when a scheme can be satisfied in this way. */
export function suits(auth: Auth, scheme: SecurityScheme): boolean {
  if (auth.kind === 'apiKey') return scheme.type === 'apiKey';
  if (auth.kind === 'basic') return scheme.type === 'http' && scheme.scheme === 'basic';
  if (auth.kind === 'clientCredentials' || auth.kind === 'tokenExchange')
    return scheme.type === 'oauth2' || scheme.type === 'openIdConnect';
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
export function fromEnvironment(name: string, scheme: SecurityScheme, given?: string): Auth | undefined {
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
