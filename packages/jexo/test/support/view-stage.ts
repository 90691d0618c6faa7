import { createServer, type Server } from 'node:http';
import { readFileSync } from 'node:fs';
import type { AddressInfo, Socket } from 'node:net';
import { createServer as createSocketServer } from 'node:net';
import { fileURLToPath } from 'node:url';
import type { Browser, Page } from 'playwright-core';
import { serveSandbox } from '../../src/transports/http/serve-page.js';
import { sandboxPage } from '../../src/view/sandbox-page.js';
import { launch } from './chromium.js';

/** What became of a view on the stage. */
export interface Played {
  /** What the view said when it was done; undefined when it never was. */
  readonly done: unknown;
  readonly calls: readonly string[];
  readonly reads: readonly string[];
  readonly said: readonly string[];
  readonly links: readonly string[];
  readonly remembered: readonly string[];
  readonly refused: readonly string[];
  readonly height: number;
  readonly shown: number;
  /** Requests and connections that reached somebody whom the view must not reach. */
  readonly stolen: readonly string[];
  /** What is left of the host afterwards. */
  readonly host: { readonly title: string; readonly url: string; readonly kept: string | null; readonly pages: number };
}

/** How a view is put on the stage. */
export interface Scene {
  readonly meta?: object;
  /** What the host answers; by default it lets everything happen. */
  readonly refuses?: boolean;
  /** Runs on the page of the host while the view is shown. */
  readonly meanwhile?: string;
}

const dist = fileURLToPath(new URL('../../dist/', import.meta.url));
const stagePage = `<!doctype html><title>Host</title><body><h1>Host</h1><button id="pay">Pay</button><div id="place"></div>
<script type="module">
import { showView } from '/view-host.mjs';
const tool = { name: 'weigh', inputSchema: { type: 'object' } };
const tools = [tool, { name: 'book', inputSchema: {}, _meta: { ui: { visibility: ['app'] } } }, { name: 'burn', inputSchema: {}, _meta: { ui: { visibility: ['model'] } } }];
window.play = (html, sandbox, scene) => new Promise((resolve) => {
  const seen = { calls: [], reads: [], said: [], links: [], remembered: [], refused: [], shown: 0, done: undefined };
  document.title = 'Host';
  localStorage.setItem('secret', 'honey');
  const text = (content) => content.map((each) => each.text ?? JSON.stringify(each)).join(' ');
  const end = async () => {
    clearTimeout(late);
    const height = view.frame.getBoundingClientRect().height;
    await new Promise((next) => setTimeout(next, 120));
    await view.close();
    resolve({ ...seen, height, host: { title: document.title, url: location.href, kept: localStorage.getItem('secret') } });
  };
  const late = setTimeout(() => end(), 12_000);
  const view = showView({
    container: document.getElementById('place'), sandbox, tool, tools: () => tools, context: { theme: 'light', availableDisplayModes: ['inline'], displayMode: 'inline' },
    page: { contents: [{ uri: 'ui://view/stage', mimeType: 'text/html;profile=mcp-app', text: html, ...(scene.meta && { _meta: { ui: scene.meta } }) }] },
    callTool: async (name, input) => { seen.calls.push(name); return { content: [{ type: 'text', text: name + ' done' }], structuredContent: { name, input } }; },
    readResource: async (uri) => { seen.reads.push(uri); return { contents: [{ uri, text: 'read' }] }; },
    onSay: (content) => { seen.said.push(text(content)); return !scene.refuses; },
    onRemember: (content) => { seen.remembered.push(text(content)); },
    onOpenLink: (url) => { seen.links.push(url); return !scene.refuses; },
    onReady: () => { seen.shown++; view.input({ hive: 'MR-03' }); view.result({ content: [{ type: 'text', text: '31 kg' }], structuredContent: { kg: 31 } }); },
    onLog: (level, data) => { if (data && typeof data === 'object' && 'done' in data) { seen.done = data.done; end(); } },
    onMessage: ({ refused, message }) => { if (refused) seen.refused.push(refused); },
  });
  window.view = view;
  if (scene.meanwhile) new Function('view', 'sandbox', scene.meanwhile)(view, sandbox);
});
window.isReady = true;
</script>`;

/** Hosts, a sandbox and somebody who collects what leaks, each on an origin of its own, with a real browser. */
export class Stage {
  private readonly closing: (() => unknown)[] = [];
  page!: Page;
  host!: string;
  sandbox!: string;
  /** Where what leaks would arrive. */
  thief!: string;
  /** A port where any connection is a leak. */
  tap!: number;
  private stolen: string[] = [];
  private browser!: Browser;

  async open(): Promise<this> {
    this.host = await this.serve((request, response) => {
      if (request.url === '/view-host.mjs')
        return response.writeHead(200, { 'content-type': 'text/javascript' }).end(readFileSync(`${dist}view-host.mjs`));
      response.writeHead(200, { 'content-type': 'text/html' }).end(stagePage);
    });
    this.thief = await this.serve((request, response) => {
      this.stolen.push(`${request.method} ${request.url}`);
      response.writeHead(200, { 'access-control-allow-origin': '*', 'content-type': 'text/html' }).end('<p>taken</p>');
    });
    const tap = createSocketServer((socket: Socket) => {
      this.stolen.push('a connection');
      socket.destroy();
    }).listen(0, '127.0.0.1');
    await new Promise((resolve) => tap.once('listening', resolve));
    this.tap = (tap.address() as AddressInfo).port;
    this.closing.push(() => tap.close());
    const sandbox = await serveSandbox(sandboxPage, () => this.host);
    this.sandbox = sandbox.url;
    this.closing.push(() => sandbox.close());
    this.browser = await launch();
    this.closing.push(() => this.browser.close());
    this.page = await (await this.browser.newContext({ viewport: { width: 1000, height: 800 } })).newPage();
    await this.page.goto(this.host);
    await this.page.waitForFunction('window.isReady');
    return this;
  }

  /** Shows a page whose script is given; it ends by `done(value)`, or after a while. */
  async play(script: string, scene: Scene = {}): Promise<Played> {
    this.stolen = [];
    const { thief, tap, host, sandbox } = this;
    const html = `<!doctype html><html><head><title>View</title></head><body><p>A view</p><script type="module">
const [thief, tap, host, sandbox] = ${JSON.stringify([thief, tap, host, sandbox])};
let last = 0; const waiting = new Map();
addEventListener('message', ({ data }) => { if (data && data.method === undefined && waiting.has(data.id)) { waiting.get(data.id)(data); waiting.delete(data.id); } });
addEventListener('message', ({ data }) => { if (data?.method === 'ui/resource-teardown') send({ id: data.id, result: {} }); });
const send = (message) => parent.postMessage({ jsonrpc: '2.0', ...message }, '*');
const ask = (method, params = {}) => new Promise((resolve) => { const id = ++last; waiting.set(id, resolve); send({ id, method, params }); });
const done = (value) => send({ method: 'notifications/message', params: { level: 'info', data: { done: value } } });
const tried = async (work) => { try { return (await work()) ?? 'happened'; } catch (error) { return 'blocked: ' + (error.name ?? error); } };
const rtc = (port) => "const p = new RTCPeerConnection({ iceServers: [{ urls: 'turn:127.0.0.1:" + port + "?transport=tcp', username: 'u', credential: 'p' }] }); p.createDataChannel('x'); p.createOffer().then((o) => p.setLocalDescription(o));";
const soon = (ms = 150) => new Promise((resolve) => setTimeout(resolve, ms));
const hello = async () => { const answer = await ask('ui/initialize', { protocolVersion: '2026-01-26', appInfo: { name: 'v', version: '1' }, appCapabilities: {} }); send({ method: 'ui/notifications/initialized' }); return answer; };
${script}
</script></body></html>`;
    const found = (await this.page.evaluate(
      ([text, where, how]) => (globalThis as unknown as { play: (...words: unknown[]) => Promise<Played> }).play(text, where, how),
      [html, sandbox, scene] as const,
    )) as Played;
    const { pages } = { pages: this.page.context().pages().length };
    return { ...found, stolen: [...this.stolen], host: { ...found.host, pages } };
  }

  async close(): Promise<void> {
    for (const close of this.closing.splice(0).reverse()) await close();
  }

  private async serve(answer: Parameters<typeof createServer>[1]): Promise<string> {
    const server: Server = createServer(answer as never).listen(0, '127.0.0.1');
    await new Promise((resolve) => server.once('listening', resolve));
    this.closing.push(() => {
      server.closeAllConnections();
      server.close();
    });
    return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  }
}
