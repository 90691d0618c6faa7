import type { MaybePromise } from '../../engine/store.js';
import { JexoError } from '../../errors.js';
import type { ClientAuth, RefusedRequest, SignInStep } from '../../transports/http/client-auth.js';
import { unreachable } from '../../transports/http/link-errors.js';
import { scopesIn, tokenChallenge, type Challenge } from './challenges.js';
import { chooseServer, discoverResource, wantedScopes, type ServerFound } from './discover.js';
import { canonicalEndpoint, memorySignIns, type KeptClient, type KeptSignIn, type SignInStore } from './kept-sign-in.js';
import type { TokenService } from './token-service.js';

/** A page that a person is sent to, to agree there. */
export interface SignInPage {
  /** The authorization server’s page. Open it only for the person, and without a shell. */
  readonly url: string;
  /** Whose sign-in it is: the endpoint. */
  readonly endpoint: string;
  /** The authorization server. */
  readonly issuer: string;
  /** What is asked for. */
  readonly scopes: readonly string[];
  /** True for an address that answers this very sign-in; others are turned away, and waited on. */
  readonly isAnswer: (address: URL) => boolean;
  /** Fires when nobody waits for the person any more. */
  readonly signal: AbortSignal;
}

/** How a person gets to the page of the authorization server and back. */
export interface Visit {
  /**
   * Gets ready to take the person back.
   * @param before where earlier sign-ins of the same client came back to: an authorization server may know this address only
   */
  begin(before: string | undefined): MaybePromise<{
    /** Where the authorization server sends the person: on this machine, or HTTPS. */
    readonly redirectUrl: string;
    /** Sends the person there. @returns the address they came back to */
    go(page: SignInPage): Promise<URL>;
    end(): MaybePromise<void>;
  }>;
}

/** How a client signs in. */
export interface SignInOptions {
  /** How a person gets to the page of the authorization server. Without it, only what is kept is used, and a sign-in that is needed fails. */
  readonly visit?: Visit;
  /** Where sign-ins are kept. Default: in memory. */
  readonly store?: SignInStore;
  /** An id that the authorization server already knows. */
  readonly clientId?: string;
  /** The secret that goes with it. It needs an `issuer`: it is sent there alone, whatever a server names. */
  readonly clientSecret?: string;
  /** The HTTPS address of a document about this client, which is its id where authorization servers take such (client-id metadata document). */
  readonly clientDocument?: string;
  /** What registration tells authorization servers, and they their users. Default `Jexo`. */
  readonly clientName?: string;
  /** Scopes beyond those that the server names. */
  readonly scopes?: readonly string[];
  /** Which authorization server to use, where the server names several. Default: the first that answers. */
  readonly issuer?: string;
  /** Called with every step, without secrets. */
  readonly onStep?: (step: SignInStep) => void;
  /** Fetches what authorization servers say. Default: the runtime’s own; in Node.js one that does not follow a public server into private networks. */
  readonly fetch?: typeof fetch;
}

/** A client’s sign-ins. */
export interface SignIn extends ClientAuth {
  /** Signs in at a server now. @returns undefined when it asks nobody to sign in */
  begin(url: string, options?: { readonly signal?: AbortSignal }): Promise<KeptSignIn | undefined>;
  /** Gives a sign-in up: at the authorization server too, where it can be told. @returns what was kept, and why it could not be revoked */
  end(url: string): Promise<{ readonly was: KeptSignIn; readonly notRevoked?: string } | undefined>;
  /** What is kept. */
  list(): Promise<readonly KeptSignIn[]>;
}

/** A token is renewed so long before its end. */
const earlyMs = 30_000;
/** Times that more scopes are asked for to make one kind of request; then it stays refused (Authorization, "Step-Up Authorization Flow"). */
const mostStepUps = 2;

interface Wish {
  readonly endpoint: string;
  readonly challenge: Challenge | undefined;
  /** What the token has to have beyond what was asked for before. */
  readonly scopes: readonly string[] | undefined;
  readonly signal: AbortSignal;
  readonly tell: (step: SignInStep) => void;
}

/** @param fetchFor what fetches the documents that a server names; see `fetchNear` */
export function createSignIn(options: SignInOptions, fetchFor: (endpoint: string) => typeof fetch): SignIn {
  return new SignInFlow(options, fetchFor);
}

class SignInFlow implements SignIn {
  private readonly store: SignInStore;
  /** Sign-ins under way, by endpoint. */
  private readonly under = new Map<string, Promise<boolean>>();
  private readonly stepUps = new Map<string, number>();

  constructor(
    private readonly options: SignInOptions,
    private readonly fetchFor: (endpoint: string) => typeof fetch,
  ) {
    this.store = options.store ?? memorySignIns();
    if (options.clientDocument !== undefined) requireDocument(options.clientDocument);
    if (options.clientSecret !== undefined && options.issuer === undefined)
      throw new JexoError('JEXO_SIGN_IN', 'A client’s secret is for one authorization server, and none was named.', {
        where: 'issuer',
        next: 'Name it: --issuer at the terminal, issuer in code.',
      });
  }

  async headers({ url }: { readonly url: string }): Promise<Readonly<Record<string, string>>> {
    const endpoint = canonicalEndpoint(url);
    let kept = await this.store.get(endpoint);
    if (kept?.expiresAt !== undefined && kept.expiresAt - earlyMs < Date.now() && kept.refreshToken !== undefined) {
      // When it cannot be renewed, the server says so, and a sign-in follows.
      await this.renew(endpoint, kept.token, this.options.onStep ?? (() => {})).catch(() => undefined);
      kept = await this.store.get(endpoint);
    }
    return kept === undefined ? {} : { authorization: `Bearer ${kept.token}` };
  }

  async refused(request: RefusedRequest): Promise<boolean> {
    const endpoint = canonicalEndpoint(request.url);
    const challenge = tokenChallenge(request.challenge);
    if (request.challenge !== undefined && challenge === undefined) return false; // it wants something else than a token
    if (request.status === 403 && challenge?.params.error !== 'insufficient_scope') return false;
    const before = this.under.get(endpoint);
    if (before !== undefined) return before;
    const tell = (step: SignInStep) => {
      request.tell(step);
      this.options.onStep?.(step);
    };
    const { status, sent, signal } = request;
    // It may want a key or a password: what it says of itself is told.
    if (this.options.visit === undefined && sent.authorization === undefined && challenge?.params.resource_metadata === undefined)
      return false;
    const work =
      status === 401 ? this.unknown(endpoint, challenge, sent, signal, tell) : this.tooNarrow(endpoint, challenge!, sent, signal, tell);
    this.under.set(endpoint, work);
    return work.finally(() => this.under.delete(endpoint));
  }

  async begin(
    url: string,
    { signal = new AbortController().signal }: { readonly signal?: AbortSignal } = {},
  ): Promise<KeptSignIn | undefined> {
    const endpoint = canonicalEndpoint(url);
    const tell = this.options.onStep ?? (() => {});
    const send = this.fetchFor(endpoint);
    const response = await send(url, { redirect: 'manual', signal, headers: { accept: 'text/event-stream' } }).catch((error: unknown) => {
      throw unreachable(url, error);
    });
    await response.body?.cancel();
    const challenge = tokenChallenge(response.headers.get('www-authenticate') ?? undefined);
    tell({ step: 'asked without a token', url, method: 'GET', status: response.status });
    if (response.status !== 401 && (await discoverResource(endpoint, challenge, send, () => {})) === undefined) return undefined;
    await this.store.alone(endpoint, () => this.authorize({ endpoint, challenge, scopes: undefined, signal, tell }));
    return this.store.get(endpoint);
  }

  async end(url: string): Promise<{ readonly was: KeptSignIn; readonly notRevoked?: string } | undefined> {
    const endpoint = canonicalEndpoint(url);
    return this.store.alone(endpoint, async () => {
      const was = await this.store.get(endpoint);
      if (was === undefined) return undefined;
      // Whatever the authorization server says, it is not kept here.
      await this.store.set(endpoint, undefined);
      const service = await this.serviceFor(endpoint, this.options.onStep ?? (() => {}));
      const notRevoked = await service.revoke(was).catch((error: Error) => error.message);
      return { was, ...(notRevoked !== undefined && { notRevoked }) };
    });
  }

  async list(): Promise<readonly KeptSignIn[]> {
    return this.store.list();
  }

  /** 401: the token is renewed, or a person signs in. */
  private async unknown(
    endpoint: string,
    challenge: Challenge | undefined,
    sent: Readonly<Record<string, string>>,
    signal: AbortSignal,
    tell: (step: SignInStep) => void,
  ): Promise<boolean> {
    const used = sent.authorization?.replace(/^Bearer /, '');
    if (used !== undefined && (await this.renew(endpoint, used, tell))) return true;
    return this.store.alone(endpoint, async () => {
      const now = await this.store.get(endpoint);
      if (now !== undefined && now.token !== used) return true; // somebody else has signed in meanwhile
      await this.authorize({ endpoint, challenge, scopes: undefined, signal, tell });
      return true;
    });
  }

  /** 403: more is asked for than the token has. */
  private async tooNarrow(
    endpoint: string,
    challenge: Challenge,
    sent: Readonly<Record<string, string>>,
    signal: AbortSignal,
    tell: (step: SignInStep) => void,
  ): Promise<boolean> {
    const scopes = scopesIn(challenge.params.scope);
    const key = `${endpoint} ${[...scopes].sort().join(' ')}`;
    const tries = (this.stepUps.get(key) ?? 0) + 1;
    if (tries > mostStepUps) return false;
    return this.store.alone(endpoint, async () => {
      const kept = await this.store.get(endpoint);
      if (kept !== undefined && sent.authorization !== `Bearer ${kept.token}`) return true;
      // Whatever comes of it, it is not asked for again and again.
      this.stepUps.set(key, mostStepUps);
      await this.authorize({ endpoint, challenge, scopes: [...new Set([...(kept?.scopes ?? []), ...scopes])], signal, tell });
      const granted = (await this.store.get(endpoint))?.scopes ?? [];
      if (scopes.every((each) => granted.includes(each))) this.stepUps.set(key, tries);
      return true;
    });
  }

  /** Renews a token by its refresh token. @returns false when a person has to sign in again */
  private renew(endpoint: string, used: string, tell: (step: SignInStep) => void): Promise<boolean> {
    return this.store.alone(endpoint, async () => {
      const kept = await this.store.get(endpoint);
      if (kept === undefined) return false;
      if (kept.token !== used) return true; // it has been renewed, here or in another process
      if (kept.refreshToken === undefined) return false;
      const renewed = await (await this.serviceFor(endpoint, tell)).refresh(kept);
      const { refreshToken: _, ...without } = kept;
      // A refresh token that is refused once is of no use any more.
      await this.store.set(endpoint, renewed ?? without);
      return renewed !== undefined;
    });
  }

  private async authorize(wish: Wish): Promise<void> {
    const { endpoint, challenge, tell, signal } = wish;
    const { visit } = this.options;
    if (visit === undefined)
      throw new JexoError('JEXO_SIGN_IN', `${endpoint} wants a sign-in.`, {
        where: endpoint,
        next: `Sign in with: jexo sign-in ${endpoint}`,
        data: { status: 401, ...(challenge && { challenge: challenge.params }) },
      });
    const send = this.fetchFor(endpoint);
    const passOver = (note: string) => tell({ step: 'resource metadata', note });
    const resource = await discoverResource(endpoint, challenge, send, passOver);
    tell({
      step: 'resource metadata',
      ...(resource === undefined
        ? { note: 'There is none, so the server’s own origin is taken for its authorization server, as revision 2025-03-26 has it.' }
        : { received: { ...resource } }),
    });
    const server = await chooseServer(endpoint, resource, this.options.issuer, send);
    tell({ step: 'authorization server metadata', url: server.issuer, received: { ...server } });
    const scopes = [...new Set([...(wish.scopes ?? wantedScopes(challenge, resource)), ...(this.options.scopes ?? [])])];
    const service = await this.serviceFor(endpoint, tell);
    const known = await this.knownClient(server);
    const back = await visit.begin(known?.redirectUrl);
    try {
      requireRedirect(back.redirectUrl);
      const client = isUsable(known, back.redirectUrl)
        ? known
        : await this.newClient(service, server, back.redirectUrl).catch((error: unknown) => {
            throw resource === undefined && server.isGuessed ? nowhere(endpoint, error) : error;
          });
      const kept = await service.signIn({
        endpoint,
        resource: resource?.resource ?? endpoint,
        server,
        client,
        scopes,
        redirectUrl: back.redirectUrl,
        signal,
        go: (page) => back.go(page),
      });
      await this.store.set(endpoint, kept);
    } finally {
      await back.end();
    }
  }

  /** A client that needs no registration: given, a document’s, or registered for an earlier sign-in. */
  private async knownClient(server: ServerFound): Promise<KeptClient | undefined> {
    const { clientId, clientSecret, clientDocument } = this.options;
    if (clientId !== undefined) {
      const methods = server.token_endpoint_auth_methods_supported ?? ['client_secret_basic'];
      const byPost = !methods.includes('client_secret_basic') && methods.includes('client_secret_post');
      if (clientSecret === undefined) return { id: clientId, method: 'none', by: 'given' };
      return { id: clientId, secret: clientSecret, method: byPost ? 'client_secret_post' : 'client_secret_basic', by: 'given' };
    }
    if (clientDocument !== undefined && server.client_id_metadata_document_supported === true)
      return { id: clientDocument, method: 'none', by: 'document' };
    const now = Date.now() / 1000;
    return (await this.store.list()).find(
      ({ server: { issuer }, client }) =>
        issuer === server.issuer && client.by !== 'document' && (client.secretExpiresAt ?? Infinity) > now,
    )?.client;
  }

  private newClient(service: TokenService, server: ServerFound, redirectUrl: string): Promise<KeptClient> {
    if (server.registration_endpoint === undefined)
      throw new JexoError('JEXO_SIGN_IN', `${server.issuer} does not know this client, and takes no registrations.`, {
        where: server.issuer,
        next: `Register a client there by hand, with the redirect address ${redirectUrl}, and give its id: --client-id at the terminal, clientId in code.`,
      });
    return service.register(server, { name: this.options.clientName ?? 'Jexo', redirectUrl });
  }

  private async serviceFor(endpoint: string, tell: (step: SignInStep) => void): Promise<TokenService> {
    // The protocol of authorization servers is loaded with the first sign-in.
    const { tokenService } = await import('./token-service.js');
    return tokenService(this.fetchFor(endpoint), tell);
  }
}

/** Where nothing says how to sign in, the usual places were tried (2025-03-26). */
function nowhere(endpoint: string, cause: unknown): JexoError {
  return new JexoError('JEXO_SIGN_IN', `${endpoint} wants to know who is calling, and names no authorization server.`, {
    where: endpoint,
    next: 'If it wants a key or a token, give it with --header "Authorization: Bearer ...".',
    data: { status: 401 },
    cause,
  });
}

/** A client that was registered is known with one address to come back to. */
function isUsable(client: KeptClient | undefined, redirectUrl: string): client is KeptClient {
  return client !== undefined && (client.by !== 'registration' || client.redirectUrl === redirectUrl);
}

/** @throws JexoError JEXO_SIGN_IN for an address that anybody could listen at */
function requireRedirect(redirectUrl: string): void {
  const { protocol, hostname } = new URL(redirectUrl);
  if (protocol === 'https:' || (protocol === 'http:' && /^(?:localhost|127\.0\.0\.1|\[::1\])$/.test(hostname))) return;
  throw new JexoError('JEXO_SIGN_IN', `Sign-ins cannot come back to ${redirectUrl}.`, {
    where: redirectUrl,
    next: 'Take an HTTPS address, or one on this machine: http://127.0.0.1:…',
  });
}

function requireDocument(url: string): void {
  const found = URL.canParse(url) ? new URL(url) : undefined;
  if (found?.protocol === 'https:' && found.pathname !== '/' && found.hash === '' && found.username === '') return;
  throw new JexoError('JEXO_SIGN_IN', `${JSON.stringify(url)} cannot be a client’s document.`, {
    where: 'clientDocument',
    next: 'Give an HTTPS address with a path, as https://desk.example/oauth/client.json',
  });
}
