import { isJexoError, JexoError, messageOf } from '../../errors.js';
import type { Server } from '../../offers/define-server.js';
import type { ServeDefaults } from '../../plans/serve-settings.js';
import { openTargets } from '../../targets/open-targets.js';
import type { Target } from '../../targets/target-kind.js';
import { watchTargets, type Reloaded } from '../../targets/watch-targets.js';
import { requireUse, shapeBySettings, switchBySettings } from '../../running/by-settings.js';
import { runWorkers, workerSelf } from '../../running/workers.js';
import { serveStdio } from '../../transports/serve-stdio.js';
import { surviveStrays } from '../../transports/strays.js';
import { guardStdout } from '../../transports/stdout-guard.js';
import type { WireTap } from '../../transports/link.js';
import { announce } from '../announce.js';
import type { CliCommand, ExitCode, Invocation } from '../command.js';
import { reportOmitted } from '../connect-target.js';
import { json, wireLog } from '../options.js';
import { printSettings } from '../print-settings.js';
import { serveOverHttp } from '../serve-over-http.js';
import { resolveSettings, type ResolvedSettings } from '../../plans/resolve-settings.js';
import { settingOptions } from '../serve-settings.js';
import { stopOnSignal } from '../stop-on-signal.js';
import { openWireLog } from '../wire-log.js';
import { note, onErr, symbols } from '../terminal.js';

interface ServeOptions {
  readonly name?: string;
  readonly json?: boolean;
  readonly wireLog?: string;
  readonly watch?: boolean;
  readonly printCode?: boolean;
  readonly printSettings?: boolean;
}

async function serve(invocation: Invocation<ServeOptions>): Promise<ExitCode> {
  const { operands, command: words, options: given, given: names } = invocation;
  if (operands.length === 0 && words === undefined)
    throw new JexoError('JEXO_USAGE', 'Serve what? No target was given.', { next: 'As in: jexo serve hives.ts' });
  if (given.printCode) return printCode(operands);
  const targets: readonly Target[] = words === undefined ? operands : [...operands, words];
  surviveStrays(note, { exceptions: true });
  const resolve = (plan?: ServeDefaults) => resolveSettings({ values: given as never, names }, process.env, plan);
  const self = workerSelf();
  const known = resolve();
  // A module may print while it loads: by then stdout must already be the protocol's, if it will be.
  const early = known.values.http === undefined && !given.printSettings ? guardStdout(() => note(printedEarly)) : undefined;
  const shaping = shapeBySettings((plan) => resolve(plan).values);
  const opening = { ...given.opening, ...(given.name !== undefined && { name: given.name }), reshape: shaping.reshape };
  const isPrimary = self === undefined && !given.printSettings && (known.values.workers ?? 1) > 1;
  if (isPrimary) return startWorkers(known.values);
  const watched = given.watch && !given.printSettings ? await watchTargets(targets, { ...opening, onReload: reportReload }) : undefined;
  const { server, serve: wanted } = watched ?? (await openTargets(targets, opening));
  const settings = resolve(wanted);
  if (given.printSettings) return showSettings(server, settings, invocation);
  requireUse(settings.values);
  if (self === undefined && (settings.values.workers ?? 1) > 1) {
    watched?.close();
    await server.close();
    return startWorkers(settings.values);
  }
  const log = given.wireLog === undefined ? undefined : openWireLog(given.wireLog);
  await server.ready();
  const stopSwitches = await switchBySettings(server, settings.values, note);
  early?.release();
  if (settings.values.http === undefined) await overStandardStreams(server, targets, given.json === true, log?.tap);
  else await serveOverHttp(server, settings.values, { tap: log?.tap, counted: shaping.counted, asJson: given.json === true });
  stopSwitches();
  watched?.close();
  // A timer that a handler left behind would keep the process.
  process.exit(0);
}

function startWorkers(settings: ServeDefaults): Promise<number> {
  if (settings.http === undefined) requireUse(settings);
  const { workers, host, http } = settings;
  return runWorkers(workers!, note, { ...(host !== undefined && { host }), ...(typeof http === 'number' && { port: http }) });
}

async function showSettings(
  server: Server,
  settings: ResolvedSettings,
  { options: { opening, json: asJson } }: Invocation<ServeOptions>,
): Promise<ExitCode> {
  try {
    const { settings: needed } = await server.catalogue();
    printSettings(settings, opening, needed, asJson === true);
  } finally {
    await server.close();
  }
  process.exit(0);
}

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

async function overStandardStreams(server: Server, targets: readonly Target[], asJson: boolean, tap: WireTap | undefined): Promise<void> {
  const service = await serveStdio(server, { ...(tap && { tap }) });
  // Whoever hears that it serves may stop it at once.
  stopOnSignal(false, () => service.close());
  await announce(
    server,
    'stdio',
    `Start it from a host application, or try it with: jexo inspect ${targets.map((each) => (typeof each === 'string' ? each : `-- ${each.join(' ')}`)).join(' ')}`,
    asJson,
  );
  await service.closed;
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

export const command: CliCommand<ServeOptions> = {
  name: 'serve',
  about: 'serve modules, packages or documents, over stdio or HTTP',
  operands: [['[targets...]', 'several targets are served as one server']],
  options: [
    ...settingOptions,
    { flags: '--name <name>', about: 'the server’s name' },
    { flags: '--watch', about: 'reload files when they are saved, and notify connected clients' },
    { flags: '--print-code', about: 'print a plan file as TypeScript, and serve nothing' },
    { flags: '--print-settings', about: 'print each setting, its value and where it came from, and serve nothing' },
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
  jexo serve hives.ts --http --workers 4 --keys keys.json --log calls.log --admin-port 9300

Every option may come from the environment too, also by a file .env in this folder: --allow-host is JEXO_ALLOW_HOST. An option goes before
the environment, and that before a plan file. With --http and no port, PORT and HOST of the platform are taken.

With --json, the address is printed as one line of JSON on stderr.`,
  run: serve,
};
