// The inspector page in Chromium: to the first useful paint, to 1,000 tools on the shelf, frames while 50,000 messages scroll.
import { spawn } from 'node:child_process';
import { existsSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';
import { chromium } from 'playwright-core';
import { median } from './measure.mjs';

const here = (path) => fileURLToPath(new URL(path, import.meta.url));
const browserPath = [process.env.CHROMIUM, '/usr/bin/chromium', '/usr/bin/chromium-browser', '/usr/bin/google-chrome-stable'].find(
  (path) => path !== undefined && existsSync(path),
);

async function open(target, folder) {
  const child = spawn(process.execPath, [here('../packages/jexo/dist/cli.mjs'), 'inspect', target, '--json'], {
    env: { ...process.env, JEXO_CACHE: join(folder, `cache-${Math.random()}`) },
    stdio: ['ignore', 'pipe', 'ignore'],
  });
  for await (const line of createInterface({ input: child.stdout }))
    if (line.startsWith('{')) return { child, address: JSON.parse(line).address };
  throw new Error('The bench did not start.');
}

/** A server of 1,000 tools. */
const thousand = `
import { defineServer, tool } from 'jexo';
const offers = Array.from({ length: 1000 }, (_, index) => tool('tool_' + index, { description: 'Looks up record ' + index + ' of the cooperative.', input: { type: 'object', properties: { hive: { type: 'string', description: 'a hive, as MR-03' }, count: { type: 'number' } }, required: ['hive'] } }, () => index));
export default defineServer({ name: 'thousand', version: '1.0.0', offers });
`;

export async function inspector({ rounds = 3 } = {}) {
  if (browserPath === undefined) throw new Error('This measurement needs Chromium; install it, or name it in the variable CHROMIUM.');
  const folder = mkdtempSync(join(tmpdir(), 'jexo-inspector-'));
  const browser = await chromium.launch({ executablePath: browserPath, args: ['--no-sandbox', '--disable-gpu'] });
  const time = async (target, selector) => {
    const { child, address } = await open(target, folder);
    const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
    const start = performance.now();
    await page.goto(address, { waitUntil: 'commit' });
    await page.waitForSelector(selector);
    const ms = performance.now() - start;
    return { ms, page, child };
  };
  try {
    const first = [];
    const many = [];
    const server = join(folder, 'thousand.mjs');
    writeFileSync(server, thousand);
    for (let round = 0; round < rounds; round++) {
      for (const [times, target, selector] of [
        [first, here('../examples/cooperative/hives.ts'), 'role=heading[name="mix_syrup"]'],
        [many, server, 'role=option[name="tool_0, tool"]'],
      ]) {
        const { ms, page, child } = await time(target, selector);
        times.push(ms);
        await page.context().close();
        child.kill('SIGINT');
      }
    }
    const { page, child } = await time(here('../examples/cooperative/hives.ts'), 'role=heading[name="mix_syrup"]');
    const trace = join(folder, 'long.jsonl');
    const lines = Array.from({ length: 25_000 }, (_, id) => [
      JSON.stringify({
        at: id,
        way: 'sent',
        bytes: 90,
        message: { jsonrpc: '2.0', id, method: 'tools/call', params: { name: `tool_${id % 50}` } },
      }),
      JSON.stringify({ at: id + 0.5, way: 'received', bytes: 60, message: { jsonrpc: '2.0', id, result: { content: [] } } }),
    ]);
    writeFileSync(trace, `${lines.flat().join('\n')}\n`);
    await page.locator('.load input').setInputFiles(trace);
    await page.getByText('50,000', { exact: true }).waitFor({ timeout: 60_000 });
    const frames = await page.evaluate(
      () =>
        new Promise((done) => {
          const box = document.querySelector('.messages');
          const found = [];
          let last;
          const step = (now) => {
            if (last !== undefined) found.push(now - last);
            last = now;
            box.scrollTop = (box.scrollHeight * (found.length % 240)) / 240;
            if (found.length < 240) requestAnimationFrame(step);
            else done(found);
          };
          requestAnimationFrame(step);
        }),
    );
    child.kill('SIGINT');
    frames.sort((a, b) => a - b);
    return { first: median(first), many: median(many), frame: median(frames), slow: frames[Math.floor(frames.length * 0.95)] };
  } finally {
    await browser.close();
    rmSync(folder, { recursive: true, force: true });
  }
}

if (process.argv[1] === fileURLToPath(import.meta.url)) console.log(await inspector());
