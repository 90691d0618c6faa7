import { spawn } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, statSync } from 'node:fs';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import type { Client } from '../client/connect-link.js';
import { JexoError, messageOf } from '../errors.js';
import { packageFile } from '../own-package.js';
import type { CallToolResult, ReadResourceResult, Tool } from '../protocol/types.js';
import { toolViewOf } from '../protocol/views.js';
import { serveSandbox } from '../transports/http/serve-page.js';
import { sandboxPage } from '../view/sandbox-page.js';

const widths = [360, 640, 1024] as const;
const themes = ['light', 'dark'] as const;
const height = 900;
/** How long a page may take to say how large it is, and to be drawn then. */
const longestMs = 8000;
const drawnMs = 1500;
const browserMs = 30_000;
const places = [
  '/usr/bin/chromium',
  '/usr/bin/chromium-browser',
  '/usr/bin/google-chrome-stable',
  '/Applications/Chromium.app/Contents/MacOS/Chromium',
];

/** What became of the pictures of one view. */
export interface Pictures {
  readonly tool: string;
  readonly files: readonly string[];
  /** Why there are none. */
  readonly why?: string;
}

/**
 * Takes pictures of each tool’s view at three widths in both themes, in the sandbox that hosts use. A tool is called with the first example of its input schema.
 * @throws JexoError JEXO_PACKAGE_MISSING without Chromium
 */
export async function takePictures(client: Client, tools: readonly Tool[], folder: string): Promise<Pictures[]> {
  const browser = [process.env.CHROMIUM, ...places].find((path) => path !== undefined && existsSync(path));
  if (browser === undefined)
    throw new JexoError('JEXO_PACKAGE_MISSING', 'Pictures of views need Chromium, which was not found.', {
      where: 'chromium',
      next: 'Install it, or name it in the variable CHROMIUM.',
    });
  try {
    mkdirSync(folder, { recursive: true });
  } catch (error) {
    throw new JexoError('JEXO_USAGE', `Pictures cannot be written into ${JSON.stringify(folder)}: ${messageOf(error)}`, {
      where: '--pictures',
      next: 'Give a folder that exists, or a place where one can be made.',
      cause: error,
    });
  }
  const taken: Pictures[] = [];
  for (const tool of tools) {
    const { resourceUri } = toolViewOf(tool._meta);
    if (resourceUri === undefined) continue;
    const input = inputOf(tool);
    if (input === undefined) {
      taken.push({ tool: tool.name, files: [], why: 'its input schema has no example to call it with' });
      continue;
    }
    const [page, result] = [await client.read(resourceUri), await client.call(tool.name, input)];
    taken.push({ tool: tool.name, files: await picturesOf({ tool, tools, page, input, result }, browser, folder) });
  }
  return taken;
}

function inputOf({ inputSchema }: Tool): Record<string, unknown> | undefined {
  const [example] = (inputSchema.examples as Record<string, unknown>[] | undefined) ?? [];
  return example ?? (((inputSchema.required as string[] | undefined) ?? []).length === 0 ? {} : undefined);
}

interface Shown {
  readonly tool: Tool;
  readonly tools: readonly Tool[];
  readonly page: ReadResourceResult;
  readonly input: Record<string, unknown>;
  readonly result: CallToolResult;
}

async function picturesOf(shown: Shown, browser: string, folder: string): Promise<string[]> {
  let origin = "'none'";
  const sandbox = await serveSandbox(sandboxPage, () => origin);
  const site = await serveHost(shown, sandbox.url);
  origin = `http://127.0.0.1:${(site.address() as AddressInfo).port}`;
  const files: string[] = [];
  try {
    for (const theme of themes) {
      const pictures = widths.map((width) => ({ width, file: join(folder, `${shown.tool.name}-${width}-${theme}.png`) }));
      await Promise.all(pictures.map(({ width, file }) => photograph(browser, `${origin}/?theme=${theme}&width=${width}`, file, width)));
      files.push(...pictures.map(({ file }) => file));
    }
  } finally {
    site.close();
    site.closeAllConnections();
    await sandbox.close();
  }
  return files;
}

/** A host with nothing but the view on it. */
async function serveHost(shown: Shown, sandbox: string): Promise<Server> {
  const data = JSON.stringify({ ...shown, sandbox }).replaceAll('<', '\\u003c');
  const html = `<!doctype html><html lang="en"><meta charset="utf-8"><title>A view</title><style>body{margin:0}:root[data-theme=dark]{background:#1a2224}</style><div id="place"></div><script>document.write('<img src="/drawn.svg' + location.search + '" alt="" hidden>')</script><script type="module">
import { showView } from '/view-host.mjs';
const theme = new URLSearchParams(location.search).get('theme');
document.documentElement.dataset.theme = theme;
let last;
const drawn = () => {
  clearTimeout(last);
  last = setTimeout(() => fetch('/drawn' + location.search), ${drawnMs});
};
const { tool, tools, page, input, result, sandbox } = ${data};
const view = showView({ container: document.getElementById('place'), sandbox, page, tool, tools: () => tools, context: { theme, locale: 'en-GB', timeZone: 'UTC', displayMode: 'inline' },
  onReady: drawn, onSize: drawn,
  callTool: () => Promise.reject(new Error('Nothing is called while pictures are taken.')) });
view.input(input);
view.result(result);
</script></html>`;
  // The picture is taken when the page has loaded, and a picture of its own is held back until the view is drawn.
  const held = new Map<string, () => void>();
  const release = (key: string) => {
    held.get(key)?.();
    held.delete(key);
  };
  const site = createServer((request, response) => {
    const [path, key = ''] = (request.url ?? '/').split('?');
    if (path === '/drawn') {
      response.end();
      return release(key);
    }
    if (path === '/drawn.svg') {
      const go = () => response.writeHead(200, { 'content-type': 'image/svg+xml' }).end('<svg xmlns="http://www.w3.org/2000/svg"/>');
      held.set(key, go);
      return void setTimeout(() => release(key), longestMs).unref();
    }
    if (request.url === '/view-host.mjs')
      return void response.writeHead(200, { 'content-type': 'text/javascript' }).end(readFileSync(packageFile('dist/view-host.mjs')));
    response.writeHead(200, { 'content-type': 'text/html; charset=utf-8' }).end(html);
  });
  await new Promise<void>((resolve, reject) => site.once('error', reject).listen(0, '127.0.0.1', resolve));
  return site;
}

async function photograph(browser: string, url: string, file: string, width: number): Promise<void> {
  // Chromium keeps pages in a sandbox of the system, which the superuser has none of.
  const unkept = process.getuid?.() === 0 ? ['--no-sandbox'] : [];
  const words = ['--headless=new', ...unkept, '--disable-gpu', '--hide-scrollbars'];
  const child = spawn(browser, [...words, `--window-size=${width},${height}`, `--screenshot=${file}`, url], {
    stdio: ['ignore', 'ignore', 'pipe'],
  });
  let said = '';
  child.stderr.on('data', (part: Buffer) => (said = `${said}${part.toString()}`.slice(-2000)));
  const timer = setTimeout(() => child.kill('SIGKILL'), browserMs);
  const code = await new Promise<number | null>((resolve, reject) => child.once('error', reject).once('close', resolve));
  clearTimeout(timer);
  if (code !== 0 || !existsSync(file) || statSync(file).size === 0)
    throw new JexoError('JEXO_UNAVAILABLE', `Chromium has taken no picture of the view: ${said.trim().split('\n').at(-1) ?? ''}`, {
      where: url,
    });
}
