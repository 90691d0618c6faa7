import { JexoError } from '../../errors.js';
import { createSignIn, type SignIn, type SignInOptions, type SignInPage, type Visit } from './sign-in.js';

/** How sign-ins of a web page come back. */
export interface PopupVisitOptions {
  /** A page of this origin that calls `cameBack()`, as the authorization server knows it. */
  readonly redirectUrl: string;
  /** Milliseconds that a person may take. Default five minutes. */
  readonly waitMs?: number;
}

const usualWaitMs = 5 * 60_000;
const channelName = 'jexo sign-in';

/**
 * Signs in at servers that want it, by OAuth 2.1, from a web page. Sign-ins are kept in memory, and end with the page.
 *
 * @example
 * const client = await connect('https://apiary.example/mcp', { auth: signIn({ visit: popupVisit({ redirectUrl: `${location.origin}/back.html` }) }) });
 */
export function signIn(options: SignInOptions = {}): SignIn {
  return createSignIn(options, () => options.fetch ?? fetch);
}

/**
 * Sends the person to a window of its own. Browsers open one only when the person has just clicked something.
 *
 * @throws JexoError JEXO_SIGN_IN when the window is blocked or closed, or nobody came back in time
 */
export function popupVisit({ redirectUrl, waitMs = usualWaitMs }: PopupVisitOptions): Visit {
  return {
    begin: () => {
      const channel = new BroadcastChannel(channelName);
      return { redirectUrl, go: (page) => visitBy(channel, page, waitMs), end: () => channel.close() };
    },
  };
}

/** To be called by the page of `redirectUrl`: hands the sign-in to the page that began it, and closes the window. */
export function cameBack(): void {
  const channel = new BroadcastChannel(channelName);
  channel.postMessage(location.href);
  channel.close();
  window.close();
}

function visitBy(channel: BroadcastChannel, page: SignInPage, waitMs: number): Promise<URL> {
  const fail = (message: string, next: string) => new JexoError('JEXO_SIGN_IN', message, { where: page.issuer, next });
  const opened = window.open(page.url, '_blank', 'popup,width=560,height=720');
  if (opened === null)
    return Promise.reject(
      fail('The browser did not open the page of the authorization server.', 'Allow this page to open windows, and sign in by a click.'),
    );
  return new Promise<URL>((resolve, reject) => {
    const timer = setTimeout(() => reject(fail(`Nobody came back from ${page.issuer} in time.`, 'Sign in again.')), waitMs);
    page.signal.addEventListener('abort', () => reject(page.signal.reason as Error), { once: true });
    channel.addEventListener('message', ({ data }: MessageEvent<unknown>) => {
      const address = typeof data === 'string' && URL.canParse(data) ? new URL(data) : undefined;
      if (address === undefined || !page.isAnswer(address)) return; // another sign-in’s
      clearTimeout(timer);
      resolve(address);
    });
  }).finally(() => opened.close());
}
