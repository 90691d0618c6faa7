import { isJexoError, JexoError, messageOf } from '../../errors.js';
import { keys, limitByKey, seenWithKey } from '../../auth/keys.js';
import { logCalls } from '../../middleware/log-calls.js';
import { metrics, type Metrics } from '../../middleware/metrics.js';
import type { Caller } from '../../engine/servable.js';
import type { Middleware } from '../../offers/middleware.js';
import type { Offer, ToolOffer } from '../../offers/offer.js';
import type { Authenticate, Authenticated } from '../../transports/http/authenticate.js';
import type { Server, ServerDefinition } from '../../offers/define-server.js';
import { openTargets } from '../../targets/open-targets.js';
import type { ServeDefaults } from '../../plans/read-plan.js';
import type { Target } from '../../targets/target-kind.js';
import { watchTargets, type Reloaded } from '../../targets/watch-targets.js';
import { serveHttp } from '../../transports/http/serve-http.js';
import { serveStdio } from '../../transports/serve-stdio.js';
import { surviveStrays } from '../../transports/strays.js';
import { guardStdout } from '../../transports/stdout-guard.js';
import { toolOf } from '../../offers/catalogue.js';
import { estimateTokens } from '../../inspect/tokens.js';
import type { WireTap } from '../../transports/link.js';
import type { CliCommand, ExitCode, Invocation } from '../command.js';
import { reportFault, reportOmitted, reportSettings } from '../connect-target.js';
import { collect, json, port, wireLog } from '../options.js';
import { openWireLog } from '../wire-log.js';
import { note, onErr, symbols } from '../terminal.js';

interface ServeOptions {
  readonly http?: number;
  readonly host: string;
  readonly path: string;
  readonly name?: string;
  readonly json?: boolean;
  readonly httpSse?: boolean;
  readonly open?: boolean;
  readonly wireLog?: string;
  readonly allowOrigin?: string[];
  readonly allowHost?: string[];
  readonly watch?: boolean;
  readonly page?: boolean;
  readonly printCode?: boolean;
  readonly keys?: string;
  readonly log?: string | true;
  readonly metrics?: boolean;
}

async function serve({ operands, command: words, options: given }: Invocation<ServeOptions>): Promise<ExitCode> {
  requireUse(operands, words, given);
  if (given.printCode) return printCode(operands);
  const targets: readonly Target[] = words === undefined ? operands : [...operands, words];
  surviveStrays(note, { exceptions: true });
  const log = given.wireLog === undefined ? undefined : openWireLog(given.wireLog);
  // A module may print while it loads: by then stdout must already be the protocol's, if it will be.
  const early = given.http === undefined ? guardStdout(() => note(printedEarly)) : undefined;
  const counted = given.metrics ? metrics() : undefined;
  const layers = [
    ...(given.log === undefined ? [] : [logCalls(given.log === true ? {} : { file: given.log })]),
    ...(counted ? [counted] : []),
  ];
  const opening = {
    ...given.opening,
    ...(given.name !== undefined && { name: given.name }),
    ...(layers.length > 0 || given.keys !== undefined
      ? { reshape: (definition: ServerDefinition) => reshaped(definition, layers, given.keys !== undefined) }
      : {}),
  };
  const watched = given.watch ? await watchTargets(targets, { ...opening, onReload: reportReload }) : undefined;
  const { server, serve: wanted } = watched ?? (await openTargets(targets, opening));
  const options = withDefaults(given, wanted);
  const overStdio = options.http === undefined;
  if (overStdio && options.keys !== undefined)
    throw new JexoError('JEXO_USAGE', 'Keys are sent over HTTP; over stdio the caller is whoever started the server.', {
      where: '--keys',
      next: 'Add --http.',
    });
  await server.ready();
  early?.release();
  if (overStdio) await overStandardStreams(server, targets, options, log?.tap);
  else await overHttp(server, options, log?.tap, counted);
  watched?.close();
  // A timer that a handler left behind would keep the process.
  process.exit(0);
}

/** What the command line adds holds beside what the server itself says: who sees what, limits, logs, counts. */
function reshaped(definition: ServerDefinition, layers: readonly Middleware[], hasKeys: boolean): ServerDefinition {
  const { visible, middleware = [] } = definition;
  return {
    ...definition,
    middleware: [...layers, ...(hasKeys ? [limitByKey()] : []), ...middleware],
    ...(hasKeys && { visible: (offer: Offer, caller: Caller) => seenWithKey(offer, caller) && (visible?.(offer, caller) ?? true) }),
  };
}

/** What a plan says of how it is served holds where the command line says nothing. */
function withDefaults(given: ServeOptions, wanted: ServeDefaults = {}): ServeOptions {
  const { http, host, path, allowHosts, allowOrigins, open, keys: file } = wanted;
  return {
    ...given,
    ...(given.http === undefined && http !== undefined && { http }),
    ...(given.host === usualHost && host !== undefined && { host }),
    ...(given.path === usualPath && path !== undefined && { path }),
    ...(given.allowHost === undefined && allowHosts && { allowHost: [...allowHosts] }),
    ...(given.allowOrigin === undefined && allowOrigins && { allowOrigin: [...allowOrigins] }),
    ...(given.open === undefined && open !== undefined && { open }),
    ...(given.keys === undefined && file !== undefined && { keys: file }),
  };
}

const usualHost = '127.0.0.1';
const usualPath = '/mcp';

/** @throws JexoError JEXO_USAGE for targets that are no plan */
async function printCode([plan, ...more]: readonly string[]): Promise<ExitCode> {
  if (plan === undefined || more.length > 0 || !/\.jexo\.(?:ya?ml|json)$/i.test(plan))
    throw new JexoError('JEXO_USAGE', '--print-code takes one plan file.', {
      next: 'As in: jexo serve apiary.jexo.yaml --print-code > server.ts',
    });
  const { codeOfPlan } = await import('../../targets/kinds/plan.js');
  process.stdout.write(await codeOfPlan(plan));
  return 0;
}

const printedEarly =
  'jexo: something was printed to stdout while the module was loading. It is shown here instead, because stdout carries the protocol.';

/** @throws JexoError JEXO_USAGE */
function requireUse(targets: readonly string[], words: readonly string[] | undefined, { path }: ServeOptions): void {
  if (targets.length === 0 && words === undefined)
    throw new JexoError('JEXO_USAGE', 'Serve what? No target was given.', { next: 'As in: jexo serve hives.ts' });
  if (!path.startsWith('/'))
    throw new JexoError('JEXO_USAGE', `--path must start with a slash; ${JSON.stringify(path)} does not.`, { where: '--path' });
}

async function overStandardStreams(
  server: Server,
  targets: readonly Target[],
  options: ServeOptions,
  tap: WireTap | undefined,
): Promise<void> {
  const service = await serveStdio(server, { ...(tap && { tap }) });
  await announce(
    server,
    'stdio',
    `Start it from a host application, or try it with: jexo inspect ${targets.map((each) => (typeof each === 'string' ? each : `-- ${each.join(' ')}`)).join(' ')}`,
    options,
  );
  stopOnSignal(() => service.close());
  await service.closed;
}

async function overHttp(server: Server, options: ServeOptions, tap: WireTap | undefined, counted: Metrics | undefined): Promise<void> {
  const authenticate = options.keys === undefined ? undefined : keys(options.keys);
  const service = await serveHttp(server, {
    port: options.http!,
    host: options.host,
    path: options.path,
    onFault: reportFault,
    graceMs,
    httpSse: options.httpSse ?? false,
    open: options.open ?? false,
    ...(authenticate && { authenticate }),
    ...(counted && { routes: { '/metrics': guardedRoute(counted, authenticate) } }),
    page: options.page ?? true,
    ...(tap && { tap }),
    ...(options.allowOrigin && { allowedOrigins: options.allowOrigin }),
    ...(options.allowHost && { allowedHosts: options.allowHost }),
  });
  await announce(server, service.url, `Try it with: jexo inspect ${service.url}   (in another terminal; stop this with Ctrl-C)`, options);
  if (/^(0\.0\.0\.0|::)$/.test(options.host) && options.allowHost === undefined && options.keys === undefined)
    note(
      `${onErr('ochre', symbols.warn)} Every machine that reaches this one may call these tools, under any host name. Name the allowed ones with --allow-host.`,
    );
  await new Promise<void>((resolve) =>
    stopOnSignal(() => {
      if (service.inFlight > 0)
        note(
          `Waiting up to ${graceMs / 1000} s for ${service.inFlight} ${service.inFlight === 1 ? 'request' : 'requests'} in flight. Press Ctrl-C again to end at once.`,
        );
      return service.close().then(resolve);
    }),
  );
  note('Stopped.');
}

/** Where callers need a key, the counts do too. */
function guardedRoute(counted: Metrics, authenticate: Authenticate | undefined): Metrics['route'] {
  if (authenticate === undefined) return counted.route;
  return (request, response) => {
    const header = (name: string) => [request.headers[name]].flat()[0];
    const found = authenticate({ method: request.method ?? 'GET', header, address: request.socket.remoteAddress }) as Authenticated;
    if ('identity' in found) counted.route(request, response);
    else response.writeHead(401, { 'www-authenticate': found.challenge }).end();
  };
}

/** What calls in flight get when the server is asked to stop. */
const graceMs = 10_000;

/** The first signal lets what is in flight finish; a second one ends at once. */
function stopOnSignal(stop: () => Promise<void>): void {
  let asked = false;
  for (const signal of ['SIGINT', 'SIGTERM'] as const) {
    process.on(signal, () => {
      if (asked) process.exit(130);
      asked = true;
      void stop();
    });
  }
}

function reportReload(reloaded: Reloaded): void {
  if (!reloaded.ok) {
    const { error } = reloaded;
    note(`${onErr('brick', symbols.failed)} ${messageOf(error)}${isJexoError(error) ? ` ${onErr('quiet', `(${error.code})`)}` : ''}`);
    return note('  The last good version is still served. Save again when it is fixed.');
  }
  const { ms, added, removed, catalogue } = reloaded;
  const changes = [...added.map((name) => `+ ${name}`), ...removed.map((name) => `- ${name}`)];
  note(`${onErr('moss', symbols.ok)} Read again in ${Math.round(ms)} ms${changes.length > 0 ? `: ${changes.join(', ')}` : ''}`);
  reportOmitted(catalogue.omitted);
}

async function announce(server: Server, where: string, next: string, options: ServeOptions): Promise<void> {
  const { tools, omitted, excluded, settings, notes, whenTooMany } = await server.catalogue();
  const names = [...tools.keys()];
  if (options.json)
    return note(
      JSON.stringify({
        name: server.info.name,
        version: server.info.version,
        address: where,
        tools: names,
        omitted,
        excluded,
        settings,
        notes,
      }),
    );
  note(
    `${onErr('moss', symbols.ok)} ${onErr('bold', server.info.name)} ${server.info.version} is served over ${where === 'stdio' ? 'stdio' : `HTTP at ${onErr('lake', where)}`}`,
  );
  note(`  ${names.length} ${names.length === 1 ? 'tool' : 'tools'}: ${shortened(names)}`);
  if (excluded.length > 0) note(`  ${excluded.length} excluded as you chose: ${shortened(excluded)}`);
  for (const each of notes) note(`  ${each}`);
  reportOmitted(omitted);
  reportSettings(settings);
  reportLength(
    [...tools.values()].map(({ offer }) => offer),
    whenTooMany,
  );
  note(`  ${next}`);
}

/** More tools than this are told without counting what they cost: no model chooses well among them. */
const manyTools = 128;
/** A list that costs more tokens than this leaves a model little room for anything else. */
const manyTokens = 20_000;

function reportLength(tools: readonly ToolOffer[], whenTooMany = 'Offer fewer with --only.'): void {
  const tokens = tools.length > manyTools ? undefined : estimateTokens(tools.map(toolOf));
  if (tokens !== undefined && tokens <= manyTokens) return;
  const what =
    tokens === undefined
      ? `${tools.length} tools are too many`
      : `The list of tools takes ~${tokens.toLocaleString('en')} tokens, too long`;
  note(`${onErr('ochre', symbols.warn)} ${what} for most models to choose from. ${whenTooMany}`);
}

function shortened(names: readonly string[]): string {
  return names.length > 12 ? `${names.slice(0, 12).join(', ')} and ${names.length - 12} more` : names.join(', ');
}

export const command: CliCommand<ServeOptions> = {
  name: 'serve',
  about: 'serve modules, packages or documents, over stdio or HTTP',
  operands: [['[targets...]', 'several targets are served as one server']],
  options: [
    { flags: '--http [port]', about: 'serve over HTTP; without a port, any free one', read: port('--http'), preset: '0' },
    { flags: '--host <address>', about: 'address to listen at', default: usualHost },
    { flags: '--path <path>', about: 'path of the endpoint', default: usualPath },
    { flags: '--allow-origin <origin>', about: 'a web page that may call, such as https://desk.example; may be repeated', read: collect },
    { flags: '--allow-host <name>', about: 'a host name this server answers for; may be repeated', read: collect },
    { flags: '--open', about: 'listen on an address that other machines can reach, without sign-in' },
    { flags: '--keys <file>', about: 'over HTTP: let in only callers with a key of this file; see jexo keys' },
    { flags: '--log [file]', about: 'log a line for every call, to stderr or a file' },
    { flags: '--metrics', about: 'over HTTP: show counts and durations at /metrics, in the format of Prometheus' },
    { flags: '--name <name>', about: 'the server’s name' },
    { flags: '--watch', about: 'reload files when they are saved, and notify connected clients' },
    { flags: '--print-code', about: 'print a plan file as TypeScript, and serve nothing' },
    { flags: '--no-page', about: 'over HTTP, don’t serve the page at the root' },
    { flags: '--http-sse', about: 'over HTTP, also serve clients of 2024-11-05, at /sse' },
    wireLog,
    json,
  ],
  takes: ['open', 'bridge'],
  chooses: true,
  help: `Examples:
  jexo serve hives.ts                          over stdio, for a host application that starts it
  jexo serve hives.ts --http 4300              over HTTP, at http://127.0.0.1:4300/mcp
  jexo serve hives.ts lots.ts --name apiary    two modules as one server
  jexo serve hives.ts --watch                  reload on save
  jexo serve hives.ts --only 'mix_*' --prefix apiary_
  jexo serve some-package --only 'mean,median'
  jexo serve api.openapi.yaml --only 'GET *'   a REST API; its secrets are read from the environment

With --json, the address is printed as one line of JSON on stderr.`,
  run: serve,
};
