import { spawn, spawnSync } from 'node:child_process';
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { dirname, join, normalize } from 'node:path';
import { parse } from 'yaml';
import { finder, type SiteDocument } from '../../../../apps/docs/src/find.js';
import { freePort } from '../support/nginx.js';
import { inChromium, launch } from '../support/chromium.js';
import { freshFolder } from '../support/command-line.js';
import { root } from './demo-world.js';

const site = freshFolder('site');
let files: string[];
let server: Server;
beforeAll(() => {
  const done = spawnSync(process.execPath, ['apps/docs/site.mjs', '--out', site], { cwd: root, encoding: 'utf8' });
  if (done.status !== 0) throw new Error(done.stdout + done.stderr);
  files = readdirSync(site, { recursive: true, encoding: 'utf8' }).filter((file) => file.endsWith('.html'));
  const types: Record<string, string> = {
    html: 'text/html',
    js: 'text/javascript',
    css: 'text/css',
    png: 'image/png',
    svg: 'image/svg+xml',
  };
  server = createServer((request, response) => {
    const path = join(site, normalize(decodeURIComponent(request.url!.replace(/[?#].*/, ''))));
    if (!existsSync(path)) return void response.writeHead(404).end();
    response.writeHead(200, { 'content-type': types[path.split('.').at(-1)!] ?? 'text/plain' }).end(readFileSync(path));
  }).listen(0, '127.0.0.1');
}, 120_000);
afterAll(() => server.close());

test('every page of the site is reached from the first one, and every link leads to a page, a file or a heading', () => {
  const texts = new Map(files.map((file) => [file, readFileSync(join(site, file), 'utf8')]));
  const broken: string[] = [];
  const reached = new Set(['index.html', 'search.html']);
  for (const [file, text] of texts)
    for (const [, target] of text.replaceAll(/<pre>[\s\S]*?<\/pre>/g, '').matchAll(/(?:href|src)="([^"]+)"/g)) {
      // What lies outside of the documents is in the repository.
      if (/^(?:https?:|data:)/.test(target!)) continue;
      const [path, anchor] = target!.split('#');
      const to = path === '' ? file : join(dirname(file), path!);
      if (to.startsWith('..')) {
        if (!existsSync(join(root, 'docs', dirname(file), path!))) broken.push(`${file}: ${target!}`);
        continue;
      }
      reached.add(to);
      if (!existsSync(join(site, to))) broken.push(`${file}: ${target!}`);
      else if (anchor && texts.has(to) && !texts.get(to)!.includes(`id="${anchor}"`)) broken.push(`${file}: ${target!}`);
    }
  expect(broken).toEqual([]);
  expect(files.filter((file) => !reached.has(file))).toEqual([]);
  expect(files.length).toBeGreaterThan(400);
});

test('every export of the package has a page with what it is for', () => {
  const text = readFileSync(join(site, 'api/index.html'), 'utf8');
  const rows = [...text.matchAll(/<tr>\s*<td>([\s\S]*?)<\/td>\s*<td>([\s\S]*?)<\/td>/g)];
  expect(rows.length).toBeGreaterThan(400);
  expect(rows.filter(([, , said]) => said!.replaceAll(/<[^>]+>/g, '').trim().length < 10).map(([, name]) => name)).toEqual([]);
  expect(readFileSync(join(site, 'api/jexo.Function.wrapRest.html'), 'utf8')).toContain('JEXO_DOCUMENT');
});

test('the site’s own search has the answer among its first three hits: 95 of 100 times', () => {
  const documents = JSON.parse(readFileSync(join(root, 'apps/docs/.pages/documents.json'), 'utf8')) as SiteDocument[];
  const find = finder(documents);
  const { questions } = parse(readFileSync(join(root, 'docs.questions.yaml'), 'utf8')) as { questions: { ask: string; pages: string[] }[] };
  const missed = questions.filter(({ ask, pages }) => {
    const hits = find(ask).guides.slice(0, 3);
    return !hits.some(({ href }) =>
      pages.includes(
        href
          .replace(/#.*/, '')
          .replace(/html$/, 'md')
          .replace(/^index/, 'README'),
      ),
    );
  });
  expect([1 - missed.length / questions.length >= 0.95, missed.length > 1 ? missed : []]).toEqual([true, []]);
  expect(find('wrapRest baseUrl').api[0]!.href).toMatch(/wrapRest|WrapRestOptions/i);
});

inChromium(
  'search in the page: from every page, while one types, without executing what was typed; a hit leads to its section',
  async () => {
    const browser = await launch();
    try {
      const page = await browser.newPage();
      const faults: string[] = [];
      page.on('pageerror', (error) => faults.push(error.message));
      await page.goto(`http://127.0.0.1:${(server.address() as AddressInfo).port}/api/jexo.Function.wrapRest.html`);
      await page.keyboard.press('/');
      await page.keyboard.type('a tool is never chosen');
      await page.keyboard.press('Enter');
      await page.waitForSelector('.hit');
      await page.fill('header input', '<img src=x onerror=alert(1)> certificate');
      await page.waitForFunction(() => document.querySelector('h1')!.textContent!.startsWith('<img'));
      expect(await page.locator('main img').count()).toBe(0);
      await page.fill('header input', 'a tool is never chosen');
      await page.waitForFunction(() => document.querySelector('.hit a')?.textContent?.includes('never chosen'));
      await page.click('.hit a');
      await page.waitForSelector('h1:has-text("Troubleshooting")');
      expect(page.url()).toMatch(/troubleshooting\.html#a-tool-is-never-chosen$/);
      await page.goto(page.url().replace(/troubleshooting.*/, 'search.html?words=zzqqxy'));
      await page.waitForSelector('text=No page has these words');
      expect(faults).toEqual([]);
    } finally {
      await browser.close();
    }
  },
);

test('the site while one writes: its pages, its search, the schemas of files, and nothing of this machine', async () => {
  const child = spawn(process.execPath, ['apps/docs/site.mjs'], { cwd: root, env: { ...process.env, PORT: String(await freePort()) } });
  const ended = new Promise((resolve) => child.once('close', resolve));
  try {
    const base = await new Promise<string>((resolve, reject) => {
      child.stdout.on('data', (part: Buffer) => {
        const [, url] = /(http:\S+)/.exec(part.toString()) ?? [];
        if (url !== undefined) resolve(url);
      });
      void ended.then(() => reject(new Error('it has ended')));
    });
    const get = async (path: string) => {
      const answer = await fetch(base + path);
      return [answer.status, await answer.text()] as const;
    };
    expect(await get('functions.html')).toEqual([200, expect.stringContaining('<h1 id="from-functions-to-offers">')]);
    expect(await get('search.js')).toEqual([200, expect.stringContaining('search.ts')]);
    expect(JSON.parse((await get('schemas/plan.schema.json'))[1])).toMatchObject({ type: 'object' });
    for (const path of ['no.html', '@fs/etc/passwd', '%2e%2e/%2e%2e/%2e%2e/package.json'])
      expect((await get(path))[0]).toBeGreaterThanOrEqual(400);
  } finally {
    child.kill();
    await ended;
  }
});
