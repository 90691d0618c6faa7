import { isJexoError, JexoError, messageOf } from '../errors.js';
import type { Server } from '../offers/define-server.js';
import type { Choice } from '../offers/choose.js';
import { openTargets } from '../targets/open-target.js';
import { watchTargets, type Reloaded } from '../targets/watch-targets.js';
import { serveHttp } from '../transports/http/serve-http.js';
import { serveStdio } from '../transports/serve-stdio.js';
import { surviveStrays } from '../transports/strays.js';
import { guardStdout } from '../transports/stdout-guard.js';
import { toolOf } from '../offers/catalogue.js';
import type { ToolOffer } from '../offers/offer.js';
import { estimateTokens } from '../inspect/tokens.js';
import { reportFault, reportOmitted, reportSettings, type RestChoice } from './connect-target.js';
import { openWireLog } from './wire-log.js';
import { note, onErr, symbols } from './terminal.js';

interface ServeOptions {
  readonly http?: number;
  readonly host: string;
  readonly path: string;
  readonly name?: string;
  readonly json?: boolean;
  readonly older?: boolean;
  readonly open?: boolean;
  readonly wireLog?: string;
  readonly allowOrigin?: string[];
  readonly allowHost?: string[];
  readonly watch?: boolean;
  readonly page?: boolean;
  readonly choice?: Choice;
  readonly rest?: RestChoice;
}

export async function serve(targets: readonly string[], command: readonly string[] | undefined, options: ServeOptions): Promise<void> {
  if (command !== undefined)
    throw new JexoError('JEXO_USAGE', 'serve takes modules; a command behind -- serves itself already.', {
      next: 'Use list, call or inspect with a command.',
    });
  if (targets.length === 0) throw new JexoError('JEXO_USAGE', 'Say what to serve.', { next: 'As in: jexo serve hives.ts' });
  surviveStrays(note, { exceptions: true });
  if (!options.path.startsWith('/'))
    throw new JexoError('JEXO_USAGE', `--path must start with a slash; ${JSON.stringify(options.path)} does not.`, { where: '--path' });
  const log = options.wireLog === undefined ? undefined : openWireLog(options.wireLog);
  const overStdio = options.http === undefined;
  // The module may print while it loads: by then stdout must already be the protocol's.
  const early = overStdio
    ? guardStdout(() =>
        note(
          'jexo: something was printed to stdout while the module was loading. It is shown here instead, because stdout carries the protocol.',
        ),
      )
    : undefined;
  const opening = {
    ...(options.name !== undefined && { name: options.name }),
    ...(options.choice && { choice: options.choice }),
    ...(options.rest && { rest: options.rest }),
  };
  const watched = options.watch ? await watchTargets(targets, { ...opening, onReload: reportReload }) : undefined;
  const server = watched?.server ?? (await openTargets(targets, opening)).server;
  await server.ready();
  early?.release();
  if (overStdio) {
    const service = await serveStdio(server, { ...(log && { tap: log.tap }) });
    await announce(server, 'stdio', 'Start it from a host application, or try it with: jexo inspect ' + targets.join(' '), options);
    stopOnSignal(() => service.close());
    await service.closed;
    process.exit(0);
  }
  const service = await serveHttp(server, {
    port: options.http!,
    host: options.host,
    path: options.path,
    onFault: reportFault,
    graceMs,
    older: options.older ?? false,
    open: options.open ?? false,
    page: options.page ?? true,
    ...(log && { tap: log.tap }),
    ...(options.allowOrigin && { allowedOrigins: options.allowOrigin }),
    ...(options.allowHost && { allowedHosts: options.allowHost }),
  });
  await announce(server, service.url, `Try it with: jexo inspect ${service.url}   (in another terminal; stop this with Ctrl-C)`, options);
  if (/^(0\.0\.0\.0|::)$/.test(options.host) && options.allowHost === undefined)
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
  watched?.close();
  note('Stopped.');
  // A timer that a handler left behind would keep the process.
  process.exit(0);
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
    return note('  The last good version is still served. Save again when it is mended.');
  }
  const { ms, added, removed, catalogue } = reloaded;
  const changes = [...added.map((name) => `+ ${name}`), ...removed.map((name) => `- ${name}`)];
  note(`${onErr('moss', symbols.ok)} Read again in ${Math.round(ms)} ms${changes.length > 0 ? `: ${changes.join(', ')}` : ''}`);
  reportOmitted(catalogue.omitted);
}

async function announce(server: Server, where: string, next: string, options: ServeOptions): Promise<void> {
  const { tools, omitted, leftOut, settings } = await server.catalogue();
  const names = [...tools.keys()];
  if (options.json)
    return note(
      JSON.stringify({ name: server.info.name, version: server.info.version, address: where, tools: names, omitted, leftOut, settings }),
    );
  note(
    `${onErr('moss', symbols.ok)} ${onErr('bold', server.info.name)} ${server.info.version} is served over ${where === 'stdio' ? 'stdio' : `HTTP at ${onErr('amber', where)}`}`,
  );
  note(`  ${names.length} ${names.length === 1 ? 'tool' : 'tools'}: ${shortened(names)}`);
  if (leftOut.length > 0) note(`  ${leftOut.length} left out as you chose: ${shortened(leftOut)}`);
  reportOmitted(omitted);
  reportSettings(settings);
  reportLength([...tools.values()].map(({ offer }) => offer));
  note(`  ${next}`);
}

/** More tools than this are told without counting what they cost: no model chooses well among them. */
const manyTools = 128;
/** A list that costs more tokens than this leaves a model little room for anything else. */
const manyTokens = 20_000;

function reportLength(tools: readonly ToolOffer[]): void {
  const tokens = tools.length > manyTools ? undefined : estimateTokens(tools.map(toolOf));
  if (tokens !== undefined && tokens <= manyTokens) return;
  const what =
    tokens === undefined
      ? `${tools.length} tools are too many`
      : `The list of tools takes ~${tokens.toLocaleString('en')} tokens, too long`;
  note(
    `${onErr('ochre', symbols.warn)} ${what} for most models to choose from. Offer fewer with --only; of a document, three tools that search the rest with --as-search.`,
  );
}

function shortened(names: readonly string[]): string {
  return names.length > 12 ? `${names.slice(0, 12).join(', ')} and ${names.length - 12} more` : names.join(', ');
}
