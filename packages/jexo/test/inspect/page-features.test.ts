import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Page } from 'playwright-core';
import { bench, pick, stopAtEnd } from '../support/bench-page.js';
import { cooperative, freshFolder, start } from '../support/command-line.js';
import { inChromium } from '../support/chromium.js';

const deepServer = `
import { createInterface } from 'node:readline';
const say = (message) => process.stdout.write(JSON.stringify({ jsonrpc: '2.0', ...message }) + '\\n');
console.error('warming up');
let asked = 0;
createInterface({ input: process.stdin }).on('line', (line) => {
  const { id, method, params, result } = JSON.parse(line);
  if (method === 'initialize') say({ id, result: { protocolVersion: '2025-11-25', capabilities: { tools: { listChanged: true } }, serverInfo: { name: 'bad', version: '1' } } });
  else if (method === 'tools/list') say({ id, result: { tools: [
    { name: 'lies', description: '<img src=x onerror="window.hacked=1">', inputSchema: { type: 'object' }, outputSchema: { type: 'object', properties: { kg: { type: 'number' } }, required: ['kg'] } },
    { name: 'media', inputSchema: { type: 'object' } } ] } });
  else if (method === 'tools/call' && params.name === 'lies') {
    say({ method: 'notifications/odd', params: 7 });
    say({ id, result: { content: [{ type: 'text', text: 'x' }], structuredContent: { kg: 'heavy' } } });
  } else if (method === 'tools/call') say({ id, result: { content: [
    { type: 'text', text: '# A heading\\n\\n**bold** <script>window.hacked = 1</script> [a link](javascript:window.hacked=1) ![i](https://bad.example/x.png)' },
    { type: 'image', mimeType: 'image/svg+xml', data: Buffer.from('<svg xmlns="http://www.w3.org/2000/svg" onload="window.hacked=1"><script>window.hacked=1</script></svg>').toString('base64') },
    { type: 'resource', resource: { uri: 'bad://page', mimeType: 'text/html', text: '<script>window.hacked = 1</script>' } },
    { type: 'resource_link', uri: 'javascript:window.hacked=1', name: 'n' } ] } });
  else if (id !== undefined && method) say({ id, error: { code: -32601, message: 'no' } });
});`;

const sheetOf = (page: Page, name: string) => page.getByRole('region', { name, exact: true });

const apiary = join(cooperative, 'apiary.ts');
/** The same as a running server, so that both ways of reaching one are seen in the page. */
async function served(): Promise<string> {
  const running = await start(['serve', apiary, '--http', '0', '--json']);
  stopAtEnd(running);
  return String(running.said.address);
}

inChromium('resources, templates and prompts: read, completed, rendered, watched', async () => {
  const { page, errors } = await bench([await served()]);
  await pick(page, 'hive://{hive}');
  await page.locator('input[name=hive]').fill('MR-0');
  await page.locator('datalist option[value="MR-03"]').waitFor({ state: 'attached' });
  await page.locator('input[name=hive]').fill('MR-03');
  await page.getByRole('button', { name: 'Read', exact: true }).click();
  await sheetOf(page, 'Read hive://{hive}').getByText('hive://MR-03').first().waitFor();
  await sheetOf(page, 'Read hive://{hive}').getByText('answered in').waitFor(); // the URI stands there before the answer does
  expect(await sheetOf(page, 'Read hive://{hive}').innerText()).toContain('queen');

  await pick(page, 'before_winter');
  await page.locator('input[name=apiary]').fill('MR');
  await page.locator('input[name=hive]').focus();
  await page.locator('datalist option[value="MR-03"]').waitFor({ state: 'attached' });
  await page.getByRole('button', { name: 'Render', exact: true }).click();
  await page.getByText('We prepare the hives of Millrace for winter.').waitFor();

  await pick(page, 'hive://MR-03');
  await page.getByRole('button', { name: 'Read', exact: true }).click();
  const record = sheetOf(page, 'Read hive://MR-03');
  await record.getByText('"Millrace"').waitFor();
  await page.getByRole('checkbox', { name: 'watch for changes' }).check();
  await page
    .getByRole('button', { name: /what came back: answer: hive:\/\/MR-03/ })
    .nth(1)
    .waitFor();
  await pick(page, 'move_hive');
  await page.locator('input[name=hive]').fill('MR-03');
  await page.getByRole('combobox', { name: /^to/ }).selectOption('SM');
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  await page.getByRole('group', { name: 'The server asks a person' }).getByRole('button', { name: 'Accept' }).click();
  await sheetOf(page, 'Call move_hive').getByText('answered in').waitFor();
  await pick(page, 'hive://MR-03');
  await record.getByText('"Saltmarsh"').waitFor();
  await record.getByText('changed, and read again').waitFor();
  expect(errors).toEqual([]);
});

inChromium('what the server asks is answered in place: a form, a refusal, a model by hand and by the stand-in', async () => {
  const { page, errors } = await bench([await served()]);
  await pick(page, 'move_hive');
  await page.getByRole('textbox', { name: /^hive/ }).fill('UC-02');
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  const asked = page.getByRole('group', { name: 'The server asks a person' });
  await asked.getByText('Which apiary should it go to?').waitFor();
  await asked.getByText('Asked by Alderwick apiary, tool move_hive').waitFor();
  await asked.getByRole('combobox').selectOption('LM');
  await asked.getByRole('button', { name: 'Accept' }).click();
  await asked.getByText('Move UC-02 to LM?').waitFor();
  await asked.getByRole('button', { name: 'Decline' }).click();
  await sheetOf(page, 'Call move_hive').getByText('failed in').waitFor();

  await pick(page, 'write_summary');
  await page.getByRole('textbox', { name: /^hive/ }).fill('MR-03');
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  const model = page.getByRole('group', { name: 'The server asks for a model’s answer' });
  await model.getByLabel('The model’s answer, by hand').fill('All is well at MR-03.');
  await model.getByRole('button', { name: 'Answer', exact: true }).click();
  await sheetOf(page, 'Call write_summary').getByText('All is well at MR-03.').last().waitFor();
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  await page.getByRole('button', { name: 'Let the stand-in answer' }).click();
  await sheetOf(page, 'Call write_summary').getByText('(stand-in model)').first().waitFor();
  expect(errors).toEqual([]);
});

inChromium('a task is followed, many runs are timed, two answers are compared, a series is drawn', async () => {
  const { page, errors } = await bench([apiary]);
  await pick(page, 'season_report');
  await page.getByRole('checkbox', { name: 'as a task' }).check();
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  const report = sheetOf(page, 'Call season_report');
  await report.getByText('task completed').waitFor();
  await report.getByText('answered in').waitFor();
  await report.getByRole('button', { name: 'gainKg' }).click();
  expect(await report.locator('th[aria-sort="ascending"]').innerText()).toContain('gainKg');
  const gains = (await report.locator('tbody tr td:last-child').allInnerTexts()).map(Number);
  expect(gains).toEqual([...gains].sort((a, b) => a - b));
  await report.getByRole('button', { name: 'Chart' }).click();
  await report.getByRole('img', { name: 'gainKg by apiary, 6 points' }).locator('canvas').waitFor();

  await pick(page, 'mites_per_100');
  await page.getByRole('spinbutton', { name: /^mites/ }).fill('9');
  await page.getByRole('spinbutton', { name: 'How many times' }).fill('20');
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  await page.getByText('20 runs', { exact: true }).waitFor();
  await page.getByRole('spinbutton', { name: /^mites/ }).fill('2');
  await page.getByRole('spinbutton', { name: 'How many times' }).fill('1');
  await page.keyboard.press('Control+Enter');
  await sheetOf(page, 'Call mites_per_100').getByText('No treatment needed').waitFor();
  const earlier = page.getByRole('region', { name: 'Earlier calls' }).locator('details').first();
  await earlier.locator('summary').first().click();
  await earlier.getByRole('button', { name: 'Compare with the latest' }).click();
  await earlier.getByText('3 differences').waitFor();
  const rows = await earlier.getByRole('region', { name: 'Comparison' }).locator('tbody tr').allInnerTexts();
  expect(rows.map((each) => each.replaceAll(/\s+/g, ' '))).toEqual([
    expect.stringMatching(/rate 3 0\.7/),
    expect.stringMatching(/level "treat" "low"/),
    expect.stringMatching(/advice/),
  ]);
  await earlier.getByRole('button', { name: 'Take these arguments' }).click();
  expect(await page.getByRole('spinbutton', { name: /^mites/ }).inputValue()).toBe('9');
  expect(errors).toEqual([]);
});

inChromium(
  'a form for any schema: unions, lists, maps, nested objects, files, enums with titles; checked while typing; JSON and back without loss',
  async () => {
    const file = join(freshFolder('forms'), 'forms.ts');
    writeFileSync(
      file,
      `export enum Level { Low, High = 5 }
     interface Node { name: string; more?: Node[] }
     /** Takes all. @param place where */
     export function all(place: { apiary: string; row?: number }, who: { kind: 'keeper'; name: string } | { kind: 'crowd'; size: number }, tags: string[], weights: Record<string, number>, photo: Uint8Array, level: Level, tree: Node, day: Date, either: string | number | null = null): object
     { return { place, who, tags, weights, bytes: photo.length, level, tree, year: day.getUTCFullYear(), either } }`,
    );
    const { page, errors } = await bench([file]);
    const form = sheetOf(page, 'Call all');
    await form.getByRole('textbox', { name: /^apiary/ }).fill('MR');
    await form.getByRole('combobox', { name: /^who/ }).selectOption('kind: crowd');
    await form.getByRole('spinbutton', { name: /^size/ }).fill('12');
    const tags = form.getByRole('group', { name: /^tags/ });
    await tags.getByRole('button', { name: 'Add an item' }).click();
    await tags.getByRole('textbox').fill('calm');
    await form.getByLabel('Name of a further field').fill('MR-03');
    await form.getByRole('button', { name: 'Add field' }).click();
    await form.getByRole('spinbutton', { name: /^MR-03/ }).fill('31.5');
    await form
      .locator('input[type=file]')
      .setInputFiles({ name: 'a.bin', mimeType: 'application/octet-stream', buffer: Buffer.from('hive') });
    await form.getByRole('combobox', { name: /^level/ }).selectOption({ label: 'High (5)' });
    await form.getByRole('textbox', { name: /^name/ }).fill('root');
    const day = form.getByRole('textbox', { name: /^day/ });
    // Nobody is corrected while typing.
    const checked = page.waitForResponse(
      (response) => response.url().endsWith('/api/check') && (response.request().postData() ?? '').includes('yesterday'),
    );
    await day.fill('yesterday');
    await checked;
    expect(await form.getByText(/got "yesterday"/).count()).toBe(0);
    await day.press('Tab');
    await form.getByText(/got "yesterday"/).waitFor();
    await day.fill('2026-06-01T00:00:00Z');
    await form.getByText(/got "yesterday"/).waitFor({ state: 'detached' });
    await form.getByRole('combobox', { name: /^either/ }).selectOption('number');
    await form.getByRole('spinbutton', { name: /^either/ }).fill('4');
    await form.getByRole('button', { name: 'As JSON' }).click();
    const given = JSON.parse(await form.getByLabel('The arguments as JSON').inputValue()) as object;
    expect(given).toEqual({
      place: { apiary: 'MR' },
      who: { kind: 'crowd', size: 12 },
      tags: ['calm'],
      weights: { 'MR-03': 31.5 },
      photo: 'aGl2ZQ==',
      level: 5,
      tree: { name: 'root' },
      day: '2026-06-01T00:00:00Z',
      either: 4,
    });
    const json = form.getByLabel('The arguments as JSON');
    await json.fill(JSON.stringify({ ...given, level: 7 }));
    await form.getByRole('list', { name: 'What the schema does not allow' }).getByText('level').waitFor();
    await json.fill('[1]');
    await form.getByText('The arguments are an object').waitFor();
    await json.fill(JSON.stringify(given));
    await form.getByRole('list', { name: 'What the schema does not allow' }).waitFor({ state: 'detached' });
    await form.getByRole('button', { name: 'As a form' }).click();
    expect(await form.getByRole('spinbutton', { name: /^size/ }).inputValue()).toBe('12');
    await form.getByRole('button', { name: 'Call', exact: true }).click();
    await form.getByText('answered in').waitFor();
    await form.getByRole('button', { name: 'Raw' }).click();
    expect(JSON.parse(await form.locator('pre.raw').innerText())).toMatchObject({
      structuredContent: { who: { kind: 'crowd', size: 12 }, bytes: 4, level: 5, year: 2026, either: 4 },
    });
    expect(errors).toEqual([]);
  },
);

inChromium(
  'a deliberately bad server: broken promises, invalid messages and hostile content are shown, and nothing of it runs',
  async () => {
    const file = join(freshFolder('bad'), 'bad.mjs');
    writeFileSync(file, deepServer);
    const { page } = await bench(['--', process.execPath, file]);
    await page.getByRole('button', { name: 'Call', exact: true }).click();
    const sheet = sheetOf(page, 'Call lies');
    await sheet.getByText('does not fit the output schema').waitFor();
    expect(await sheet.getByRole('alert').first().innerText()).toMatch(/kg.*number.*"heavy"/s);
    await page.getByRole('button', { name: '! 1 invalid' }).click();
    await page.getByRole('button', { name: /notifications\/odd, invalid/ }).click();
    expect(await page.getByRole('region', { name: 'One message' }).getByRole('alert').innerText()).toMatch(/params must be an object/);
    await page.getByText('What the server wrote to stderr (1 line)').click();
    await page.getByText('warming up').waitFor();

    await pick(page, 'media');
    await page.getByRole('button', { name: 'Call', exact: true }).click();
    const media = sheetOf(page, 'Call media');
    await media.getByRole('heading', { name: 'A heading' }).waitFor();
    await media.locator('img').waitFor();
    expect(await media.locator('script, a[href], iframe, object').count()).toBe(0);
    expect(await media.innerText()).toContain('<script>window.hacked = 1</script>');
    expect(await page.evaluate('window.hacked')).toBeUndefined();
  },
);
