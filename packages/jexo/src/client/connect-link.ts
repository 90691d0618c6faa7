import { systemClock } from '../engine/clock.js';
import type { Channel } from '../engine/exchange.js';
import { initialize } from '../engine/handshake.js';
import { Peer, type NotificationHandler, type RequestOptions } from '../engine/peer.js';
import { printFault } from '../engine/faults.js';
import { JexoError, messageOf } from '../errors.js';
import { isRecord } from '../protocol/is-record.js';
import { describeIssues } from '../offers/schema.js';
import { misanswer } from '../protocol/grammar.js';
import type { Params } from '../protocol/json-rpc.js';
import { since, type Revision } from '../protocol/revisions.js';
import type {
  CallToolResult,
  ClientCapabilities,
  Completion,
  CompletionRef,
  GetPromptResult,
  Implementation,
  InitializeResult,
  LogLevel,
  LogMessage,
  ProgressUpdate,
  Prompt,
  ReadResourceResult,
  Resource,
  ResourceTemplate,
  Root,
  Task,
  TaskSupport,
  Tool,
} from '../protocol/types.js';
import type { Link } from '../transports/link.js';
import { answerServer, type ServerAnswers } from './answer-server.js';
import { createPages } from './pages.js';
import { createTaskStarter, followTask, type TaskHandle } from './task-handle.js';
import { createToolKnowledge } from './tool-knowledge.js';

export interface ClientOptions extends ServerAnswers {
  /** What the client calls itself. */
  readonly info?: Implementation;
  /** The revision to ask for. Default: the newest. */
  readonly revision?: Revision;
  /** Milliseconds to wait for an answer, for every request that says nothing else. Default 60,000. */
  readonly timeoutMs?: number;
  /** Ends the attempt to connect when it fires, and closes what was opened. Later it does nothing. */
  readonly signal?: AbortSignal;
  /** Declared to the server beside what the handlers here are for: features that both sides have agreed on outside the standard. */
  readonly capabilities?: Pick<ClientCapabilities, 'experimental' | 'extensions'>;
  /** Milliseconds between pings; a server that does not answer one is taken for gone. Default: none are sent. */
  readonly pingEveryMs?: number;
  readonly onLog?: (message: LogMessage) => void;
  /** A list of the server has changed; listing again gives the new one. */
  readonly onToolsChanged?: () => void;
  readonly onResourcesChanged?: () => void;
  readonly onPromptsChanged?: () => void;
  /** A person is done with a page the server sent them to. */
  readonly onPageDone?: (id: string) => void;
  /** How a task stands; a courtesy of some servers, so do not rely on it. */
  readonly onTask?: (task: Task) => void;
  /** The server had forgotten the session, and a new one has been made; subscriptions have been renewed. */
  readonly onRenewed?: () => void;
  /** Something departs from the protocol in a way that can be lived with: what is wrong is left out, and named here. */
  readonly onDeviation?: (account: string) => void;
  /** The connection has ended; with an error when nobody asked for it. */
  readonly onClosed?: (error?: Error) => void;
}

export interface CallOptions {
  /** Milliseconds without an answer or a progress notice. */
  readonly timeoutMs?: number;
  /** Milliseconds at most, whatever the progress. */
  readonly maxTimeoutMs?: number;
  readonly signal?: AbortSignal;
  readonly onProgress?: (update: ProgressUpdate) => void;
}

/** A connection to one server. Every method throws RpcError when the server answers with an error, and JexoError otherwise. */
export interface Client {
  readonly address: string;
  /** What both sides agreed on: revision, the server's name, capabilities and instructions. */
  readonly server: InitializeResult;
  /** All tools, page after page. */
  tools(options?: CallOptions): Promise<readonly Tool[]>;
  /**
   * Calls a tool. A failure of the tool itself is a result with `isError: true`. A tool that must be run as a task is.
   * @throws JexoError JEXO_OUTPUT_INVALID when a structured answer does not fit the schema the server gave for it
   * @example
   * const { structuredContent } = await client.call('mix_syrup', { colonies: 12 });
   */
  call(name: string, input?: Record<string, unknown>, options?: CallOptions): Promise<CallToolResult>;
  /**
   * Starts a call as a task and gives its handle (Tasks, 2025-11-25).
   * @param options.ttlMs how long the server should keep it, in milliseconds
   * @throws JexoError JEXO_NOT_SUPPORTED
   */
  callAsTask(name: string, input?: Record<string, unknown>, options?: CallOptions & { readonly ttlMs?: number }): Promise<TaskHandle>;
  /** Takes up a task again by its id, after a reconnect for one. */
  task(id: string): TaskHandle;
  tasks(options?: CallOptions): Promise<readonly Task[]>;
  resources(options?: CallOptions): Promise<readonly Resource[]>;
  templates(options?: CallOptions): Promise<readonly ResourceTemplate[]>;
  read(uri: string, options?: CallOptions): Promise<ReadResourceResult>;
  /** Subscribes: `changed` is called with the URI whenever the resource, or one below it, has changed. Returns how to stop. */
  watch(uri: string, changed: (uri: string) => void): Promise<() => Promise<void>>;
  prompts(options?: CallOptions): Promise<readonly Prompt[]>;
  prompt(name: string, input?: Record<string, string>, options?: CallOptions): Promise<GetPromptResult>;
  /** Suggestions for one argument of a prompt or one variable of a template; `known` are those already filled in. */
  complete(
    ref: CompletionRef,
    argument: { readonly name: string; readonly value: string },
    known?: Record<string, string>,
    options?: CallOptions,
  ): Promise<Completion>;
  ping(options?: CallOptions): Promise<void>;
  setLogLevel(level: LogLevel): Promise<void>;
  /**
   * Names other roots, and tells the server.
   * @throws JexoError JEXO_NOT_SUPPORTED when no roots were given on connecting, JEXO_DEFINITION for a URI that is no file's
   */
  setRoots(roots: readonly Root[]): void;
  close(): Promise<void>;
}

/** More than any real list has; a server that never stops is cut off here (Server utilities, "Pagination"). */
const maxPages = 20_000;
const maxEntries = 1_000_000;
/** Notices of changed lists that come within so many milliseconds of one are one more change. */
const changeMs = 100;

/** Without these parts an answer is of no use; other departures from the protocol are told and tolerated. */
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

/** Opens a link and completes the handshake. */
export async function connectLink(link: Link, options: ClientOptions = {}): Promise<Client> {
  const { info = { name: 'jexo', version: '0.1.0' }, timeoutMs = 60_000, signal } = options;
  const watchers = new Map<string, Set<(uri: string) => void>>();
  const pages = createPages();

  let server: InitializeResult;
  const running: string[] = [];
  const answers = answerServer(options, pages, { tools: running, server: () => server?.serverInfo.name ?? link.address });
  /** A listener that throws harms nobody else. */
  const tell = (task: () => void) => {
    try {
      task();
    } catch (error) {
      printFault(error, 'in a listener of the client');
    }
  };
  const deviates = (account: string) => tell(() => options.onDeviation?.(account));
  const tools = createToolKnowledge(deviates);
  const notYet: Channel = {
    send() {
      throw new JexoError('JEXO_CLOSED', 'The link has not been started.');
    },
  };
  /** The first notice is told at once; those that come soon after it are one more. */
  const merged = (task: () => void): (() => void) => {
    let isOpen = true;
    let hasMore = false;
    const go = () => {
      isOpen = false;
      tell(task);
      systemClock.after(changeMs, () => {
        isOpen = true;
        if (!hasMore) return;
        hasMore = false;
        if (peer.state === 'ready') go();
      });
    };
    return () => {
      if (isOpen) go();
      else hasMore = true;
    };
  };
  const toolsChanged = merged(() => options.onToolsChanged?.());
  const peer = new Peer({
    role: 'client',
    outlet: notYet,
    clock: systemClock,
    requests: answers.requests,
    onFault: (error) => printFault(error, 'in a listener of the client'),
    notifications: new Map<string, NotificationHandler>([
      ['notifications/message', (params) => options.onLog?.(params as unknown as LogMessage)],
      [
        'notifications/tools/list_changed',
        () => {
          tools.forget();
          toolsChanged();
        },
      ],
      ['notifications/resources/list_changed', merged(() => options.onResourcesChanged?.())],
      ['notifications/prompts/list_changed', merged(() => options.onPromptsChanged?.())],
      ['notifications/resources/updated', ({ uri }) => typeof uri === 'string' && tellWatchers(watchers, uri, tell)],
      // Ids we do not know, or know to be done, are ignored (Client features, "Elicitation", "URL Mode").
      ['notifications/elicitation/complete', ({ elicitationId }) => pages.done(elicitationId) && options.onPageDone?.(elicitationId)],
      ['notifications/tasks/status', (params) => options.onTask?.(params as unknown as Task)],
    ]),
  });
  let hasEnded = false;
  const ended = (error?: Error) => {
    if (hasEnded) return;
    hasEnded = true;
    peer.close(error?.message ?? 'the other side has closed the connection', error);
    tell(() => options.onClosed?.(error));
  };
  const hello = {
    info,
    capabilities: { ...options.capabilities, ...answers.capabilities },
    timeoutMs,
    onAgreed: (revision: Revision) => link.agreed?.(revision),
    ...(options.revision !== undefined && { revision: options.revision }),
  };
  let logLevel: LogLevel | undefined;
  /** What a session was told is told to the next one. */
  const restore = async (): Promise<void> => {
    const level = logLevel === undefined ? [] : [peer.request('logging/setLevel', { level: logLevel }, { timeoutMs })];
    const again = [...watchers.keys()].map((uri) => peer.request('resources/subscribe', { uri }, { timeoutMs }));
    for (const outcome of await Promise.allSettled([...level, ...again]))
      if (outcome.status === 'rejected')
        deviates(`The new session could not be told all that the old one knew: ${messageOf(outcome.reason)}`);
    tell(() => options.onRenewed?.());
  };

  let stop: (() => void) | undefined;
  try {
    const aborted = new Promise<never>((_, reject) => {
      if (signal === undefined) return;
      const onAbort = () => reject(new JexoError('JEXO_CANCELLED', `Connecting to ${link.address} was stopped.`, { cause: signal.reason }));
      if (signal.aborted) return onAbort();
      signal.addEventListener('abort', onAbort, { once: true });
      stop = () => signal.removeEventListener('abort', onAbort);
    });
    aborted.catch(() => undefined);
    const open = async () => {
      peer.outlet = await link.start({
        receive: (value) => peer.receive(value),
        failed: (id, error) => peer.fail(id, error),
        isWaiting: (id) => peer.isWaiting(id),
        interrupted: (error) => peer.failAll(error),
        closed: ended,
        async renew() {
          tools.forget();
          await initialize(peer, hello);
          void restore();
        },
      });
      return initialize(peer, hello);
    };
    server = introduced(await Promise.race([open(), aborted]), deviates);
  } catch (error) {
    hasEnded = true;
    peer.close('the handshake failed');
    await link.close();
    throw error;
  } finally {
    stop?.();
  }
  const { revision } = peer;
  const { capabilities } = server;

  if (options.pingEveryMs !== undefined) {
    pingNowAndThen(peer, options.pingEveryMs, (error) => {
      ended(error);
      void link.close();
    });
  }

  const request = async (method: string, params: Params | undefined, call: RequestOptions = {}): Promise<Params> => {
    const result = await peer.request(method, params, { timeoutMs, ...call });
    const name = params?.task === undefined ? method : `${method}#task`;
    const why = misanswer(revision, name, result);
    if (why === undefined) return result;
    const account = `The server’s answer to ${method} is not what the protocol says: ${why}.`;
    if (essential[name]?.(result) === false) throw new JexoError('JEXO_NOT_PROTOCOL', account, { where: link.address });
    deviates(account);
    return result;
  };
  const need = (
    capability: 'tools' | 'resources' | 'prompts' | 'completions' | 'tasks' | 'logging',
    present = isDeclared(capabilities[capability]),
  ) => {
    if (!present)
      throw new JexoError('JEXO_NOT_SUPPORTED', `${server.serverInfo.name} offers no ${capability}.`, {
        where: link.address,
        data: { capability },
      });
  };
  const canTask = since(revision, '2025-11-25') && isDeclared(capabilities.tasks?.requests?.tools?.call);
  const listAll = async <T>(method: string, key: string, isUsable: (entry: Params) => boolean, call?: CallOptions): Promise<T[]> => {
    const found: T[] = [];
    const seen = new Set<string>();
    let cursor: string | undefined;
    let odd = 0;
    for (let page = 0; ; page++) {
      const result = await request(method, cursor === undefined ? undefined : { cursor }, call);
      for (const entry of result[key] as unknown[]) {
        if (isRecord(entry) && isUsable(entry)) found.push(entry as T);
        else odd++;
      }
      const next: unknown = result.nextCursor;
      const stopped =
        typeof next === 'string' && seen.has(next)
          ? `gave the cursor ${JSON.stringify(next.slice(0, 80))} a second time`
          : page + 1 >= maxPages || found.length > maxEntries
            ? `did not end after ${page + 1} pages and ${found.length} entries`
            : undefined;
      if (stopped !== undefined) deviates(`${method} ${stopped}; what came until then is used.`);
      if (typeof next !== 'string' || stopped !== undefined) break;
      seen.add(next);
      cursor = next;
    }
    if (odd > 0) deviates(`${method} gave ${odd} ${odd === 1 ? 'entry' : 'entries'} without a name or an address; they are left out.`);
    return found;
  };
  const isNamed = ({ name }: Params) => typeof name === 'string';
  const listTools = async (call?: CallOptions): Promise<readonly Tool[]> => {
    need('tools');
    const found = await listAll<Tool>('tools/list', 'tools', isNamed, call);
    tools.learn(found);
    return found;
  };

  const checkOutput = async (name: string, result: CallToolResult): Promise<CallToolResult> => {
    if (result.isError || !since(revision, '2025-06-18')) return result;
    const issues = await tools.misfit(name, result);
    if (issues === undefined) return result;
    throw new JexoError(
      'JEXO_OUTPUT_INVALID',
      `The answer of ${name} does not fit the output schema the server gave for it:\n${describeIssues(issues)}`,
      { where: link.address, next: 'Report it to the makers of the server.', data: { result, issues } },
    );
  };
  /** Whether a tool must, may or must not be run as a task; only a server that has tasks is asked for its tools to know. */
  const taskSupportOf = async (name: string, call?: CallOptions): Promise<TaskSupport> => {
    if (!canTask) return 'forbidden';
    if (!tools.isKnown()) await listTools(call && { ...(call.signal && { signal: call.signal }) });
    return tools.taskSupport(name) ?? 'forbidden';
  };
  const startTask = createTaskStarter({ peer, request, checkOutput });
  const callTool = async (name: string, input: Record<string, unknown>, call: CallOptions = {}): Promise<CallToolResult> => {
    const isTask = (await taskSupportOf(name, call)) === 'required';
    running.push(name);
    try {
      if (!isTask)
        return await checkOutput(name, (await request('tools/call', { name, arguments: input }, call)) as unknown as CallToolResult);
      const task = await startTask(name, input, call);
      return await task.result(call);
    } finally {
      running.splice(running.indexOf(name), 1);
    }
  };

  return {
    address: link.address,
    server,
    tools: listTools,
    async call(name, input = {}, call = {}) {
      need('tools');
      try {
        return await callTool(name, input, call);
      } catch (error) {
        // The person has to visit a page first; when they are done, the call is made once more (Elicitation, "URL Mode").
        if (!(await answers.visitPages(error, call.signal))) throw error;
        return callTool(name, input, call);
      }
    },
    async callAsTask(name, input = {}, { ttlMs, ...call } = {}) {
      need('tasks', canTask);
      if ((await taskSupportOf(name, call)) === 'forbidden')
        throw new JexoError('JEXO_NOT_SUPPORTED', `${name} cannot be run as a task.`, { where: name, next: 'Call it with call().' });
      return startTask(name, input, call, ttlMs);
    },
    task: (id) => followTask(request, { taskId: id }, async (result) => result),
    async tasks(call) {
      need('tasks', since(revision, '2025-11-25') && isDeclared(capabilities.tasks?.list));
      return listAll<Task>('tasks/list', 'tasks', ({ taskId }) => typeof taskId === 'string', call);
    },
    async resources(call) {
      need('resources');
      return listAll<Resource>('resources/list', 'resources', ({ uri }) => typeof uri === 'string', call);
    },
    async templates(call) {
      need('resources');
      const isUsable = ({ uriTemplate }: Params) => typeof uriTemplate === 'string';
      return listAll<ResourceTemplate>('resources/templates/list', 'resourceTemplates', isUsable, call);
    },
    async read(uri, call) {
      need('resources');
      return (await request('resources/read', { uri }, call)) as unknown as ReadResourceResult;
    },
    async watch(uri, changed) {
      need('resources', isDeclared(capabilities.resources) && capabilities.resources.subscribe === true);
      const known = watchers.get(uri);
      if (known !== undefined) known.add(changed);
      else {
        watchers.set(uri, new Set([changed]));
        await request('resources/subscribe', { uri }).catch((error: unknown) => {
          watchers.delete(uri);
          throw error;
        });
      }
      return async () => {
        const left = watchers.get(uri);
        if (!left?.delete(changed) || left.size > 0) return;
        watchers.delete(uri);
        await request('resources/unsubscribe', { uri });
      };
    },
    async prompts(call) {
      need('prompts');
      return listAll<Prompt>('prompts/list', 'prompts', isNamed, call);
    },
    async prompt(name, input = {}, call) {
      need('prompts');
      return (await request('prompts/get', { name, arguments: input }, call)) as unknown as GetPromptResult;
    },
    async complete(ref, argument, known, call) {
      // The capability came with 2025-03-26; the method is older.
      if (since(revision, '2025-03-26')) need('completions');
      const context = known !== undefined && since(revision, '2025-06-18') ? { context: { arguments: known } } : {};
      const { completion } = await request('completion/complete', { ref, argument, ...context }, call);
      return completion as Completion;
    },
    ping: async (call) => void (await request('ping', undefined, call)),
    async setLogLevel(level) {
      need('logging');
      await request('logging/setLevel', { level });
      logLevel = level;
    },
    setRoots(roots) {
      if (answers.capabilities.roots === undefined)
        throw new JexoError('JEXO_NOT_SUPPORTED', 'No roots were declared to this server.', {
          next: 'Give connect() a list of roots, be it an empty one.',
        });
      answers.setRoots(roots);
      peer.notify('notifications/roots/list_changed');
    },
    async close() {
      tellClosed();
      await link.close();
    },
  };

  function tellClosed(): void {
    peer.close('closed by the client');
    if (hasEnded) return;
    hasEnded = true;
    tell(() => options.onClosed?.());
  }
}

/** `null` and `false` are not legal; they count as absent. */
function isDeclared<T>(value: T | null | false | undefined): value is T {
  return value !== undefined && value !== null && value !== false;
}

/** What a server says of itself, with what it left out (Lifecycle, "Initialization"). */
function introduced(result: InitializeResult, deviates: (account: string) => void): InitializeResult {
  const { capabilities, serverInfo } = result as unknown as Params;
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
        ? (serverInfo as unknown as Implementation)
        : { name: 'unnamed server', version: '' },
  };
}

/** The URI may be that of a resource below the one subscribed to. */
function tellWatchers(
  watchers: ReadonlyMap<string, ReadonlySet<(uri: string) => void>>,
  uri: string,
  tell: (task: () => void) => void,
): void {
  for (const [subscribed, tasks] of watchers) {
    if (uri === subscribed || uri.startsWith(subscribed.endsWith('/') ? subscribed : `${subscribed}/`))
      for (const task of tasks) tell(() => task(uri));
  }
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
