import { createServer, type Server as HttpServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import Provider, { type Configuration } from 'oidc-provider';

/** A real authorization server on this machine. Anybody may sign in, by any name. */
export interface AuthorizationServer {
  readonly issuer: string;
  readonly provider: Provider;
  /** A token for the scales, a service that is known there. */
  token(resource: string, scope?: string): Promise<string>;
  /** Signs in and agrees, as a person at a browser would; follows the way back. @returns the address the person arrives at */
  visit(url: string, how?: { readonly name?: string; readonly declines?: boolean; readonly comesBack?: boolean }): Promise<URL>;
  close(): Promise<void>;
}

export const scopes = ['hives:read', 'hives:write'];

/** The settings of the authorization server of the cooperative. */
export function configuration(more: Configuration = {}, seconds = 300): Configuration {
  return {
    clients: [
      {
        client_id: 'scales',
        client_secret: 'a-secret-of-the-scales',
        grant_types: ['client_credentials'],
        redirect_uris: [],
        response_types: [],
      },
      {
        client_id: 'desk',
        token_endpoint_auth_method: 'none',
        application_type: 'native',
        grant_types: ['authorization_code', 'refresh_token'],
        redirect_uris: ['http://127.0.0.1/callback'],
      },
    ],
    scopes,
    // Every grant is of the person's own making here: tokens are renewed without asking for it.
    issueRefreshToken: async () => true,
    rotateRefreshToken: true,
    ttl: { AccessToken: seconds, ClientCredentials: 300, RefreshToken: 3600, Grant: 3600, Session: 3600, Interaction: 600, IdToken: 300 },
    clientBasedCORS: () => true,
    pkce: { required: () => true },
    features: {
      clientCredentials: { enabled: true },
      devInteractions: { enabled: true },
      registration: { enabled: true },
      revocation: { enabled: true },
      introspection: { enabled: true },
      dPoP: { enabled: true },
      resourceIndicators: {
        enabled: true,
        getResourceServerInfo: (_context, resource) => ({
          scope: scopes.join(' '),
          audience: resource,
          accessTokenTTL: seconds,
          accessTokenFormat: 'jwt',
        }),
        useGrantedResource: () => true,
      },
    },
    ...more,
  };
}

export async function startAuthorizationServer(more: Configuration = {}, seconds?: number): Promise<AuthorizationServer> {
  const http: HttpServer = createServer();
  await new Promise<void>((resolve) => http.listen(0, '127.0.0.1', resolve));
  const issuer = `http://127.0.0.1:${(http.address() as AddressInfo).port}`;
  const provider = new Provider(issuer, configuration(more, seconds));
  http.on('request', provider.callback());
  return {
    issuer,
    provider,
    async token(resource, scope = 'hives:read') {
      const answer = await fetch(`${issuer}/token`, {
        method: 'POST',
        headers: { authorization: `Basic ${btoa('scales:a-secret-of-the-scales')}` },
        body: new URLSearchParams({ grant_type: 'client_credentials', resource, scope }),
      });
      const { access_token: token } = (await answer.json()) as { access_token?: string };
      if (token === undefined) throw new Error(`No token came: HTTP ${answer.status}`);
      return token;
    },
    visit: (url, how = {}) => visit(issuer, url, how),
    close: () => new Promise((resolve) => http.close(() => resolve()).closeAllConnections()),
  };
}

async function visit(
  issuer: string,
  start: string,
  {
    name = 'keeper',
    declines = false,
    comesBack = true,
  }: { readonly name?: string; readonly declines?: boolean; readonly comesBack?: boolean },
): Promise<URL> {
  const cookies = new Map<string, string>();
  let [url, body]: [string, URLSearchParams | undefined] = [start, undefined];
  for (let steps = 0; steps < 12; steps++) {
    if (new URL(url).origin !== issuer) {
      if (comesBack) await fetch(url);
      return new URL(url);
    }
    const response: Response = await fetch(url, {
      method: body === undefined ? 'GET' : 'POST',
      redirect: 'manual',
      headers: { cookie: [...cookies].map(([key, value]) => `${key}=${value}`).join('; ') },
      ...(body && { body }),
    });
    body = undefined;
    for (const line of response.headers.getSetCookie()) {
      const [key, value] = line.split(';')[0]!.split('=', 2) as [string, string];
      cookies.set(key, value);
    }
    const to = response.headers.get('location');
    const page: string = await response.text();
    if (to !== null) url = new URL(to, url).href;
    else if (response.status !== 200) throw new Error(`HTTP ${response.status}: ${page.replaceAll(/<[^>]*>/g, ' ').slice(0, 300)}`);
    else {
      const action = /<form[^>]*action="([^"]+)"/.exec(page)?.[1];
      const prompt: string | undefined = /name="prompt" value="(\w+)"/.exec(page)?.[1];
      if (action === undefined || prompt === undefined) throw new Error(`A page without a form: ${page.slice(0, 500)}`);
      if (declines) url = `${issuer}${new URL(action, url).pathname.replace(/\/?$/, '')}/abort`;
      else {
        url = new URL(action, url).href;
        body = new URLSearchParams({ prompt, login: name, password: 'any' });
      }
    }
  }
  throw new Error(`The person went in circles, last at ${url}`);
}
