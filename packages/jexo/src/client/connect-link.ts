import { JexoError } from '../errors.js';
import { describeIssues } from '../offers/schema.js';
import { since } from '../protocol/revisions.js';
import type { CallToolResult, ServerCapabilities, TaskSupport, Tool } from '../protocol/types.js';
import type { Link } from '../transports/link.js';
import type { CallOptions, Client, ClientOptions } from './client.js';
import { listAll } from './list-all.js';
import { ClientSession } from './session.js';
import { createTaskStarter, followTask } from './task-handle.js';

export type { CallOptions, Client, ClientOptions } from './client.js';

/** Opens a link and completes the handshake. */
export async function connectLink(link: Link, options: ClientOptions = {}): Promise<Client> {
  const session = new ClientSession(link, options);
  await session.open();
  return {
    address: link.address,
    server: session.server,
    ...toolCalls(session),
    ...reads(session),
    ping: async (call) => void (await session.ask('ping', undefined, call)),
    async setLogLevel(level) {
      need(session, 'logging');
      await session.setLogLevel(level);
    },
    setRoots(roots) {
      if (session.answers.capabilities.roots === undefined)
        throw new JexoError('JEXO_NOT_SUPPORTED', 'No roots were declared to this server.', {
          next: 'Give connect() a list of roots, be it an empty one.',
        });
      session.answers.setRoots(roots);
      session.peer.notify('notifications/roots/list_changed');
    },
    close: () => session.close(),
  };
}

/** `null` and `false` are not legal; they count as absent. */
function isDeclared<T>(value: T | null | false | undefined): value is T {
  return value !== undefined && value !== null && value !== false;
}

/** @throws JexoError JEXO_NOT_SUPPORTED */
function need(
  { server, link }: ClientSession,
  capability: 'tools' | 'resources' | 'prompts' | 'completions' | 'tasks' | 'logging',
  isPresent = isDeclared((server.capabilities as Partial<ServerCapabilities>)[capability]),
): void {
  if (isPresent) return;
  throw new JexoError('JEXO_NOT_SUPPORTED', `${server.serverInfo.name} offers no ${capability}.`, {
    where: link.address,
    data: { capability },
  });
}

function toolCalls(session: ClientSession): Pick<Client, 'tools' | 'call' | 'callAsTask' | 'task' | 'tasks'> {
  const { server, peer, tools, answers, running } = session;
  const { tasks } = server.capabilities;
  const canTask = since(peer.revision, '2025-11-25') && isDeclared(tasks?.requests?.tools?.call);
  const list = async (call?: CallOptions): Promise<readonly Tool[]> => {
    need(session, 'tools');
    const found = await listAll(session, 'tools/list', call);
    tools.learn(found);
    return found;
  };
  const check = (name: string, result: CallToolResult) => checkOutput(session, name, result);
  /** Whether a tool must, may or must not be run as a task; only a server that has tasks is asked for its tools to know. */
  const taskSupportOf = async (name: string, call?: CallOptions): Promise<TaskSupport> => {
    if (!canTask) return 'forbidden';
    if (!tools.isKnown()) await list(call && { ...(call.signal && { signal: call.signal }) });
    return tools.taskSupport(name) ?? 'forbidden';
  };
  const startTask = createTaskStarter(session, check);
  const callOnce = async (name: string, input: Record<string, unknown>, call: CallOptions): Promise<CallToolResult> => {
    const isTask = (await taskSupportOf(name, call)) === 'required';
    running.push(name);
    try {
      if (!isTask) return await check(name, await session.ask('tools/call', { name, arguments: input }, call));
      const task = await startTask(name, input, call);
      return await task.result(call);
    } finally {
      running.splice(running.indexOf(name), 1);
    }
  };
  return {
    tools: list,
    async call(name, input = {}, call = {}) {
      need(session, 'tools');
      try {
        return await callOnce(name, input, call);
      } catch (error) {
        // The person has to visit a page first; when they are done, the call is made once more (Elicitation, "URL Mode").
        if (!(await answers.visitPages(error, call.signal))) throw error;
        return callOnce(name, input, call);
      }
    },
    async callAsTask(name, input = {}, { ttlMs, ...call } = {}) {
      need(session, 'tasks', canTask);
      if ((await taskSupportOf(name, call)) === 'forbidden')
        throw new JexoError('JEXO_NOT_SUPPORTED', `${name} cannot be run as a task.`, { where: name, next: 'Call it with call().' });
      return startTask(name, input, call, ttlMs);
    },
    task: (id) => followTask(session.ask, id, async (result) => result),
    async tasks(call) {
      need(session, 'tasks', since(peer.revision, '2025-11-25') && isDeclared(tasks?.list));
      return listAll(session, 'tasks/list', call);
    },
  };
}

/** @throws JexoError JEXO_OUTPUT_INVALID */
async function checkOutput({ peer, tools, link }: ClientSession, name: string, result: CallToolResult): Promise<CallToolResult> {
  if (result.isError || !since(peer.revision, '2025-06-18')) return result;
  const issues = await tools.misfit(name, result);
  if (issues === undefined) return result;
  throw new JexoError(
    'JEXO_OUTPUT_INVALID',
    `The answer of ${name} does not fit the output schema the server gave for it:\n${describeIssues(issues)}`,
    { where: link.address, next: 'Report it to the makers of the server.', data: { result, issues } },
  );
}

function reads(session: ClientSession): Pick<Client, 'resources' | 'templates' | 'read' | 'watch' | 'prompts' | 'prompt' | 'complete'> {
  const { server, peer, watchers } = session;
  const { capabilities } = server;
  return {
    async resources(call) {
      need(session, 'resources');
      return listAll(session, 'resources/list', call);
    },
    async templates(call) {
      need(session, 'resources');
      return listAll(session, 'resources/templates/list', call);
    },
    async read(uri, call) {
      need(session, 'resources');
      return session.ask('resources/read', { uri }, call);
    },
    async watch(uri, changed) {
      need(session, 'resources', isDeclared(capabilities.resources) && capabilities.resources.subscribe === true);
      if (watchers.add(uri, changed))
        await session.ask('resources/subscribe', { uri }).catch((error: unknown) => {
          watchers.remove(uri, changed);
          throw error;
        });
      return async () => {
        if (watchers.remove(uri, changed)) await session.ask('resources/unsubscribe', { uri });
      };
    },
    async prompts(call) {
      need(session, 'prompts');
      return listAll(session, 'prompts/list', call);
    },
    async prompt(name, input = {}, call) {
      need(session, 'prompts');
      return session.ask('prompts/get', { name, arguments: input }, call);
    },
    async complete(ref, argument, known, call) {
      // The capability came with 2025-03-26; the method is older.
      if (since(peer.revision, '2025-03-26')) need(session, 'completions');
      const context = known !== undefined && since(peer.revision, '2025-06-18') ? { context: { arguments: known } } : {};
      const { completion } = await session.ask('completion/complete', { ref, argument, ...context }, call);
      return completion;
    },
  };
}
