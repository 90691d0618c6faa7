// `npm run pictures`: takes the pictures of docs/screenshots again, from the demo. Each page is taken in both themes; the other one goes to --beside <folder>, to be looked at.
// Needs Chromium; pictures of the terminal need Xvfb, xterm and ImageMagick too. `npm run pictures -- trace chat` takes these alone.
import { spawn, spawnSync } from 'node:child_process';
import { cpSync, mkdirSync, mkdtempSync, readFileSync, symlinkSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';
import { chromium } from 'playwright-core';
import { startLogin } from '../examples/cooperative/login.mjs';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const cooperative = join(root, 'examples/cooperative');
const cli = join(root, 'packages/jexo/dist/cli.mjs');
const shots = join(root, 'docs/screenshots');
const words = process.argv.slice(2);
const at = words.indexOf('--beside');
const beside = at < 0 ? mkdtempSync(join(tmpdir(), 'pictures-')) : words.splice(at, 2)[1];
mkdirSync(beside, { recursive: true });
const wanted = (name) => words.length === 0 || words.includes(name);

const children = [];
process.on('exit', () => children.forEach((child) => child.kill()));

/** Starts a command of Jexo that keeps running, and gives what it says in JSON. */
async function start(args, { cwd = cooperative, env = {} } = {}) {
  const child = spawn(process.execPath, [cli, ...args, '--json'], {
    cwd,
    env: { ...process.env, NO_COLOR: '1', JEXO_CACHE: mkdtempSync(join(tmpdir(), 'cache-')), ...env },
  });
  children.push(child);
  return new Promise((resolve, reject) => {
    for (const stream of [child.stdout, child.stderr])
      createInterface({ input: stream }).on(
        'line',
        (line) => line.startsWith('{') && resolve({ ...JSON.parse(line), stop: () => child.kill() }),
      );
    child.once('close', (code) => reject(new Error(`jexo ${args.join(' ')} has ended with ${code}`)));
  });
}

const browser = await chromium.launch({ executablePath: process.env.CHROMIUM ?? '/usr/bin/chromium', args: ['--no-sandbox'] });

/** A scene is played in both themes; the one that is shown in the documents is kept there. */
async function scene(name, theme, play) {
  if (!wanted(name)) return;
  for (const colorScheme of ['light', 'dark']) {
    const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, colorScheme });
    const page = await context.newPage();
    const ends = [];
    try {
      await play(page, (end) => ends.push(end));
      await page.waitForTimeout(400); // what moves comes to rest
      const file = colorScheme === theme ? join(shots, `${name}.png`) : join(beside, `${name}-${colorScheme}.png`);
      await page.screenshot({ path: file });
      console.log(file);
    } finally {
      await context.close();
      for (const end of ends) await end();
    }
  }
}

async function bench(page, end, targets, options) {
  const running = await start(['inspect', ...targets], options);
  end(running.stop);
  await page.goto(running.address);
}
async function pick(page, name) {
  await page.getByLabel('Search the shelf').fill(name);
  await page.getByRole('option', { name }).first().click();
  await page.getByLabel('Search the shelf').fill('');
}
const call = (page) => page.getByRole('button', { name: 'Call', exact: true }).click();
const answered = (page) => page.getByText('answered in').first().waitFor();
const syrup = async (page, season) => {
  await pick(page, 'mix_syrup');
  await page.getByRole('spinbutton', { name: /^colonies/ }).fill('12');
  if (season !== undefined) await page.getByRole('combobox', { name: /^season/ }).selectOption(season);
  await call(page);
  await answered(page);
};

const simpleBench = async (page, end) => {
  await bench(page, end, ['apiary.ts']);
  await syrup(page);
};
await scene('bench', 'light', simpleBench);
await scene('trace', 'light', async (page, end) => {
  await bench(page, end, ['apiary.ts']);
  await pick(page, 'season_report');
  await call(page);
  await answered(page);
  await page.getByRole('button', { name: /answer: season_report/ }).click();
});
await scene('model', 'light', async (page, end) => {
  await bench(page, end, ['hives.ts']);
  await page.getByRole('button', { name: 'Model’s view' }).click();
  await page.getByText('mix_syrup').first().click();
});
await scene('sheets', 'light', async (page, end) => {
  await bench(page, end, ['apiary.ts']);
  await page.getByRole('button', { name: 'Sheets', exact: true }).click();
  await page.getByRole('button', { name: 'apiary.requests.yaml' }).click();
  await page.getByRole('button', { name: 'Rehearse' }).click();
  await page.getByText('requests led to the right tool').waitFor();
});
await scene('comparison', 'light', async (page, end) => {
  await bench(page, end, ['hives.ts']);
  await syrup(page, 'spring');
  await syrup(page, 'autumn');
  const earlier = page.getByRole('region', { name: 'Earlier calls' }).locator('details').first();
  await earlier.locator('summary').click();
  await earlier.getByRole('button', { name: 'Compare with the latest' }).click();
  await earlier.scrollIntoViewIfNeeded();
  await page.getByText('Against the latest answer').scrollIntoViewIfNeeded();
});
await scene('question-dark', 'dark', async (page, end) => {
  await bench(page, end, ['apiary.ts']);
  await pick(page, 'move_hive');
  await page.getByRole('textbox', { name: /^hive/ }).fill('MR-03');
  await call(page);
  await page.getByRole('group', { name: 'The server asks a person' }).getByRole('button', { name: 'Accept' }).scrollIntoViewIfNeeded();
});
await scene('database', 'light', async (page, end) => {
  await bench(page, end, ['scales/scales.sqlite', '--queries', 'scales/queries']);
  await pick(page, 'query_scales');
  await page
    .getByRole('textbox', { name: /^sql/ })
    .fill('select hive, max(kg) as kg, max(celsius) as warmest from readings group by hive order by kg desc');
  await call(page);
  await answered(page);
  await page.getByRole('button', { name: 'Keep on a call sheet' }).scrollIntoViewIfNeeded();
});
await scene('live-values', 'light', async (page, end) => {
  await bench(page, end, ['plant.mjs'], { cwd: join(root, 'examples/live-values') });
  await pick(page, 'history');
  await page.getByRole('textbox', { name: /^path/ }).fill('tank2/temperature');
  await call(page); // the controller runs from the first call on
  await answered(page);
  await page.waitForTimeout(15_000);
  await call(page);
  await page.getByRole('button', { name: 'Chart' }).click();
  await page.getByRole('button', { name: 'Keep on a call sheet' }).scrollIntoViewIfNeeded();
});
await scene('sign-in', 'light', async (page, end) => {
  const login = await startLogin();
  end(() => login.stop());
  const port = await freePort();
  const server = await start(['serve', 'hives.ts', '--http', String(port), '--issuer', login.issuer, '--scope', 'hives:read']);
  end(server.stop);
  await bench(page, end, [server.address], { env: { JEXO_SIGN_INS: join(mkdtempSync(join(tmpdir(), 'sign-ins-')), 'kept.json') } });
  const opened = page.context().waitForEvent('page');
  await page.getByRole('link', { name: 'Open the page' }).click();
  const there = await opened;
  await there.getByRole('button', { name: 'Sign in and allow' }).click();
  await there.getByRole('heading', { name: 'Signed in' }).waitFor();
  await there.close();
  await syrup(page);
  await page.getByText('sign-in: token for the code').first().click();
});
async function assistant(page, end, servers) {
  const site = spawn(process.execPath, [join(root, 'examples/assistant/serve.mjs'), '0']);
  children.push(site);
  end(() => site.kill());
  const [line] = await new Promise((resolve) => createInterface({ input: site.stdout }).once('line', (...said) => resolve(said)));
  const query = [];
  for (const [name, file] of Object.entries(servers)) {
    const server = await start(['serve', file, '--http', '0']);
    end(server.stop);
    query.push(`server=${name}=${server.address}`);
  }
  await page.goto(`${JSON.parse(line).address}?${query.join('&')}`);
  for (const name of Object.keys(servers))
    await page
      .getByRole('listitem')
      .filter({ hasText: name })
      .getByText(/\d tools?/)
      .waitFor();
}
const ask = async (page, request) => {
  await page.getByLabel('Your request').fill(request);
  await page.keyboard.press('Enter');
};
await scene('assistant', 'light', async (page, end) => {
  await assistant(page, end, { apiary: 'apiary.ts', hives: 'hives.ts' });
  await ask(page, 'Give me an overview of the season, then move hive MR-03.');
  await page.getByRole('group', { name: 'Call apiary › Move a hive?' }).getByRole('button', { name: 'Call it' }).click();
  await page.getByText('Which apiary should it go to?').first().waitFor();
});
await scene('view', 'light', async (page, end) => {
  await assistant(page, end, { season: 'hive-weight.ts' });
  await ask(page, 'Show me the weight of hive MR-03 over the season.');
  const view = page.frameLocator('.view iframe').frameLocator('iframe');
  await view.getByLabel('Next inspection').fill('2026-07-12');
  await view.getByLabel('Look for').fill('stores');
  await view.getByRole('button', { name: 'Book it' }).click();
  await page.getByText('Done in the view by the person').first().waitFor();
  await page.locator('.view').evaluate((element) => element.scrollIntoView({ block: 'start' }));
});
await scene('front-page', 'light', async (page, end) => {
  const server = await start(['serve', 'apiary.ts', '--http', '0']);
  end(server.stop);
  await page.goto(server.address.replace(/mcp$/, ''));
  await page.getByText('mix_syrup').first().click();
  await page.getByRole('spinbutton').first().fill('12');
  await page.getByRole('button', { name: 'Call' }).first().click();
  await page.getByText('"sugarKg": 12').waitFor();
});
await scene('documentation', 'light', async (page, end) => {
  const port = await freePort();
  const site = spawn(process.execPath, [join(root, 'apps/docs/site.mjs')], { env: { ...process.env, PORT: String(port) } });
  children.push(site);
  end(() => site.kill());
  await new Promise((resolve) => createInterface({ input: site.stdout }).once('line', resolve));
  await page.goto(`http://127.0.0.1:${port}/search.html?words=let a model read a database`);
  await page.locator('.hit').first().waitFor();
});
await browser.close();

function freePort() {
  return new Promise((resolve) => {
    const probe = createServer().listen(0, '127.0.0.1', () => {
      const { port } = probe.address();
      probe.close(() => resolve(port));
    });
  });
}

const colours = {
  light: { bg: '#f5f8f7', fg: '#172224', 1: '#a23b2a', 2: '#2f7044', 3: '#8a6412', 4: '#0b5f73', 5: '#6d4a86', 6: '#0b5f73', 8: '#55625f' },
  dark: { bg: '#12181a', fg: '#e4ebea', 1: '#ef8f7d', 2: '#86cf9c', 3: '#e3bd63', 4: '#6ec3d4', 5: '#c6a4df', 6: '#6ec3d4', 8: '#9fadab' },
};

/** Commands at a terminal, as a person sees them. `type` is typed at prompts, a line each second. */
async function terminal(name, theme, lines, { type = [], first, prepare = () => {} } = {}) {
  if (!wanted(name)) return;
  for (const scheme of ['light', 'dark']) {
    const folder = mkdtempSync(join(tmpdir(), 'terminal-'));
    for (const file of ['hives.ts', 'apiary.ts', 'records.ts', 'apiary.calls.yaml', 'handbook'])
      cpSync(join(cooperative, file), join(folder, file), { recursive: true });
    symlinkSync(join(root, 'node_modules'), join(folder, 'node_modules'));
    prepare(folder);
    // A screen is as long as it is: what comes last is cut where `first` says so.
    const shown = lines
      .map(
        (line) =>
          `printf '\\033[36m$\\033[0m %s\\n' ${quoted(line)}; ${line}${first === undefined ? '' : ` 2>&1 | head -n ${first}`}; echo`,
      )
      .join('\n');
    const script = join(folder, '.story.sh');
    writeFileSync(script, `export PS1=; cd ${folder}; jexo() { ${process.execPath} ${cli} "$@"; }; clear\n${shown}\nsleep 600\n`);
    const palette = colours[scheme];
    const resources = Object.entries(palette).flatMap(([key, value]) => [
      '-xrm',
      `xterm*${/\d/.test(key) ? `color${key}` : key === 'bg' ? 'background' : 'foreground'}: ${value}`,
    ]);
    const font = ['-fa', 'DejaVu Sans Mono', '-fs', '10', '-geometry', '156x49+0+0', '-b', '8', '-bw', '0', '+sb'];
    const display = `:${60 + Math.floor(Math.random() * 900)}`;
    const screen = spawn('Xvfb', [display, '-screen', '0', '1280x800x24'], { stdio: 'ignore' });
    children.push(screen);
    await pause(700);
    const env = { ...process.env, DISPLAY: display, NODE_NO_WARNINGS: '1', JEXO_CACHE: join(folder, '.cache'), FORCE_COLOR: '1' };
    for (const key of ['NO_COLOR', 'CI', 'JEXO_DEBUG']) delete env[key];
    const window = spawn('xterm', [...font, ...resources, '-e', 'bash', script], { env, stdio: 'ignore' });
    children.push(window);
    await pause(6000);
    for (const text of type) {
      spawnSync('xdotool', ['type', '--delay', '5', `${text}\n`], { env });
      await pause(2500);
    }
    const file = scheme === theme ? join(shots, `${name}.png`) : join(beside, `${name}-${scheme}.png`);
    // Letters do not fill the screen to its edges.
    spawnSync('import', ['-window', 'root', '-crop', '1264x799+0+0', '+repage', file], { env });
    window.kill();
    screen.kill();
    console.log(file);
  }
}
const quoted = (text) => `'${text.replaceAll("'", "'\\''")}'`;
const pause = (ms) => new Promise((resolve) => setTimeout(resolve, ms));

await terminal('terminal', 'light', ['jexo list hives.ts', 'jexo call hives.ts mix_syrup colonies=12 season=autumn']);
await terminal('check', 'light', ['jexo check -- node poor-server.mjs'], {
  first: 46,
  prepare: (folder) => cpSync(join(root, 'packages/jexo/test/support/poor-server.mjs'), join(folder, 'poor-server.mjs')),
});
await terminal('replay', 'light', ['jexo replay apiary.calls.yaml'], {
  prepare(folder) {
    const sheet = join(folder, 'apiary.calls.yaml');
    writeFileSync(sheet, readFileSync(sheet, 'utf8').replace('sugarKg: 24', 'sugarKg: 30'));
  },
});
await terminal('rehearse', 'light', ['jexo rehearse lots.ts lots.requests.yaml'], {
  prepare(folder) {
    writeFileSync(
      join(folder, 'lots.ts'),
      `/** Look up a queen by her hive: year, line and colour. */\nexport function findQueen(hive: string) { return hive; }\n/** Look up the queens of an apiary, with the year of each. */\nexport function listQueens(apiary: string) { return apiary; }\n/** How many jars there are of a honey lot. */\nexport function countJars(lot: string) { return lot; }\n`,
    );
    writeFileSync(
      join(folder, 'lots.requests.yaml'),
      `requests:\n  - { say: Which queen is in hive MR-03, tool: find_queen }\n  - { say: Which queens stand at the apiary UC, tool: list_queens }\n  - { say: Look up the year of the queen, tool: find_queen }\n  - { say: How many jars are there of lot H-204, tool: count_jars }\n  - { say: Who won the tug of war at the fair, tool: none }\n`,
    );
  },
});
await terminal('pack', 'dark', [
  'jexo pack hives.ts ./handbook --as container --out deploy',
  'jexo list hives.ts --json > before.json',
  'jexo check hives.ts --against before.json --except winter_stores',
  'JEXO_PATH=/tools jexo serve hives.ts --http --log calls.log --print-settings',
]);
await terminal('chat', 'dark', ['jexo chat apiary.ts'], {
  type: ['How much sugar and water for 12 colonies in autumn?', 'y', 'Move hive MR-03, please.', 'y'],
});
console.log(`The other theme of each is in ${beside}`);
process.exit(0);
