// A server that takes tokens of an authorization server (OAuth 2.1): a person signs in, and agrees to more when a tool needs more.
// The authorization server is the demo's own, and a stand-in for a person answers its page. Run: node run.mjs
import { createServer } from 'node:net';
import { browserVisit, connect, defineServer, memorySignIns, oauth, serveHttp, signIn, tool } from 'jexo';
import { startLogin } from '../cooperative/login.mjs';

/** A token is for an address, so the port is chosen first. */
const port = await new Promise((resolve) => {
  const probe = createServer().listen(0, '127.0.0.1', () => {
    const { port: free } = probe.address();
    probe.close(() => resolve(free));
  });
});
const resource = `http://127.0.0.1:${port}/mcp`;
const login = await startLogin();

const server = defineServer({
  name: 'hives',
  version: '1.0.0',
  stepUp: true,
  offers: [
    tool('weigh', { description: 'Weighs a hive.' }, (_input, call) => `31.4 kg, read by ${call.caller.identity}`),
    tool('note_mites', { description: 'Notes how many mites were found.', scope: 'hives:write' }, () => 'noted'),
  ],
});
const service = await serveHttp(server, {
  port,
  auth: oauth({ issuer: login.issuer, resource, scopes: ['hives:read'], moreScopes: ['hives:write'] }),
});

const auth = signIn({
  store: memorySignIns(),
  visit: browserVisit({
    open({ url, scopes }) {
      console.log(`? The page asks: allow ${scopes.join(' and ')}?  yes`);
      void login.visit(url, 'keeper');
    },
  }),
});
console.log('without a token:', await connect(resource).catch((error) => error.message));
const client = await connect(resource, { auth });
console.log('←', (await client.call('weigh')).content[0].text);
console.log('←', (await client.call('note_mites')).content[0].text);
await auth.end(resource);
console.log('signed out; sign-ins that are kept:', (await auth.list()).length);
await client.close();
await service.close();
await login.stop();
