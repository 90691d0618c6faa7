import {
  ViewError,
  type DisplayMode,
  type HostCapabilities,
  type HostContext,
  type View,
  type ViewOptions,
  type ViewResult,
} from './view-types.js';

interface Incoming {
  readonly jsonrpc?: unknown;
  readonly id?: string | number;
  readonly method?: string;
  readonly params?: Record<string, unknown>;
  readonly result?: unknown;
  readonly error?: { readonly code?: number; readonly message?: string };
}

type Hear = (value: never) => unknown;
const usualTimeoutMs = 10_000;

/** Hearers of one kind; what has been said last is said to those who come later. */
class Heard<T> {
  private readonly hearers = new Set<(value: T) => unknown>();
  last: T | undefined;
  constructor(private readonly keeps: boolean) {}
  add = (hear: (value: T) => unknown): (() => void) => {
    this.hearers.add(hear);
    if (this.keeps && this.last !== undefined) hear(this.last);
    return () => this.hearers.delete(hear);
  };
  say(value: T): unknown[] {
    if (this.keeps) this.last = value;
    return [...this.hearers].map((hear) => hear(value));
  }
}

/** The requests of the page that wait for an answer, and the way to the host. */
class Wire {
  private next = 0;
  private readonly waiting = new Map<number, (message: Incoming) => void>();
  constructor(
    private readonly host: Window,
    private readonly onMessage: (method: string, params: Record<string, unknown>) => unknown,
  ) {
    globalThis.addEventListener('message', (event: MessageEvent<Incoming>) => {
      // Other frames may send anything; only the one that shows this page is the host.
      if (event.source !== host || event.data?.jsonrpc !== '2.0') return;
      void this.take(event.data);
    });
  }
  private async take({ id, method, params = {}, ...answer }: Incoming): Promise<void> {
    if (method === undefined) {
      this.waiting.get(id as number)?.(answer as Incoming);
      return;
    }
    const result = method === 'ping' ? {} : await this.onMessage(method, params);
    if (id === undefined) return;
    this.send(result === undefined ? { id, error: { code: -32601, message: `Method not found: ${method}` } } : { id, result });
  }
  send(message: object): void {
    this.host.postMessage({ jsonrpc: '2.0', ...message }, '*');
  }
  notify(method: string, params: object = {}): void {
    this.send({ method, params });
  }
  ask<T>(
    method: string,
    params: object,
    { timeoutMs = 0, signal }: { timeoutMs?: number; signal?: AbortSignal | undefined } = {},
  ): Promise<T> {
    const id = ++this.next;
    return new Promise<T>((resolve, reject) => {
      let timer: ReturnType<typeof setTimeout> | undefined;
      const end = () => {
        clearTimeout(timer);
        signal?.removeEventListener('abort', stop);
        this.waiting.delete(id);
      };
      const stop = () => {
        end();
        this.notify('notifications/cancelled', { requestId: id, reason: 'the page has given it up' });
        reject(signal!.reason as Error);
      };
      if (signal?.aborted) return reject(signal.reason as Error);
      signal?.addEventListener('abort', stop);
      if (timeoutMs > 0)
        timer = setTimeout(() => {
          end();
          reject(new ViewError(`The host has not answered ${method} within ${timeoutMs} ms.`));
        }, timeoutMs);
      this.waiting.set(id, ({ result, error }) => {
        end();
        if (error !== undefined) reject(new ViewError(error.message ?? `The host refused ${method}.`, error.code));
        else resolve(result as T);
      });
      this.send({ id, method, params });
    });
  }
}

/**
 * Says hello to the host that shows this page (Extensions, "Interactive views"), and gives what the page may do there.
 *
 * @throws ViewError when no host answers: the page is open by itself, perhaps
 * @example
 * const view = await openView<typeof hiveWeight, { book_inspection: typeof bookInspection }>();
 * view.onResult(({ structuredContent }) => draw(structuredContent));
 * const { isError } = await view.call('book_inspection', { hive: 'MR-03', date: '2026-05-12' });
 */
// eslint-disable-next-line max-lines-per-function -- what a page may do, in one place
export async function openView<T = unknown, Tools extends Record<string, unknown> = Record<string, unknown>>(
  options: ViewOptions = {},
): Promise<View<T, Tools>> {
  const { timeoutMs = usualTimeoutMs, displayModes = ['inline'], autoSize = true, autoTheme = true } = options;
  const { name = document.title || 'view', version = '1' } = options;
  if (globalThis.parent === globalThis.window) throw new ViewError('This page is shown by no host. Open it in one, or with: jexo inspect');
  const heard = {
    input: new Heard<never>(true),
    partial: new Heard<never>(false),
    result: new Heard<ViewResult<never>>(true),
    cancelled: new Heard<string | undefined>(false),
    context: new Heard<HostContext>(true),
    teardown: new Heard<string | undefined>(false),
  };
  const take = async (method: string, params: Record<string, unknown>): Promise<unknown> => {
    switch (method) {
      case 'ui/notifications/tool-input':
        return heard.input.say((params.arguments ?? {}) as never);
      case 'ui/notifications/tool-input-partial':
        return heard.partial.say((params.arguments ?? {}) as never);
      case 'ui/notifications/tool-result':
        return heard.result.say({ content: [], ...params } as unknown as ViewResult<never>);
      case 'ui/notifications/tool-cancelled':
        return heard.cancelled.say(params.reason as string | undefined);
      case 'ui/notifications/host-context-changed':
        return heard.context.say({ ...heard.context.last, ...params });
      case 'ui/resource-teardown':
        await Promise.allSettled(heard.teardown.say(params.reason as string | undefined));
        return {};
    }
    return undefined;
  };
  const wire = new Wire(globalThis.parent, take);
  const hello = await wire.ask<{
    hostInfo?: { name: string; version: string };
    hostCapabilities?: HostCapabilities;
    hostContext?: HostContext;
  }>(
    'ui/initialize',
    {
      protocolVersion: '2026-01-26',
      appInfo: { name, version },
      appCapabilities: { availableDisplayModes: displayModes },
    },
    { timeoutMs },
  );
  heard.context.last = hello.hostContext ?? {};
  if (autoTheme) heard.context.add(dress);
  wire.notify('ui/notifications/initialized');
  const reportSize = (size = sizeOf()) => wire.notify('ui/notifications/size-changed', size);
  if (autoSize) followSize(reportSize);
  const refusable = async (method: string, params: object) => {
    const answer = await wire.ask<{ isError?: boolean } | undefined>(method, params);
    if (answer?.isError === true) throw new ViewError(`The host refused ${method}.`);
  };
  return {
    get input() {
      return heard.input.last;
    },
    get result() {
      return heard.result.last;
    },
    get context() {
      return heard.context.last!;
    },
    host: hello.hostInfo ?? { name: 'host', version: '' },
    can: hello.hostCapabilities ?? {},
    onInput: heard.input.add as (hear: Hear) => () => void,
    onPartialInput: heard.partial.add as (hear: Hear) => () => void,
    onResult: heard.result.add as (hear: Hear) => () => void,
    onCancelled: heard.cancelled.add,
    onContext: heard.context.add,
    onTeardown: heard.teardown.add,
    call: (tool, input, { signal } = {}) => wire.ask('tools/call', { name: tool, arguments: input ?? {} }, { signal }),
    read: async (uri) => (await wire.ask<{ contents: never }>('resources/read', { uri })).contents,
    say: (text) => refusable('ui/message', { role: 'user', content: [{ type: 'text', text }] }),
    remember: (text, structuredContent) =>
      refusable('ui/update-model-context', { content: [{ type: 'text', text }], ...(structuredContent && { structuredContent }) }),
    openLink: (url) => refusable('ui/open-link', { url }),
    requestDisplayMode: async (mode) => (await wire.ask<{ mode: DisplayMode }>('ui/request-display-mode', { mode })).mode,
    reportSize,
    log: (level, data) => wire.notify('notifications/message', { level, logger: name, data }),
    leave: () => wire.notify('ui/notifications/request-teardown'),
  };
}

/**
 * Words a message that a model takes for news, and not for a request: "Done in the view by the person, nothing is asked of you: an inspection of MR-03 is
 * booked for 12 May."
 *
 * @example
 * await view.say(done(`an inspection of ${hive} is booked for ${date}.`));
 */
export function done(what: string): string {
  return `Done in the view by the person, nothing is asked of you: ${what}`;
}

function sizeOf(): { width: number; height: number } {
  const { documentElement: root, body } = document;
  // The content’s height, not that of the frame it is in.
  return { width: Math.ceil(root.scrollWidth), height: Math.ceil(body.getBoundingClientRect().height + body.offsetTop * 2) };
}

function followSize(report: (size: { width: number; height: number }) => void): void {
  let [width, height] = [0, 0];
  const look = () => {
    const size = sizeOf();
    if (size.width === width && size.height === height) return;
    ({ width, height } = size);
    report(size);
  };
  new ResizeObserver(() => requestAnimationFrame(look)).observe(document.body);
  look();
}

/** Sets the host’s theme, variables and fonts on the document. */
function dress({ theme, styles }: HostContext): void {
  const { documentElement: root } = document;
  if (theme !== undefined) {
    root.dataset.theme = theme;
    root.style.colorScheme = theme;
  }
  for (const [name, value] of Object.entries(styles?.variables ?? {})) if (name.startsWith('--')) root.style.setProperty(name, value);
  const fonts = styles?.css?.fonts;
  if (fonts === undefined) return;
  const own = document.querySelector('style[data-host-fonts]') ?? document.head.appendChild(document.createElement('style'));
  own.setAttribute('data-host-fonts', '');
  own.textContent = fonts;
}
