import { createServer, type Server } from 'node:http';
import { loopbackNames, createGate } from './gate.js';
import { listen } from './listen.js';
import type { Readiness } from './readiness.js';
import { probeRoutes } from './routes.js';
import { say } from './say.js';
import type { OwnRoute } from './serve-http.js';

/** What only operators should reach, at a port of its own: `/health`, `/ready` and what else is given. @throws as `listen` */
export async function serveAdmin(
  port: number,
  host: string,
  readiness: Readiness,
  routes: Readonly<Record<string, OwnRoute>>,
): Promise<Server> {
  const isWildcard = host === '0.0.0.0' || host === '::';
  const gate = createGate({ allowedHosts: isWildcard ? ['*'] : [...loopbackNames, host] });
  const all = new Map([...probeRoutes(readiness), ...Object.entries(routes)]);
  const http = createServer((request, response) => {
    const why = gate.refuses(request.headers.host, request.headers.origin);
    if (why !== undefined) return say(request, response, 403, `Refused: ${why}.\n`);
    const route = all.get((request.url ?? '/').split('?')[0]!);
    if (route !== undefined) return route(request, response);
    say(request, response, 404, `There are ${[...all.keys()].join(', ')}.\n`);
  });
  await listen(http, port, host);
  return http;
}
