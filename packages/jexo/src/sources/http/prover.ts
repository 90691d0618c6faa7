import { JexoError } from '../../errors.js';
import type { Settings } from '../../offers/source.js';
import { readSetting, type Setting } from '../setting.js';
import { createAccessTokens } from './access-tokens.js';
import { variablesIn, type Auth } from './auth.js';
import { meansFor, type AllMeans, type ProverOptions } from './means.js';
import type { AskedBy } from './http-call.js';
import type { Secured, SecurityNeeds, SecurityScheme } from './security.js';

/** What is added to one request. */
export interface Proof {
  readonly headers: Record<string, string>;
  readonly query: readonly string[];
  readonly cookies: readonly string[];
}

export interface Prover {
  /** @throws JexoError JEXO_SETTING when a secret is missing, JEXO_REST when no token can be had */
  prove(security: readonly SecurityNeeds[], by: AskedBy): Promise<Proof>;
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

/** Chooses for each call the first alternative of its security that we have the means for. */
export function createProver(service: Secured, options: ProverOptions & { readonly settings: Settings }, send: typeof fetch): Prover {
  const { settings } = options;
  const means = meansFor(service, options);
  const { byScheme, plain } = means;
  const known = new Set<string>();
  const secret = (setting: Setting, what: string) => {
    const value = readSetting(setting, what, settings);
    known.add(value);
    return value;
  };
  const address = (setting: Setting) => readSetting(setting, 'The token’s address', settings);
  const tokens = createAccessTokens(service, secret, address, (token) => known.add(token), send);

  const apply = async (
    name: string,
    scheme: SecurityScheme | undefined,
    auth: Auth,
    scopes: readonly string[],
    by: AskedBy,
  ): Promise<Proof> => {
    switch (auth.kind) {
      case 'basic': {
        const pair = `${secret(auth.user, 'The user')}:${secret(auth.password, 'The password')}`;
        const coded = btoa(String.fromCharCode(...new TextEncoder().encode(pair)));
        known.add(coded);
        return { ...none, headers: { Authorization: `Basic ${coded}` } };
      }
      case 'bearer':
        return { ...none, headers: { Authorization: `Bearer ${secret(auth.token, 'The token')}` } };
      case 'clientCredentials':
      case 'tokenExchange':
        return { ...none, headers: { Authorization: `Bearer ${await tokens.get(name, scheme, auth, scopes, by)}` } };
      case 'apiKey': {
        const value = secret(auth.value, 'The key');
        known.add(encodeURIComponent(value));
        return keyProof(scheme, value);
      }
    }
  };

  return {
    variables: [...new Set([...[...byScheme.values()].map(({ auth }) => auth), ...(plain ? [plain] : [])].flatMap(variablesIn))],
    needed: (calls) => (plain !== undefined ? (calls.length > 0 ? variablesIn(plain) : []) : neededFor(calls, means, settings)),
    notTrusted: means.notTrusted,
    secrets: () => [...known],
    forget: () => tokens.forget(),
    async prove(security, by) {
      if (plain !== undefined) return apply('', undefined, plain, [], by);
      const able = security.find((needs) => needs.length > 0 && needs.every(({ scheme }) => byScheme.has(scheme)));
      if (able === undefined) return none;
      const proofs: Proof[] = [];
      for (const { scheme, scopes } of able) {
        const { scheme: own, auth, isDeclared } = byScheme.get(scheme)!;
        try {
          proofs.push(await apply(scheme, own, auth, scopes, by));
        } catch (error) {
          // What was only looked for in the environment may be missing: the API says whether it minds.
          if (isDeclared || !(error instanceof JexoError) || error.code !== 'JEXO_SETTING') throw error;
          return none;
        }
      }
      return together(proofs);
    },
  };
}

function keyProof(scheme: SecurityScheme | undefined, value: string): Proof {
  if (scheme?.type !== 'apiKey') return { ...none, headers: { 'X-API-Key': value } };
  if (scheme.in === 'header') return { ...none, headers: { [scheme.name]: value } };
  const part = `${encodeURIComponent(scheme.name)}=${encodeURIComponent(value)}`;
  return scheme.in === 'query' ? { ...none, query: [part] } : { ...none, cookies: [part] };
}

function together(proofs: readonly Proof[]): Proof {
  return {
    headers: Object.assign({}, ...proofs.map(({ headers }) => headers)) as Record<string, string>,
    query: proofs.flatMap(({ query }) => query),
    cookies: proofs.flatMap(({ cookies }) => cookies),
  };
}

/** Variables that calls need: those of the first alternative of each that is set, or of the first we have the means for. */
function neededFor(calls: readonly (readonly SecurityNeeds[])[], { byScheme }: AllMeans, settings: Settings): readonly string[] {
  const all = calls.flatMap((security) => {
    if (security.some((needs) => needs.length === 0)) return [];
    const able = security
      .filter((needs) => needs.every(({ scheme }) => byScheme.has(scheme)))
      .map((needs) => needs.flatMap(({ scheme }) => variablesIn(byScheme.get(scheme)!.auth)));
    return able.find((variables) => variables.every((variable) => settings[variable])) ?? able[0] ?? [];
  });
  return [...new Set(all)];
}
