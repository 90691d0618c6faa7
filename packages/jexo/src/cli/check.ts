import { existsSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { JexoError } from '../errors.js';
import { checkServer } from '../inspect/checks/check-server.js';
import { rules, severities, type Finding, type Rule, type Severity } from '../inspect/checks/finding.js';
import { toSarif } from '../inspect/checks/sarif.js';
import { applySilences, type Silence } from '../inspect/checks/silences.js';
import { same } from '../inspect/difference.js';
import { createWireJudge } from '../inspect/judge-wire.js';
import type { Tool } from '../protocol/types.js';
import type { Server } from '../offers/define-server.js';
import { noMessage, type Departure } from '../transports/link.js';
import { parseTarget } from '../targets/target.js';
import { connectTarget, showTarget, takeTarget } from './connect-target.js';
import { readHeaders } from './headers.js';
import { note, onErr, onOut, print, printJson, symbols, width, wrap } from './terminal.js';
import type { ClientCommandOptions } from './with-client.js';

interface CheckOptions extends ClientCommandOptions {
  readonly failOn: Severity | 'never';
  readonly sarif?: boolean;
  readonly silence?: string[];
}

/** Checks a server, and fails when something at least as grave as `--fail-on` was found. */
export async function check(operands: readonly string[], command: readonly string[] | undefined, options: CheckOptions): Promise<void> {
  const { target } = takeTarget(operands, command, 'As in: jexo check hives.ts');
  if (target.text !== undefined && (await checkHostFile(target.text, options.json ?? false))) return;
  const silences = (options.silence ?? []).map(readSilence);
  const judge = createWireJudge();
  const deviations: string[] = [];
  const departures: Departure[] = [];
  let noticed = false;
  const start = performance.now();
  const {
    client,
    omitted,
    server: own,
  } = await connectTarget(target, {
    headers: readHeaders(options.header),
    wireLog: options.wireLog,
    choice: options.choice,
    rest: options.rest,
    tap(event) {
      if (event.note === noMessage) return; // told of as a departure
      const wrong = judge(event);
      if (wrong !== undefined && event.way === 'received') deviations.push(`A message is invalid: ${wrong}.`);
    },
    onDeparture: (departure) => void departures.push(departure),
    onToolsChanged: () => (noticed = true),
  });
  const startMs = performance.now() - start;
  let found: Finding[];
  try {
    const { tools: hasTools, resources: hasResources, prompts: hasPrompts } = client.server.capabilities;
    const tools = hasTools === undefined ? [] : await client.tools();
    const [resources, templates] = hasResources === undefined ? [[], []] : await Promise.all([client.resources(), client.templates()]);
    const prompts = hasPrompts === undefined ? [] : await client.prompts();
    const again = hasTools === undefined ? [] : await client.tools();
    found = await checkServer({
      server: client.server,
      tools,
      resources,
      templates,
      prompts,
      omitted: omitted.map((each) => ({ ...each, where: placeOf(target.text, each.where) })),
      ...(own && { places: await placesOf(own, target.text!) }),
      foreign: own === undefined,
      isDocument: target.text !== undefined && own !== undefined && parseTarget(target.text).kind === 'document',
      deviations,
      departures,
      ...(own === undefined && { startMs }),
      changedSilently: noticed ? [] : changed(tools, again),
    });
  } finally {
    await client.close();
  }
  const { kept, silenced } = applySilences(found, silences);
  const worst = kept.reduce((most, { severity }) => Math.max(most, severities.indexOf(severity)), -1);
  if (options.failOn !== 'never' && worst >= severities.indexOf(options.failOn)) process.exitCode = 1;
  if (options.sarif) return printJson(JSON.stringify(toSarif(kept, process.env.JEXO_VERSION ?? '0.0.0'), null, 2));
  if (options.json) return printJson(JSON.stringify({ target: showTarget(target), findings: kept, silenced }, null, 2));
  show(kept, silenced.length, showTarget(target));
}

/** A host application's configuration: every entry is started as the host would. False when the target is none. */
async function checkHostFile(file: string, json: boolean): Promise<boolean> {
  if (!/\.(?:jsonc?|toml|ya?ml)$/i.test(file) || /^https?:/i.test(file) || !existsSync(file)) return false;
  const { openHostFile } = await import('../hosts/host-file.js');
  const opened = await openHostFile(file).catch(() => undefined); // a document that is no configuration
  const isDocument = ['openapi', 'swagger'].some((key) => key in ((opened?.parsed.value ?? {}) as object));
  if (opened === undefined || isDocument || Object.keys(opened.entries).length === 0) return false;
  const [{ proveEntry }, { report, settingsOf }] = await Promise.all([import('./prove-entry.js'), import('./register.js')]);
  const proofs = await Promise.all(
    Object.entries(opened.entries).map(async ([name, entry]) => [name, await proveEntry(entry, await settingsOf(entry))] as const),
  );
  if (proofs.some(([, { works }]) => !works)) process.exitCode = 1;
  if (json) printJson(JSON.stringify({ file, entries: Object.fromEntries(proofs) }, null, 2));
  else
    for (const [name, proof] of proofs) {
      note(onErr('bold', name));
      report(proof);
    }
  return true;
}

/** `rule=reason`, or `rule:name=reason`. */
function readSilence(text: string): Silence {
  const found = /^([a-z-]+)(?::([^=]+))?=(.+)$/.exec(text);
  const [, rule = '', name, reason = ''] = found ?? [];
  if (!(rule in rules))
    throw new JexoError('JEXO_USAGE', `--silence ${JSON.stringify(text)} is not of the form rule=reason, or rule:name=reason.`, {
      where: '--silence',
      next: `The rules are: ${Object.keys(rules).join(', ')}.`,
    });
  return { rule: rule as Rule, reason: reason.trim(), ...(name !== undefined && { name }) };
}

function changed(before: readonly Tool[], after: readonly Tool[]): string[] {
  const names = new Set([...before, ...after].map(({ name }) => name));
  const find = (list: readonly Tool[], name: string) => list.find((each) => each.name === name);
  return [...names].filter((name) => !same(find(before, name), find(after, name)));
}

/** Places are told from the folder of the module; a person, and code hosting, want them from where they are. */
function placeOf(target: string | undefined, where: string): string {
  if (target === undefined || /^https?:/i.test(target) || !/\.[cm]?[jt]sx?$/.test(target)) return where;
  return relative(process.cwd(), join(dirname(target), where)) || where;
}

async function placesOf(server: Server, target: string): Promise<Record<string, string>> {
  const { tools, resources, templates, prompts } = await server.catalogue();
  const places: Record<string, string> = {};
  for (const [kind, all] of Object.entries({ tool: tools, resource: resources, template: templates, prompt: prompts }))
    for (const [key, { offer }] of all as ReadonlyMap<string, { offer: { where?: string | undefined } }>)
      if (offer.where !== undefined) places[`${kind} ${key}`] = placeOf(target, offer.where);
  return places;
}

const signs: Record<Severity, { readonly sign: string; readonly style: 'brick' | 'ochre' | 'slate' }> = {
  error: { sign: symbols.failed, style: 'brick' },
  warning: { sign: symbols.warn, style: 'ochre' },
  note: { sign: symbols.dot, style: 'slate' },
};

function show(found: readonly Finding[], silenced: number, target: string): void {
  for (const { rule, severity, subject, where, message, remedy } of found) {
    const { sign, style } = signs[severity];
    print(`${onOut(style, sign)} ${onOut('bold', subject)}  ${onOut('quiet', [where, rule].filter(Boolean).join('  '))}`);
    for (const line of [...wrap(message, width() - 2), ...wrap(remedy, width() - 2).map((each) => onOut('quiet', each))])
      print(`  ${line}`);
  }
  const count = (severity: Severity) => found.filter((each) => each.severity === severity).length;
  const words = severities
    .toReversed()
    .filter((severity) => count(severity) > 0)
    .map((severity) => `${count(severity)} ${severity}${count(severity) === 1 ? '' : 's'}`);
  const rest = silenced > 0 ? ` (${silenced} silenced)` : '';
  if (words.length === 0) note(`${onErr('moss', symbols.ok)} ${target}: nothing found${rest}`);
  else note(`${found.length > 0 ? '\n' : ''}${target}: ${words.join(', ')}${rest}`);
}
