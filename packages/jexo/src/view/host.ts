/**
 * For hosts: shows the pages of servers in a sandbox, and speaks with them.
 *
 * @module jexo/view/host
 */
import type { CallToolResult, ReadResourceResult, Tool } from '../protocol/types.js';
import { allowOf, cspOf, mayCall, readViewMeta, viewProtocolVersion, type ViewMeta } from '../protocol/views.js';
import type { DisplayMode, HostCapabilities, HostContext } from './view-types.js';

export { sandboxPage } from './sandbox-page.js';
export { mayCall, showsViews, toolViewOf, viewCapability, viewMimeType, type ToolViewMeta, type ViewMeta } from '../protocol/views.js';
export type { DisplayMode, HostCapabilities, HostContext } from './view-types.js';

/** One message between a view and its host. */
export interface ViewMessage {
  /** `in` came from the view. */
  readonly way: 'in' | 'out';
  /** The JSON-RPC message. */
  readonly message: object;
  /** Why it was refused or dropped. */
  readonly refused?: string;
}

/** What a host gives to show one view. */
export interface ViewHostOptions {
  /** Where it goes. */
  readonly container: HTMLElement;
  /** Address of `sandboxPage` on an origin that is not this page’s. */
  readonly sandbox: string;
  /** What reading the `ui://` resource gave. */
  readonly page: ReadResourceResult;
  /** The `_meta` of its entry in the list of resources; that of the contents goes first. */
  readonly listed?: Readonly<Record<string, unknown>> | undefined;
  /** The tool it belongs to, and those of the same server: only they can be called. */
  readonly tool: Tool;
  /** All tools of the server, by their own names; asked for each call. */
  readonly tools: () => readonly Tool[];
  /** What the page gets to know of the place. */
  readonly context: HostContext;
  /** What the host calls itself. */
  readonly info?: { readonly name: string; readonly version: string };
  /** Calls a tool of the same server. @throws what the view is told as an error */
  readonly callTool: (name: string, input: Record<string, unknown>, signal: AbortSignal) => Promise<CallToolResult>;
  /** Reads a resource of the same server. */
  readonly readResource?: (uri: string, signal: AbortSignal) => Promise<ReadResourceResult>;
  /** A message for the conversation, as if the person had written it. False refuses. Default: refused. */
  readonly onSay?: (content: readonly object[]) => boolean | Promise<boolean>;
  /** What the model is to know. */
  readonly onRemember?: (content: readonly object[], structured: object | undefined) => void;
  /** An `https:` address to open. False refuses. Default: refused. */
  readonly onOpenLink?: (url: string) => boolean | Promise<boolean>;
  /** Another way to be shown; gives the one that holds. Default: it stays as it is. */
  readonly onDisplayMode?: (mode: DisplayMode) => DisplayMode;
  /** A log message of the page. */
  readonly onLog?: (level: string, data: unknown) => void;
  /** The height it wants, in CSS pixels, within the limit. The frame has it already. */
  readonly onSize?: (size: { readonly width?: number; readonly height?: number }) => void;
  /** The view wants to be taken away. */
  readonly onLeave?: () => void;
  /** It has said hello. */
  readonly onReady?: () => void;
  /** Every message, both ways. */
  readonly onMessage?: (message: ViewMessage) => void;
  /** CSS pixels that it may be high. Default 2,000. */
  readonly maxHeight?: number;
  /** Messages that it may send in a second; further ones are dropped. Default 100. */
  readonly messagesPerSecond?: number;
}

/** A view on the page. */
export interface ViewHost {
  /** The outer frame. */
  readonly frame: HTMLIFrameElement;
  /** True once the view has said hello. */
  readonly isReady: boolean;
  /** What the page knows of the place. */
  readonly context: HostContext;
  /** The input as far as it is written; nothing after `input`. */
  partialInput(input: object): void;
  /** What the tool was called with, once it is known. What comes before the page has said hello waits for that. */
  input(input: object): void;
  /** The tool’s answer. */
  result(result: CallToolResult): void;
  /** The call was cancelled. */
  cancelled(reason?: string): void;
  /** Changes parts of the context. */
  change(context: Partial<HostContext>): void;
  /** Says goodbye, waits a moment, and removes it. */
  close(reason?: string): Promise<void>;
}

type Id = string | number;
interface Incoming {
  readonly id?: Id;
  readonly method?: string;
  readonly params?: Record<string, unknown>;
  readonly result?: unknown;
  readonly error?: unknown;
}

const usualMaxHeight = 2000;
const usualMessages = 100;
const mostBytes = 1_000_000;
const mostCalls = 16;
const teardownMs = 1000;
const own = 'ui/notifications/sandbox-';
const refuse = (code: number, message: string) => Object.assign(new Error(message), { code });

/**
 * Shows a view (Extensions, "Interactive views"): two frames, the outer one on an origin of its own, with exactly the policy and permissions that the server
 * declares for it. The view gets nothing before it has said hello. It can call tools of its server that are not kept from views, and read its resources.
 *
 * @throws TypeError when the sandbox has the origin of this page, or the resource is no page
 * @example
 * const host = showView({ container, sandbox: 'https://sandbox.meadow.example/', page, tool, tools: () => tools, context: { theme: 'dark' }, callTool });
 * host.input({ hive: 'MR-03' });
 * host.result(await client.call('hive_weight', { hive: 'MR-03' }));
 */
export function showView(options: ViewHostOptions): ViewHost {
  return new ShownView(options);
}

function htmlOf({ contents }: ReadResourceResult): { readonly html: string; readonly meta: unknown } {
  const [page] = contents as readonly { readonly text?: string; readonly blob?: string; readonly _meta?: unknown }[];
  if (page?.text !== undefined) return { html: page.text, meta: page._meta };
  if (page?.blob === undefined) throw new TypeError('The resource of the view holds no page.');
  return { html: new TextDecoder().decode(Uint8Array.from(atob(page.blob), (char) => char.charCodeAt(0))), meta: page._meta };
}

class ShownView implements ViewHost {
  readonly frame: HTMLIFrameElement;
  isReady = false;
  context: HostContext;
  private readonly origin: string;
  private readonly html: string;
  private readonly meta: ViewMeta;
  private waiting: object[] = [];
  private readonly calls = new Map<Id, AbortController>();
  private readonly asked = new Map<number, () => void>();
  private last = 0;
  private isGreeted = false;
  private isWritten = false;
  private isClosed = false;
  private window = { from: 0, count: 0 };

  constructor(private readonly options: ViewHostOptions) {
    const url = new URL(options.sandbox, location.href);
    if (url.origin === location.origin)
      throw new TypeError('The sandbox of views must be on another origin than the page that shows them.');
    const { html, meta } = htmlOf(options.page);
    this.html = html;
    const inner = readViewMeta(meta);
    this.meta = { ...readViewMeta(options.listed), ...inner };
    this.origin = url.origin;
    this.context = { toolInfo: { tool: options.tool as { name: string } }, ...options.context };
    url.searchParams.set('host', location.origin);
    this.frame = document.createElement('iframe');
    this.frame.setAttribute('sandbox', 'allow-scripts allow-same-origin allow-forms');
    this.frame.setAttribute('allow', allowOf(this.meta.permissions));
    this.frame.setAttribute('referrerpolicy', 'no-referrer');
    this.frame.title = `View of ${options.tool.title ?? options.tool.name}`;
    this.frame.style.cssText = 'display:block;width:100%;height:150px;border:0';
    globalThis.addEventListener('message', this.hear);
    this.frame.src = url.href;
    options.container.append(this.frame);
  }

  partialInput(input: object): void {
    if (!this.isWritten) this.notify('ui/notifications/tool-input-partial', { arguments: input });
  }
  input(input: object): void {
    this.isWritten = true;
    this.notify('ui/notifications/tool-input', { arguments: input });
  }
  result(result: CallToolResult): void {
    if (!this.isWritten) this.input({});
    this.notify('ui/notifications/tool-result', result);
  }
  cancelled(reason?: string): void {
    this.notify('ui/notifications/tool-cancelled', reason === undefined ? {} : { reason });
  }
  change(context: Partial<HostContext>): void {
    this.context = { ...this.context, ...context };
    // What changes before it has said hello is part of the answer to that.
    if (this.isReady) this.notify('ui/notifications/host-context-changed', context);
  }

  async close(reason?: string): Promise<void> {
    if (this.isClosed) return;
    this.isClosed = true;
    // What comes next may stand in its place already.
    this.frame.style.display = 'none';
    if (this.isReady) {
      const id = ++this.last;
      await new Promise<void>((resolve) => {
        this.asked.set(id, resolve);
        setTimeout(resolve, teardownMs);
        this.post({ id, method: 'ui/resource-teardown', params: reason === undefined ? {} : { reason } });
      });
    }
    globalThis.removeEventListener('message', this.hear);
    for (const call of this.calls.values()) call.abort(new Error('the view is gone'));
    this.frame.remove();
  }

  private notify(method: string, params: object): void {
    if (this.isReady) this.post({ method, params });
    else this.waiting.push({ method, params });
  }

  private post(message: object): void {
    const whole = { jsonrpc: '2.0', ...message };
    this.options.onMessage?.({ way: 'out', message: whole });
    this.frame.contentWindow?.postMessage(whole, this.origin);
  }

  private readonly hear = ({ source, origin, data }: MessageEvent<unknown>): void => {
    // Frames inside, other views and other windows may send anything: only the outer frame, on its own origin, is heard.
    if (source !== this.frame.contentWindow || origin !== this.origin || typeof data !== 'object' || data === null) return;
    const message = data as Incoming & { readonly jsonrpc?: unknown };
    if (message.jsonrpc !== '2.0') return;
    if (message.method === `${own}proxy-ready`) return this.greet();
    if (!this.isGreeted || message.method?.startsWith(own)) return;
    const why = this.isTooMuch(message);
    if (why !== undefined) return this.options.onMessage?.({ way: 'in', message: { method: message.method }, refused: why });
    this.options.onMessage?.({ way: 'in', message });
    void this.take(message);
  };

  /** A view that floods its host is not heard. */
  private isTooMuch(message: Incoming): string | undefined {
    const now = performance.now();
    if (now - this.window.from > 1000) this.window = { from: now, count: 0 };
    if (++this.window.count > (this.options.messagesPerSecond ?? usualMessages)) return 'it sends too many messages';
    let size: number;
    try {
      size = JSON.stringify(message).length;
    } catch {
      return 'it is no JSON';
    }
    return size > mostBytes ? 'it is too large' : undefined;
  }

  private greet(): void {
    // Once: a frame that was navigated away and comes back is not the view any more.
    if (this.isGreeted) return;
    this.isGreeted = true;
    const { csp, permissions } = this.meta;
    this.frame.contentWindow?.postMessage(
      {
        jsonrpc: '2.0',
        method: `${own}resource-ready`,
        params: {
          html: this.html,
          sandbox: 'allow-scripts allow-forms',
          csp: cspOf(csp),
          permissions: permissions ?? {},
          allow: allowOf(permissions),
        },
      },
      this.origin,
    );
  }

  private async take({ id, method, params = {}, ...rest }: Incoming): Promise<void> {
    if (method === undefined) {
      if (typeof id === 'number' && ('result' in rest || 'error' in rest)) this.asked.get(id)?.();
      return;
    }
    if (id === undefined) return this.heard(method, params);
    try {
      const result = await this.answer(method, params, id);
      this.post({ id, result });
      if (method === 'ui/initialize') this.isGreeting = true;
    } catch (error) {
      const { code = -32000, message } = error as { code?: unknown; message?: string };
      this.post({ id, error: { code: typeof code === 'number' ? code : -32000, message: message ?? String(error) } });
    }
  }
  private isGreeting = false;

  private heard(method: string, params: Record<string, unknown>): void {
    const { onSize, onLog, onLeave, onReady, maxHeight = usualMaxHeight } = this.options;
    switch (method) {
      case 'ui/notifications/initialized': {
        if (!this.isGreeting || this.isReady) return;
        this.isReady = true;
        const waiting = this.waiting;
        this.waiting = [];
        for (const each of waiting) this.post(each);
        return onReady?.();
      }
      case 'ui/notifications/size-changed': {
        const size = Object.fromEntries(
          Object.entries({ width: params.width, height: params.height }).flatMap(([name, value]) =>
            typeof value === 'number' && value >= 0 && Number.isFinite(value) ? [[name, Math.min(value, maxHeight)]] : [],
          ),
        ) as { width?: number; height?: number };
        if (size.height !== undefined) this.frame.style.height = `${Math.max(40, size.height)}px`;
        return onSize?.(size);
      }
      case 'notifications/message':
        return onLog?.(String(params.level), params.data);
      case 'notifications/cancelled':
        return this.calls.get(params.requestId as Id)?.abort(new Error('the view has given it up'));
      case 'ui/notifications/request-teardown':
        return onLeave?.();
    }
  }

  private async answer(method: string, params: Record<string, unknown>, id: Id): Promise<object> {
    const { onSay, onRemember, onOpenLink, onDisplayMode, readResource } = this.options;
    if (method === 'ui/initialize') return this.hello();
    if (method === 'ping') return {};
    // Whatever else it wants comes after the handshake.
    if (!this.isReady) throw refuse(-32600, `${method} came before ui/notifications/initialized`);
    switch (method) {
      case 'tools/call':
        return this.working(id, (signal) => this.callTool(params, signal));
      case 'resources/read':
        if (readResource === undefined || typeof params.uri !== 'string') throw refuse(-32601, 'This host lets views read no resources.');
        return this.working(id, (signal) => readResource(params.uri as string, signal));
      case 'ui/message': {
        const content = [params.content].flat().filter((each): each is object => typeof each === 'object' && each !== null);
        if (params.role !== 'user' || content.length === 0) throw refuse(-32602, 'A message has the role user, and content.');
        return { ...(!(await onSay?.(content)) && { isError: true }) };
      }
      case 'ui/update-model-context':
        onRemember?.(
          [params.content].flat().filter((each): each is object => typeof each === 'object' && each !== null),
          params.structuredContent as object,
        );
        return {};
      case 'ui/open-link': {
        const url = typeof params.url === 'string' && URL.canParse(params.url) ? new URL(params.url) : undefined;
        if (url?.protocol !== 'https:') throw refuse(-32602, 'Only https: addresses can be opened.');
        return { ...(!(await onOpenLink?.(url.href)) && { isError: true }) };
      }
      case 'ui/request-display-mode': {
        const wanted = params.mode as DisplayMode;
        const { displayMode = 'inline', availableDisplayModes = [displayMode] } = this.context;
        const mode = availableDisplayModes.includes(wanted) ? (onDisplayMode?.(wanted) ?? displayMode) : displayMode;
        if (mode !== displayMode) this.change({ displayMode: mode });
        return { mode };
      }
    }
    throw refuse(-32601, `Method not found: ${method}`);
  }

  private hello(): object {
    const { onSay, onRemember, onOpenLink, readResource, info = { name: 'jexo', version: '0.1.0' } } = this.options;
    const { csp, permissions } = this.meta;
    const hostCapabilities: HostCapabilities = {
      serverTools: {},
      logging: {},
      ...(readResource && { serverResources: {} }),
      ...(onOpenLink && { openLinks: {} }),
      ...(onSay && { message: { text: {} } }),
      ...(onRemember && { updateModelContext: { text: {} } }),
      sandbox: { ...(csp && { csp }), ...(permissions && { permissions }) },
    };
    return { protocolVersion: viewProtocolVersion, hostInfo: info, hostCapabilities, hostContext: this.context };
  }

  private async callTool(params: Record<string, unknown>, signal: AbortSignal): Promise<object> {
    const { name, arguments: input = {} } = params as { name?: unknown; arguments?: unknown };
    const tool = this.options.tools().find((each) => each.name === name);
    // One that is kept from views is as unknown to them as one that is not there.
    if (tool === undefined || !mayCall(tool._meta, 'app')) throw refuse(-32602, `Unknown tool: ${String(name)}`);
    if (typeof input !== 'object' || input === null || Array.isArray(input)) throw refuse(-32602, 'The arguments of a call are an object.');
    return this.options.callTool(tool.name, input as Record<string, unknown>, signal);
  }

  private async working(id: Id, work: (signal: AbortSignal) => Promise<object>): Promise<object> {
    if (this.calls.size >= mostCalls) throw refuse(-32000, `At most ${mostCalls} calls of a view may be under way.`);
    if (this.calls.has(id)) throw refuse(-32600, `There is a request ${id} under way already.`);
    const stop = new AbortController();
    this.calls.set(id, stop);
    try {
      return await work(stop.signal);
    } finally {
      this.calls.delete(id);
    }
  }
}
