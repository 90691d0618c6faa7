import { parseArgs, type ParseArgsConfig } from 'node:util';
import { isJexoError, messageOf } from '../errors.js';
import { defineServer, speaksTo, type Server } from '../offers/define-server.js';
import { missingSettings } from '../offers/source.js';
import { anyPort, attributeOf, readerOf, resolveSettings } from '../plans/resolve-settings.js';
import { serveSettings, type ServeDefaults, type ServeSetting } from '../plans/serve-settings.js';
import { requireUse, shapeBySettings, switchBySettings } from '../running/by-settings.js';
import { surviveStrays } from '../transports/strays.js';
import { serveStdio } from '../transports/serve-stdio.js';

/** Several processes are for whatever starts a pack: a service manager, a cluster. */
const settings: readonly ServeSetting[] = serveSettings.filter(({ name }) => name !== 'workers' && name !== 'page');

const usage = (name: string) => `Serves ${name}.

  node ${name}.mjs                  over stdio
  node ${name}.mjs --http 4300      over HTTP, at http://127.0.0.1:4300/mcp; without a port, at that of PORT or any free one

${settings.map(({ flags, about, usual }) => `  ${flags.padEnd(28)}${about}${usual === undefined ? '' : ` (${usual})`}`).join('\n')}

Every option may come from the environment too: --allow-host is JEXO_ALLOW_HOST.
`;

/** What a packed file does when it is run: stdio by default, HTTP with `--http`. */
export async function runPacked(packed: Server): Promise<void> {
  const say = (text: string) => void process.stderr.write(`${text}\n`);
  const note = (text: string) => say(`jexo: ${text}`);
  surviveStrays(note, { exceptions: true });
  try {
    const { help, version, values } = readArguments(process.argv.slice(2));
    if (help) return say(usage(packed.info.name));
    if (version) return say(packed.info.version);
    const shaping = shapeBySettings(() => values);
    const server = defineServer(shaping.reshape(packed.definition, undefined));
    speaksTo(packed, server);
    requireUse(values);
    await warnOfSettings(server, say);
    const stopSwitches = await switchBySettings(server, values, note);
    if (values.http === undefined) {
      const service = await serveStdio(server);
      onStop(() => service.close());
      await service.closed;
      process.exit(0);
    }
    // Over stdio, what HTTP needs is not loaded.
    const [{ serveHttp }, { httpBySettings }] = await Promise.all([
      import('../transports/http/serve-http.js'),
      import('../running/http-by-settings.js'),
    ]);
    const service = await serveHttp(server, httpBySettings(values, shaping.counted));
    shaping.counted?.follow({ service, server });
    // Whoever hears that it serves may stop it at once.
    onStop(() => {
      stopSwitches();
      return service.close().then(() => process.exit(0));
    });
    say(`${server.info.name} ${server.info.version} is served over HTTP at ${service.url}`);
    if (service.adminPort !== undefined) say(`admin: http://${values.adminHost ?? '127.0.0.1'}:${service.adminPort}`);
  } catch (error) {
    const isUsage = !isJexoError(error) || error.code === 'JEXO_USAGE';
    fail(isJexoError(error) ? `${error.message} (${error.code})\n${error.next}` : messageOf(error), isUsage ? 2 : 3);
  }
}

/** @throws for an option that there is not, or a value that cannot be read */
function readArguments(words: readonly string[]): { readonly help: boolean; readonly version: boolean; readonly values: ServeDefaults } {
  const options: NonNullable<ParseArgsConfig['options']> = { help: { type: 'boolean', short: 'h' }, version: { type: 'boolean' } };
  for (const { flags, type } of settings)
    options[/^--([\w-]+)/.exec(flags)![1]!] = { type: type === 'flag' ? 'boolean' : 'string', ...(type === 'texts' && { multiple: true }) };
  const { values } = parseArgs({ args: withValues(words), options });
  const given: Record<string, unknown> = {};
  for (const setting of settings) {
    const value = values[/^--([\w-]+)/.exec(setting.flags)![1]!];
    if (value === undefined) continue;
    const read = typeof value === 'string' && value !== '' ? readerOf(setting)?.(value, undefined) : undefined;
    given[attributeOf(setting.flags)] = read ?? (value === '' ? true : value);
  }
  const resolved = resolveSettings({ values: given, names: new Set(Object.keys(given)) }, process.env);
  return { help: values.help === true, version: values.version === true, values: { ...resolved.values, workers: 1, page: false } };
}

/** `--http` and `--log` may stand alone, as they may on the command line. */
function withValues(words: readonly string[]): string[] {
  return words.flatMap((word, index) => {
    const isAlone = !/^[^-]/.test(words[index + 1] ?? '');
    if (word === '--http' && isAlone) return [`--http=${anyPort}`];
    return word === '--log' && isAlone ? ['--log='] : [word];
  });
}

async function warnOfSettings(server: Server, say: (text: string) => void): Promise<void> {
  // What cannot be read is reported by whatever serves it.
  const { settings } = await server.catalogue().catch(() => ({ settings: [] }));
  for (const { variable, purpose } of missingSettings(settings, process.env))
    say(`! ${variable} is not set: ${purpose} is read from it. Calls that need it will fail.`);
}

function onStop(stop: () => Promise<void>): void {
  let asked = false;
  for (const signal of ['SIGINT', 'SIGTERM'] as const)
    process.on(signal, () => {
      if (asked) process.exit(130);
      asked = true;
      void stop();
    });
}

function fail(text: string, code: number): void {
  process.stderr.write(`${text}\n`);
  process.exitCode = code;
}
