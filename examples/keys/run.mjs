// Callers with keys: the keeper may do all, the lab only what has its tag, and a key that is revoked lets nobody in. Run: node run.mjs
import { execFileSync } from 'node:child_process';
import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { connect, defineServer, keys, limitByKey, seenWithKey, serveHttp, tool } from 'jexo';

const file = join(mkdtempSync(join(tmpdir(), 'keys-')), 'keys.json');
const cli = fileURLToPath(new URL('../bin/jexo.mjs', import.meta.resolve('jexo')));
/** As at the terminal: jexo keys add lab --tag lab --calls-per-minute 2 */
const jexo = (...words) =>
  JSON.parse(execFileSync(process.execPath, [cli, 'keys', ...words, '--keys', file, '--json'], { encoding: 'utf8' }));
const keeper = jexo('add', 'keeper').key;
const lab = jexo('add', 'lab', '--tag', 'lab', '--calls-per-minute', '2').key;

const server = defineServer({
  name: 'apiary',
  version: '1.0.0',
  offers: [
    tool('moisture', { description: 'Moisture of a honey lot.', tags: ['lab'] }, () => '17.2 %'),
    tool('move_hive', { description: 'Moves a hive.' }, (_input, call) => `moved by ${call.caller.claims.name}`),
  ],
  visible: seenWithKey,
  middleware: [limitByKey()],
});
const service = await serveHttp(server, { port: 0, auth: keys(file) });
const as = (key) => connect(service.url, { headers: { Authorization: `Bearer ${key}` } });
const say = ({ content }) => content[0].text;

const [theKeeper, theLab] = [await as(keeper), await as(lab)];
console.log('keeper sees', (await theKeeper.tools()).map(({ name }) => name).join(', '));
console.log('lab sees   ', (await theLab.tools()).map(({ name }) => name).join(', '));
console.log('keeper calls move_hive:', say(await theKeeper.call('move_hive')));
for (const time of ['first', 'second', 'third']) console.log(`lab calls moisture, ${time} time:`, say(await theLab.call('moisture')));
jexo('revoke', 'lab');
let refused;
while (refused === undefined)
  refused = await as(lab).then(
    (client) => client.close(),
    (error) => error.message,
  );
console.log('lab after its key was revoked:', refused);
await Promise.all([theKeeper.close(), theLab.close().catch(() => undefined)]);
await service.close();
