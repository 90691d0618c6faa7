import { limitByKey, seenWithKey } from '../auth/keys.js';
import type { Caller } from '../engine/servable.js';
import { JexoError } from '../errors.js';
import { logCalls } from '../middleware/log-calls.js';
import { metrics, type Metrics } from '../middleware/metrics.js';
import { traces } from '../middleware/traces.js';
import type { Server, ServerDefinition } from '../offers/define-server.js';
import type { Middleware } from '../offers/middleware.js';
import type { Offer } from '../offers/offer.js';
import { findPackage } from '../optional-package.js';
import type { ServeDefaults } from '../plans/serve-settings.js';
import { followSwitches } from './switch-file.js';

/** What the settings add around every call. The same layers stay when files are read again. */
export function shapeBySettings(resolve: (plan?: ServeDefaults) => ServeDefaults) {
  let layers: readonly Middleware[] | undefined;
  let counted: Metrics | undefined;
  const layersFor = ({ log, logInputs, metrics: counts }: ServeDefaults): readonly Middleware[] => {
    if (counts) counted = metrics();
    return [
      ...(canTrace() ? [traces()] : []),
      ...(log !== undefined ? [logCalls({ ...(typeof log === 'string' && { file: log }), ...(logInputs && { inputs: true }) })] : []),
      ...(counted ? [counted] : []),
    ];
  };
  return {
    get counted() {
      return counted;
    },
    reshape(definition: ServerDefinition, plan: ServeDefaults | undefined): ServerDefinition {
      const values = resolve(plan);
      layers ??= layersFor(values);
      // A plan that names keys has seen to them itself.
      return scoped(reshaped(definition, layers, values.keys !== undefined && plan?.keys === undefined), values);
    },
  };
}

/** Spans are made where OpenTelemetry is installed; without an SDK that is set up they cost next to nothing. */
function canTrace(): boolean {
  try {
    findPackage('@opentelemetry/api');
    return true;
  } catch {
    return false; // most servers are not traced
  }
}

/** What the command line adds holds beside what the server itself says: who sees what, limits, logs, counts. */
function reshaped(definition: ServerDefinition, layers: readonly Middleware[], hasKeys: boolean): ServerDefinition {
  if (layers.length === 0 && !hasKeys) return definition;
  const { visible, middleware = [] } = definition;
  return {
    ...definition,
    middleware: [...layers, ...(hasKeys ? [limitByKey()] : []), ...middleware],
    ...(hasKeys && { visible: (offer: Offer, caller: Caller) => seenWithKey(offer, caller) && (visible?.(offer, caller) ?? true) }),
  };
}

/** The scopes that the settings add to those of the definition. */
function scoped(definition: ServerDefinition, { offerScopes, stepUp }: ServeDefaults): ServerDefinition {
  if (offerScopes === undefined && stepUp === undefined) return definition;
  return {
    ...definition,
    ...(offerScopes !== undefined && { offerScopes: { ...definition.offerScopes, ...readOfferScopes(offerScopes) } }),
    ...(stepUp !== undefined && { stepUp }),
  };
}

/** @param given as `move_*=hives:write` @throws JexoError JEXO_USAGE */
export function readOfferScopes(given: readonly string[]): Record<string, string> {
  return Object.fromEntries(
    given.map((text) => {
      const [, pattern, scope] = /^([^=\s]+)=([^=\s]+)$/.exec(text) ?? [];
      if (scope === undefined)
        throw new JexoError('JEXO_USAGE', `${JSON.stringify(text)} names no scope of an offer.`, {
          where: '--offer-scope',
          next: 'Write it as --offer-scope "move_*=hives:write".',
        });
      return [pattern!, scope];
    }),
  );
}

/** Switches offers by the file that says it, or by the settings themselves. */
export async function switchBySettings(
  server: Server,
  { switches, only, except }: ServeDefaults,
  note: (text: string) => void,
): Promise<() => void> {
  if (switches === undefined) {
    if (only !== undefined || except !== undefined) server.switch({ ...(only && { only }), ...(except && { except }) });
    return () => undefined;
  }
  const followed = await followSwitches(server, switches, note);
  if (process.platform !== 'win32') process.on('SIGHUP', followed.readAgain);
  return followed.stop;
}

/** @throws JexoError JEXO_USAGE */
export function requireUse({
  http,
  path = '/',
  keys,
  issuers = [],
  audience,
  scopes,
  offerScopes,
  introspect,
  workers = 1,
  tlsCert,
  tlsKey,
  ...settings
}: ServeDefaults): void {
  const refuse = (where: string, message: string, next?: string) => {
    throw new JexoError('JEXO_USAGE', message, { where, ...(next !== undefined && { next }) });
  };
  if (!path.startsWith('/')) refuse('--path', `--path must start with a slash; ${JSON.stringify(path)} does not.`);
  if ((tlsCert === undefined) !== (tlsKey === undefined))
    refuse('--tls-cert', 'HTTPS needs both --tls-cert and --tls-key.', 'Give the file of the other one too.');
  if (issuers.length > 0 && keys !== undefined)
    refuse('--issuer', 'Callers are let in by keys or by an authorization server, not by both.', 'Remove --keys or --issuer.');
  if (issuers.length === 0 && (audience !== undefined || scopes !== undefined))
    refuse(
      audience === undefined ? '--scope' : '--audience',
      'Tokens need an authorization server that signs them.',
      'Add --issuer <url>.',
    );
  if (offerScopes !== undefined) readOfferScopes(offerScopes);
  if (introspect !== undefined && issuers.length === 0)
    refuse('--introspect', 'There is no authorization server to ask.', 'Add --issuer <url>.');
  if (introspect !== undefined && !process.env.JEXO_CLIENT_SECRET)
    refuse('--introspect', 'The authorization server answers clients with a secret only.', 'Set JEXO_CLIENT_SECRET.');
  if (issuers.length > 0 && settings.publicUrl === undefined && typeof http !== 'number')
    refuse('--issuer', 'Tokens are for an address, so it must be known.', 'Add --public-url <url>, or a port: --http 4300.');
  if (settings.queueTasks && settings.store === undefined)
    refuse('--queue-tasks', 'Tasks can wait for workers in a store only.', 'Add --store redis://….');
  if (http !== undefined) return;
  const next = 'Add --http.';
  if (keys !== undefined) refuse('--keys', 'Keys are sent over HTTP; over stdio the caller is whoever started the server.', next);
  if (issuers.length > 0) refuse('--issuer', 'Tokens are sent over HTTP; over stdio the caller is whoever started the server.', next);
  if (workers > 1) refuse('--workers', 'Several processes can only share a port of HTTP; over stdio there is one client.', next);
  const overHttp = [
    'store',
    'queueTasks',
    'metrics',
    'adminPort',
    'publicUrl',
    'narrowing',
    'requestsPerMinute',
    'compress',
    'httpSse',
  ] as const;
  const lost = overHttp.find((name) => settings[name] !== undefined);
  const flag = lost?.replaceAll(/[A-Z]/g, (letter) => `-${letter.toLowerCase()}`);
  if (flag !== undefined) refuse(`--${flag}`, `--${flag} means something over HTTP only.`, next);
}
