import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { scriptedService, type ScriptedRequest } from '../../src/testing.js';
import { cooperative, freshFolder, hives, jexo } from '../support/command-line.js';
import { listen } from '../support/listen.js';
import { atTerminal, onTerminal } from '../support/terminal.js';

const apiary = join(cooperative, 'apiary.ts');
const folder = freshFolder('chat');
const env = { JEXO_CACHE: join(folder, 'cache') };
const chat = (words: readonly string[], stdin: string) => jexo(['chat', ...words], { stdin, env });

/** Moves a hive where it is told to; otherwise mixes syrup. */
const keeper = ({ messages, tools = [] }: ScriptedRequest) => {
  const from = messages.findLastIndex(({ role }) => role === 'user');
  const user = JSON.stringify(messages[from]!.content);
  const isDone = messages.slice(from).some(({ role }) => role === 'tool');
  const name = (end: string) => tools.find((each) => each.function.name.endsWith(end))!.function.name;
  if (isDone) return { text: '## Done\n\n| what | kg |\n| --- | --- |\n| sugar | **24** |\n\nThat is *all*.', parts: 9 };
  if (user.includes('move')) return { text: 'I will move it.', calls: [{ name: name('move_hive'), arguments: { hive: 'MR-03' } }] };
  return { calls: [{ name: name('mix_syrup'), arguments: { colonies: 12, season: 'autumn' } }] };
};
let service: Awaited<ReturnType<typeof listen>>;
let withModel: string[];
beforeAll(async () => {
  service = await listen(scriptedService(keeper));
  withModel = ['--model-url', `${service.url}/v1`, '--model', 'small'];
});
afterAll(() => service.close());

test('in a pipe: each line is a request, the answer is on stdout and what happened on stderr', async () => {
  const { code, stdout, stderr } = await chat(
    [hives, '--yes-read-only'],
    'How much syrup for 12 colonies in autumn?\nAnd for 3 colonies?\n',
  );
  expect(code).toBe(0);
  expect(stdout).toContain('**mix_syrup** answered:\n\n- sugarKg: 24');
  expect(stdout).not.toContain('→');
  expect(stderr).toMatch(/→ mix_syrup \{.*"colonies":12.*\}\n← mix_syrup \d+ ms/);
});

test('as JSON: one object a request, with all steps', async () => {
  const { code, stdout, stderr } = await chat(
    [hives, '--yes-read-only', '--json'],
    'How much syrup for 12 colonies in autumn?\n\nmites per 100 for 9 mites\n',
  );
  const lines = stdout
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line) as { request: string; ended: string; calls: number; isStandIn: boolean; steps: { kind: string }[] });
  expect([code, stderr]).toEqual([0, '']);
  expect(lines).toMatchObject([
    { request: 'How much syrup for 12 colonies in autumn?', ended: 'answered', calls: 1, isStandIn: true },
    { request: 'mites per 100 for 9 mites', calls: 1 },
  ]);
  expect(lines[0]!.steps.at(-1)).toMatchObject({ kind: 'ended' });
});

test('what no rule allows is not called in a pipe; rules come from a file; servers are asked with answers given beforehand', async () => {
  const rules = join(folder, 'chat.rules.yaml');
  const refused = await chat([apiary, ...withModel], 'Please move MR-03.');
  expect(refused.stderr).toContain('move_hive is not called: Nobody was there to approve it.');
  writeFileSync(rules, 'allow: [move_hive]\n');
  const moved = await chat([apiary, ...withModel, '--rules', rules, '--answer', 'to=SM', '--yes'], 'Please move MR-03.');
  expect(moved.stderr).toContain('"to":"Saltmarsh"');
  writeFileSync(rules, 'allow: ["*"]\nrefuse: [destructive]\n');
  expect((await chat([apiary, ...withModel, '--rules', rules], 'Please move MR-03.')).stderr).toContain('A rule refuses it: destructive');
  writeFileSync(rules, 'allow: [read only]\n');
  expect(await chat([apiary, '--rules', rules], 'x')).toMatchObject({ code: 3, stderr: expect.stringContaining('(JEXO_APPROVALS)') });
});

test('several servers: names are told apart, one that is missing is said and the others go on; a configuration stands for its entries', async () => {
  const { stdout, stderr, code } = await chat([hives, apiary, './no-such.ts', '--yes-all', '--json'], 'mix syrup for 12 colonies');
  expect(code).toBe(0);
  expect(stderr).toMatch(/no_such is not there: There is no file/);
  expect(stdout).toMatch(/"tools":\["hives_mix_syrup",.*"apiary_mix_syrup"/);
  const hosts = join(folder, 'hosts.json');
  writeFileSync(
    hosts,
    JSON.stringify({
      servers: { bees: { command: process.execPath, args: [join(process.cwd(), 'packages/jexo/dist/cli.mjs'), 'serve', hives] } },
    }),
  );
  expect((await chat([hosts, '--yes-read-only', '--json'], 'mix syrup for 12 colonies')).stdout).toContain('"server":"bees"');
  expect(await chat(['./no-such.ts'], 'x')).toMatchObject({ code: 3, stderr: expect.stringContaining('JEXO_TARGET_MISSING') });
  expect(await chat([], 'x')).toMatchObject({ code: 2 });
  expect(await chat([hives], '\n')).toMatchObject({ code: 2, stderr: expect.stringContaining('No request came on stdin') });
});

test('memory and trace: a conversation goes on in the next run, and the trace is a wire log', async () => {
  const [kept, trace] = [join(folder, 'talk.jsonl'), join(folder, 'trace.jsonl')];
  const words = [hives, ...withModel, '--yes-read-only', '--memory', kept, '--trace', trace];
  await chat(words, 'Mix.');
  await chat(words, 'Mix again.');
  expect(readFileSync(kept, 'utf8').match(/"role":"user"/g)).toHaveLength(2);
  const lines = readFileSync(trace, 'utf8')
    .trim()
    .split('\n')
    .map((line) => JSON.parse(line) as { way: string; message: { method?: string; result?: unknown } });
  expect(lines.map(({ way, message }) => `${way} ${message.method ?? 'result'}`)).toEqual([
    'sent tools/call',
    'received result',
    'sent tools/call',
    'received result',
  ]);
});

test('a model that cannot be used is told with what to do, and the exit code is 3', async () => {
  const { code, stderr } = await chat([hives, '--model-url', 'http://127.0.0.1:9/v1', '--model', 'm'], 'x');
  expect(code).toBe(3);
  expect(stderr).toMatch(/model service at http:\/\/127\.0\.0\.1:9.*\(JEXO_MODEL\)/);
});

onTerminal('at a terminal: approvals, questions of the server, Markdown, commands, and a saved conversation that replays', async () => {
  const sheet = join(folder, 'today.calls.yaml');
  const { screen, code } = await atTerminal(
    ['chat', apiary, ...withModel, '--yes-read-only'],
    [
      [/› $/, 'How much syrup?'],
      [/› $/, 'Please move MR-03.'],
      [/\[n\]o $/, ''],
      [/\[n\]o $/, 't'],
      [/to $/, '3'],
      [/lose $/, 'y'],
      [/lose $/, 'y'],
      [/› $/, '/trace'],
      [/› $/, '/off apiary'],
      [/› $/, '/servers'],
      [/› $/, '/nonsense'],
      [/› $/, `/save ${sheet}`],
      [/› $/, '/help'],
      [/› $/, '/quit'],
    ],
  );
  expect(code).toBe(0);
  expect(screen).toMatch(/Done\n\nwhat +kg\nsugar +24\n\nThat is all\./);
  expect(screen).toContain('The model wants to call apiary › Move a hive (may change or delete something)');
  expect(screen).toMatch(/Which apiary should it go to\?/);
  expect(screen).toMatch(/move_hive is approved by you/);
  expect(screen).toMatch(/apiary +off/);
  expect(screen).toContain('There is no /nonsense. (JEXO_USAGE)');
  expect(screen).toMatch(/\/save +\/save <name>/);
  expect(await jexo(['replay', sheet])).toMatchObject({ code: 0, stdout: expect.stringContaining('✓ move_hive') });
});

onTerminal('Ctrl-C stops a request, and the conversation goes on', async () => {
  const slow = await listen(
    scriptedService(({ messages }) =>
      JSON.stringify(messages.at(-1)).includes('there') ? { text: 'Here.' } : { text: 'a b c d e f g h i j', parts: 10, pauseMs: 300 },
    ),
  );
  const { screen } = await atTerminal(
    ['chat', hives, '--model-url', `${slow.url}/v1`, '--model', 'slow'],
    [
      [/› $/, 'Tell me.'],
      [/Tell me\./, '^C'],
      [/Stopped\.[\s\S]*› $/, 'Are you there?'],
      [/Here\.[\s\S]*› $/, '/quit'],
    ],
  );
  expect(screen).toMatch(/Stopped\.[\s\S]*Here\./);
  await slow.close();
});
