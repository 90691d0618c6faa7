import { pause } from '../engine/pause.js';
import { untilAborted } from '../engine/until-aborted.js';
import { JexoError } from '../errors.js';
import type { CallToolResult, Task } from '../protocol/types.js';
import type { CallOptions } from './client.js';
import type { Ask, ClientSession } from './session.js';

/** A call that goes on by itself on the server. */
export interface TaskHandle {
  /** By which the task is asked for, also later and over another connection. */
  readonly id: string;
  /** How it stands now. */
  status(options?: CallOptions): Promise<Task>;
  /**
   * Waits for the result. Questions the task has for a person come while this waits.
   * @throws RpcError when the task failed or was cancelled
   */
  result(options?: CallOptions): Promise<CallToolResult>;
  /** Stops the task on the server. */
  cancel(options?: CallOptions): Promise<Task>;
  /** Asks how it stands, no faster than the server suggests, until it has ended or wants an answer. */
  poll(onStatus: (task: Task) => void, options?: CallOptions): Promise<Task>;
}

export function followTask(
  ask: Ask,
  taskId: string,
  check: (result: CallToolResult) => Promise<CallToolResult>,
  ended: () => void = () => undefined,
): TaskHandle {
  const status = (options?: CallOptions) => ask('tasks/get', { taskId }, options);
  return {
    id: taskId,
    status,
    async result(options) {
      // The answer comes when the work is done, however long that takes.
      try {
        const result = await ask('tasks/result', { taskId }, { timeoutMs: 0, ...options });
        return await check(result as CallToolResult);
      } finally {
        ended();
      }
    },
    async cancel(options) {
      ended();
      return ask('tasks/cancel', { taskId }, options);
    },
    async poll(onStatus, options) {
      for (;;) {
        const task = await status(options);
        onStatus(task);
        if (task.status !== 'working') return task;
        await pause(task.pollInterval ?? 1000, options?.signal);
      }
    },
  };
}

/**
 * Starts calls as tasks. A signal that fires cancels the task, also when it fires before the server has said its id; progress goes on
 * under the token of the call until the task has ended (Tasks, "Task Cancellation" and "Progress").
 */
export function createTaskStarter(session: ClientSession, checkOutput: (name: string, result: CallToolResult) => Promise<CallToolResult>) {
  let last = 0;
  return async (name: string, input: Record<string, unknown>, call: CallOptions = {}, ttlMs?: number): Promise<TaskHandle> => {
    const { signal, onProgress, ...rest } = call;
    const token = `task-${++last}`;
    const unlisten = onProgress === undefined ? () => undefined : session.peer.listenProgress(token, onProgress);
    const params = {
      name,
      arguments: input,
      task: ttlMs === undefined ? {} : { ttl: ttlMs },
      ...(onProgress !== undefined && { _meta: { progressToken: token } }),
    };
    // A signal cancels the task, now or as soon as its id is known; when it has ended there is nothing to cancel.
    const cancel = () => void task.then((handle) => handle.cancel()).catch(() => undefined);
    const ended = () => {
      unlisten();
      signal?.removeEventListener('abort', cancel);
    };
    const task = session
      .askForTask(params, rest)
      .then(({ task: made }) => followTask(session.ask, made.taskId, (result) => checkOutput(name, result), ended));
    task.catch(ended);
    if (signal?.aborted) cancel();
    else signal?.addEventListener('abort', cancel, { once: true });
    if (signal === undefined) return task;
    return untilAborted(task, signal).catch((error: unknown) => {
      if (!signal.aborted) throw error;
      throw new JexoError('JEXO_CANCELLED', 'The task was cancelled.', { cause: error });
    });
  };
}
