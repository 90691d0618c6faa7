import { milliseconds, number, oneOf, opt, shape, text } from '../check.js';
import { type Base, type Fields } from './base.js';

/** Tasks (2025-11-25). */
export function tasksOf(base: Base) {
  const { withMeta, request } = base;
  const taskFields: Fields = {
    taskId: text,
    status: oneOf('working', 'input_required', 'completed', 'failed', 'cancelled'),
    statusMessage: opt(text),
    createdAt: text,
    lastUpdatedAt: text,
    ttl: milliseconds,
    pollInterval: opt(number),
  };
  const task = shape({ ...withMeta, ...taskFields });
  const byTask = shape({ ...request, taskId: text });
  return { taskFields, task, byTask };
}
export type Tasks = ReturnType<typeof tasksOf>;
