import { randomBytes } from 'node:crypto';
import { createInterface } from 'node:readline';
import { createBench } from '../../inspect/bench.js';
import { createBenchApi } from '../../inspect/bench-api.js';
import { createBenchEntry } from '../../inspect/bench-entry.js';
import type { ConnectionSpec } from '../../inspect/connection.js';
import { pause } from '../../engine/pause.js';
import { packageFile } from '../../own-package.js';
import { sandboxPage } from '../../view/sandbox-page.js';
import { servePage, serveSandbox } from '../../transports/http/serve-page.js';
import { openBenchNotes } from '../bench-notes.js';
import { reportOmitted, showTarget } from '../connect-target.js';
import { findKind } from '../../targets/find-kind.js';
import { readHeaders } from '../../targets/read-headers.js';
import type { CliCommand, Invocation, Opening } from '../command.js';
import { json, modelOptions, port, wireLog } from '../options.js';
import { modelOf, type ModelOptions } from '../model-options.js';
import { createBenchSheets } from '../../inspect/bench-sheets.js';
import { sheetFiles } from '../sheet-files.js';
import { openBrowser } from '../open-browser.js';
import { openConnection } from '../open-connection.js';
import { openWireLog } from '../wire-log.js';
import { surviveStrays } from '../../transports/strays.js';
import { keepStdoutForResults, note, onErr, printJson, symbols } from '../terminal.js';
import { counted } from '../../protocol/counted.js';

/** How long the address of the page waits for the first connections. */
const patienceMs = 5000;

interface InspectOptions extends ModelOptions {
  readonly port: number;
  readonly json?: boolean;
  readonly open?: boolean;
  readonly wireLog?: string;
}

async function inspect({ operands: targets, command, options }: Invocation<InspectOptions>): Promise<void> {
  const release = surviveStrays(note, { exceptions: true });
  const model = modelOf(options);
  const log = options.wireLog === undefined ? undefined : openWireLog(options.wireLog);
  keepStdoutForResults();
  const specs: ConnectionSpec[] = [
    ...(await Promise.all(targets.map((target) => specOf(target, options.opening)))),
    ...(command === undefined ? [] : [{ target: '', command }]),
  ];
  const bench = createBench({
    show: ({ target, command: words }) => showTarget({ text: words === undefined ? target : undefined, command: words }),
    open: (spec, given) =>
      openConnection(spec, log === undefined ? given : { ...given, tap: (event) => (log.tap(event), given.tap(event)) }, options.opening),
  });
  const notes = openBenchNotes([...targets, ...(command ?? [])]);
  const secret = () => randomBytes(24).toString('base64url');
  const entry = createBenchEntry(secret);
  let origin = "'none'";
  const sandbox = await serveSandbox(sandboxPage, () => origin);
  const page = await servePage({
    frames: new URL(sandbox.url).origin,
    folder: packageFile('dist/page'),
    api: createBenchApi(bench, {
      entry,
      key: secret(),
      notes,
      sandbox: sandbox.url,
      sheets: createBenchSheets(bench, sheetFiles(), model),
    }),
    port: options.port,
  });
  origin = new URL(page.url).origin;
  const newAddress = () => `${page.url}#${entry.renew()}`;
  const address = newAddress();
  const first = specs.map((spec) => bench.add(spec));
  const own = new Set(first.map(({ state }) => state.id));
  for (const spec of notes.added()) bench.add(spec);
  bench.subscribe((event) => {
    if (event.kind !== 'connection' && event.kind !== 'gone') return;
    notes.keepAdded(
      bench
        .connections()
        .filter(({ id, status }) => !own.has(id) && status !== 'imported')
        .map(({ spec }) => spec),
    );
  });
  // What takes longer, or asks something, goes on on the page.
  const stopped = new Promise<void>((resolve) => bench.subscribe((event) => event.kind === 'question' && resolve()));
  await Promise.race([Promise.all(first.map(({ connected }) => connected)), stopped, pause(patienceMs)]);
  const states = bench.connections().filter(({ id }) => own.has(id));
  // Whoever hears the address may stop it at once.
  const ended = new Promise<void>((resolve) => {
    for (const signal of ['SIGINT', 'SIGTERM'] as const) process.once(signal, () => resolve());
  });
  if (options.json) {
    const [{ shown = '', status = 'closed', trouble, shelf = [] } = {}] = states;
    const tools = shelf.filter(({ kind }) => kind === 'tool').map(({ key: name }) => name);
    printJson(JSON.stringify({ address, target: shown, status, tools, ...(trouble && { trouble }), connections: states.length }));
  } else {
    for (const { shown, status, trouble, shelf, omitted } of states) {
      if (status === 'connecting')
        note(`${onErr('ochre', symbols.warn)} Connecting to ${onErr('bold', shown)}; the page shows what it waits for.`);
      else if (trouble === undefined)
        note(`${onErr('moss', symbols.ok)} Connected to ${onErr('bold', shown)}: ${counts(shelf.map(({ kind }) => kind))}`);
      else note(`${onErr('brick', symbols.failed)} ${trouble.message} ${onErr('quiet', `(${trouble.code})`)}\n  ${trouble.next ?? ''}`);
      reportOmitted(omitted);
    }
    note(`  Open the bench at ${onErr('lake', address)}`);
    note('  The address works once, on this machine only. Stop with Ctrl-C.');
  }
  const forgetKeys = process.stdin.isTTY ? renewOnEnter(newAddress) : undefined;
  if (options.open) openBrowser(address, () => note('  No browser could be opened from here; open the address above yourself.'));
  await ended;
  forgetKeys?.();
  await page.close();
  await sandbox.close();
  await bench.close();
  release();
}

/** An address that was spent, or lost with its tab, is replaced at the terminal. Gives what stops listening. */
function renewOnEnter(newAddress: () => string): () => void {
  note('  Press Enter for a new address.');
  const lines = createInterface({ input: process.stdin });
  lines.on('line', () => note(`  Open the bench at ${onErr('lake', newAddress())}`));
  return () => lines.close();
}

/** Headers are shown and edited on the page, so they stand with the connection. */
async function specOf(target: string, { options, kinds }: Opening): Promise<ConnectionSpec> {
  const { kind } = await findKind(target, kinds);
  const takesHeaders = kind.options?.some(({ name }) => name === 'header') ?? false;
  const headers = takesHeaders ? readHeaders(options?.header as readonly string[] | undefined) : {};
  return { target, ...(Object.keys(headers).length > 0 && { headers }) };
}

function counts(kinds: readonly string[]): string {
  const words = ['tool', 'resource', 'template', 'prompt'].flatMap((kind) => {
    const count = kinds.filter((each) => each === kind).length;
    return count === 0 ? [] : [counted(count, kind)];
  });
  return words.length === 0 ? 'nothing is offered' : words.join(', ');
}

export const command: CliCommand<InspectOptions> = {
  name: 'inspect',
  about: 'open the inspector in a browser: list, call, follow every message',
  operands: [['[targets...]', 'any number; without one, connect from the page']],
  options: [
    { flags: '--port <port>', about: 'port of the page; 0 takes any free one', default: 0, read: port('--port') },
    { flags: '--open', about: 'open the address in a browser' },
    ...modelOptions,
    wireLog,
    json,
  ],
  takes: ['open', 'connect'],
  chooses: true,
  help: `Examples:
  jexo inspect hives.ts
  jexo inspect http://127.0.0.1:4300/mcp hives.ts --port 4400 --open
  jexo inspect -- node server.mjs

Modules are reloaded on save. The address contains a key that works once; Enter prints a new one. Only this machine can open the page.`,
  run: inspect,
};
