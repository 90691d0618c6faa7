import { existsSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { createRequire } from 'node:module';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import type { Page } from 'playwright-core';
import { bench, pick, stopAtEnd } from '../support/bench-page.js';
import { cooperative, freshFolder, hives, start } from '../support/command-line.js';
import { inChromium } from '../support/chromium.js';

inChromium('fill the form, call, read the answer and the wire', async () => {
  const { page, errors } = await bench([hives]);
  await page.getByRole('option', { name: 'mix_syrup' }).click();
  await page.getByLabel(/^colonies/).fill('12');
  await page.getByLabel(/^season/).selectOption({ label: 'autumn' });
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  const sheet = page.getByRole('region', { name: 'Call mix_syrup' });
  await sheet.getByText('answered in').waitFor();
  expect(await sheet.locator('dl').innerText()).toMatch(/sugarKg\s+24\s+waterL\s+12/);
  await sheet.getByRole('button', { name: 'Raw' }).click();
  expect(JSON.parse(await sheet.locator('pre.raw').innerText())).toMatchObject({ structuredContent: { sugarKg: 24, waterL: 12 } });

  const trace = page.getByRole('complementary', { name: /^Trace/ });
  const rows = await trace.locator('.message').allInnerTexts();
  expect(rows.map((row) => row.replaceAll(/\s+/g, ' '))).toEqual([
    expect.stringMatching(/→ .*initialize/),
    expect.stringMatching(/← .*answer: initialize .*ms/),
    expect.stringMatching(/→ .*notifications\/initialized/),
    ...['tools/list', 'resources/list', 'resources/templates/list', 'prompts/list'].map((method) =>
      expect.stringMatching(`→.* ${method}$`),
    ),
    ...['', '', '', ''].map(() => expect.stringMatching(/← .*answer: \S+\/list .*ms/)),
    expect.stringMatching(/→ .*tools\/call mix_syrup/),
    expect.stringMatching(/← .*answer: mix_syrup .*ms/),
  ]);
  await trace.getByRole('button', { name: /what we sent: tools\/call mix_syrup/ }).click();
  expect(JSON.parse(await trace.locator('.detail pre').innerText())).toMatchObject({
    method: 'tools/call',
    params: { name: 'mix_syrup', arguments: { colonies: 12, season: 'autumn' } },
  });
  await trace.getByLabel('Search the trace').fill('sugarKg');
  expect(await trace.locator('.message').count()).toBe(2);
  expect(errors).toEqual([]);
});

inChromium('by keyboard alone: choose, fill, call; a wrong input is answered with the fields to mend', async () => {
  const { page, errors } = await bench([hives]);
  await page.getByRole('option', { name: 'mix_syrup' }).focus();
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('Enter');
  await page.getByRole('heading', { name: 'mites_per_100' }).waitFor();
  await page.getByRole('spinbutton', { name: /^mites/ }).focus();
  await page.keyboard.type('-4');
  await page.keyboard.press('Control+Enter');
  const sheet = page.getByRole('region', { name: 'Call mites_per_100' });
  await sheet.getByText('mites: expected at least 0; got -4').waitFor();
  await page.keyboard.press('Control+a');
  await page.keyboard.type('9');
  await page.keyboard.press('Control+Enter');
  await sheet.getByText('Treat this week').waitFor();
  expect(await page.getByRole('region', { name: 'Earlier calls' }).locator('details').count()).toBe(1);
  expect(errors).toEqual([]);
});

inChromium('from the shelf, the key calls the chosen tool, and that one only', async () => {
  const { page } = await bench([hives]);
  await page.getByRole('option', { name: 'winter_stores' }).click();
  await page.keyboard.press('Control+Enter');
  await page.getByRole('region', { name: 'Call winter_stores' }).getByText('failed in').waitFor();
  expect(await page.getByRole('button', { name: /what we sent: tools\/call/ }).count()).toBe(1);
});

inChromium('arguments can be written as JSON, and the shelf searched', async () => {
  const { page } = await bench([hives]);
  await page.getByLabel('Search the shelf').fill('winter');
  await page.getByRole('option', { name: 'mix_syrup' }).waitFor({ state: 'detached' });
  expect(await page.getByRole('listbox', { name: 'What is offered' }).getByRole('option').count()).toBe(1);
  await page.getByRole('option', { name: 'winter_stores' }).click();
  await page.getByRole('button', { name: 'As JSON' }).click();
  await page.getByLabel('The arguments as JSON').fill('{"strength": "weak", "frostMonths": ');
  await page.getByText('Not JSON yet').waitFor();
  await page.getByLabel('The arguments as JSON').fill('{"strength": "weak", "frostMonths": 4}');
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  await page.getByText('11.5').waitFor();
});

inChromium('the address works once; a reload keeps the bench, another browser gets the reason', async () => {
  const { page, address } = await bench([hives]);
  await page.getByRole('option', { name: 'mix_syrup' }).waitFor();
  expect(page.url()).not.toContain('#');
  await page.reload();
  await page.getByRole('option', { name: 'mix_syrup' }).waitFor();
  const other = await (await page.context().browser()!.newContext()).newPage();
  await other.goto(address);
  await other.getByText('This address has been used already').waitFor();
  expect((await fetch(new URL('/api/bench', address))).status).toBe(401);
  expect((await fetch(new URL('/../../package.json', address))).status).toBe(404);
});

inChromium('hostile text stays text', async () => {
  const file = join(freshFolder('hostile'), 'hostile.ts');
  const markup = '<img src=x onerror="window.hacked = true"><script>window.hacked = true</script>';
  writeFileSync(file, `/** ${markup} */\nexport function hostile(): string { return ${JSON.stringify(markup)} }\n`);
  const { page, errors } = await bench([file]);
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  await page.getByRole('region', { name: 'Call hostile' }).locator('pre.text').waitFor();
  expect(await page.locator('.description').innerText()).toContain('<script>');
  expect(await page.evaluate('window.hacked')).toBeUndefined();
  expect(errors).toEqual([]);
});

inChromium('a server that cannot be started is explained', async () => {
  const { page } = await bench(['--', 'no-such-command-here']);
  const trouble = page.getByRole('alert');
  await trouble.getByText('there is no such command').waitFor();
  expect(await trouble.innerText()).toContain('JEXO_COMMAND_MISSING');
});

inChromium('on a narrow window the trace and the shelf are drawers', async () => {
  const { page } = await bench([hives], { width: 700, height: 800 });
  await page.getByRole('heading', { name: 'mix_syrup' }).waitFor();
  expect(await page.getByRole('complementary', { name: /^Trace/ }).isVisible()).toBe(false);
  await page.getByRole('button', { name: 'Trace' }).click();
  expect(await page.getByRole('complementary', { name: /^Trace/ }).isVisible()).toBe(true);
  await page.getByRole('button', { name: 'Shelf' }).click();
  await page.getByRole('option', { name: 'winter_stores' }).click();
  await page.getByRole('heading', { name: 'winter_stores' }).waitFor();
  expect(await page.evaluate('document.documentElement.scrollWidth')).toBe(700);
});

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

inChromium('resources, templates and prompts: read, completed, rendered, watched', async () => {
  const { page, errors } = await bench([apiary]);
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
  const { page, errors } = await bench([apiary]);
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
    await day.fill('yesterday');
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
    await page.getByText('What the server wrote to stderr (1 lines)').click();
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

inChromium('several connections: added, edited, restarted, explained when they fail; secrets stay on the bench', async () => {
  const server = await start(['serve', hives, '--http', '--json']);
  stopAtEnd(server);
  const address = String(server.said.address);
  const { page } = await bench([hives]);
  await page.getByRole('button', { name: 'Connections' }).click();
  const further = page.getByRole('region', { name: 'A further connection' });
  await further.getByLabel('Target').fill(address.replace('/mcp', '/elsewhere'));
  await further.getByLabel(/^Token/).fill('very-secret');
  await further.getByRole('button', { name: 'Connect', exact: true }).click();
  const card = page.getByRole('region', { name: /^Connection http/ });
  await card.getByText(`there is one at ${address}`).waitFor();
  await card.getByText('Change it').click();
  expect(await card.getByLabel(/^Token/).inputValue()).toBe('(masked)');
  await card.getByLabel('Target').fill(address);
  await card.getByRole('button', { name: 'Save and connect' }).click();
  await card.getByText('connected', { exact: true }).waitFor();
  expect(await page.content()).not.toContain('very-secret');
  await further.getByRole('button', { name: 'A command that starts a server' }).click();
  await further.getByLabel('Command').fill(process.execPath);
  await further.getByLabel(/^Arguments/).fill('-e\nconsole.log("Listening on http://127.0.0.1:4999/mcp"); setTimeout(() => {}, 9999)');
  await further.getByRole('button', { name: 'Connect', exact: true }).click();
  await page.getByText('It seems to serve over HTTP: start it by itself, then connect to http://127.0.0.1:4999/mcp').waitFor();
  await card.getByRole('button', { name: 'To the bench' }).click();
  await pick(page, 'winter_stores');
  expect(await page.getByLabel('Connection').locator('option').count()).toBe(3);
});

inChromium('the model’s view: what it costs, what another description would change, and it is all there after a restart', async () => {
  const notes = freshFolder('notes');
  const first = await bench([hives], { notes });
  await pick(first.page, 'winter_stores');
  await first.page.getByRole('spinbutton', { name: /^frostMonths/ }).fill('4');
  await first.page.getByRole('button', { name: 'Model’s view' }).click();
  const view = first.page.getByRole('main', { name: 'As a model sees it' });
  await view.getByText('for 4 of 4 tools').waitFor();
  await view.getByRole('heading', { name: /^~\d+ tokens$/ }).waitFor();
  const given = JSON.parse(await view.locator('.given pre').innerText()) as { name: string; description: string; input_schema: object }[];
  expect(given.map(({ name }) => name)).toEqual(['mix_syrup', 'days_to_harvest', 'mites_per_100', 'winter_stores']);
  expect(Object.keys(given[0]!)).toEqual(['name', 'description', 'input_schema']);
  await view.getByRole('button', { name: 'mix_syrup' }).click();
  const written = first.page.waitForResponse(
    (response) => response.url().endsWith('/api/notes') && response.request().postData()!.includes('"Sugar and water."'),
  );
  await view.getByLabel(/^Another description/).fill('Sugar and water.');
  await view.getByText('tried out').waitFor();
  await view.getByRole('checkbox', { name: 'Offer winter_stores' }).uncheck();
  await view.getByText('for 3 of 4 tools').waitFor();
  await written;
  await first.running.stop('SIGINT');

  const { page } = await bench([hives], { notes });
  await page.getByRole('main', { name: 'As a model sees it' }).getByText('Sugar and water.').waitFor();
  await page.getByRole('button', { name: 'Bench', exact: true }).click();
  await page.getByRole('heading', { name: 'winter_stores' }).waitFor();
  expect(await page.getByRole('spinbutton', { name: /^frostMonths/ }).inputValue()).toBe('4');
});

inChromium('a save of the module shows on the shelf, marked; a broken one is told and changes nothing', async () => {
  const file = join(freshFolder('live'), 'live.ts');
  writeFileSync(file, '/** One. */ export function one(): number { return 1 }');
  const { page } = await bench([file]);
  await page.getByRole('option', { name: 'one, tool' }).waitFor();
  writeFileSync(file, '/** One, better. */ export function one(): number { return 1 }\nexport function two(): number { return 2 }');
  await page.getByRole('option', { name: 'two, tool, added' }).waitFor();
  await page.getByRole('option', { name: 'one, tool, changed' }).waitFor();
  await page.getByRole('button', { name: 'Seen' }).click();
  await page.getByRole('option', { name: 'two, tool', exact: true }).waitFor();
  writeFileSync(file, 'export function one(: number {');
  await page.getByRole('alert').getByText('JEXO_SYNTAX').waitFor();
  expect(await page.getByRole('listbox').getByRole('option').count()).toBe(2);
});

inChromium('a trace is saved, and opens again beside the living one', async () => {
  const { page } = await bench([hives]);
  await page.getByRole('button', { name: 'Call', exact: true }).click();
  await page.getByText('failed in').waitFor();
  const saving = page.waitForEvent('download');
  await page.getByRole('button', { name: 'Save' }).click();
  const path = join(freshFolder('traces'), 'trace.jsonl');
  await (await saving).saveAs(path);
  await page.locator('.load input').setInputFiles(path);
  await page.getByText('trace.jsonl is a saved trace').waitFor();
  await page.getByRole('button', { name: /what we sent: tools\/call mix_syrup/ }).waitFor();
  writeFileSync(path, '{"at": 1}\n');
  await page.locator('.load input').setInputFiles(path);
  await page.getByText('Line 1 is not a line of a wire log').waitFor();
});

inChromium('the palette finds everything by keyboard', async () => {
  const { page } = await bench([hives]);
  await page.getByRole('option', { name: 'mix_syrup' }).waitFor();
  await page.keyboard.press('Control+k');
  await page.keyboard.type('winter');
  await page.keyboard.press('Enter');
  await page.getByRole('heading', { name: 'winter_stores' }).waitFor();
  await page.keyboard.press('Control+k');
  await page.keyboard.type('connections');
  await page.keyboard.press('Enter');
  await page.getByRole('main', { name: 'Connections' }).waitFor();
});

for (const colorScheme of ['light', 'dark'] as const)
  inChromium(`axe finds nothing serious in any place, ${colorScheme}`, async () => {
    const { page } = await bench([apiary], { colorScheme });
    await pick(page, 'mites_per_100');
    await page.getByRole('spinbutton', { name: /^mites/ }).fill('-4');
    await page.getByText('at least 0; got -4').first().waitFor();
    await page.getByRole('button', { name: 'Call', exact: true }).click();
    await page.getByText('failed in').waitFor();
    for (const place of ['Bench', 'Model’s view', 'Sheets', 'Connections']) {
      await page.getByRole('button', { name: place, exact: true }).click();
      await page.getByRole('main').waitFor();
      await page.evaluate(readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8'));
      const found = (await page.evaluate('axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21aa"] })')) as {
        violations: { id: string; impact: string; nodes: { html: string; failureSummary: string }[] }[];
      };
      const serious = found.violations.filter(({ impact }) => impact === 'serious' || impact === 'critical');
      expect(serious.map(({ id, nodes }) => [colorScheme, place, id, nodes[0]!.html.slice(0, 200), nodes[0]!.failureSummary])).toEqual([]);
    }
  });

inChromium('the page answers this machine only, under its own name; --open hands the address to a browser', async () => {
  const { address } = await bench([hives]);
  const { port, hostname } = new URL(address);
  const status = (headers: Record<string, string>) =>
    new Promise((resolve, reject) => {
      request({ port, hostname, path: '/', headers }, (response) => resolve(response.resume().statusCode))
        .on('error', reject)
        .end();
    });
  expect(await status({})).toBe(200);
  expect(await status({ host: 'rebound.example' })).toBe(403);
  expect(await status({ origin: 'https://elsewhere.example' })).toBe(403);
  const folder = freshFolder('browser');
  const opener = join(folder, 'opener.mjs');
  const seen = join(folder, 'seen');
  writeFileSync(
    opener,
    `#!${process.execPath}\nimport { writeFileSync } from 'node:fs';\nwriteFileSync(${JSON.stringify(seen)}, process.argv[2]);`,
    { mode: 0o755 },
  );
  const running = await start(['inspect', hives, '--json', '--open'], { env: { BROWSER: opener, JEXO_CACHE: folder } });
  stopAtEnd(running);
  while (!existsSync(seen) || readFileSync(seen, 'utf8') === '') await new Promise((resolve) => setImmediate(resolve));
  // The address is a secret: it stands in a file of this user's alone, and not on a command line.
  const place = fileURLToPath(readFileSync(seen, 'utf8'));
  expect(statSync(place).mode & 0o777).toBe(0o600);
  expect(readFileSync(place, 'utf8')).toContain(JSON.stringify(running.said.address));
});
