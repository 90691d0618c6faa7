import { canonicalEndpoint } from '../../auth/sign-in/kept-sign-in.js';
import { JexoError } from '../../errors.js';
import type { CliCommand, ExitCode, Invocation } from '../command.js';
import { json } from '../options.js';
import { publicPart, until } from '../shown-sign-in.js';
import { openSignIns } from '../terminal-sign-in.js';
import { note, onErr, print, printJson, symbols, table } from '../terminal.js';

async function who({ operands: [url], options }: Invocation<{ readonly json?: boolean }>): Promise<ExitCode> {
  const { file, isEncrypted, list } = await openSignIns();
  const all = await list();
  if (url !== undefined && !URL.canParse(url)) throw new JexoError('JEXO_USAGE', `${url} is not an address of a server.`);
  const found = url === undefined ? all : all.filter(({ endpoint }) => endpoint === canonicalEndpoint(url));
  if (options.json) printJson(JSON.stringify({ file, encrypted: isEncrypted, signIns: found.map(publicPart) }, null, 2));
  else {
    const rows = found.map((kept) => [
      kept.endpoint,
      kept.subject ?? symbols.dot,
      kept.server.issuer,
      kept.scopes.join(' ') || symbols.dot,
      until(kept),
    ]);
    if (rows.length > 0) for (const line of table(['server', 'as', 'signed in at', 'scopes', 'holds'], rows)) print(line);
    const where = isEncrypted ? `${file}, encrypted by a key of the keychain` : file;
    note(
      onErr(
        'quiet',
        found.length === 0
          ? `Nobody is signed in${url === undefined ? '' : ` at ${url}`}. Sign-ins are kept in ${where}`
          : `Kept in ${where}`,
      ),
    );
  }
  return url !== undefined && found.length === 0 ? 1 : 0;
}

export const command: CliCommand<{ readonly json?: boolean }> = {
  name: 'who',
  about: 'show as whom you are signed in, and where',
  operands: [['[url]', 'one server’s endpoint']],
  options: [json],
  help: `Examples:
  jexo who
  jexo who https://apiary.example/mcp --json

Exit codes: 0 signed in, 1 not signed in at this server, 2 wrong use.`,
  run: who,
};
