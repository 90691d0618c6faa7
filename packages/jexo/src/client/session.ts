import { viewCapability } from '../protocol/views.js';
import { systemClock } from '../engine/clock.js';
import type { Channel } from '../engine/exchange.js';
import { printFault } from '../engine/faults.js';
import { initialize, type ClientHello } from '../engine/handshake.js';
import { Peer, type NotificationHandler, type RequestOptions } from '../engine/peer.js';
import { JexoError, messageOf } from '../errors.js';
import { misanswer } from '../protocol/grammar.js';
import { isRecord } from '../protocol/is-record.js';
import type { Params } from '../protocol/json-rpc.js';
import type { ClientRequests, TaskStarted } from '../protocol/methods.js';
import type { Implementation, InitializeResult, LogLevel, LogMessage, Task } from '../protocol/types.js';
import type { Link } from '../transports/link.js';
import { answerServer, type ServerAnswering } from './answer-server.js';
import type { ClientOptions } from './client.js';
import { merged, tell } from './listeners.js';
import { createPages } from './pages.js';
import { createToolKnowledge, type ToolKnowledge } from './tool-knowledge.js';
import { createWatchers, type Watchers } from './watchers.js';

/** What a client sends: a request by its method, checked when its answer comes. */
export interface Ask {
  <M extends keyof ClientRequests>(
    method: M,
    params: ClientRequests[M]['params'] | undefined,
    options?: RequestOptions,
  ): Promise<ClientRequests[M]['result']>;
}

/** Without these parts an answer is of no use; other deviations are reported and tolerated. */
const essential: Partial<Record<string, (result: Params) => boolean>> = {
  'tools/list': ({ tools }) => Array.isArray(tools),
  'tools/call': ({ content }) => Array.isArray(content),
  'tools/call#task': ({ task }) => typeof task?.taskId === 'string',
  'resources/list': ({ resources }) => Array.isArray(resources),
  'resources/templates/list': ({ resourceTemplates }) => Array.isArray(resourceTemplates),
  'resources/read': ({ contents }) => Array.isArray(contents),
  'prompts/list': ({ prompts }) => Array.isArray(prompts),
  'prompts/get': ({ messages }) => Array.isArray(messages),
  'completion/complete': ({ completion }) => Array.isArray(completion?.values),
  'tasks/get': ({ status }) => typeof status === 'string',
  'tasks/list': ({ tasks }) => Array.isArray(tasks),
};

const notYet: Channel = {
  send() {
    throw new JexoError('JEXO_CLOSED', 'The link has not been started.');
  },
};

/** One conversation with a server, from the client's side: the handshake, what the server tells, and requests whose answers are checked. */
export class ClientSession {
  readonly peer: Peer;
  readonly tools: ToolKnowledge;
  readonly watchers: Watchers = createWatchers();
  readonly answers: ServerAnswering;
  /** Names of the tools whose answers are waited for. */
  readonly running: string[] = [];
  private introduced: InitializeResult | undefined;
  private readonly timeoutMs: number;
  private logLevel: LogLevel | undefined;
  private hasEnded = false;

  constructor(
    readonly link: Link,
    private readonly options: ClientOptions,
  ) {
    this.timeoutMs = options.timeoutMs ?? 60_000;
    const pages = createPages();
    const server = () => this.introduced?.serverInfo.name ?? link.address;
    this.answers = answerServer(options, pages, { tools: this.running, server });
    this.tools = createToolKnowledge((account) => this.deviates(account));
    const isOpen = () => this.peer.state === 'ready';
    const toolsChanged = merged(() => options.onToolsChanged?.(), isOpen);
    this.peer = new Peer({
      role: 'client',
      outlet: notYet,
      clock: systemClock,
      requests: this.answers.requests,
      onFault: (error) => printFault(error, 'in a listener of the client'),
      notifications: new Map<string, NotificationHandler>([
        ['notifications/message', (params) => options.onLog?.(params as LogMessage)],
        [
          'notifications/tools/list_changed',
          () => {
            this.tools.forget();
            toolsChanged();
          },
        ],
        ['notifications/resources/list_changed', merged(() => options.onResourcesChanged?.(), isOpen)],
        ['notifications/prompts/list_changed', merged(() => options.onPromptsChanged?.(), isOpen)],
        ['notifications/resources/updated', ({ uri }) => typeof uri === 'string' && this.watchers.updated(uri)],
        // Ids we do not know, or know to be done, are ignored (Client features, "Elicitation", "URL Mode").
        ['notifications/elicitation/complete', ({ elicitationId }) => pages.done(elicitationId) && options.onPageDone?.(elicitationId)],
        ['notifications/tasks/status', (params) => options.onTask?.(params as Task)],
      ]),
    });
  }

  /** What the server said of itself. */
  get server(): InitializeResult {
    return this.introduced!;
  }

  /** Reports a broken rule that the rest does not suffer from. */
  deviates(account: string): void {
    tell(() => this.options.onDeviation?.({ kind: 'message', account }));
  }

  /** Starts the link and completes the handshake. @throws whatever goes wrong; the link is closed then */
  async open(): Promise<void> {
    const { link, peer } = this;
    const { signal, pingEveryMs } = this.options;
    let stop: (() => void) | undefined;
    try {
      const aborted = new Promise<never>((_, reject) => {
        if (signal === undefined) return;
        const onAbort = () =>
          reject(new JexoError('JEXO_CANCELLED', `Connecting to ${link.address} was stopped.`, { cause: signal.reason }));
        if (signal.aborted) return onAbort();
        signal.addEventListener('abort', onAbort, { once: true });
        stop = () => signal.removeEventListener('abort', onAbort);
      });
      aborted.catch(() => undefined);
      this.introduced = introduced(await Promise.race([this.start(), aborted]), (account) => this.deviates(account));
    } catch (error) {
      this.hasEnded = true;
      peer.close('the handshake failed');
      await link.close();
      throw error;
    } finally {
      stop?.();
    }
    if (pingEveryMs !== undefined)
      pingNowAndThen(peer, pingEveryMs, (error) => {
        this.ended(error);
        void link.close();
      });
  }

  /** Sends a request, and checks that its answer is one. @throws RpcError, JexoError JEXO_NOT_PROTOCOL */
  readonly ask: Ask = async (method, params, call = {}) => {
    const result = await this.peer.request(method, params, { timeoutMs: this.timeoutMs, ...call });
    const name = (params as { task?: unknown } | undefined)?.task === undefined ? method : `${method}#task`;
    const why = misanswer(this.peer.revision, name, result);
    if (why === undefined) return result;
    const account = `The server’s answer to ${method} is not what the protocol says: ${why}.`;
    if (essential[name]?.(result as Params) === false) throw new JexoError('JEXO_NOT_PROTOCOL', account, { where: this.link.address });
    this.deviates(account);
    return result;
  };

  /** Sends a call to be run as a task. */
  async askForTask(params: ClientRequests['tools/call']['params'], call?: RequestOptions): Promise<TaskStarted> {
    // By what was asked for, the answer is a task in place of a result.
    return (await this.ask('tools/call', { task: {}, ...params }, call)) as unknown as TaskStarted;
  }

  /** Tells the server which log messages to send; a later session is told too. */
  async setLogLevel(level: LogLevel): Promise<void> {
    await this.ask('logging/setLevel', { level });
    this.logLevel = level;
  }

  async close(): Promise<void> {
    this.peer.close('closed by the client');
    this.tellClosed(undefined);
    await this.link.close();
  }

  private async start(): Promise<InitializeResult> {
    const { link, peer } = this;
    const channel = await link.start({
      receive: (value) => peer.receive(value),
      failed: (id, error) => peer.fail(id, error),
      isWaiting: (id) => peer.isWaiting(id),
      pauses: (id, until) => peer.pause(id, until),
      interrupted: (error) => peer.failAll(error),
      closed: (error) => this.ended(error),
      renew: async () => {
        this.tools.forget();
        await initialize(peer, this.hello);
        void this.restore();
      },
    });
    peer.useOutlet(channel);
    return initialize(peer, this.hello);
  }

  private get hello(): ClientHello {
    const { info = { name: 'jexo', version: '0.1.0' }, capabilities, revision } = this.options;
    return {
      info,
      capabilities: {
        ...capabilities,
        ...(this.options.views && { extensions: { ...viewCapability, ...capabilities?.extensions } }),
        ...this.answers.capabilities,
      },
      timeoutMs: this.timeoutMs,
      onAgreed: (agreed) => this.link.agreed?.(agreed),
      ...(revision !== undefined && { revision }),
    };
  }

  /** What a session was told is told to the next one. */
  private async restore(): Promise<void> {
    const { peer, logLevel, timeoutMs } = this;
    const level = logLevel === undefined ? [] : [peer.request('logging/setLevel', { level: logLevel }, { timeoutMs })];
    const again = this.watchers.uris().map((uri) => peer.request('resources/subscribe', { uri }, { timeoutMs }));
    for (const outcome of await Promise.allSettled([...level, ...again]))
      if (outcome.status === 'rejected')
        this.deviates(`The new session could not be told all that the old one knew: ${messageOf(outcome.reason)}`);
    tell(() => this.options.onRenewed?.());
  }

  private ended(error: Error | undefined): void {
    if (this.hasEnded) return;
    this.peer.close(error?.message ?? 'the other side has closed the connection', error);
    this.tellClosed(error);
  }

  private tellClosed(error: Error | undefined): void {
    if (this.hasEnded) return;
    this.hasEnded = true;
    tell(() => this.options.onClosed?.(error));
  }
}

/** What a server says about itself, completed where it says too little (Lifecycle, "Initialization"). */
function introduced(result: InitializeResult, deviates: (account: string) => void): InitializeResult {
  const { capabilities, serverInfo }: { readonly capabilities?: unknown; readonly serverInfo?: unknown } = result;
  const missing = [
    ...(isRecord(capabilities) ? [] : ['capabilities']),
    ...(isRecord(serverInfo) && typeof serverInfo.name === 'string' ? [] : ['serverInfo']),
  ];
  if (missing.length === 0) return result;
  deviates(`The server’s answer to initialize has no ${missing.join(' and no ')}.`);
  return {
    ...result,
    capabilities: isRecord(capabilities) ? capabilities : {},
    serverInfo:
      isRecord(serverInfo) && typeof serverInfo.name === 'string'
        ? (serverInfo as Params as Implementation)
        : { name: 'unnamed server', version: '' },
  };
}

/** Asks now and then whether the other side is still there (Base protocol, "Ping"). */
function pingNowAndThen(peer: Peer, everyMs: number, gone: (error: JexoError) => void): void {
  peer.clock.after(everyMs, () => {
    if (peer.state !== 'ready') return;
    peer.request('ping', undefined, { timeoutMs: everyMs }).then(
      () => pingNowAndThen(peer, everyMs, gone),
      (error: Error) =>
        peer.state === 'ready' && gone(new JexoError('JEXO_CLOSED', `The server has not answered a ping: ${error.message}`)),
    );
  });
}
