import { existsSync, realpathSync } from 'node:fs';
import { homedir, tmpdir, userInfo } from 'node:os';
import { isAbsolute, resolve } from 'node:path';
import { missingSettings, type NeededSetting } from '../offers/source.js';
import { findOnPath } from '../targets/find-on-path.js';
import { openTarget } from '../targets/open-targets.js';
import { readServeArguments } from './build-program.js';
import { connectLink, type Client } from '../client/connect-link.js';
import { connectUrl } from '../client/connect-url.js';
import { isJexoError, messageOf } from '../errors.js';
import { stdioLink } from '../transports/stdio-link.js';
import type { HostEntry } from '../hosts/host-entry.js';

/** One thing that fails, or would fail, where a host application starts the server; and how to fix it. */
export interface EntryTrouble {
  readonly what: string;
  readonly fix: string;
}
export interface Proof {
  readonly works: boolean;
  readonly tools: readonly string[];
  readonly server?: { readonly name: string; readonly version: string };
  readonly instructions?: string;
  readonly descriptions: Readonly<Record<string, string>>;
  readonly tookMs: number;
  readonly troubles: readonly EntryTrouble[];
}

/** Hosts that wait longer than this are rare. */
const slowMs = 5000;
const patienceMs = 20_000;
const onWindows = process.platform === 'win32';

/** The environment of an application that was started from the desktop: a short PATH, and nothing of a shell's profile. */
export function bareEnvironment(): Record<string, string> {
  const { HOME, USERPROFILE, SystemRoot, APPDATA, LOCALAPPDATA, TEMP, TMPDIR } = process.env;
  const kept = onWindows
    ? { USERPROFILE, SystemRoot, APPDATA, LOCALAPPDATA, TEMP }
    : { HOME: HOME ?? homedir(), USER: userInfo().username, TMPDIR };
  const PATH = onWindows ? `${SystemRoot ?? 'C:\\Windows'}\\system32;${SystemRoot ?? 'C:\\Windows'}` : '/usr/bin:/bin:/usr/sbin:/sbin';
  return Object.fromEntries(Object.entries({ ...kept, PATH }).filter((each): each is [string, string] => each[1] !== undefined));
}

/** Starts exactly what is written, as a host application would, and lists what it offers. */
export async function proveEntry(entry: HostEntry): Promise<Proof> {
  // Listing tools works without these, calling them does not.
  const settings = await settingsOf(entry);
  const troubles = entry.kind === 'command' ? foreseen(entry) : [];
  const missing = entry.kind === 'command' ? missingSettings(settings, { ...bareEnvironment(), ...entry.env }) : [];
  for (const { variable, purpose } of missing)
    troubles.push({
      what: `${variable} is not set: ${purpose} is read from it, and a host does not hand it on. Calls will fail.`,
      fix: process.env[variable] ? `Put it into the entry: --env ${variable}` : `Put it into the entry: --env ${variable}=…`,
    });
  const start = performance.now();
  const stderr: string[] = [];
  let client: Client | undefined;
  try {
    client = await open(entry, (line) => stderr.push(line));
    const tools = client.server.capabilities.tools === undefined ? [] : await client.tools();
    const tookMs = performance.now() - start;
    if (tookMs > slowMs)
      troubles.push({
        what: `It took ${(tookMs / 1000).toFixed(1)} seconds to be ready; many hosts give up sooner.`,
        fix: 'Pack it, which starts faster: jexo pack. Load what is heavy on first use.',
      });
    const { serverInfo, instructions } = client.server;
    return {
      works: missing.length === 0,
      tools: tools.map(({ name }) => name),
      server: { name: serverInfo.title ?? serverInfo.name, version: serverInfo.version },
      ...(instructions !== undefined && { instructions }),
      descriptions: Object.fromEntries(tools.map(({ name, description = '' }) => [name, description])),
      tookMs,
      troubles,
    };
  } catch (error) {
    return {
      works: false,
      tools: [],
      descriptions: {},
      tookMs: performance.now() - start,
      troubles: [...troubles, explained(error, stderr)],
    };
  } finally {
    await client?.close();
  }
}

function open(entry: HostEntry, onStderr: (line: string) => void): Promise<Client> {
  if (entry.kind === 'url') return connectUrl(entry.url, { headers: entry.headers, timeoutMs: patienceMs });
  const { command, args, env } = entry;
  const link = stdioLink(
    { command, args, env: { ...bareEnvironment(), ...env }, onlyEnv: true, cwd: onWindows ? tmpdir() : '/' },
    { onStderr },
  );
  return connectLink(link, { timeoutMs: patienceMs });
}

/** What can be seen to fail without starting it. */
function foreseen({ command, args }: Extract<HostEntry, { kind: 'command' }>): EntryTrouble[] {
  const troubles: EntryTrouble[] = [];
  if (!isAbsolute(command) && findOnPath(command, bareEnvironment().PATH!) === undefined) {
    const here = findOnPath(command, process.env.PATH ?? '');
    troubles.push({
      what: `${command} is not on the PATH that an application started from the desktop has.`,
      fix: here === undefined ? `Install ${command}, or write its whole path.` : `Write its whole path: ${here}`,
    });
  }
  for (const arg of args)
    if (!isAbsolute(arg) && /[\\/]|\.(?:[cm]?[jt]sx?|ya?ml|json)$/i.test(arg) && !/^[a-z]+:\/\/|^-|^@[^/]+\/[^/]+$/i.test(arg))
      troubles.push({
        what: `${arg} is a path from a folder that the host does not start in.`,
        fix: existsSync(arg) ? `Write it whole: ${resolve(arg)}` : 'Write it whole, from the root.',
      });
  return troubles;
}

function explained(error: unknown, stderr: readonly string[]): EntryTrouble {
  const last = stderr
    .slice(-3)
    .map((line) => line.trim())
    .filter((line) => line !== '')
    .join(' ');
  const missing =
    /\b([A-Z][A-Z0-9_]{2,})\b[^.]{0,40}\b(?:is not set|is missing|is required|must be set|undefined)|(?:missing|required|set)[^.]{0,40}\b([A-Z][A-Z0-9_]{3,})\b/.exec(
      stderr.join('\n'),
    );
  const variable = missing?.[1] ?? missing?.[2];
  if (variable !== undefined)
    return {
      what: `It wants the variable ${variable}, which a host does not hand on. It said: ${last}`,
      fix: `Put it into the entry: --env ${variable}=…`,
    };
  if (!isJexoError(error)) return { what: messageOf(error), fix: 'Run the command by itself to see more.' };
  if (error.code === 'JEXO_NOT_PROTOCOL')
    return { what: error.message, fix: 'Only the protocol may be on stdout: print to stderr instead.' };
  if (error.code === 'JEXO_TIMEOUT')
    return {
      what: `It did not introduce itself within ${patienceMs / 1000} seconds.${last === '' ? '' : ` It said: ${last}`}`,
      fix: 'Check that it serves over stdio, and load what is heavy on first use.',
    };
  return { what: error.message, fix: error.next };
}

/** The variables that an entry needs which was written by `register`: those of the target it serves. */
async function settingsOf(entry: HostEntry): Promise<readonly NeededSetting[]> {
  if (entry.kind !== 'command') return [];
  const [program, verb, ...rest] = entry.args;
  if (program !== realpathSync(process.argv[1]!) || verb !== 'serve') return [];
  try {
    const { operands, opening } = readServeArguments(rest);
    const server = await openTarget(operands[0]!, opening);
    const { settings } = await server.catalogue();
    await server.close();
    return settings;
  } catch {
    return []; // starting it says what is wrong
  }
}

/** A short text for a host's own instructions: when to use this server, and which tool for what. */
export function guidance(name: string, { server, instructions, descriptions }: Proof): string {
  const lines = Object.entries(descriptions).map(([tool, text]) => {
    const use = /(?:^|\n|\. )(Use (?:when|for|to|after|before|this)[^\n]*?)(?:\.|\n|$)/.exec(text)?.[1];
    const first = text.split(/(?<=\.)\s|\n/)[0]?.replace(/\.$/, '') ?? '';
    return `- \`${tool}\`: ${[first, use].filter(Boolean).join('. ') || 'say here what it is for'}.`;
  });
  return `## ${server?.name ?? name}\n\n${instructions ?? `Say here when to use ${name}.`}\n\n${lines.join('\n')}\n`;
}
