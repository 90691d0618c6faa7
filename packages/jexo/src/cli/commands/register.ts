import { realpathSync } from 'node:fs';
import { writeFile } from 'node:fs/promises';
import { createTwoFilesPatch } from 'diff';
import { JexoError, messageOf } from '../../errors.js';
import { entryName, writeEntry, type HostEntry } from '../../hosts/host-entry.js';
import { openHostFile, styleIn, withEntry, withoutEntry, writeHostFile, type HostFile } from '../../hosts/host-file.js';
import { findKind } from '../../targets/find-kind.js';
import { requireOptions } from '../../targets/open-targets.js';
import type { Target } from '../../targets/target-kind.js';
import { argumentsOf } from '../arguments-of.js';
import type { Cli, CliCommand, ExitCode, Invocation } from '../command.js';
import { takeTarget, targetOf } from '../connect-target.js';
import { collect, json } from '../options.js';
import { guidance, proveEntry, type Proof } from '../prove-entry.js';
import { reportProof } from '../report-proof.js';
import { note, onErr, onOut, print, printJson, symbols, table } from '../terminal.js';

interface RegisterOptions {
  readonly config?: string;
  readonly name?: string;
  readonly under?: string;
  readonly env?: string[];
  readonly replace?: boolean;
  readonly dryRun?: boolean;
  readonly print?: boolean;
  readonly remove?: string;
  readonly list?: boolean;
  readonly guidance?: string;
  readonly json?: boolean;
}

const usage = 'As in: jexo register hives.ts --config hosts.json';

/** Puts a server into a host application's configuration, and proves that it works there. */
async function register({ operands, command: words, options }: Invocation<RegisterOptions>, cli: Cli): Promise<ExitCode> {
  if (options.config === undefined)
    throw new JexoError('JEXO_USAGE', 'No configuration file was given.', { where: '--config', next: usage });
  const opened = await openHostFile(options.config, options.under);
  if (options.list) return list(opened, options.json ?? false);
  if (options.remove !== undefined)
    return change(opened, await withoutEntry(opened, options.remove), `${options.remove} is removed from`, options);
  const { target } = takeTarget(operands, words, usage);
  const { entry, usual } = await entryFor(targetOf(target), options, cli);
  const name = entryName(options.name ?? usual);
  if (options.print) return printEntry(opened, name, entry);
  const text = withEntry(opened, name, entry, options.replace ?? false);
  if (options.dryRun) return showDifference(opened, text);
  const backup = await writeHostFile(opened, text);
  const proof = await proveEntry(entry);
  if (options.guidance !== undefined && proof.works) await writeGuidance(options.guidance, guidance(name, proof));
  if (options.json) printJson(JSON.stringify({ file: opened.file, name, entry, ...(backup !== undefined && { backup }), proof }, null, 2));
  else showRegistered(name, opened.file, backup, proof);
  return proof.works ? 0 : 1;
}

function printEntry(opened: HostFile, name: string, entry: HostEntry): void {
  const written = writeEntry(entry, styleIn(opened));
  const whole = (opened.path ?? []).reduceRight<unknown>((inner, key) => ({ [key]: inner }), { [name]: written });
  printJson(JSON.stringify(whole, null, 2));
}

function showRegistered(name: string, file: string, backup: string | undefined, proof: Proof): void {
  const before = backup === undefined ? '' : onErr('quiet', ` (before: ${backup})`);
  note(`${onErr('moss', symbols.ok)} ${onErr('bold', name)} is in ${file}${before}`);
  reportProof(proof);
  if (!proof.works) return;
  note('  Next: quit the host application fully and start it again; a closed window is often not enough.');
  note('  Its tools are used where the host lets a model act, not in plain talk. Its log of servers mostly lies beside this file.');
}

/** What a host has to start, and the name it usually has. */
async function entryFor(
  target: Target,
  { env = [], opening }: Invocation<RegisterOptions>['options'],
  cli: Cli,
): Promise<{ readonly entry: HostEntry; readonly usual: string }> {
  const found = await findKind(target, cli.more);
  const { kind } = found;
  const shown = String(target);
  if (kind.hostEntry === undefined)
    throw new JexoError('JEXO_TARGET_UNKNOWN', `${shown} is ${kind.noun}, which cannot be put into a configuration.`, { where: shown });
  requireOptions([found], opening.options ?? {});
  const entry = await kind.hostEntry(target as never, {
    serve: [process.execPath, realpathSync(process.argv[1]!), 'serve'],
    serveOptions: argumentsOf(opening, kind),
    env: variablesOf(env),
    options: opening.options ?? {},
  });
  return { entry, usual: kind.name?.(target as never) ?? shown.replace(/^.*[\\/]/, '').replace(/\.\w+$/, '') };
}

/** @throws JexoError JEXO_USAGE */
function variablesOf(env: readonly string[]): Record<string, string> {
  return Object.fromEntries(
    env.map((pair) => {
      const at = pair.indexOf('=');
      const name = at < 0 ? pair : pair.slice(0, at);
      const value = at < 0 ? process.env[name] : pair.slice(at + 1);
      if (!/^[A-Za-z_]\w*$/.test(name) || value === undefined)
        throw new JexoError(
          'JEXO_USAGE',
          value === undefined
            ? `${name} is not set here, so its value cannot be copied.`
            : `${JSON.stringify(pair)} is not of the form NAME=value.`,
          { where: '--env', next: `Give its value: --env ${name}=…` },
        );
      return [name, value];
    }),
  );
}

async function change(opened: HostFile, text: string, what: string, options: RegisterOptions): Promise<void> {
  if (options.dryRun) return showDifference(opened, text);
  const backup = await writeHostFile(opened, text);
  if (options.json) return printJson(JSON.stringify({ file: opened.file, removed: options.remove, backup }, null, 2));
  note(`${onErr('moss', symbols.ok)} ${what} ${opened.file}${onErr('quiet', ` (before: ${backup})`)}`);
}

function showDifference({ file, text: before }: HostFile, after: string): void {
  const patch = createTwoFilesPatch(file, file, before ?? '', after, before === undefined ? 'not there' : 'now', 'then');
  for (const line of patch.trimEnd().split('\n').slice(1))
    print(line.startsWith('+') ? onOut('moss', line) : line.startsWith('-') ? onOut('brick', line) : onOut('quiet', line));
  note(onErr('quiet', 'Nothing was written.'));
}

function list({ file, entries }: HostFile, asJson: boolean): void {
  if (asJson) return printJson(JSON.stringify({ file, entries }, null, 2));
  const rows = Object.entries(entries).map(([name, entry]) => [
    name,
    entry.kind === 'url' ? entry.url : [entry.command, ...entry.args].join(' '),
  ]);
  if (rows.length === 0) return note(`${file} has no servers yet.`);
  for (const line of table(['name', 'what it starts'], rows)) print(line);
}

async function writeGuidance(file: string, text: string): Promise<void> {
  try {
    await writeFile(file, text, { flag: 'wx' });
    note(`${onErr('moss', symbols.ok)} ${file} says when to use which tool; put it into the host’s own instructions.`);
  } catch (error) {
    throw new JexoError('JEXO_USAGE', `${file} cannot be written: ${messageOf(error)}`, {
      where: file,
      next: 'Choose another name; nothing is overwritten.',
      cause: error,
    });
  }
}

export const command: CliCommand<RegisterOptions> = {
  name: 'register',
  about: 'add a server to a host application’s configuration, and test it there',
  operands: ['[target]'],
  options: [
    { flags: '--config <file>', about: 'the configuration: JSON, JSON with comments, YAML or TOML' },
    { flags: '--name <name>', about: 'the entry’s name (default: the target’s)' },
    { flags: '--under <path>', about: 'the path of the map of servers, such as tools.servers; needed for a file that has no map yet' },
    {
      flags: '--env <name=value>',
      about: 'a variable for the server; without a value, its value here; may be repeated',
      read: collect,
    },
    { flags: '--replace', about: 'replace an existing entry' },
    { flags: '--dry-run', about: 'show the difference without writing' },
    { flags: '--print', about: 'print the entry instead of writing it' },
    { flags: '--remove <name>', about: 'remove an entry' },
    { flags: '--list', about: 'list the entries' },
    { flags: '--guidance <file>', about: 'write a text for the host’s instructions: when to use which tool' },
    json,
  ],
  takes: ['hostEntry'],
  chooses: true,
  help: `Examples:
  jexo register hives.ts --config ~/.config/host/servers.json
  jexo register hives.ts --config servers.json --env REGISTRY_TOKEN --dry-run
  jexo register api.openapi.yaml --config servers.json --only 'GET *' --base-url https://registry.example
  jexo register http://127.0.0.1:4300/mcp --config servers.json --name hives
  jexo register --config servers.json --remove hives
  jexo check servers.json                    start every entry as the host would
  jexo list servers.json#hives               an entry as a target

Everything else in the file stays the same, byte for byte. A backup is written beside it.
Exit codes: 0 it works there, 1 it is written but does not work there, 2 wrong use, 3 the file cannot be read or written.`,
  run: register,
};
