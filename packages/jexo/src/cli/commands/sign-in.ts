import type { KeptSignIn } from '../../auth/sign-in/kept-sign-in.js';
import { JexoError } from '../../errors.js';
import type { CliCommand, ExitCode, Invocation } from '../command.js';
import { json, list, port } from '../options.js';
import { openSignIns, terminalSignIn } from '../terminal-sign-in.js';
import { closeTerminal } from '../ask.js';
import { note, onErr, printJson, symbols } from '../terminal.js';
import { stopOnInterrupt } from '../with-client.js';
import { publicPart, until } from '../shown-sign-in.js';

interface SignInCommandOptions {
  readonly clientId?: string;
  readonly clientDocument?: string;
  readonly issuer?: string;
  readonly scope?: string[];
  readonly port?: number;
  readonly browser: boolean;
  readonly steps?: boolean;
  readonly json?: boolean;
}

const secretVariable = 'JEXO_CLIENT_SECRET';

async function signIn({ operands: [url], options }: Invocation<SignInCommandOptions>): Promise<ExitCode> {
  if (url === undefined || !/^https?:\/\//i.test(url) || !URL.canParse(url))
    throw new JexoError('JEXO_USAGE', url === undefined ? 'Where? No address was given.' : `${url} is not an address of a server.`, {
      next: 'As in: jexo sign-in https://apiary.example/mcp',
    });
  const { clientId, clientDocument, issuer, scope, port: wanted, browser, steps, json: asJson } = options;
  const clientSecret = process.env[secretVariable];
  const { signal, release } = stopOnInterrupt();
  try {
    const auth = await terminalSignIn({
      ...(!browser && { browser }),
      ...(clientId !== undefined && { clientId }),
      ...(clientId !== undefined && clientSecret && { clientSecret }),
      ...(clientDocument !== undefined && { clientDocument }),
      ...(issuer !== undefined && { issuer }),
      ...(scope && { scopes: scope }),
      ...(wanted !== undefined && { port: wanted }),
      ...(steps && {
        onStep: ({ step, url: where, status, note: words }) =>
          note(onErr('quiet', `${symbols.dot} ${[step, where, status, words].filter((part) => part !== undefined).join('  ')}`)),
      }),
    });
    const kept = await auth.begin(url, { signal });
    return await report(url, kept, asJson === true);
  } finally {
    closeTerminal();
    release();
  }
}

async function report(url: string, kept: KeptSignIn | undefined, asJson: boolean): Promise<ExitCode> {
  if (asJson) return printJson(JSON.stringify(kept === undefined ? { needed: false } : { needed: true, ...publicPart(kept) }, null, 2));
  if (kept === undefined) return note(`${onErr('moss', symbols.ok)} ${url} asks nobody to sign in.`);
  const { file, isEncrypted } = await openSignIns();
  const { server, scopes, subject } = kept;
  note(
    `${onErr('moss', symbols.ok)} Signed in at ${server.issuer}${subject === undefined ? '' : ` as ${subject}`} for ${kept.endpoint}, ${until(kept)}.`,
  );
  if (scopes.length > 0) note(`  Scopes: ${scopes.join(' ')}`);
  note(onErr('quiet', `  Kept in ${file}${isEncrypted ? ', encrypted by a key of the keychain' : ', which only you can read'}.`));
}

export const command: CliCommand<SignInCommandOptions> = {
  name: 'sign-in',
  about: 'sign in at a server that wants it, and keep the sign-in',
  operands: [['[url]', 'the server’s endpoint']],
  options: [
    { flags: '--scope <scopes>', about: 'scopes beyond those that the server names; comma-separated or repeated', read: list },
    { flags: '--issuer <url>', about: 'the authorization server, where the server names several' },
    {
      flags: '--client-id <id>',
      about: `an id that the authorization server knows; its secret, if any, is read from ${secretVariable}, and needs --issuer`,
    },
    { flags: '--client-document <url>', about: 'an HTTPS address of a document about this client, where authorization servers take such' },
    { flags: '--port <port>', about: 'the port that the browser comes back to', read: port('--port') },
    { flags: '--no-browser', about: 'print the address, and wait for the one it leads to' },
    { flags: '--steps', about: 'print each step' },
    json,
  ],
  help: `Examples:
  jexo sign-in https://apiary.example/mcp
  jexo sign-in https://apiary.example/mcp --no-browser
  jexo sign-in https://apiary.example/mcp --client-id apiary-desk --port 3912

Commands that meet a server that wants a sign-in begin one by themselves at a terminal. Elsewhere they use what is kept, and renew it.
Exit codes: 0 signed in, or not needed, 2 wrong use, 3 the sign-in failed.`,
  run: signIn,
};
