import { systemClock } from '../engine/clock.js';
import type { Channel } from '../engine/exchange.js';
import { initialize } from '../engine/handshake.js';
import { Peer, type NotificationHandler, type RequestOptions } from '../engine/peer.js';
import { JexoError } from '../errors.js';
import { compileSchema, describeIssues, type CompiledSchema } from '../offers/schema.js';
import { misanswer } from '../protocol/grammar.js';
import type { Params } from '../protocol/json-rpc.js';
import { since, type Revision } from '../protocol/revisions.js';
import type {
  CallToolResult,
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
  Tool,
} from '../protocol/types.js';
import type { Link } from '../transports/link.js';
import { answerServer, type ServerAnswers } from './answer-server.js';
import { followTask, type TaskHandle } from './task-handle.js';

export interface ClientOptions extends ServerAnswers {
  /** What the client calls itself. */
  readonly info?: Implementation;
  /** The revision to ask for. Default: the newest. */
  readonly revision?: Revision;
  /** Milliseconds to wait for an answer, for every request that says nothing else. Default 60,000. */
  readonly timeoutMs?: number;
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
  /** An answer departs from the protocol in a way that can be lived with. */
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
  /** Names other roots, and tells the server. */
  setRoots(roots: readonly Root[]): void;
  close(): Promise<void>;
}

/** More pages than any real list has; a server that never stops is cut off here (Server utilities, "Pagination"). */
const maxPages = 10_000;

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
  const { info = { name: 'jexo', version: '0.1.0' }, timeoutMs = 60_000 } = options;
  const watchers = new Map<string, Set<(uri: string) => void>>();
  const outputs = new Map<string, CompiledSchema>();
  const pages = new Set<string>();
  const answers = answerServer(options, pages);
  const notYet: Channel = {
    send() {
      throw new JexoError('JEXO_CLOSED', 'The link has not been started.');
    },
  };
  const peer = new Peer({
    role: 'client',
    outlet: notYet,
    clock: systemClock,
    requests: answers.requests,
    notifications: new Map<string, NotificationHandler>([
      ['notifications/message', (params) => options.onLog?.(params as unknown as LogMessage)],
      [
        'notifications/tools/list_changed',
        () => {
          outputs.clear();
          options.onToolsChanged?.();
        },
      ],
      ['notifications/resources/list_changed', () => options.onResourcesChanged?.()],
      ['notifications/prompts/list_changed', () => options.onPromptsChanged?.()],
      ['notifications/resources/updated', ({ uri }) => typeof uri === 'string' && tellWatchers(watchers, uri)],
      // Ids we do not know, or know to be done, are ignored (Client features, "Elicitation", "URL Mode").
      ['notifications/elicitation/complete', ({ elicitationId }) => pages.delete(elicitationId) && options.onPageDone?.(elicitationId)],
      ['notifications/tasks/status', (params) => options.onTask?.(params as unknown as Task)],
    ]),
  });
  const ended = (error?: Error) => {
    if (peer.state === 'closed') return;
    peer.close(error?.message ?? 'the other side has closed the connection', error);
    options.onClosed?.(error);
  };
  const hello = {
    info,
    capabilities: answers.capabilities,
    timeoutMs,
    onAgreed: (revision: Revision) => link.agreed?.(revision),
    ...(options.revision !== undefined && { revision: options.revision }),
  };
  peer.outlet = await link.start({
    receive: (value) => peer.receive(value),
    failed: (id, error) => peer.fail(id, error),
    isWaiting: (id) => peer.isWaiting(id),
    interrupted: (error) => peer.failAll(error),
    closed: ended,
    async renew() {
      await initialize(peer, hello);
      const again = [...watchers.keys()].map((uri) => peer.request('resources/subscribe', { uri }, { timeoutMs }));
      Promise.all(again).then(
        () => options.onRenewed?.(),
        (error: Error) => options.onDeviation?.(`A subscription could not be renewed: ${error.message}`),
      );
    },
  });
  let server: InitializeResult;
  try {
    server = await initialize(peer, hello);
  } catch (error) {
    peer.close('the handshake failed');
    await link.close();
    throw error;
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
    options.onDeviation?.(account);
    return result;
  };
  const need = (
    capability: 'tools' | 'resources' | 'prompts' | 'completions' | 'tasks',
    present = capabilities[capability] !== undefined,
  ) => {
    if (!present)
      throw new JexoError('JEXO_NOT_SUPPORTED', `${server.serverInfo.name} offers no ${capability}.`, {
        where: link.address,
        data: { capability },
      });
  };
  const listAll = async <T>(method: string, key: string, call?: CallOptions): Promise<T[]> => {
    const found: T[] = [];
    const seen = new Set<string>();
    let cursor: string | undefined;
    for (let page = 0; page < maxPages; page++) {
      const result = await request(method, cursor === undefined ? undefined : { cursor }, call);
      found.push(...(result[key] as T[]));
      cursor = result.nextCursor as string | undefined;
      if (cursor === undefined) return found;
      if (seen.has(cursor))
        throw new JexoError('JEXO_PAGING', `${method} gave the cursor ${JSON.stringify(cursor)} a second time.`, { where: link.address });
      seen.add(cursor);
    }
    throw new JexoError('JEXO_PAGING', `${method} did not end after ${maxPages} pages.`, { where: link.address });
  };

  const mustBeTasks = new Set<string>();
  const checkOutput = async (name: string, result: CallToolResult): Promise<CallToolResult> => {
    const schema = outputs.get(name);
    if (schema === undefined || result.isError || !since(revision, '2025-06-18')) return result;
    const checked = await schema.check(result.structuredContent === undefined ? undefined : structuredClone(result.structuredContent));
    if (checked.ok) return result;
    throw new JexoError(
      'JEXO_OUTPUT_INVALID',
      `The answer of ${name} does not fit the output schema the server gave for it:\n${describeIssues(checked.issues)}`,
      {
        where: link.address,
        next: 'Report it to the makers of the server.',
        data: { result, issues: checked.issues },
      },
    );
  };
  const callAsTask: Client['callAsTask'] = async (name, input = {}, { ttlMs, ...call } = {}) => {
    need('tasks', since(revision, '2025-11-25') && capabilities.tasks?.requests?.tools?.call !== undefined);
    const { task } = await request('tools/call', { name, arguments: input, task: ttlMs === undefined ? {} : { ttl: ttlMs } }, call);
    return followTask(request, task as Task, (result) => checkOutput(name, result));
  };

  return {
    address: link.address,
    server,
    async tools(call) {
      need('tools');
      const tools = await listAll<Tool>('tools/list', 'tools', call);
      outputs.clear();
      mustBeTasks.clear();
      for (const { name, outputSchema, execution } of tools) {
        if (outputSchema !== undefined) outputs.set(name, compileSchema(outputSchema, 'output', `tool ${name}`));
        if (execution?.taskSupport === 'required' && capabilities.tasks?.requests?.tools?.call !== undefined) mustBeTasks.add(name);
      }
      return tools;
    },
    async call(name, input = {}, call) {
      need('tools');
      if (mustBeTasks.has(name)) return (await callAsTask(name, input, call)).result(call);
      return checkOutput(name, (await request('tools/call', { name, arguments: input }, call)) as unknown as CallToolResult);
    },
    callAsTask,
    task: (id) => followTask(request, { taskId: id }, async (result) => result),
    async tasks(call) {
      need('tasks', capabilities.tasks?.list !== undefined);
      return listAll<Task>('tasks/list', 'tasks', call);
    },
    async resources(call) {
      need('resources');
      return listAll<Resource>('resources/list', 'resources', call);
    },
    async templates(call) {
      need('resources');
      return listAll<ResourceTemplate>('resources/templates/list', 'resourceTemplates', call);
    },
    async read(uri, call) {
      need('resources');
      return (await request('resources/read', { uri }, call)) as unknown as ReadResourceResult;
    },
    async watch(uri, changed) {
      need('resources', capabilities.resources?.subscribe === true);
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
      return listAll<Prompt>('prompts/list', 'prompts', call);
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
    setLogLevel: async (level) => void (await request('logging/setLevel', { level })),
    setRoots(roots) {
      answers.setRoots(roots);
      peer.notify('notifications/roots/list_changed');
    },
    async close() {
      peer.close('closed by the client');
      await link.close();
      options.onClosed?.();
    },
  };
}

/** The URI may be that of a resource below the one subscribed to. */
function tellWatchers(watchers: ReadonlyMap<string, ReadonlySet<(uri: string) => void>>, uri: string): void {
  for (const [subscribed, tasks] of watchers) {
    if (uri === subscribed || uri.startsWith(subscribed.endsWith('/') ? subscribed : `${subscribed}/`)) for (const task of tasks) task(uri);
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
