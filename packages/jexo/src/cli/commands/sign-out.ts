import { canonicalEndpoint } from '../../auth/sign-in/kept-sign-in.js';
import { JexoError } from '../../errors.js';
import type { CliCommand, ExitCode, Invocation } from '../command.js';
import { json } from '../options.js';
import { terminalSignIn } from '../terminal-sign-in.js';
import { note, onErr, printJson, symbols } from '../terminal.js';

interface SignOutOptions {
  readonly all?: boolean;
  readonly json?: boolean;
}

async function signOut({ operands: [url], options }: Invocation<SignOutOptions>): Promise<ExitCode> {
  const auth = await terminalSignIn();
  const known = (await auth.list()).map(({ endpoint }) => endpoint);
  if ((url === undefined) === (options.all !== true))
    throw new JexoError('JEXO_USAGE', url === undefined ? 'Where? No address was given.' : 'Give an address, or --all.', {
      next: 'As in: jexo sign-out https://apiary.example/mcp, or: jexo sign-out --all',
    });
  if (url !== undefined && (!URL.canParse(url) || !known.includes(canonicalEndpoint(url))))
    throw new JexoError('JEXO_SIGN_IN', `No sign-in at ${url} is kept.`, { where: url, next: 'See what is kept with: jexo who' });
  const ended = [];
  for (const endpoint of url === undefined ? known : [url]) {
    const found = await auth.end(endpoint);
    if (found === undefined) continue; // another process was faster
    const { was, notRevoked } = found;
    ended.push({
      endpoint: was.endpoint,
      issuer: was.server.issuer,
      revoked: notRevoked === undefined,
      ...(notRevoked !== undefined && { why: notRevoked }),
    });
    if (options.json) continue;
    note(`${onErr('moss', symbols.ok)} Signed out of ${was.endpoint}.`);
    if (notRevoked !== undefined)
      note(`  ${onErr('ochre', symbols.warn)} The token is not kept here any more, but was not revoked: ${notRevoked}`);
  }
  if (options.json) printJson(JSON.stringify({ signedOut: ended }, null, 2));
  else if (ended.length === 0) note('No sign-in is kept.');
}

export const command: CliCommand<SignOutOptions> = {
  name: 'sign-out',
  about: 'give up a sign-in, here and at the authorization server',
  operands: [['[url]', 'the server’s endpoint']],
  options: [{ flags: '--all', about: 'every sign-in that is kept' }, json],
  help: `Examples:
  jexo sign-out https://apiary.example/mcp
  jexo sign-out --all

Exit codes: 0 signed out, 2 wrong use, 3 no such sign-in is kept.`,
  run: signOut,
};
