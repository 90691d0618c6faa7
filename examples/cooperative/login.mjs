// The cooperative's own authorization server, on this machine: a real one (OAuth 2.1, OpenID Connect), with made-up people and no passwords.
// By itself: node login.mjs [port]
import { createServer } from 'node:http';
import { pathToFileURL } from 'node:url';

const people = { keeper: 'Keeper', registrar: 'Registrar', lab: 'Lab' };
const meanings = { 'hives:read': 'Look at hives, and calculate for them', 'hives:write': 'Change hives, and note what was found' };
const day = 86_400;

const escaped = (text) => String(text).replaceAll(/[&<>"']/g, (char) => `&#${char.charCodeAt(0)};`);
const style = `:root{--paper:#f5f8f7;--raised:#fff;--ink:#172224;--quiet:#55625f;--line:#d3dcda;--lake:#0b5f73;--on:#fff}
@media(prefers-color-scheme:dark){:root{--paper:#12181a;--raised:#1a2224;--ink:#e4ebea;--quiet:#9fadab;--line:#2e3a3c;--lake:#6ec3d4;--on:#12181a}}
body{background:var(--paper);color:var(--ink);font:1.05rem/1.55 system-ui,sans-serif;margin:0;padding:10vh 1rem 2rem}
main{background:var(--raised);border:1px solid var(--line);border-radius:6px;max-width:30rem;margin:0 auto;padding:1.5rem 1.75rem}
h1{font-size:1.4rem;line-height:1.25;margin:.25rem 0 .75rem}small{color:var(--quiet)}fieldset{border:0;margin:0 0 1rem;padding:0}legend{font-weight:600;padding:0}
label{display:block;padding:.3rem 0}ul{padding-left:1.2rem}p,li{overflow-wrap:anywhere}
button{font:inherit;font-weight:600;border:1px solid var(--lake);border-radius:4px;padding:.6rem 1.3rem;margin-right:.6rem;cursor:pointer;background:var(--raised);color:var(--lake)}
button.first{background:var(--lake);color:var(--on)}button:focus-visible,input:focus-visible{outline:3px solid var(--lake);outline-offset:2px}`;

/** The page: who signs in, what is asked for, and by whom. */
function page({ client, scopes, resource, back }) {
  const choices = Object.entries(people).map(
    ([id, name], index) => `<label><input type="radio" name="person" value="${id}"${index === 0 ? ' checked' : ''}> ${name}</label>`,
  );
  const asked = scopes.map((scope) => `<li>${escaped(meanings[scope] ?? scope)} <small>(${escaped(scope)})</small></li>`);
  return `<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><meta name="color-scheme" content="light dark"><title>Alderwick sign-in</title><style>${style}</style>
<main><small>Alderwick Beekeepers’ Cooperative</small><h1>Sign in for ${escaped(client)}</h1>
<p>${escaped(client)} wants to use <b>${escaped(resource)}</b> in your name.</p>${asked.length > 0 ? `<p>It asks to:</p><ul>${asked.join('')}</ul>` : ''}
<form method="post"><fieldset><legend>Who are you?</legend>${choices.join('')}</fieldset>
<button class="first" name="answer" value="yes">Sign in and allow</button><button name="answer" value="no">Decline</button></form>
<p><small>You come back to ${escaped(back)}. These people are made up, and have no passwords.</small></p></main></html>`;
}

async function formOf(request) {
  let text = '';
  for await (const part of request) text += part;
  return new URLSearchParams(text);
}

/** Takes the person's answer: who they are, and that they agree, in one step. */
async function answer(provider, request, response) {
  const { params, prompt, grantId } = await provider.interactionDetails(request, response);
  const scopes = String(params.scope ?? '')
    .split(' ')
    .filter(Boolean);
  if (request.method !== 'POST') {
    const client = await provider.Client.find(params.client_id);
    const said = {
      client: client.clientName ?? params.client_id,
      scopes,
      resource: params.resource ?? 'this service',
      back: new URL(params.redirect_uri).host,
    };
    // The form leads back to the client by a redirect.
    const policy = `default-src 'none'; style-src 'unsafe-inline'; form-action 'self' http://127.0.0.1:* https:; frame-ancestors 'none'`;
    return response.writeHead(200, { 'content-type': 'text/html; charset=utf-8', 'content-security-policy': policy }).end(page(said));
  }
  const form = await formOf(request);
  const person = form.get('person');
  if (form.get('answer') !== 'yes' || !Object.hasOwn(people, person))
    return provider.interactionFinished(request, response, { error: 'access_denied', error_description: 'The person declined' });
  const grant =
    grantId === undefined || prompt.name === 'login'
      ? new provider.Grant({ accountId: person, clientId: params.client_id })
      : await provider.Grant.find(grantId);
  if (params.resource !== undefined && scopes.length > 0) grant.addResourceScope(params.resource, scopes.join(' '));
  if (scopes.length > 0) grant.addOIDCScope(scopes.join(' '));
  return provider.interactionFinished(request, response, { login: { accountId: person }, consent: { grantId: await grant.save() } });
}

/** Starts it. Gives its address, a person who signs in without being there, and how to stop it. */
export async function startLogin({ port = 0, tokenSeconds = 600 } = {}) {
  const http = createServer();
  await new Promise((resolve, reject) => http.once('error', reject).listen(port, '127.0.0.1', resolve));
  const issuer = `http://127.0.0.1:${http.address().port}`;
  const quiet = console.warn;
  console.warn = () => {}; // that keys and tokens are kept in memory is meant: the demo ends with them
  const { default: Provider } = await import('oidc-provider');
  const provider = new Provider(issuer, {
    scopes: Object.keys(meanings),
    pkce: { required: () => true },
    issueRefreshToken: async () => true,
    rotateRefreshToken: true,
    clientBasedCORS: () => true,
    findAccount: (_context, id) => ({ accountId: id, claims: () => ({ sub: id }) }),
    interactions: { url: (_context, { uid }) => `/sign-in/${uid}` },
    ttl: { AccessToken: tokenSeconds, RefreshToken: day, Grant: day, Session: 60, Interaction: 600, IdToken: 600 },
    cookies: { keys: [`${Math.random()}`] },
    features: {
      devInteractions: { enabled: false },
      registration: { enabled: true },
      revocation: { enabled: true, allowedPolicy: () => true },
      resourceIndicators: {
        enabled: true,
        useGrantedResource: () => true,
        getResourceServerInfo: (_context, resource) => ({
          scope: Object.keys(meanings).join(' '),
          audience: resource,
          accessTokenTTL: tokenSeconds,
          accessTokenFormat: 'jwt',
        }),
      },
    },
  });
  console.warn = quiet;
  const others = provider.callback();
  http.on('request', (request, response) => {
    if (!request.url.startsWith('/sign-in/')) return others(request, response);
    answer(provider, request, response).catch((error) => {
      if (!response.headersSent) response.writeHead(400, { 'content-type': 'text/plain' });
      response.end(`This sign-in is over: ${error.message}. Begin again where you came from.\n`);
    });
  });
  return {
    issuer,
    visit: (url, person = 'keeper') => visit(issuer, url, person),
    stop: () => new Promise((resolve) => http.close(resolve).closeAllConnections()),
  };
}

/** A stand-in for a person: opens the page, chooses who they are, agrees, and comes back. */
async function visit(issuer, start, person) {
  const cookies = new Map();
  let [url, body] = [start, undefined];
  for (let steps = 0; steps < 10; steps++) {
    const isBack = new URL(url).origin !== issuer;
    const response = await fetch(url, {
      method: body === undefined ? 'GET' : 'POST',
      redirect: 'manual',
      ...(!isBack && { headers: { cookie: [...cookies].map(([key, value]) => `${key}=${value}`).join('; ') } }),
      ...(body !== undefined && { body }),
    });
    if (isBack) return url;
    for (const line of response.headers.getSetCookie()) {
      const [key, value] = line.split(';')[0].split('=', 2);
      cookies.set(key, value);
    }
    const to = response.headers.get('location');
    body = to === null ? new URLSearchParams({ person, answer: 'yes' }) : undefined;
    url = new URL(to ?? url, url).href;
    await response.text();
    if (response.status >= 400) throw new Error(`The sign-in answered HTTP ${response.status}`);
  }
  throw new Error('The sign-in went in circles.');
}

if (process.argv[1] !== undefined && import.meta.url === pathToFileURL(process.argv[1]).href) {
  const { issuer } = await startLogin({ port: Number(process.argv[2] ?? 0) });
  console.log(`The cooperative's sign-in is at ${issuer}`);
}
