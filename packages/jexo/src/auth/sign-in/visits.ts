import { createServer, type IncomingMessage, type Server as HttpServer, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { untilAborted } from '../../engine/until-aborted.js';
import { JexoError, messageOf } from '../../errors.js';
import { deadline } from '../../engine/deadline.js';
import { personPage, personPageHeaders } from '../person-page.js';
import type { SignInPage, Visit } from './sign-in.js';

/** How a person is sent to the authorization server by the browser of this machine. */
export interface BrowserVisitOptions {
  /** Opens the page, or shows its address. */
  readonly open: (page: SignInPage) => void | Promise<void>;
  /** The port that the browser comes back to. Default: the one of an earlier sign-in, else any that is free. */
  readonly port?: number;
  /** Milliseconds that a person may take. Default five minutes. */
  readonly waitMs?: number;
}

const path = '/callback';
const usualWaitMs = 5 * 60_000;

/**
 * Takes the person back at an address of this machine (RFC 8252, 7.3). An address that does not answer the sign-in under way is turned away.
 *
 * @throws JexoError JEXO_SIGN_IN when the port is taken, or nobody came back in time
 * @example
 * signIn({ visit: browserVisit({ open: ({ url }) => console.log(`Open ${url}`) }) })
 */
export function browserVisit({ open, port, waitMs = usualWaitMs }: BrowserVisitOptions): Visit {
  return {
    async begin(before) {
      const server = createServer();
      const wanted = port ?? portOf(before);
      await listenAt(server, wanted).catch(async (error: unknown) => {
        if (port !== undefined)
          throw new JexoError('JEXO_SIGN_IN', `No sign-in can come back to port ${port}: ${messageOf(error)}`, {
            where: String(port),
            next: 'Choose another port, or stop the program that holds it.',
          });
        await listenAt(server, 0); // the client is registered again for this one
      });
      const redirectUrl = `http://127.0.0.1:${(server.address() as AddressInfo).port}${path}`;
      return {
        redirectUrl,
        async go(page) {
          const limit = deadline(waitMs, page.signal);
          try {
            const answer = answerAt(server, redirectUrl, page);
            answer.catch(() => undefined); // it may never come
            await open(page);
            return await untilAborted(answer, limit.signal);
          } catch (error) {
            if (!limit.isOver) throw error;
            throw new JexoError('JEXO_SIGN_IN', `Nobody came back from ${page.issuer} within ${Math.round(waitMs / 1000)} s.`, {
              where: page.issuer,
              next: 'Sign in again. On a machine without a browser, add --no-browser.',
            });
          } finally {
            limit.clear();
          }
        },
        end: () =>
          new Promise<void>((resolve) => {
            server.close(() => resolve());
            server.closeIdleConnections();
          }),
      };
    },
  };
}

function portOf(before: string | undefined): number {
  const found = before === undefined ? undefined : new URL(before);
  return found?.hostname === '127.0.0.1' ? Number(found.port) : 0;
}

function listenAt(server: HttpServer, port: number): Promise<void> {
  return new Promise((resolve, reject) => {
    server.once('error', reject);
    server.listen(port, '127.0.0.1', () => {
      server.off('error', reject);
      resolve();
    });
  });
}

function answerAt(server: HttpServer, redirectUrl: string, page: SignInPage): Promise<URL> {
  return new Promise((resolve) => {
    server.on('request', (request: IncomingMessage, response: ServerResponse) => {
      const address = URL.canParse(request.url ?? '', redirectUrl) ? new URL(request.url!, redirectUrl) : undefined;
      if (request.method !== 'GET' || address?.pathname !== path) return say(response, 404, 'There is nothing here', '');
      // Anybody on this machine can send a browser here; only who has the state comes from the sign-in.
      if (!page.isAnswer(address))
        return say(
          response,
          400,
          'This does not belong to the sign-in',
          'Go back to the page where you signed in, and try it there once more.',
        );
      const declined = address.searchParams.has('error');
      const host = new URL(page.endpoint).host;
      say(
        response,
        200,
        declined ? 'Not signed in' : 'Signed in',
        declined ? 'It was declined. You can close this page.' : `${host} can be used now. You can close this page.`,
        () => resolve(address),
      );
    });
  });
}

function say(response: ServerResponse, status: number, title: string, text: string, done?: () => void): void {
  response.writeHead(status, { ...personPageHeaders(), connection: 'close' });
  response.end(personPage(title, [text]), done);
}

/**
 * For a machine without a browser: the person opens the address elsewhere, and brings back the address of the page that could not be shown there.
 *
 * @param ask shows the page’s address, and resolves with what the person has pasted
 */
export function pastedVisit(ask: (page: SignInPage, complaint: string | undefined) => Promise<string>): Visit {
  return {
    begin(before) {
      const redirectUrl = before ?? `http://127.0.0.1:${unlikelyPort}${path}`;
      return {
        redirectUrl,
        async go(page) {
          let complaint: string | undefined;
          for (let tries = 0; tries < mostPasted; tries++) {
            const text = (await untilAborted(ask(page, complaint), page.signal)).trim();
            const address = URL.canParse(text) ? new URL(text) : undefined;
            if (address !== undefined && page.isAnswer(address)) return address;
            complaint =
              address === undefined
                ? 'That is not an address. Paste all of it, from http:// on.'
                : 'That address does not belong to this sign-in. Open the address above once more, and paste the one you arrive at.';
          }
          throw new JexoError('JEXO_SIGN_IN', `No address that was pasted belongs to this sign-in.`, { where: page.issuer });
        },
        end() {},
      };
    },
  };
}

const mostPasted = 5;
/** Nothing should listen there: the browser is to show the address in its bar. */
const unlikelyPort = 14_391;
