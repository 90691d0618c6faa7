import { keys } from '../auth/keys.js';
import { oauth } from '../auth/oauth/oauth.js';
import { describeFault } from '../engine/faults.js';
import { JexoError } from '../errors.js';
import { after, type Store } from '../engine/store.js';
import { redis } from '../stores/redis/redis.js';
import { contentType, type Metrics } from '../middleware/metrics.js';
import type { ServeDefaults } from '../plans/serve-settings.js';
import type { Authenticator } from '../transports/http/authenticate.js';
import { bySocket } from '../transports/http/forwarded.js';
import type { OwnRoute, ServeHttpOptions } from '../transports/http/serve-http.js';
import { readOfferScopes } from './by-settings.js';
import { handOn, markOf } from './hand-on.js';
import type { WorkerSelf } from './workers.js';

/** What `serveHttp` is given so that the settings hold. */
export function httpBySettings(settings: ServeDefaults, counted: Metrics | undefined, self?: WorkerSelf): ServeHttpOptions {
  const auth = authOf(settings);
  const shown = counted && metricsRoute(counted, self);
  return {
    ...optionsOf(settings, self),
    ...(auth && { auth }),
    ...(shown && settings.adminPort === undefined && { routes: { '/metrics': guarded(shown, auth) } }),
    ...(shown && { adminRoutes: { '/metrics': shown } }),
    ...(settings.store !== undefined && { store: storeBySettings(settings) }),
    ...(settings.queueTasks && { queueTasks: true }),
    // Where sessions are kept for all, any process answers.
    ...(self && settings.store === undefined && { sessionMark: markOf(self.number), elsewhere: handOn(self) }),
  };
}

/** The store of the settings. @throws JexoError JEXO_USAGE when there is none, or its address is wrong */
export function storeBySettings({ store }: ServeDefaults): Store {
  if (store !== undefined) return redis(store);
  throw new JexoError('JEXO_USAGE', 'A worker takes its tasks from a store, and none was given.', {
    where: '--store',
    next: 'Give the one of the serving processes: --store redis://127.0.0.1:6379',
  });
}

function authOf({
  keys: file,
  issuers,
  audience,
  scopes,
  offerScopes = [],
  introspect,
  publicUrl,
  http,
  tlsCert,
  host = '127.0.0.1',
  basePath = '',
  path = '/mcp',
}: ServeDefaults) {
  if (file !== undefined) return keys(file);
  if (issuers === undefined || issuers.length === 0) return undefined;
  // Where nobody says how clients reach it, it is where it listens.
  const here = `${tlsCert === undefined ? 'http' : 'https'}://${host}:${String(http)}${basePath}${path}`;
  return oauth({
    issuer: issuers,
    resource: publicUrl ?? here,
    moreScopes: Object.values(readOfferScopes(offerScopes)),
    ...(audience !== undefined && { audience }),
    ...(scopes && { scopes }),
    ...(introspect !== undefined && { introspection: { clientId: introspect, clientSecret: process.env.JEXO_CLIENT_SECRET! } }),
  });
}

function optionsOf(settings: ServeDefaults, self: WorkerSelf | undefined): ServeHttpOptions {
  const { http, allowOrigins, allowHosts, tlsCert, tlsKey, grace = 10, drain = 0, proxies = [] } = settings;
  const { host, path, basePath, publicUrl, open, narrowing, adminPort, adminHost, requestsPerMinute, compress, page, httpSse } = settings;
  const same = { host, path, basePath, publicUrl, open, narrowing, adminPort, adminHost, requestsPerMinute, compress, page, httpSse };
  return {
    ...(Object.fromEntries(Object.entries(same).filter(([, value]) => value !== undefined)) as ServeHttpOptions),
    port: self?.port ?? (typeof http === 'number' ? http : 0),
    graceMs: grace * 1000,
    drainMs: drain * 1000,
    // What another worker hands on says who sent it.
    proxies: [...proxies, ...(self ? [bySocket] : [])],
    ...(allowOrigins && { allowedOrigins: allowOrigins }),
    ...(allowHosts && { allowedHosts: allowHosts }),
    ...(tlsCert !== undefined && tlsKey !== undefined && { tls: { cert: tlsCert, key: tlsKey } }),
  };
}

function metricsRoute(counted: Metrics, self: WorkerSelf | undefined): OwnRoute {
  if (self === undefined) return counted.route;
  const sum = self.share(counted.values);
  return (_request, response) => void sum().then((text) => response.writeHead(200, { 'content-type': contentType }).end(text));
}

/** Where callers need a key, the counts do too. */
function guarded(route: OwnRoute, auth: Authenticator | undefined): OwnRoute {
  if (auth === undefined) return route;
  return (request, response) => {
    const header = (name: string) => [request.headers[name]].flat()[0];
    const failed = (error: unknown) => {
      console.error(`jexo: ${describeFault(error)}`);
      response.writeHead(500).end();
    };
    try {
      const asked = after(auth({ method: request.method ?? 'GET', header, address: request.socket.remoteAddress }), (found) => {
        if ('identity' in found) route(request, response);
        else response.writeHead(401, { 'www-authenticate': found.challenge }).end();
      });
      if (asked instanceof Promise) asked.catch(failed);
    } catch (error) {
      failed(error);
    }
  };
}
