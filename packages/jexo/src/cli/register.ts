import { existsSync, realpathSync } from 'node:fs';
import { writeFile } from 'node:fs/promises';
import { isAbsolute, resolve } from 'node:path';
import { createTwoFilesPatch } from 'diff';
import { JexoError, messageOf } from '../errors.js';
import { entryName, styleOf, writeEntry, type HostEntry } from '../hosts/host-entry.js';
import { openHostFile, withEntry, withoutEntry, writeHostFile, type HostFile } from '../hosts/host-file.js';
import { findOnPath, guidance, proveEntry, type Proof } from './prove-entry.js';
import type { NeededSetting } from '../offers/offer.js';
import { openTarget } from '../targets/open-target.js';
import { parseTarget } from '../targets/target.js';
import { takeTarget, type TargetWords } from './connect-target.js';
import { readHeaders } from './headers.js';
import { duration, note, onErr, onOut, print, printJson, symbols, table } from './terminal.js';

interface RegisterOptions {
  readonly with?: string;
  readonly name?: string;
  readonly under?: string;
  readonly env?: string[];
  readonly header?: string[];
  readonly replace?: boolean;
  readonly dryRun?: boolean;
  readonly print?: boolean;
  readonly remove?: string;
  readonly list?: boolean;
  readonly guidance?: string;
  readonly json?: boolean;
}

const usage = 'As in: jexo register hives.ts --with hosts.json';

/** Puts a server into a host application's configuration, and proves that it works there. */
export async function register(
  operands: readonly string[],
  command: readonly string[] | undefined,
  options: RegisterOptions,
): Promise<void> {
  if (options.with === undefined)
    throw new JexoError('JEXO_USAGE', 'Say which configuration it goes into.', { where: '--with', next: usage });
  const opened = await openHostFile(options.with, options.under);
  if (options.list) return list(opened, options.json ?? false);
  if (options.remove !== undefined)
    return change(opened, await withoutEntry(opened, options.remove), `${options.remove} is taken out of`, options);
  const { target } = takeTarget(operands, command, usage);
  const entry = entryFor(target, options);
  const name = entryName(options.name ?? nameOf(target));
  if (options.print) {
    const written = writeEntry(entry, styleOf([]));
    return printJson(
      JSON.stringify(
        opened.path.reduceRight<unknown>((inner, key) => ({ [key]: inner }), { [name]: written }),
        null,
        2,
      ),
    );
  }
  const text = withEntry(opened, name, entry, options.replace ?? false);
  if (options.dryRun) return showDifference(opened, text);
  const backup = await writeHostFile(opened, text);
  const proof = await proveEntry(entry, await settingsOf(entry));
  if (options.guidance !== undefined && proof.works) await writeGuidance(options.guidance, guidance(name, proof));
  if (!proof.works) process.exitCode = 1;
  if (options.json)
    return printJson(JSON.stringify({ file: opened.file, name, entry, ...(backup !== undefined && { backup }), proof }, null, 2));
  note(
    `${onErr('moss', symbols.ok)} ${onErr('bold', name)} is in ${opened.file}${backup === undefined ? '' : onErr('quiet', ` (before: ${backup})`)}`,
  );
  report(proof);
  if (proof.works) {
    note('  Next: quit the host application fully and start it again; a closed window is often not enough.');
    note('  Its tools are used where the host lets a model act, not in plain talk. Its log of servers mostly lies beside this file.');
  }
}

function nameOf({ text, command }: TargetWords): string {
  if (text === undefined)
    return (command!.findLast((word) => !word.startsWith('-')) ?? 'server').replace(/^.*[\\/]/, '').replace(/\.\w+$/, '');
  if (/^https?:/i.test(text)) return new URL(text).hostname.replace(/^www\./, '').replace(/^(?:127\.0\.0\.1|localhost)$/, 'local_server');
  return text.replace(/^.*[\\/]/, '').replace(/(?:\.openapi)?\.\w+$/, '');
}

/** What a host has to start: whole paths, and nothing that a shell would have to find. */
function entryFor({ text, command }: TargetWords, { env = [], header }: RegisterOptions): HostEntry {
  const variables = Object.fromEntries(
    env.map((pair) => {
      const at = pair.indexOf('=');
      const name = at < 0 ? pair : pair.slice(0, at);
      const value = at < 0 ? process.env[name] : pair.slice(at + 1);
      if (!/^[A-Za-z_]\w*$/.test(name) || value === undefined)
        throw new JexoError(
          'JEXO_USAGE',
          value === undefined
            ? `${name} is not set here, so its value cannot be taken over.`
            : `${JSON.stringify(pair)} is not of the form NAME=value.`,
          { where: '--env', next: `Give its value: --env ${name}=…` },
        );
      return [name, value];
    }),
  );
  if (text !== undefined && parseTarget(text).kind === 'url') return { kind: 'url', url: text, headers: readHeaders(header) };
  if (command !== undefined) {
    const [program = '', ...args] = command;
    const found = isAbsolute(program) ? program : program.includes('/') ? resolve(program) : findOnPath(program, process.env.PATH ?? '');
    if (found === undefined) throw new JexoError('JEXO_COMMAND_MISSING', `There is no command ${program}.`, { where: program });
    return {
      kind: 'command',
      command: found,
      args: args.map((arg) => (!isAbsolute(arg) && !arg.startsWith('-') && existsSync(arg) ? resolve(arg) : arg)),
      env: variables,
    };
  }
  const target = parseTarget(text!);
  if (target.kind === 'package')
    throw new JexoError('JEXO_TARGET_UNKNOWN', `${text} is a package, which a host would look for in a folder of its own.`, {
      where: text!,
      next: 'Write a module that wraps it, and register that.',
    });
  const file = target.kind === 'module' ? target.path : target.kind === 'document' ? target.place : '';
  const isUrl = /^https?:/i.test(file);
  if (!isUrl && !existsSync(file)) throw new JexoError('JEXO_TARGET_MISSING', `There is no file ${file}.`, { where: file });
  return {
    kind: 'command',
    command: process.execPath,
    args: [realpathSync(process.argv[1]!), 'serve', isUrl ? file : resolve(file)],
    env: variables,
  };
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

function list({ file, entries }: HostFile, json: boolean): void {
  if (json) return printJson(JSON.stringify({ file, entries }, null, 2));
  const rows = Object.entries(entries).map(([name, entry]) => [
    name,
    entry.kind === 'url' ? entry.url : [entry.command, ...entry.args].join(' '),
  ]);
  if (rows.length === 0) return note(`${file} has no servers yet.`);
  for (const line of table(['name', 'what it starts'], rows)) print(line);
}

export function report({ works, tools, server, tookMs, troubles }: Proof): void {
  if (server !== undefined && (works || troubles.length > 0))
    note(
      `${works ? onErr('moss', symbols.ok) : onErr('ochre', symbols.warn)} Started as a host would: ${server.name} ${server.version} answered in ${duration(tookMs)} with ${tools.length} ${tools.length === 1 ? 'tool' : 'tools'}`,
    );
  else note(`${onErr('brick', symbols.failed)} Started as a host would, it does not work.`);
  for (const { what, mend } of troubles) note(`  ${onErr('ochre', symbols.warn)} ${what}\n    ${mend}`);
}

/** What an entry as `register` writes it serves, asked for the variables it needs. */
export async function settingsOf(entry: HostEntry): Promise<readonly NeededSetting[]> {
  if (entry.kind !== 'command') return [];
  const [program, verb, target, ...others] = entry.args;
  if (program !== realpathSync(process.argv[1]!) || verb !== 'serve' || target === undefined || others.length > 0) return [];
  try {
    return (await (await openTarget(target)).catalogue()).settings;
  } catch {
    return []; // starting it says what is wrong
  }
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
