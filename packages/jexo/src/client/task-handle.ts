import type { RequestOptions } from '../engine/peer.js';
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
): TaskHandle {
  const { taskId } = start;
  const status = async (options?: CallOptions) => (await request('tasks/get', { taskId }, options)) as Task;
  return {
    id: taskId,
    status,
    async result(options) {
      // The answer comes when the work is done, however long that takes.
      const result = await request('tasks/result', { taskId }, { timeoutMs: 0, ...options });
      return check(result as unknown as CallToolResult);
    },
    cancel: async (options) => (await request('tasks/cancel', { taskId }, options)) as Task,
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

function pause(ms: number, signal: AbortSignal | undefined): Promise<void> {
  return new Promise((resolve, reject) => {
    signal?.throwIfAborted();
    const timer = setTimeout(done, ms);
    function done() {
      signal?.removeEventListener('abort', stop);
      resolve();
    }
    function stop() {
      clearTimeout(timer);
      reject(signal!.reason as Error);
    }
    signal?.addEventListener('abort', stop, { once: true });
  });
}
