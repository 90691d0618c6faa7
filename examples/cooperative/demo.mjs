// The demo: serves the cooperative over HTTP and puts it on the bench. With --once it tells the whole
// story without a person and ends. It runs the real command line, as a user would.
import { spawn } from 'node:child_process';
import { createServer } from 'node:net';
import { createInterface } from 'node:readline';
import { dirname, join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';
import { tellHandbookStory } from './handbook-story.mjs';
import { startFeed } from './feed.mjs';
import { startLogin } from './login.mjs';
import { tellLedgerStory } from './ledger-story.mjs';
import { tellLiveStory } from './live-story.mjs';
import { tellRegistryStory } from './registry-story.mjs';
import { makeScales, scalesTarget, tellScalesStory } from './scales-story.mjs';
import { tellSignInStory } from './sign-in-story.mjs';
import { tellStory } from './story.mjs';

const here = dirname(fileURLToPath(import.meta.url));
const cli = join(here, '../../packages/jexo/dist/cli.mjs');
const once = process.argv.includes('--once');
const children = [];

function start(args, stdio = 'inherit') {
  const child = spawn(process.execPath, [cli, ...args], { stdio });
  children.push(child);
  return child;
}

/** Runs a command to its end, showing it as it would be typed; the story goes on only when it ends as it should. */
async function tell(args, expected = 0) {
  console.log(`\n$ jexo ${args.join(' ')}`);
  const child = start(args);
  const code = await new Promise((resolve) => child.once('close', resolve));
  if (code === expected) return;
  console.error(`This should have ended with exit code ${expected}, not ${code}.`);
  stop(1);
}

/** Serves over HTTP and gives the address once it answers there. */
async function serve(port, file = 'apiary.ts', words = []) {
  const child = start(
    ['serve', relative(process.cwd(), join(here, file)), '--http', String(port), '--json', ...words],
    ['ignore', 'inherit', 'pipe'],
  );
  for await (const line of createInterface({ input: child.stderr })) {
    const said = line.startsWith('{') ? JSON.parse(line) : undefined;
    if (said?.address) {
      child.stderr.pipe(process.stderr);
      return { ...said, stop: () => child.kill('SIGTERM') };
    }
    if (port !== 0 && line.includes('JEXO_PORT_IN_USE')) return serve(0, file, words);
    console.error(line);
  }
  return stop(1);
}

/** Functions for callers who have signed in at an authorization server; one of them needs more than the others. Its port is chosen first. */
async function serveSignedIn(issuer, port) {
  const words = ['--issuer', issuer, '--scope', 'hives:read', '--offer-scope', 'mites_*=hives:write', '--step-up'];
  return serve(port ?? (await freePort()), 'hives.ts', words);
}

/** A port that nobody listens at: tokens are for an address, so it has to be known before. */
function freePort() {
  return new Promise((resolve) => {
    const probe = createServer().listen(0, '127.0.0.1', () => {
      const { port } = probe.address();
      probe.close(() => resolve(port));
    });
  });
}

function stop(code) {
  for (const child of children) child.kill('SIGTERM');
  process.exit(code);
}
for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => stop(0));

await makeScales();
const { address, name, tools } = await serve(once ? 0 : 4300);
console.log(`The Alderwick cooperative (${name}: ${tools.join(', ')}) is served at ${address}`);

if (once) {
  await tell(['list', address]);
  await tell(['call', address, 'mix_syrup', 'colonies=12', 'season=autumn']);
  await tell(['call', address, 'mites_per_100', 'mites=9']);
  await tell(['call', address, 'days_to_harvest', 'cappedPercent=64', 'dailyGainKg=0.4']);
  console.log('\nWrong input sent all the same is answered so that a model can correct it:');
  await tell(['call', address, 'mix_syrup', 'colonies=0', 'season=winter', '--unchecked'], 1);
  console.log('\nWhole conversations, each with the calls it must lead to:');
  await tell(['rehearse', relative(process.cwd(), join(here, 'conversations.requests.yaml'))]);
  await tellStory(address);
  await tellRegistryStory();
  await tellScalesStory();
  await tellHandbookStory();
  await tellLedgerStory();
  await tellLiveStory();
  await tellSignInStory(serveSignedIn);
  console.log('\nA page beside an answer, and a tool that only the page may call:');
  await tell(['list', relative(process.cwd(), join(here, 'hive-weight.ts'))]);
  await tell(['check', relative(process.cwd(), join(here, 'hive-weight.ts'))]);
  console.log('\nThat is the whole story. To go on by hand: npm run demo');
  stop(0);
}
const login = await startLogin();
const guarded = await serveSignedIn(login.issuer, 4302);
console.log(`The same functions for those who sign in: jexo call ${guarded.address} mix_syrup colonies=12`);
const feed = await startFeed();
// The other side: a host application in the browser, over three servers; the third one shows a page with its answers.
const season = await serve(4303, 'hive-weight.ts');
const hives = await serve(once ? 0 : 4301, 'hives.ts');
const assistant = spawn(process.execPath, [join(here, '../assistant/serve.mjs')], { stdio: ['ignore', 'pipe', 'inherit'] });
children.push(assistant);
for await (const line of createInterface({ input: assistant.stdout })) {
  console.log(
    `An assistant over three servers: ${JSON.parse(line).address}?server=apiary=${address}&server=hives=${hives.address}&server=season=${season.address}`,
  );
  break;
}
console.log(`
What to try first, on the bench that opens below:
  1. mix_syrup, with 12 colonies in autumn; then 0 colonies, to see how a wrong call is answered
  2. move_hive without a place: the server asks you
  3. season_report as a task
  4. hive_weight for MR-03: a page beside the answer, and a booking that no model makes
  5. Model’s view: what a model is given, and what it costs
  6. the trace: every message, and how long it took
In another terminal: jexo chat ${address}   ·   jexo check ${address}   ·   jexo rehearse ${address} "sugar for 12 colonies"
`);
start(['inspect', address, season.address, ...scalesTarget, `${feed.url}/alderwick/#`], ['ignore', 'inherit', 'inherit']);
