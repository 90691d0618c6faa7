import { JexoError } from '../../errors.js';
import type { Server } from '../../offers/define-server.js';
import { resolveSettings } from '../../plans/resolve-settings.js';
import type { ServeDefaults } from '../../plans/serve-settings.js';
import { shapeBySettings, switchBySettings } from '../../running/by-settings.js';
import { storeBySettings } from '../../running/http-by-settings.js';
import { workTasks, type TaskWorker } from '../../running/work-tasks.js';
import { openTargets } from '../../targets/open-targets.js';
import type { Target } from '../../targets/target-kind.js';
import { surviveStrays } from '../../transports/strays.js';
import type { CliCommand, ExitCode, Invocation } from '../command.js';
import { reportFault, reportOmitted, reportSettings } from '../connect-target.js';
import { json, number } from '../options.js';
import { settingOptions } from '../serve-settings.js';
import { stopOnSignal } from '../stop-on-signal.js';
import { note, onErr, symbols } from '../terminal.js';
import { counted } from '../../protocol/counted.js';

interface WorkCommandOptions {
  readonly name?: string;
  readonly concurrency: number;
  readonly json?: boolean;
}

/** Settings of `serve` that mean something to a worker too. */
const taken = ['--store', '--grace', '--log', '--log-inputs', '--switches'];

async function work({ operands, command: words, options, given: names }: Invocation<WorkCommandOptions>): Promise<ExitCode> {
  if (operands.length === 0 && words === undefined)
    throw new JexoError('JEXO_USAGE', 'Work on the tasks of what? No target was given.', {
      next: 'As in: jexo work hives.ts --store redis://127.0.0.1:6379',
    });
  surviveStrays(note, { exceptions: true });
  const targets: readonly Target[] = words === undefined ? operands : [...operands, words];
  const resolve = (plan?: ServeDefaults) => resolveSettings({ values: options as never, names }, process.env, plan);
  const shaping = shapeBySettings((plan) => resolve(plan).values);
  const opening = { ...options.opening, ...(options.name !== undefined && { name: options.name }), reshape: shaping.reshape };
  const { server, serve } = await openTargets(targets, opening);
  const { values: settings } = resolve(serve);
  const { grace = 10 } = settings;
  if (settings.store === undefined) await server.close();
  const store = storeBySettings(settings);
  const stopSwitches = await switchBySettings(server, settings, note);
  const worker = await workTasks(server, { store, concurrency: options.concurrency, graceMs: grace * 1000, onFault: reportFault });
  // Whoever hears that it works may stop it at once.
  const stopped = new Promise<void>((resolved) => stopOnSignal(false, () => stopWorking(worker, grace).then(resolved)));
  await announceWork(server, options);
  await stopped;
  stopSwitches();
  await store.close();
  note(`Stopped after ${counted(worker.done, 'task')}.`);
  // A timer that a handler left behind would keep the process.
  process.exit(0);
}

async function announceWork(server: Server, { concurrency, json: asJson }: WorkCommandOptions): Promise<void> {
  const { tools, omitted, settings } = await server.catalogue();
  const names = [...tools.values()].flatMap(({ offer }) => (offer.taskSupport === undefined ? [] : [offer.name]));
  const { name, version } = server.info;
  if (asJson) return note(JSON.stringify({ name, version, tasks: names, concurrency, omitted, settings }));
  note(`${onErr('moss', symbols.ok)} ${onErr('bold', name)} ${version} works on tasks, up to ${concurrency} at once`);
  if (names.length === 0) note(`  ${onErr('ochre', symbols.warn)} None of its tools can be run as a task. Tag functions with @task.`);
  else note(`  ${counted(names.length, 'tool')}: ${names.join(', ')}`);
  reportOmitted(omitted);
  reportSettings(settings);
  note('  Serve it with: jexo serve … --http --store … --queue-tasks   (stop this with Ctrl-C)');
}

function stopWorking(worker: TaskWorker, grace: number): Promise<void> {
  const { active } = worker;
  if (active > 0) note(`Waiting up to ${grace} s for ${counted(active, 'task')}. Press Ctrl-C again to end at once.`);
  return worker.close();
}

export const command: CliCommand<WorkCommandOptions> = {
  name: 'work',
  about: 'work on tasks that serving processes leave to workers',
  operands: [['[targets...]', 'the same ones that are served']],
  options: [
    ...settingOptions.filter(({ flags }) => taken.includes(flags.split(' ')[0]!)),
    { flags: '--concurrency <number>', about: 'tasks at once', default: 4, read: number('--concurrency', 1, 1000) },
    { flags: '--name <name>', about: 'the server’s name, if it is served under another one' },
    json,
  ],
  takes: ['open', 'bridge'],
  chooses: true,
  help: `Examples:
  jexo serve hives.ts --http 4300 --store redis://127.0.0.1:6379 --queue-tasks
  jexo work hives.ts --store redis://127.0.0.1:6379
  jexo work hives.ts --store redis://127.0.0.1:6379 --concurrency 16

Tasks are calls that a client has asked to run in the background. They wait in the store until a worker has time. A worker that dies loses its tasks
within 10 seconds: those of read-only or idempotent tools are run again, the others fail and say so. Needs the packages redis and bullmq.`,
  run: work,
};
