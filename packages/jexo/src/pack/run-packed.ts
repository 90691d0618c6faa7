import { parseArgs } from 'node:util';
import { isJexoError, messageOf } from '../errors.js';
import type { Server } from '../offers/define-server.js';
import { missingSettings } from '../offers/source.js';
import { serveHttp } from '../transports/http/serve-http.js';
import { surviveStrays } from '../transports/strays.js';
import { serveStdio } from '../transports/serve-stdio.js';

const usage = (name: string) => `Serves ${name}.

  node ${name}.mjs                  over stdio
  node ${name}.mjs --http 4300      over HTTP, at http://127.0.0.1:4300/mcp; without a port, at any free one
  --host <address>   address to listen at (127.0.0.1)
  --open             let anybody call who reaches another address than this machine's own
  --path <path>      path of the endpoint (/mcp)
`;

/** What a packed file does when it is run: stdio by default, HTTP with `--http`. */
export async function runPacked(server: Server): Promise<void> {
  const say = (text: string) => void process.stderr.write(`${text}\n`);
  surviveStrays((note) => say(`jexo: ${note}`), { exceptions: true });
  try {
    const { values } = parseArgs({
      args: withPort(process.argv.slice(2)),
      options: {
        http: { type: 'string' },
        host: { type: 'string' },
        path: { type: 'string' },
        open: { type: 'boolean' },
        help: { type: 'boolean', short: 'h' },
        version: { type: 'boolean' },
      },
    });
    if (values.help) return say(usage(server.info.name));
    if (values.version) return say(server.info.version);
    await warnOfSettings(server, say);
    if (values.http === undefined) {
      const service = await serveStdio(server);
      onStop(() => service.close());
      await service.closed;
      process.exit(0);
    }
    const port = Number(values.http);
    if (!Number.isInteger(port) || port < 0 || port > 65535)
      return fail(`--http must be a port from 0 to 65535; ${JSON.stringify(values.http)} is not.`, 2);
    const service = await serveHttp(server, {
      port,
      ...(values.host !== undefined && { host: values.host }),
      ...(values.path !== undefined && { path: values.path }),
      ...(values.open && { open: true }),
    });
    say(`${server.info.name} ${server.info.version} is served over HTTP at ${service.url}`);
    onStop(() => service.close().then(() => process.exit(0)));
  } catch (error) {
    fail(isJexoError(error) ? `${error.message} (${error.code})\n${error.next}` : messageOf(error), isJexoError(error) ? 3 : 2);
  }
}

async function warnOfSettings(server: Server, say: (text: string) => void): Promise<void> {
  // What cannot be read is reported by whatever serves it.
  const { settings } = await server.catalogue().catch(() => ({ settings: [] }));
  for (const { variable, purpose } of missingSettings(settings, process.env))
    say(`! ${variable} is not set: ${purpose} is read from it. Calls that need it will fail.`);
}

/** `--http` may stand alone, as it may on the command line: any free port will do. */
function withPort(args: readonly string[]): string[] {
  return args.flatMap((arg, index) => (arg === '--http' && !/^[^-]/.test(args[index + 1] ?? '') ? [arg, '0'] : [arg]));
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
