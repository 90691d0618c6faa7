// The part of the demo's story about signing in: a server that knows its callers, a call that needs it, and one that needs more.
import { browserVisit, connect, signIn } from 'jexo';
import { startLogin } from './login.mjs';

/** @param serve starts a server on a free port with these words, and gives its address */
export async function tellSignInStory(serve, print = console.log) {
  const line = (sign, text) => print(`  ${sign} ${text}`);
  const login = await startLogin();
  const { address, stop } = await serve(login.issuer);
  const short = (text) =>
    text
      .replaceAll(login.issuer, 'login')
      .replaceAll(address, 'hives')
      .replaceAll(/http:\/\/127\.0\.0\.1:\d+/g, 'here');
  print('\nA server that wants a sign-in. A stand-in for a person opens the page, and agrees:');
  const visit = browserVisit({
    open: ({ url, scopes }) => {
      line('?', `The cooperative asks: allow ${scopes.join(' and ')}?  yes`);
      void login.visit(url, 'keeper');
    },
  });
  const auth = signIn({
    visit,
    onStep: ({ step, status, sent, received }) => {
      if (status === undefined && received === undefined) return;
      const said = received?.access_token?.claims ?? {};
      const about = said.sub === undefined ? '' : `: ${said.sub}, for ${short(said.aud)}, may ${said.scope}`;
      line('·', `${step}${sent?.code_verifier === undefined ? '' : ' (PKCE)'}${about}`);
    },
  });
  const client = await connect(address, { auth });
  try {
    const { sugarKg } = (await client.call('mix_syrup', { colonies: 12 })).structuredContent;
    line('←', `mix_syrup: ${sugarKg} kg of sugar`);
    line('→', 'mites_per_100 needs hives:write, which nobody has asked for yet');
    const { advice } = (await client.call('mites_per_100', { mites: 9 })).structuredContent;
    line('←', `mites_per_100: ${advice}`);
    const ended = await auth.end(address);
    line('·', `signed out of ${short(ended.was.endpoint)}; kept are ${(await auth.list()).length} sign-ins`);
  } finally {
    await client.close();
    await stop();
    await login.stop();
  }
}
