import { existsSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { standInService } from '../../src/testing.js';
import { bench } from '../support/bench-page.js';
import { freshFolder } from '../support/command-line.js';
import { inChromium } from '../support/chromium.js';
import { listen } from '../support/listen.js';

const folder = freshFolder('page-sheets');
const tools = join(folder, 'jars.ts');
writeFileSync(
  tools,
  '/** Counts the jars of a lot. @param lot which lot */\nexport function countJars(lot: string): number { return lot.length }\n',
);
writeFileSync(
  join(folder, 'asked.requests.yaml'),
  'requests:\n  - { say: How many jars are in lot H-204?, tool: count_jars, with: { lot: H-204 } }\n  - { say: Is the library open?, tool: count_jars }\n',
);

/** A file that another process has written a moment ago. */
async function readWhenThere(file: string): Promise<string> {
  for (const end = Date.now() + 5000; !existsSync(file) && Date.now() < end;) await new Promise((resolve) => setTimeout(resolve, 20));
  if (!existsSync(file)) throw new Error(`${file} is not there; in its folder are ${readdirSync(folder).join(', ')}`);
  return readFileSync(file, 'utf8');
}

inChromium('a call is kept, its sheet replayed, edited and updated', async () => {
  const { page, errors } = await bench([tools], { cwd: folder });
  await page.getByLabel(/^lot/).fill('H-204');
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  await page.getByRole('button', { name: 'Keep on a call sheet' }).click();
  await page.getByLabel('Call sheet').fill('jars.calls.yaml');
  await page.getByLabel('What this call shows').fill('a lot has jars');
  await page.getByRole('button', { name: 'Keep', exact: true }).click();
  await page.getByRole('button', { name: 'jars.calls.yaml' }).click();
  const sheet = page.getByRole('region', { name: 'jars.calls.yaml' });
  await sheet.getByRole('button', { name: 'Replay', exact: true }).click();
  await sheet.getByText('1 of 1 call answered as kept').waitFor();
  expect(await readWhenThere(join(folder, 'jars.calls.yaml'))).toMatch(
    /target: \.\/jars\.ts\ncalls:\n {2}- name: a lot has jars\n {4}call: count_jars/,
  );

  await sheet.getByRole('button', { name: 'Edit' }).click();
  const text = sheet.getByRole('textbox');
  await text.fill((await text.inputValue()).replace('be: 5', 'beh: 9'));
  await sheet.getByRole('button', { name: 'Save' }).click();
  await sheet.getByText(/line \d: calls\[0\]\.must/).waitFor();
  expect(await sheet.getByRole('button', { name: 'Replay', exact: true }).isDisabled()).toBe(true);
  await sheet.getByRole('button', { name: 'Edit' }).click();
  await text.fill((await text.inputValue()).replace('beh: 9', 'be: 9'));
  await sheet.getByRole('button', { name: 'Save' }).click();
  await sheet.getByRole('button', { name: 'Replay', exact: true }).click();
  await sheet.getByText('0 of 1 call').waitFor();
  expect(await sheet.getByRole('row').allInnerTexts()).toEqual([expect.anything(), '(the whole)\t9\t5']);
  await sheet.getByRole('button', { name: 'Replay, and write what came' }).click();
  await sheet.getByText('updated: a lot has jars').waitFor();
  expect(readFileSync(join(folder, 'jars.calls.yaml'), 'utf8')).toContain('be: 5');
  expect(errors).toEqual([]);
});

inChromium('requests are rehearsed, alone and by the sheet; edits of descriptions count', async () => {
  const { page, errors } = await bench([tools], { cwd: folder });
  await page.getByRole('button', { name: 'Model’s view' }).click();
  const rehearsal = page.getByRole('region', { name: 'Rehearsal' });
  await rehearsal.getByRole('textbox').fill('Is the library in the village open?');
  await rehearsal.getByText('No tool is chosen').waitFor();
  await page.getByRole('button', { name: 'count_jars' }).click();
  await page.getByLabel(/Another description/).fill('Says whether the library in the village is open.');
  await rehearsal.getByText('count_jars {}').waitFor();
  await rehearsal.getByText('The request does not give lot').waitFor();
  await page.getByRole('button', { name: 'Revert' }).click();
  await rehearsal.getByRole('textbox').fill('How many jars are in lot H-204?');
  await rehearsal.getByText('count_jars {"lot":"H-204"}').waitFor();

  await page.getByRole('button', { name: 'Sheets', exact: true }).click();
  await page.getByRole('button', { name: 'asked.requests.yaml' }).click();
  await page.getByRole('button', { name: 'Rehearse' }).click();
  await page.getByText('1 of 2 requests led to the right tool').waitFor();
  await page.getByText('It would have, with “library” in the description of count_jars').waitFor();
  expect(await page.getByRole('cell', { name: 'count_jars led to none: 1' }).innerText()).toBe('1 ✗');

  await page.getByRole('button', { name: 'Model’s view' }).click();
  await page.getByRole('region', { name: 'Rehearsal' }).getByRole('textbox').fill('How many jars are in lot H-204?');
  await page.getByRole('button', { name: 'Put it on the bench' }).click();
  expect(await page.getByLabel(/^lot/).inputValue()).toBe('H-204');
  expect(errors).toEqual([]);
});

inChromium(
  'a model behind the chat-completions JSON is asked too: alone, by the sheet with progress, stopped; its refusal is told',
  async () => {
    const service = standInService({ key: 'k-9' });
    let free = 3;
    const behind = await listen(async (request) => {
      if (free-- <= 0) await new Promise(() => undefined); // until whoever asked is gone
      return service(request);
    });
    const more = ['--model-url', `${behind.url}/v1`, '--model', 'small'];
    const { page, errors } = await bench([tools, ...more], { cwd: folder, env: { JEXO_MODEL_KEY: 'k-9' } });
    await page.getByRole('button', { name: 'Model’s view' }).click();
    const rehearsal = page.getByRole('region', { name: 'Rehearsal' });
    await rehearsal.getByLabel('Rehearse a request, in plain words').fill('How many jars are in lot H-204?');
    await rehearsal.getByRole('button', { name: 'Ask small' }).click();
    await rehearsal.locator('.ask-model').getByText('count_jars {"lot":"H-204"}').waitFor();
    await rehearsal.getByRole('textbox').fill('Is the library open?');
    await rehearsal.getByRole('button', { name: 'Ask small' }).click();
    await rehearsal.getByText('small calls no tool').waitFor();

    await page.getByRole('button', { name: 'Sheets', exact: true }).click();
    await page.getByRole('button', { name: 'asked.requests.yaml' }).click();
    await page.getByRole('button', { name: 'Rehearse with small' }).click();
    await page.getByText('Rehearsing: 1 of 2').waitFor();
    expect(await page.getByRole('progressbar').getAttribute('value')).toBe('1');
    await page.getByRole('button', { name: 'Stop' }).click();
    await page.getByText('Is the library open?').waitFor();
    free = Infinity;
    await page.getByRole('button', { name: 'Rehearse with small' }).click();
    await page.getByText('1 of 2 requests led to the right tool').waitFor();
    await page.getByText('Chosen by small.').waitFor();
    expect(errors).toEqual([]);
    await behind.close();
    await page.getByRole('button', { name: 'Rehearse with small' }).click();
    await page.getByRole('alert').getByText('JEXO_MODEL').waitFor();
  },
);

inChromium('a sheet is made of the trace, and a call copied in each form', async () => {
  const { page, errors } = await bench([tools], { cwd: folder });
  await page.context().grantPermissions(['clipboard-read', 'clipboard-write']);
  await page.getByLabel(/^lot/).fill("it's");
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  await page.getByText('answered in').waitFor();
  const copied = async (form: string) => {
    await page.getByLabel('Copy this call as').selectOption(form);
    await page.getByLabel('Copy this call as').getByText('Copied').waitFor({ state: 'attached' });
    return page.evaluate(() => navigator.clipboard.readText());
  };
  expect(await copied('command')).toBe(String.raw`jexo call ${tools} count_jars 'lot=it'\''s'`);
  await page.getByLabel('Copy this call as').selectOption('typescript');
  const onClipboard = () => page.evaluate(() => navigator.clipboard.readText());
  for (const end = Date.now() + 10_000; !(await onClipboard()).includes('import') && Date.now() < end;) await page.waitForTimeout(20);
  expect(await onClipboard()).toContain(String.raw`client.call('count_jars', { lot: 'it\'s' })`);
  await page.getByRole('button', { name: 'Sheets', exact: true }).click();
  await page.getByLabel(/of all calls on the trace/).fill('trace.calls.yaml');
  await page.getByRole('button', { name: 'Make it' }).click();
  await page.getByRole('region', { name: 'trace.calls.yaml' }).getByText('count_jars').waitFor();
  await page.getByLabel(/of all calls on the trace/).fill('../outside.calls.yaml');
  await page.getByRole('button', { name: 'Make it' }).click();
  await page.getByText('lies outside the folder').waitFor();
  expect(errors.filter((error) => !error.includes('400'))).toEqual([]);
});
