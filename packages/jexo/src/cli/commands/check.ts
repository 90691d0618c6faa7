import { dirname, relative, resolve } from 'node:path';
import type { Client } from '../../client/connect-link.js';
import { JexoError, messageOf } from '../../errors.js';
import { checkServer } from '../../inspect/checks/check-server.js';
import { rules, severities, type Finding, type Rule, type Severity } from '../../inspect/checks/finding.js';
import { toSarif } from '../../inspect/checks/sarif.js';
import { applySilences, type Silence } from '../../inspect/checks/silences.js';
import type { SeenView } from '../../inspect/checks/view-rules.js';
import { same } from '../../inspect/difference.js';
import { createWireJudge } from '../../inspect/judge-wire.js';
import type { Resource, Tool } from '../../protocol/types.js';
import { readViewMeta } from '../../protocol/views.js';
import type { Server } from '../../offers/define-server.js';
import { noMessage, type Deviation } from '../../transports/link.js';
import { findKind } from '../../targets/find-kind.js';
import { hostsKind } from '../../targets/kinds/hosts.js';
import { connectTarget, showTarget, takeTarget, targetOf, type TargetWords } from '../connect-target.js';
import { compareListings, listingOf } from '../../pack/compare.js';
import { listArtefact } from '../../pack/try-artefact.js';
import { reportChanges } from '../report-changes.js';
import { collect, json, wireLog } from '../options.js';
import type { CliCommand, ExitCode, Invocation } from '../command.js';
import { note, onErr, onOut, print, printJson, symbols, width, wrap } from '../terminal.js';
import { takePictures, type Pictures } from '../view-pictures.js';
import type { ClientCommandOptions } from '../with-client.js';

interface CheckOptions extends ClientCommandOptions {
  readonly failOn: Severity | 'never';
  readonly sarif?: boolean;
  readonly silence?: string[];
  readonly against?: string;
  readonly pictures?: string;
}

/** Compares with what was offered before. @returns 1 when something may break callers */
async function compareWith(
  before: string,
  target: TargetWords,
  { opening, json: asJson }: Invocation<CheckOptions>['options'],
): Promise<ExitCode> {
  const earlier = await listArtefact(before);
  const { client } = await connectTarget(target, { opening });
  try {
    return reportChanges(compareListings(earlier, await listingOf(client)), before, asJson ?? false);
  } finally {
    await client.close();
  }
}

/** Checks a server, and fails when something at least as severe as `--fail-on` was found. */
async function check({ operands, command, options }: Invocation<CheckOptions>): Promise<ExitCode> {
  const { target } = takeTarget(operands, command, 'As in: jexo check hives.ts');
  const { kind } = await findKind(targetOf(target), options.opening.kinds);
  if (options.against !== undefined) return compareWith(options.against, target, options);
  if (kind === hostsKind) return checkHostFile(target.text!, options.json ?? false);
  const silences = (options.silence ?? []).map(readSilence);
  const judge = createWireJudge();
  const deviations: string[] = [];
  const around: Deviation[] = [];
  let noticed = false;
  const start = performance.now();
  const {
    client,
    omitted,
    server: own,
  } = await connectTarget(target, {
    wireLog: options.wireLog,
    opening: options.opening,
    tap(event) {
      if (event.note === noMessage) return; // reported as a deviation
      const wrong = judge(event);
      if (wrong !== undefined && event.way === 'received') deviations.push(`A message is invalid: ${wrong}.`);
    },
    onDeviation: (deviation) => deviation.kind !== 'message' && around.push(deviation),
    onToolsChanged: () => (noticed = true),
  });
  const startMs = performance.now() - start;
  let found: Finding[];
  let pictures: Pictures[] | undefined;
  try {
    const { tools: hasTools, resources: hasResources, prompts: hasPrompts } = client.server.capabilities;
    const tools = hasTools === undefined ? [] : await client.tools();
    const [resources, templates] = hasResources === undefined ? [[], []] : await Promise.all([client.resources(), client.templates()]);
    const prompts = hasPrompts === undefined ? [] : await client.prompts();
    const again = hasTools === undefined ? [] : await client.tools();
    const catalogue = await own?.catalogue();
    const whenTooMany = catalogue?.whenTooMany === undefined ? {} : { whenTooMany: catalogue.whenTooMany };
    found = await checkServer({
      server: client.server,
      tools,
      resources,
      templates,
      prompts,
      views: await readViews(client, resources, own !== undefined),
      omitted: omitted.map((each) => ({ ...each, where: placeOf(target.text, each.where) })),
      ...(own && { places: await placesOf(own, target.text!) }),
      remarks: (catalogue?.remarks ?? []).map((each) =>
        each.where === undefined ? each : { ...each, where: placeOf(target.text, each.where) },
      ),
      foreign: own === undefined,
      ...whenTooMany,
      deviations,
      around,
      ...(own === undefined && { startMs }),
      changedSilently: noticed ? [] : changed(tools, again),
    });
    if (options.pictures !== undefined) pictures = await takePictures(client, tools, options.pictures);
  } finally {
    await client.close();
  }
  const { kept, silenced } = applySilences(found, silences);
  const worst = kept.reduce((most, { severity }) => Math.max(most, severities.indexOf(severity)), -1);
  if (options.sarif) printJson(JSON.stringify(toSarif(kept, process.env.JEXO_VERSION ?? '0.0.0'), null, 2));
  else if (options.json)
    printJson(JSON.stringify({ target: showTarget(target), findings: kept, silenced, ...(pictures && { pictures }) }, null, 2));
  else show(kept, silenced.length, showTarget(target));
  if (!options.json && !options.sarif) reportPictures(pictures ?? []);
  return options.failOn !== 'never' && worst >= severities.indexOf(options.failOn) ? 1 : 0;
}

function reportPictures(pictures: readonly Pictures[]): void {
  for (const { tool, files, why } of pictures) {
    if (why === undefined) note(`${onErr('moss', symbols.ok)} ${tool}: ${files.length} pictures, as ${files[0]!}`);
    else note(`${onErr('ochre', symbols.warn)} ${tool}: no pictures, because ${why}`);
  }
}

/** The pages that are offered. @param isOwn origins are only tried for what is served from here */
async function readViews(client: Client, resources: readonly Resource[], isOwn: boolean): Promise<SeenView[]> {
  return Promise.all(
    resources
      .filter(({ uri }) => uri.startsWith('ui://'))
      .map(async ({ uri, _meta }): Promise<SeenView> => {
        try {
          const [contents] = (await client.read(uri)).contents;
          if (contents === undefined || !('text' in contents)) return { uri, why: 'it holds no text' };
          const { connectDomains = [], resourceDomains = [] } = { ...readViewMeta(_meta).csp, ...readViewMeta(contents._meta).csp };
          const declared = isOwn
            ? [...new Set([...connectDomains, ...resourceDomains])].filter((each) => /^https?:\/\/[^*]+$/.test(each))
            : [];
          const answers = await Promise.all(declared.map(isReachable));
          return { uri, html: contents.text, meta: contents._meta, unreachable: declared.filter((_, index) => !answers[index]) };
        } catch (error) {
          return { uri, why: messageOf(error).replace(/\.$/, '') };
        }
      }),
  );
}

const originMs = 3000;

async function isReachable(origin: string): Promise<boolean> {
  try {
    await fetch(origin, { method: 'HEAD', redirect: 'manual', signal: AbortSignal.timeout(originMs) });
    return true;
  } catch {
    return false; // whatever the reason: a page would not reach it either
  }
}

/** A host application's configuration: every entry is started as the host would. */
async function checkHostFile(file: string, json: boolean): Promise<ExitCode> {
  const [{ openHostFile }, { proveEntry }, { reportProof }] = await Promise.all([
    import('../../hosts/host-file.js'),
    import('../prove-entry.js'),
    import('../report-proof.js'),
  ]);
  const { entries } = await openHostFile(file);
  const proofs = await Promise.all(Object.entries(entries).map(async ([name, entry]) => [name, await proveEntry(entry)] as const));
  if (json) printJson(JSON.stringify({ file, entries: Object.fromEntries(proofs) }, null, 2));
  else
    for (const [name, proof] of proofs) {
      note(onErr('bold', name));
      reportProof(proof);
    }
  return proofs.some(([, { works }]) => !works) ? 1 : 0;
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

/** A place relative to the current folder, as a person and a code-scanning service want it; sources give it relative to the module. */
function placeOf(target: string | undefined, where: string): string {
  if (target === undefined || /^https?:/i.test(target) || /^https?:/i.test(where)) return where;
  const isModule = /\.[cm]?[jt]sx?$/.test(target);
  return relative(process.cwd(), isModule ? resolve(dirname(target), where) : resolve(where)) || where;
}

async function placesOf(server: Server, target: string): Promise<Record<string, string>> {
  const { tools, resources, templates, prompts } = await server.catalogue();
  const places: Record<string, string> = {};
  for (const [kind, all] of Object.entries({ tool: tools, resource: resources, template: templates, prompt: prompts }))
    for (const [key, { offer }] of all as ReadonlyMap<string, { offer: { where?: string | undefined } }>)
      if (offer.where !== undefined) places[`${kind} ${key}`] = placeOf(target, offer.where);
  return places;
}

const signs: Record<Severity, { readonly sign: string; readonly style: 'brick' | 'ochre' | 'heather' }> = {
  error: { sign: symbols.failed, style: 'brick' },
  warning: { sign: symbols.warn, style: 'ochre' },
  note: { sign: symbols.dot, style: 'heather' },
};

/** Findings that say the same of different offers, together. */
function grouped(found: readonly Finding[]): readonly (readonly Finding[])[] {
  const groups = new Map<string, Finding[]>();
  for (const finding of found) {
    const key = JSON.stringify([finding.rule, finding.severity, finding.message, finding.remedy]);
    groups.set(key, [...(groups.get(key) ?? []), finding]);
  }
  return [...groups.values()];
}

function show(found: readonly Finding[], silenced: number, target: string): void {
  for (const alike of grouped(found)) {
    const { rule, severity, message, remedy } = alike[0]!;
    const { sign, style } = signs[severity];
    if (alike.length === 1) {
      const [{ subject, where }] = alike as [Finding];
      print(`${onOut(style, sign)} ${onOut('bold', subject)}  ${onOut('quiet', [where, rule].filter(Boolean).join('  '))}`);
    } else {
      print(`${onOut(style, sign)} ${onOut('bold', `${alike.length} offers`)}  ${onOut('quiet', rule)}`);
      const widest = Math.max(...alike.map(({ subject }) => subject.length));
      for (const { subject, where = '' } of alike) print(`  ${subject.padEnd(widest)}  ${onOut('quiet', where)}`.trimEnd());
    }
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

export const command: CliCommand<CheckOptions> = {
  name: 'check',
  about: 'find what confuses models, what hosts refuse and what breaks the protocol',
  operands: ['[target]'],
  options: [
    {
      flags: '--fail-on <severity>',
      about: 'exit with 1 if a finding is at least this severe',
      choices: ['note', 'warning', 'error', 'never'],
      default: 'error',
    },
    {
      flags: '--silence <rule=reason>',
      about: 'silence a rule; rule:name=reason for one tool, resource or prompt; may be repeated',
      read: collect,
    },
    {
      flags: '--against <artefact>',
      about: 'compare with a packed file, a wire log or a list: what changes for callers, and what may break them',
    },
    {
      flags: '--pictures <folder>',
      about: 'with Chromium: pictures of each view at three widths in both themes, with the first example of its tool',
    },
    { flags: '--sarif', about: 'print SARIF to stdout, for code-scanning services' },
    wireLog,
    json,
  ],
  takes: ['open', 'connect'],
  chooses: true,
  help: `Examples:
  jexo check hives.ts
  jexo check hives.ts --fail-on warning                 in a pre-commit hook
  jexo check https://hives.example/mcp                  somebody else's server: is it safe to use?
  jexo check servers.json                               every entry of a host's configuration, started as the host would
  jexo check hives.ts --silence 'no-output-schema:write_summary=its result is prose'
  jexo check hives.ts --sarif > findings.sarif
  jexo check hive-weight.ts --pictures pictures/        how do its views look, in both themes?
  jexo check hives.ts --against dist/hives.mjs         does a release break its callers? exit code 1 when it may

Exit codes: 0 no such finding, 1 found, 2 wrong use, 3 the server could not be reached.`,
  run: check,
};
