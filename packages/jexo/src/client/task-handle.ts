import { pause } from '../engine/pause.js';
import type { Peer, RequestOptions } from '../engine/peer.js';
import { JexoError } from '../errors.js';
import type { Params } from '../protocol/json-rpc.js';
import type { CallToolResult, Task } from '../protocol/types.js';
import type { CallOptions } from './connect-link.js';

/** A call that goes on by itself on the server. */
export interface TaskHandle {
  readonly id: string;
  /** How it stands now. */
  status(options?: CallOptions): Promise<Task>;
  /**
   * Waits for the result. Questions the task has for a person come while this waits.
   * @throws RpcError when the task failed or was cancelled
   */
  result(options?: CallOptions): Promise<CallToolResult>;
  cancel(options?: CallOptions): Promise<Task>;
  /** Asks how it stands, no faster than the server suggests, until it has ended or wants an answer. */
  poll(onStatus: (task: Task) => void, options?: CallOptions): Promise<Task>;
}

type Request = (method: string, params: Params | undefined, options?: RequestOptions) => Promise<Params>;

export function followTask(
  request: Request,
  start: Pick<Task, 'taskId'> & Partial<Task>,
  check: (result: CallToolResult) => Promise<CallToolResult>,
  ended: () => void = () => undefined,
): TaskHandle {
  const { taskId } = start;
  const status = async (options?: CallOptions) => (await request('tasks/get', { taskId }, options)) as Task;
  return {
    id: taskId,
    status,
    async result(options) {
      // The answer comes when the work is done, however long that takes.
      try {
        const result = await request('tasks/result', { taskId }, { timeoutMs: 0, ...options });
        return await check(result as unknown as CallToolResult);
      } finally {
        ended();
      }
    },
    async cancel(options) {
      ended();
      return (await request('tasks/cancel', { taskId }, options)) as Task;
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

export interface TaskStarting {
  readonly peer: Peer;
  readonly request: Request;
  readonly checkOutput: (name: string, result: CallToolResult) => Promise<CallToolResult>;
}

/**
 * Starts calls as tasks. A signal that fires cancels the task, also when it fires before the server has said its id; progress goes on
 * under the token of the call until the task has ended (Tasks, "Task Cancellation" and "Progress").
 */
export function createTaskStarter({ peer, request, checkOutput }: TaskStarting) {
  let last = 0;
  return async (name: string, input: Record<string, unknown>, call: CallOptions = {}, ttlMs?: number): Promise<TaskHandle> => {
    const { signal, onProgress, ...rest } = call;
    const token = `task-${++last}`;
    const unlisten = onProgress === undefined ? () => undefined : peer.listenProgress(token, onProgress);
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
    const task = request('tools/call', params, rest).then(({ task: made }) =>
      followTask(request, made as Task, (result) => checkOutput(name, result), ended),
    );
    task.catch(ended);
    if (signal?.aborted) cancel();
    else signal?.addEventListener('abort', cancel, { once: true });
    return signal === undefined ? task : untilAborted(task, signal);
  };
}

/** A promise that is not waited for any longer when a signal fires. */
function untilAborted<T>(work: Promise<T>, signal: AbortSignal): Promise<T> {
  return new Promise((resolve, reject) => {
    const onAbort = () => reject(new JexoError('JEXO_CANCELLED', 'The task was cancelled.', { cause: signal.reason }));
    if (signal.aborted) return onAbort();
    signal.addEventListener('abort', onAbort, { once: true });
    work.then(resolve, reject).finally(() => signal.removeEventListener('abort', onAbort));
  });
}
