import { systemKeychain } from '../auth/sign-in/keychain.js';
import { signInFile, type SignInFile } from '../auth/sign-in/sign-in-file.js';
import { serviceSignIn } from '../auth/sign-in/service-sign-in.js';
import { signIn } from '../auth/sign-in/sign-in-here.js';
import type { SignIn, SignInOptions, SignInPage } from '../auth/sign-in/sign-in.js';
import { browserVisit, pastedVisit } from '../auth/sign-in/visits.js';
import { JexoError } from '../errors.js';
import type { ClientAuth } from '../transports/http/client-auth.js';
import { askLine, isSomebodyThere } from './ask.js';
import { hasBrowser, openBrowser } from './open-browser.js';
import { note, onErr, symbols } from './terminal.js';

/** How a person at the terminal signs in. */
export interface TerminalSignInOptions extends Omit<SignInOptions, 'visit' | 'store' | 'fetch'> {
  /** False prints the address and waits for the one it leads to. Default: true where a browser can be opened. */
  readonly browser?: boolean;
  readonly port?: number;
}

/** Sign-ins of this user: in a file, encrypted where there is a keychain. */
export async function openSignIns(): Promise<SignInFile> {
  const keychain = await systemKeychain();
  return signInFile(undefined, keychain === undefined ? {} : { keychain });
}

export async function terminalSignIn({ browser = hasBrowser(), port, ...options }: TerminalSignInOptions = {}): Promise<SignIn> {
  return signIn({
    ...options,
    store: await openSignIns(),
    visit: browser ? browserVisit({ open: openPage, ...(port !== undefined && { port }) }) : pastedVisit(askForAddress),
  });
}

/**
 * What every command proves itself with: sign-ins that are kept, renewed where they end. When a server wants a new one, a person at the terminal is sent
 * there; without one, the command fails and says what to do.
 */
export function terminalAuth(): ClientAuth {
  const { JEXO_CLIENT_ID: clientId, JEXO_CLIENT_SECRET: clientSecret, JEXO_ISSUER: issuer } = process.env;
  // A pipeline or a service has an id and a secret of its own.
  if (clientId && clientSecret && issuer) return serviceSignIn({ issuer, clientId, clientSecret });
  if (clientId && clientSecret)
    return {
      headers: () => ({}),
      refused() {
        throw new JexoError('JEXO_SIGN_IN', 'JEXO_CLIENT_SECRET is for one authorization server, and none is named.', {
          where: 'JEXO_ISSUER',
          next: 'Set JEXO_ISSUER to its address.',
        });
      },
    };
  return lazySignIn(async () => (isSomebodyThere() ? terminalSignIn() : signIn({ store: await openSignIns() })));
}

/** Sign-ins are looked for with the first request: most targets are no servers over HTTP. */
export function lazySignIn(make: () => Promise<SignIn>): ClientAuth {
  let opened: Promise<SignIn> | undefined;
  const open = () => (opened ??= make());
  return {
    headers: async (request) => (await open()).headers(request),
    refused: async (request) => (await open()).refused(request),
  };
}

function announce({ endpoint, issuer, scopes }: SignInPage): void {
  const what = scopes.length === 0 ? '' : ` (${scopes.join(' ')})`;
  note(`${onErr('heather', symbols.in)} ${onErr('bold', endpoint)} wants a sign-in at ${onErr('bold', issuer)}${what}.`);
}

function openPage(page: SignInPage): void {
  announce(page);
  note(`  A browser opens this address; Ctrl-C stops. If it does not, open it yourself:\n  ${onErr('lake', page.url)}`);
  openBrowser(page.url, () => note('  No browser could be opened from here.'));
}

async function askForAddress(page: SignInPage, complaint: string | undefined): Promise<string> {
  if (complaint === undefined) {
    announce(page);
    note(`  1. Open this address on any machine, and sign in there:\n  ${onErr('lake', page.url)}`);
    note('  2. You arrive at a page that cannot be shown. Copy its whole address, and paste it here.');
  } else note(`  ${onErr('brick', symbols.failed)} ${complaint}`);
  const text = await askLine(`  ${onErr('lake', 'address')} `, page.signal);
  if (text === undefined) throw new JexoError('JEXO_CANCELLED', 'The sign-in was stopped: no address was pasted.');
  return text;
}
