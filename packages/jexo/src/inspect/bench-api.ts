import { messageOf } from '../errors.js';
import { json, refuse } from './api-answers.js';
import type { BenchEntry } from './bench-entry.js';
import { routesOf, type Served } from './api-routes.js';
import { troubleOf } from './trouble.js';
import type { Bench } from './bench-state.js';

export type { Notes } from './api-routes.js';

export interface BenchApiOptions extends Omit<Served, 'bench'> {
  /** Opens the page once. */
  readonly entry: BenchEntry;
  /** What every request carries from then on. */
  readonly key: string;
}

/**
 * The HTTP interface between the page and the bench, in web-standard requests and responses.
 *
 * - `POST /api/session` `{token}` gives `{key}`, once; every other request carries it as `Authorization: Bearer`.
 * - `GET  /api/bench` connections, calls so far, open questions, stderr and the page's own notes; `PUT /api/notes` keeps those.
 * - `POST /api/connections` a spec adds one; `PUT /api/connections/1` edits and connects, `POST …/connect` reconnects,
 *   `POST …/seen` takes the marks off its shelf, `PUT …/roots`, `PUT …/watch` `{uri, on}`, `DELETE …` removes it.
 * - `POST /api/calls` starts a call and gives its sheet; `DELETE /api/calls/7` cancels it; `GET /api/compare?before=6&after=7`.
 * - `POST /api/check` `{connection, tool, input}` what is wrong with an input; `POST /api/complete` suggestions.
 * - `POST /api/questions/3` answers what a server asked: `{issues}`, and with any nothing was sent.
 * - `POST /api/model-view` `{connection, tools, edits}` what a model would be given.
 * - `POST /api/choose` `{connection, request, edits}` the tools the stand-in would choose; `POST /api/ask` what the model would do.
 * - `POST /api/view-page`, `…/view-read` `{connection, uri}`, `…/view-call` `{connection, name, input}` for views; `…/view-messages` puts what passed
 *   between them and the page on the trace.
 * - `POST /api/copy` `{connection, kind, name, input, form}` a call as text to paste.
 * - `GET  /api/sheets` names; `GET /api/sheets/text?name=`, `PUT` writes it; `POST …/keep`, `POST …/from-trace`, `POST …/replay` and
 *   `POST …/rehearse` with `{connection, name}`, answered by a line of JSON for each step and one for the result.
 * - `GET  /api/events?after=12` a stream: `connection`, `gone`, `call`, `question`, `stderr`, and `wire` from message 13 on.
 * - `GET  /api/wire` the trace as JSON lines; `POST /api/wire?name=` puts a saved one on the bench.
 */
export function createBenchApi(bench: Bench, { key, entry, ...served }: BenchApiOptions): (request: Request) => Promise<Response> {
  const routes = routesOf({ bench, ...served });

  const unlock = async (request: Request): Promise<Response> => {
    const given = ((await request.json()) as { token?: unknown }).token;
    if (entry.spend(given)) return json({ key });
    return refuse(
      403,
      'JEXO_USAGE',
      'This address has been used already, or was not copied whole.',
      'Press Enter in the terminal where jexo inspect runs: it prints a new address.',
    );
  };
  const route = async (request: Request, url: URL): Promise<Response> => {
    const [, , room, id, what] = url.pathname.split('/');
    const name = `${request.method} ${room}${id === undefined ? '' : '/'}${what ?? ''}`;
    const found = Object.hasOwn(routes, name) ? routes[name] : undefined;
    if (found === undefined) return refuse(404, 'JEXO_USAGE', `There is nothing at ${url.pathname}.`);
    const body = async <T>() => (await request.json()) as T;
    return found({ request, url, id, number: Number(id), body });
  };

  return async (request) => {
    const url = new URL(request.url);
    try {
      if (request.method === 'POST' && url.pathname === '/api/session') return await unlock(request);
      if (request.headers.get('authorization') !== `Bearer ${key}`)
        return refuse(
          401,
          'JEXO_LOCKED',
          'The page has no key for this bench.',
          'Press Enter in the terminal where jexo inspect runs: it prints a new address.',
        );
      return await route(request, url);
    } catch (error) {
      const trouble = troubleOf(error);
      return trouble.code === 'JEXO_INTERNAL'
        ? refuse(400, 'JEXO_USAGE', `The request could not be read: ${messageOf(error)}`)
        : json({ error: trouble }, 400);
    }
  };
}
