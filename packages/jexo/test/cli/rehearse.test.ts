import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { standInService } from '../../src/testing.js';
import { listen } from '../support/listen.js';
import { cooperative, freshFolder, hives, jexo } from '../support/command-line.js';

const sheet = join(cooperative, 'apiary.requests.yaml');
const folder = freshFolder('rehearse');
const asked = join(folder, 'asked.requests.yaml');
writeFileSync(
  asked,
  `target: ${hives}
requests:
  - { say: How much sugar for 12 colonies this autumn?, tool: mix_syrup, with: { colonies: 11 } }
  - { say: How many kilograms of food must a weak colony still get?, tool: mix_syrup }
  - { say: When does the library open?, tool: none }
`,
);

test('the demo leads every request to its tool', async () => {
  const { code, stdout, stderr } = await jexo(['rehearse', sheet]);
  expect([code, stdout.match(/^✓ /gm)!.length, stdout.match(/^✗ /gm)]).toEqual([0, 23, null]);
  expect(stderr).toMatch(/23 of 23 requests led to the right tool[\s\S]*stand-in, which is no model/);
});

test('a confusion is reported with the reasons, a matrix and what would have helped', async () => {
  const junit = join(folder, 'report.xml');
  const { code, stdout } = await jexo(['rehearse', asked, '--junit', junit]);
  expect(code).toBe(1);
  expect(stdout).toMatch(/! How much sugar.*\n {2}mix_syrup.*\n {2}colonies should be 11; it was 12\./);
  expect(stdout).toMatch(
    /✗ How many kilograms[\s\S]*It should lead to mix_syrup; it led to winter_stores\.\n {2}It would have led there with “.*” in the description of mix_syrup\./,
  );
  expect(stdout).toMatch(/winter_stores 100 %: kilograms \(description, parameters\)/);
  expect(stdout).toMatch(/wanted +#1 +#2\n#1 +mix_syrup +1 +1\n#2 +winter_stores +· +·/);
  expect(readFileSync(junit, 'utf8')).toContain('tests="3" failures="2"');
  expect((await jexo(['rehearse', asked, '--fail-under', '50'])).code).toBe(1); // the arguments are still wrong
});

test('a request in plain words: the choice, the runners-up and why; run on request', async () => {
  const words = 'how much sugar for 12 colonies this autumn';
  const { code, stdout } = await jexo(['rehearse', hives, words]);
  expect(code).toBe(0);
  expect(stdout).toMatch(
    /^→ mix_syrup \{"season":"autumn","colonies":12\}\n\ntool +share +missing +because of\nmix_syrup +100 % +· +sugar \(description\)/,
  );
  const run = await jexo(['rehearse', hives, words, '--run', '--yes', '--json']);
  expect(JSON.parse(run.stdout)).toMatchObject({
    isStandIn: true,
    steps: [{ calls: [{ name: 'mix_syrup' }] }, { text: '{"sugarKg":24,"waterL":12}', failed: false }, { calls: [] }],
  });
  expect(await jexo(['rehearse', hives, words, '--run'])).toMatchObject({ code: 2, stderr: expect.stringContaining('--yes') });
  expect((await jexo(['rehearse', hives, 'When does the library open?'])).stdout).toContain('No tool has enough of these words');
});

test('a model behind the chat-completions JSON', async () => {
  const service = await listen(standInService({ key: 'k-7' }));
  const model = ['--model-url', `${service.url}/v1`, '--model', 'small'];
  const { code, stdout, stderr } = await jexo(['rehearse', sheet, ...model], { env: { JEXO_MODEL_KEY: 'k-7' } });
  expect([code, stdout.match(/^✓ /gm)!.length, stderr]).toEqual([0, 23, expect.stringContaining('Chosen by small.')]);
  const refused = await jexo(['rehearse', sheet, ...model], { env: { JEXO_MODEL_KEY: 'k-8' } });
  expect(refused).toMatchObject({ code: 3, stderr: expect.stringMatching(/HTTP 401[\s\S]*JEXO_MODEL_KEY/) });
  expect(refused.stderr).not.toContain('k-8');
  await service.close();
});

test('what is used wrongly is told', async () => {
  const wrong = join(folder, 'wrong.requests.yaml');
  writeFileSync(wrong, 'requests:\n  - { say: a, tool: mix_syrops }\n');
  for (const [words, code, says] of [
    [['rehearse'], 2, /Which server/],
    [['rehearse', hives], 2, /No request was given/],
    [['rehearse', hives, wrong], 2, /wrong\.requests\.yaml:2: .*did you mean mix_syrup\?/],
    [['rehearse', hives, 'x', '--model', 'small'], 2, /not where it is/],
    [['rehearse', hives, 'x', '--model-url', 'http://127.0.0.1:1/v1'], 2, /not which one/],
    [['rehearse', hives, 'x', '--model-url', 'http://127.0.0.1:1/v1', '--model', 'm'], 3, /cannot be used/],
    [['rehearse', asked, '--fail-under', '101'], 2, /from 0 to 100/],
  ] as const) {
    const { code: got, stderr } = await jexo(words);
    expect([words, got, stderr]).toEqual([words, code, expect.stringMatching(says)]);
  }
});

test('ten conversations over the demo go as their sheet says', async () => {
  const junit = join(folder, 'conversations.xml');
  const { code, stderr, stdout } = await jexo(['rehearse', join(cooperative, 'conversations.requests.yaml'), '--junit', junit]);
  expect([code, stdout.match(/^✓ /gm)!.length]).toEqual([0, 10]);
  expect(stderr).toContain('10 of 10');
  expect(readFileSync(junit, 'utf8')).toContain('tests="10" failures="0"');
});

test('a conversation that goes another way is reported with what was called, asked and answered', async () => {
  const file = join(folder, 'other.requests.yaml');
  writeFileSync(
    file,
    `target: ${join(cooperative, 'apiary.ts')}
requests:
  - { say: Move hive MR-03., steps: [{ tool: move_hive }] }
  - { say: Move hive MR-03 to SM., steps: [{ tool: mix_syrup }] }
  - { say: Mix syrup for 12 colonies., steps: [{ tool: mix_syrup, with: { colonies: 11 } }], answer: honey }
`,
  );
  const { code, stdout } = await jexo(['rehearse', file]);
  expect(code).toBe(1);
  expect(stdout).toContain('the sheet has no reply to it');
  expect(stdout).toMatch(/It should call mix_syrup; it called move_hive/);
  expect(stdout).toMatch(/Step 1, mix_syrup: colonies should be 11; it was 12\./);
  expect(stdout).toContain('The answer should hold honey.');
  writeFileSync(file, `requests:\n  - { say: x, tool: mix_syrup, answer: y }\n  - { say: y, steps: [], with: { a: 1 } }\n`);
  expect((await jexo(['rehearse', hives, file])).stderr).toMatch(
    /:2: answer, replies and several requests need steps\n.*:3: with belongs to a step/,
  );
});
