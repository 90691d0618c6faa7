import { spawn, type ChildProcess } from 'node:child_process';
import { createInterface } from 'node:readline';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import AxeBuilder from 'axe-core';
import type { Browser, Page } from 'playwright-core';
import { scriptedService } from '../../../packages/jexo/src/testing';
import { inChromium, launch } from '../../../packages/jexo/test/support/chromium';
import { cooperative, hives, start } from '../../../packages/jexo/test/support/command-line';
import { listen } from '../../../packages/jexo/test/support/listen';

let browser: Browser | undefined;
let site: ChildProcess | undefined;
let base = '';
const running: { stop(): Promise<unknown> }[] = [];
afterAll(async () => {
  await browser?.close();
  site?.kill();
  for (const each of running) await each.stop();
});

async function serve(words: readonly string[], port = '0') {
  const server = await start(['serve', ...words, '--http', port, '--json']);
  running.push(server);
  return { server, address: String(server.said.address) };
}

async function open(query: string): Promise<{ page: Page; errors: string[] }> {
  browser ??= await launch();
  if (base === '') {
    site = spawn(process.execPath, [fileURLToPath(new URL('../serve.mjs', import.meta.url)), '0']);
    for await (const line of createInterface({ input: site.stdout! })) {
      base = (JSON.parse(line) as { address: string }).address;
      break;
    }
  }
  const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  const errors: string[] = [];
  page.on('pageerror', (error) => errors.push(error.message));
  await page.goto(`${base}${query}`);
  return { page, errors };
}
const ask = async (page: Page, request: string) => {
  await page.getByLabel('Your request').fill(request);
  await page.keyboard.press('Enter');
};
const serverRow = (page: Page, name: string) => page.getByRole('listitem').filter({ hasText: name });

inChromium(
  'a story: a question, an approval, what the server asks, an answer with a table; a server that fails and comes back',
  async () => {
    const apiary = await serve([join(cooperative, 'apiary.ts')]);
    const other = await serve([hives, '--name', 'hives', '--only', 'days_to_harvest']);
    const { page, errors } = await open(`?server=apiary=${apiary.address}&server=hives=${other.address}`);
    await serverRow(page, 'apiary').getByText('7 tools').waitFor();
    await serverRow(page, 'hives').getByText('1 tool').waitFor();

    // What only reads is called without asking; its progress is shown, and its answer is a table.
    await ask(page, 'Give me an overview of the season.');
    await page.getByRole('cell', { name: 'Upper Croft' }).waitFor();
    expect(await page.getByRole('row').filter({ hasText: 'Millrace' }).innerText()).toContain('65.2');
    const trace = page.getByRole('complementary', { name: 'Trace' });
    await trace.getByText('season_report: approved by a rule.').waitFor();

    // What changes something is asked for; its server asks on, and is answered here.
    await ask(page, 'Move hive MR-03.');
    const approval = page.getByRole('group', { name: 'Call apiary › Move a hive?' });
    await approval.getByText('It may change or delete something.').waitFor();
    await page.getByText('It waits for you.').waitFor();
    await approval.getByRole('button', { name: 'Call it' }).click();
    const question = page.getByRole('group', { name: 'apiary asks' });
    await question.getByText('Which apiary should it go to?').waitFor();
    await question.getByRole('button', { name: 'Send' }).click();
    await question.getByText('This is needed.').waitFor();
    await question.getByRole('combobox').selectOption('SM');
    await question.getByRole('button', { name: 'Send' }).click();
    await question.getByText('Move MR-03 to SM?').waitFor();
    await question.getByRole('button', { name: 'Send' }).click();
    await page.getByText('to: Saltmarsh').waitFor();
    await trace.getByText('apiary asked: Which apiary should it go to? (accept)').waitFor();

    // A refusal is told to the model, and seen.
    await ask(page, 'Move hive UC-02 to LM.');
    await page.getByRole('button', { name: 'No', exact: true }).click();
    await page.getByText('apiary : The person refused it.').waitFor();

    // A server that is switched off offers nothing; one that has gone is tried again, and found when it is back.
    await serverRow(page, 'hives').getByRole('switch').click();
    await serverRow(page, 'hives').getByText('off', { exact: true }).waitFor();
    await serverRow(page, 'hives').getByRole('switch').click();
    await serverRow(page, 'hives').getByText('1 tool').waitFor();
    await other.server.stop();
    await serverRow(page, 'hives').getByText('not there').waitFor();
    await ask(page, 'How much syrup for 12 colonies in autumn?');
    await page.getByText('sugarKg: 24').waitFor();
    await serve([hives, '--name', 'hives'], new URL(other.address).port);
    await serverRow(page, 'hives').getByText('4 tools').waitFor();
    await ask(page, '65 percent of the comb is capped, the gain is 0.8 kilograms in a day: when can I harvest?');
    await page.getByText(/days: \d+/).waitFor();

    // The conversation is still there after a reload.
    await page.reload();
    await page.getByText('to: Saltmarsh').waitFor();
    expect(errors).toEqual([]);
  },
);

inChromium('a real service, streamed; stopping; light and dark; readable for everybody', async () => {
  const apiary = await serve([join(cooperative, 'apiary.ts')]);
  const service = scriptedService(({ messages }) =>
    JSON.stringify(messages.at(-1)).includes('long')
      ? { text: 'word '.repeat(200), parts: 100, pauseMs: 100 }
      : { text: '**Honey** is ripe.', parts: 3 },
  );
  const model = await listen(async (request) => {
    const cors = { 'access-control-allow-origin': '*', 'access-control-allow-headers': '*' };
    if (request.method === 'OPTIONS') return new Response(null, { status: 204, headers: cors });
    const { status, headers, body } = await service(request);
    return new Response(body, { status, headers: { ...Object.fromEntries(headers), ...cors } });
  });
  const { page, errors } = await open(`?server=apiary=${apiary.address}`);
  await page.getByText('Stand-in (not a model)').click();
  await page.getByLabel('Address of a chat-completions service').fill(`${model.url}/v1`);
  await page.getByLabel('Its model').fill('small');
  await ask(page, 'Is it ripe?');
  await page.locator('.answer strong', { hasText: 'Honey' }).waitFor();
  await ask(page, 'Tell me a long story.');
  await page.locator('.answer').filter({ hasText: 'word word' }).waitFor();
  await page.keyboard.press('Escape');
  await page.getByText('Stopped.').waitFor();
  for (const look of ['light', 'dark']) {
    await page.getByLabel('Look').selectOption(look);
    await page.addScriptTag({ content: AxeBuilder.source }).catch(() => page.evaluate(AxeBuilder.source));
    const found = (await page.evaluate('axe.run()')) as { violations: { id: string; nodes: { html: string }[] }[] };
    expect(found.violations.map(({ id, nodes }) => [id, nodes[0]!.html])).toEqual([]);
  }
  await page.getByRole('button', { name: 'New conversation' }).click();
  await page.getByRole('heading', { name: 'What would you like to know?' }).waitFor();
  expect(errors).toEqual([]);
  await model.close();
});
