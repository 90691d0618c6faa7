import { createHash, randomBytes, timingSafeEqual } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { deadline } from '../../engine/deadline.js';
import { printFault } from '../../engine/faults.js';
import type { Caller } from '../../engine/servable.js';
import type { MaybePromise } from '../../engine/store.js';
import { untilAborted } from '../../engine/until-aborted.js';
import { isJexoError, JexoError } from '../../errors.js';
import type { Call } from '../../offers/call.js';
import type { OwnRoute } from '../../transports/http/serve-http.js';
import { isFetchable } from '../oauth/fetch-json.js';
import { discoverServer, type ServerFound } from '../sign-in/discover.js';
import { fetchNear } from '../sign-in/fetch-near.js';
import { memorySignIns, type KeptClient, type KeptSignIn, type SignInStore } from '../sign-in/kept-sign-in.js';
import { tokenService } from '../sign-in/token-service.js';
import { cookieOf, readForm, sendPage, type AccountPage } from './account-page.js';

/** A service at which each caller has an account of their own. */
export interface AccountsOptions {
  /** Names the pages and the cookie: small letters, digits and hyphens, as `scale-cloud`. */
  readonly name: string;
  /** What the service is called. Default: `name`. */
  readonly title?: string;
  /** The service's authorization server, whose metadata says the rest; or the two addresses by hand. */
  readonly issuer?: string;
  /** The page that the person is sent to, where there is no issuer. */
  readonly authorizationUrl?: string;
  /** Where tokens are to be had, where there is no issuer. */
  readonly tokenUrl?: string;
  /** Where tokens are given up, where there is no issuer. Default: nowhere. */
  readonly revocationUrl?: string;
  /** This server's id at the authorization server, registered by hand with `<publicUrl>/accounts/<name>/callback`. */
  readonly clientId: string;
  /** The secret that goes with the id. Default: none, for a public client. */
  readonly clientSecret?: string;
  /** What is asked for. */
  readonly scopes?: readonly string[];
  /** What tokens are to be for, where the authorization server wants it said (RFC 8707). */
  readonly resource?: string;
  /** Where browsers reach this server: `https://apiary.example`. */
  readonly publicUrl: string;
  /** Where accounts are kept, by caller: `signInFile('accounts.json', { keychain })`. Default: in memory. */
  readonly store?: SignInStore;
  /**
   * Says who sits at the browser, as the `identity` a call would have, where this server can tell: by its own login, say. Without it anybody who has
   * the address of the page can connect their account to the caller who was sent there, and the page says whose it becomes.
   */
  readonly whoIsThere?: (request: IncomingMessage) => MaybePromise<string | undefined>;
  /** Milliseconds a person may take. Default ten minutes. */
  readonly waitMs?: number;
  /** Fetches what the authorization server says. Default: the runtime's own. */
  readonly fetch?: typeof fetch;
}

/** Accounts of callers at one service. */
export interface Accounts {
  /**
   * The caller's token for the service. The person is sent to a page of this server when there is none yet, or it cannot be renewed.
   * @throws JexoError JEXO_NOT_ACCEPTED when the person declined, JEXO_NOT_SUPPORTED when nobody can be asked or the caller has no identity
   */
  token(call: Call): Promise<string>;
  /** Gives the caller's account up, here and at the service. False when there was none. */
  disconnect(call: Pick<Call, 'caller'>): Promise<boolean>;
  /** The pages, for `serveHttp`: `routes: accounts.routes`. */
  readonly routes: Readonly<Record<string, OwnRoute>>;
}

/** A person who was sent to connect an account. */
interface Ticket {
  readonly owner: string;
  readonly client: string;
  readonly until: number;
  /** What the browser that opened the page is known by; set by the first one. */
  browser?: string;
  csrf?: string;
  readonly done: (error?: Error) => void;
}

/** A browser on its way to the authorization server and back. */
interface Trip {
  readonly browser: string;
  readonly until: number;
  readonly arrive: (address: URL) => void;
  /** True when the account is connected. */
  readonly end: Promise<boolean>;
}

const usualWaitMs = 10 * 60_000;
const earlyMs = 30_000;
const mostTickets = 10_000;

/**
 * Connects callers with accounts of their own at a service that tools use in their name: over a page of this server (Elicitation, "URL Mode"), with the
 * person's consent for each client, PKCE, and a state that is bound to the browser and the caller and works once. Tokens stay on this server.
 *
 * @throws JexoError JEXO_DEFINITION
 * @example
 * const cloud = accounts({ name: 'scale-cloud', issuer: 'https://login.scales.example', clientId: 'apiary', publicUrl: 'https://apiary.example' });
 * const weigh = tool('weigh', { input: { hive: z.string() } }, async ({ hive }, call) => readScale(hive, await cloud.token(call)));
 * await serveHttp(apiary, { routes: cloud.routes, auth: oauth({ … }) });
 */
export function accounts(options: AccountsOptions): Accounts {
  requireSense(options);
  return new CallerAccounts(options);
}

class CallerAccounts implements Accounts {
  readonly routes: Readonly<Record<string, OwnRoute>>;
  private readonly store: SignInStore;
  private readonly tickets = new Map<string, Ticket>();
  private readonly trips = new Map<string, Trip>();
  private readonly path: string;
  private readonly cookie: string;
  private readonly title: string;
  private readonly waitMs: number;
  private readonly send: typeof fetch;
  private found: Promise<ServerFound> | undefined;

  constructor(private readonly options: AccountsOptions) {
    const { name, title = name, store = memorySignIns(), publicUrl, waitMs = usualWaitMs } = options;
    this.store = store;
    this.title = title;
    this.waitMs = waitMs;
    this.send = options.fetch ?? fetchNear(publicUrl);
    this.path = `/accounts/${name}`;
    this.cookie = `${publicUrl.startsWith('https:') ? '__Host-' : ''}jexo-${name}`;
    const guarded =
      (use: (request: IncomingMessage, response: ServerResponse, query: URLSearchParams) => Promise<void>): OwnRoute =>
      (request, response) => {
        use(request, response, new URL(request.url ?? '/', publicUrl).searchParams).catch((error: unknown) => {
          printFault(error, this.path);
          if (!response.headersSent)
            sendPage(response, 500, { title: 'Something went wrong', lines: ['It has been noted. Try again later.'] });
        });
      };
    this.routes = {
      [this.path]: guarded((...given) => this.consent(...given)),
      [`${this.path}/callback`]: guarded((...given) => this.callback(...given)),
    };
  }

  async token(call: Call): Promise<string> {
    const owner = ownerOf(call.caller);
    const ready = await this.usable(owner);
    if (ready !== undefined) return ready;
    const id = randomBytes(24).toString('base64url');
    let finish: (error?: Error) => void = () => {};
    const done = new Promise<void>((resolve, reject) => (finish = (error) => (error === undefined ? resolve() : reject(error))));
    done.catch(() => undefined); // it may end when nobody waits any more
    this.sweep();
    if (this.tickets.size >= mostTickets) throw new JexoError('JEXO_TOO_MANY', 'Too many people are connecting accounts. Try again later.');
    this.tickets.set(id, { owner, client: call.session.client?.name ?? 'a client', until: Date.now() + this.waitMs, done: finish });
    const url = `${this.options.publicUrl.replace(/\/$/, '')}${this.path}?ticket=${id}`;
    await this.sendThere(call, url, id);
    const limit = deadline(this.waitMs, call.signal);
    try {
      await untilAborted(done, limit.signal);
    } catch (error) {
      throw limit.isOver
        ? new JexoError('JEXO_NOT_ACCEPTED', `Nobody connected an account at ${this.title} in time.`, { where: url })
        : error;
    } finally {
      limit.clear();
      this.tickets.delete(id);
      call.pageDone(id);
    }
    const connected = await this.usable(owner);
    if (connected === undefined) throw new JexoError('JEXO_SIGN_IN', `The account at ${this.title} was connected, and is gone again.`);
    return connected;
  }

  async disconnect({ caller }: Pick<Call, 'caller'>): Promise<boolean> {
    const owner = ownerOf(caller);
    return this.store.alone(owner, async () => {
      const kept = await this.store.get(owner);
      if (kept === undefined) return false;
      await this.store.set(owner, undefined);
      await this.service()
        .revoke(kept)
        .catch((error: unknown) => printFault(error, `${this.title}, revocation`));
      return true;
    });
  }

  /** A token that can be used: the one that is kept, or a renewed one. */
  private usable(owner: string): Promise<string | undefined> {
    return this.store.alone(owner, async () => {
      const kept = await this.store.get(owner);
      if (kept === undefined) return undefined;
      if (kept.expiresAt === undefined || kept.expiresAt - earlyMs > Date.now()) return kept.token;
      const renewed = kept.refreshToken === undefined ? undefined : await this.service().refresh(kept);
      await this.store.set(owner, renewed);
      return renewed?.token;
    });
  }

  private async sendThere(call: Call, url: string, id: string): Promise<void> {
    const message = `Connect your account at ${this.title}, so that it can be used in your name.`;
    try {
      await call.askByUrl(message, url, { id });
    } catch (error) {
      const cannotAsk = isJexoError(error) && error.code === 'JEXO_NOT_SUPPORTED';
      if (!cannotAsk) this.tickets.delete(id);
      // The page goes on being there: the person can open it by hand, and have the call made again.
      if (cannotAsk) throw new JexoError('JEXO_NOT_SUPPORTED', `${message} Open ${url}, then call again.`, { where: url, cause: error });
      throw error;
    }
  }

  /** The page that says what is asked for, and, once the person has agreed, sends them on. */
  private async consent(request: IncomingMessage, response: ServerResponse, query: URLSearchParams): Promise<void> {
    this.sweep();
    const form = request.method === 'POST' ? await readForm(request) : undefined;
    const id = form?.get('ticket') ?? query.get('ticket') ?? '';
    const ticket = this.tickets.get(id);
    if (ticket === undefined) return sendPage(response, 404, over);
    const there = await this.options.whoIsThere?.(request);
    if (this.options.whoIsThere !== undefined && there !== ticket.owner)
      return sendPage(response, 403, {
        title: 'This is for somebody else',
        lines: [
          there === undefined ? 'Sign in here first, as the one who was sent here.' : `You are here as ${there}. Nothing was connected.`,
        ],
      });
    const server = await this.server();
    if (request.method === 'GET') {
      const browser = cookieOf(request, this.cookie) ?? randomBytes(24).toString('base64url');
      // The first browser that opens the page has it; another one that got hold of the address does not.
      if (ticket.browser !== undefined && ticket.browser !== hash(browser)) return sendPage(response, 403, elsewhere);
      ticket.browser = hash(browser);
      ticket.csrf = randomBytes(24).toString('base64url');
      const secure = this.cookie.startsWith('__Host-') ? '; Secure' : '';
      return sendPage(response, 200, this.question(id, ticket, server), {
        'set-cookie': `${this.cookie}=${browser}; Path=/; HttpOnly; SameSite=Lax; Max-Age=${Math.ceil(this.waitMs / 1000)}${secure}`,
      });
    }
    if (request.method !== 'POST') return sendPage(response, 405, over);
    const { origin } = request.headers;
    const isOurs = origin === undefined || origin === 'null' || origin === new URL(this.options.publicUrl).origin;
    const browser = cookieOf(request, this.cookie);
    if (!isOurs || browser === undefined || !isSame(hash(browser), ticket.browser) || !isSame(form?.get('csrf') ?? '', ticket.csrf))
      return sendPage(response, 403, elsewhere);
    const to = await this.depart(ticket, server, hash(browser));
    response.writeHead(303, { location: to, 'cache-control': 'no-store', 'referrer-policy': 'no-referrer' }).end();
  }

  /** Only now, with the person's consent, is there a state. @returns the page of the authorization server */
  private depart(ticket: Ticket, server: ServerFound, browser: string): Promise<string> {
    const { clientId, clientSecret, scopes = [], resource, publicUrl } = this.options;
    const client: KeptClient = {
      id: clientId,
      by: 'given',
      ...(clientSecret === undefined ? { method: 'none' } : { method: 'client_secret_basic', secret: clientSecret }),
    };
    const limit = deadline(this.waitMs);
    return new Promise((resolve, reject) => {
      let end: (isConnected: boolean) => void = () => {};
      const ended = new Promise<boolean>((done) => (end = done));
      const kept = this.service().signIn({
        endpoint: ticket.owner,
        resource: resource ?? '',
        server,
        client,
        scopes,
        redirectUrl: `${publicUrl.replace(/\/$/, '')}${this.path}/callback`,
        signal: limit.signal,
        go: (page) => {
          const state = new URL(page.url).searchParams.get('state')!;
          const arrived = new Promise<URL>((arrive) =>
            this.trips.set(state, { browser, until: Date.now() + this.waitMs, arrive, end: ended }),
          );
          resolve(page.url);
          return untilAborted(arrived, limit.signal);
        },
      });
      kept
        .then((found: KeptSignIn) => this.store.set(ticket.owner, found))
        .then(
          () => {
            ticket.done();
            end(true);
          },
          (error: Error) => {
            ticket.done(error);
            end(false);
            reject(error);
          },
        )
        .finally(() => limit.clear());
    });
  }

  private async callback(request: IncomingMessage, response: ServerResponse, query: URLSearchParams): Promise<void> {
    this.sweep();
    const state = query.get('state') ?? '';
    const trip = this.trips.get(state);
    const browser = cookieOf(request, this.cookie);
    if (request.method !== 'GET' || trip === undefined) return sendPage(response, 404, over);
    if (browser === undefined || !isSame(hash(browser), trip.browser)) return sendPage(response, 403, elsewhere);
    // It works once.
    this.trips.delete(state);
    trip.arrive(new URL(request.url!, this.options.publicUrl));
    if (!(await trip.end))
      return sendPage(response, 400, {
        title: `Not connected with ${this.title}`,
        lines: ['It was declined, or did not work out. You can close this page.'],
      });
    sendPage(response, 200, {
      title: `Connected with ${this.title}`,
      lines: ['You can close this page, and go back to where you came from.'],
    });
  }

  private question(ticket: string, { owner, client, csrf }: Ticket, server: ServerFound): AccountPage {
    const { scopes = [], publicUrl } = this.options;
    return {
      title: `Connect your account at ${this.title}?`,
      lines: [
        `${client}, by way of ${new URL(publicUrl).host}, wants to use your account at ${this.title}.`,
        ...(scopes.length > 0 ? [`It asks for: ${scopes.join(', ')}`] : []),
        `The account will belong to ${owner} here. Go on only if that is you, and you have just asked for it.`,
        `You sign in at ${new URL(server.authorization_endpoint).host}; this page never sees your password. You come back to ${new URL(publicUrl).host}.`,
      ],
      agree: { label: `Go on to ${this.title}`, hidden: { ticket, csrf: csrf! } },
      leadsTo: new URL(server.authorization_endpoint).origin,
    };
  }

  private server(): Promise<ServerFound> {
    const { issuer, authorizationUrl, tokenUrl, revocationUrl } = this.options;
    if (issuer === undefined)
      return Promise.resolve({
        issuer: new URL(authorizationUrl!).origin,
        authorization_endpoint: authorizationUrl!,
        token_endpoint: tokenUrl!,
        ...(revocationUrl !== undefined && { revocation_endpoint: revocationUrl }),
      });
    return (this.found ??= discoverServer(issuer, this.send)
      .then((found) => {
        if (found === undefined) throw new JexoError('JEXO_SIGN_IN', `${issuer} has no metadata.`, { where: issuer });
        return found;
      })
      .catch((error: unknown) => {
        this.found = undefined;
        throw error;
      }));
  }

  private service() {
    return tokenService(this.send, () => {});
  }

  private sweep(): void {
    const now = Date.now();
    for (const held of [this.tickets, this.trips]) for (const [key, { until }] of held) if (until < now) held.delete(key);
  }
}

const over: AccountPage = {
  title: 'This page is over',
  lines: ['It was used, or has ended. Go back to where you came from, and begin again.'],
};
const elsewhere: AccountPage = { title: 'This was opened elsewhere', lines: ['It belongs to another browser. Nothing was connected.'] };

const hash = (text: string) => createHash('sha256').update(text).digest('hex');

function isSame(a: string, b: string | undefined): boolean {
  const [one, other] = [Buffer.from(a), Buffer.from(b ?? '')];
  return b !== undefined && one.length === other.length && timingSafeEqual(one, other);
}

/** Whose account it is: over HTTP, a caller has to be known. @throws JexoError JEXO_NOT_SUPPORTED */
function ownerOf({ identity, transport }: Caller): string {
  if (identity !== undefined) return identity;
  if (transport !== 'http') return 'whoever started this server';
  throw new JexoError('JEXO_NOT_SUPPORTED', 'Accounts belong to callers, and nobody knows who is calling.', {
    next: 'Serve it with auth: oauth(…) or keys(…).',
  });
}

function requireSense({ name, issuer, authorizationUrl, tokenUrl, publicUrl }: AccountsOptions): void {
  const refuse = (where: string, message: string) => {
    throw new JexoError('JEXO_DEFINITION', `accounts: ${message}`, { where });
  };
  if (!/^[a-z0-9-]{1,40}$/.test(name)) refuse('name', `${JSON.stringify(name)} is no name: take small letters, digits and hyphens.`);
  if (issuer === undefined && (authorizationUrl === undefined || tokenUrl === undefined))
    refuse('issuer', 'give an issuer, or authorizationUrl and tokenUrl.');
  for (const [where, url] of Object.entries({ issuer, authorizationUrl, tokenUrl, publicUrl }))
    if (url !== undefined && (!URL.canParse(url) || !isFetchable(new URL(url)))) refuse(where, `${url} is no HTTPS address.`);
}
