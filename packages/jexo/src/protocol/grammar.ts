import { shape, type Check } from './check.js';
import { meta, urlRequired } from './grammar/base.js';
import { notificationsOf } from './grammar/notifications.js';
import { partsOf } from './grammar/parts.js';
import { requestsOf } from './grammar/requests.js';
import { isRecord } from './is-record.js';
import { readEnvelope } from './json-rpc.js';
import { since, type Revision } from './revisions.js';

export type Side = 'client' | 'server';

export interface Grammar {
  /** By method: what its params must be, and what answers it. */
  readonly requests: Readonly<Record<Side, Readonly<Record<string, { readonly params: Check; readonly result: Check }>>>>;
  readonly notifications: Readonly<Record<Side, Readonly<Record<string, Check>>>>;
  readonly taskResult: Check;
  readonly tool: Check;
  readonly resource: Check;
}

const grammars = new Map<Revision, Grammar>();

/** The grammar of one revision's messages. */
export function grammarOf(revision: Revision): Grammar {
  let grammar = grammars.get(revision);
  if (grammar === undefined) grammars.set(revision, (grammar = build(revision)));
  return grammar;
}

/** Why a message of this side is not valid in this revision; undefined when it is. */
export function misread(revision: Revision, side: Side, value: unknown): string | undefined {
  // Batches exist in this revision only.
  if (Array.isArray(value) && revision === '2025-03-26') {
    if (value.length === 0) return 'a batch must not be empty';
    if (new Set(value.map(isAnswer)).size > 1) return 'a batch holds requests and notifications, or answers, not both';
    for (const each of value) {
      const why = isInitialize(each)
        ? 'initialize must not be part of a batch'
        : misread(revision, side, Array.isArray(each) ? null : each);
      if (why !== undefined) return why;
    }
    return undefined;
  }
  const envelope = readEnvelope(value);
  const grammar = grammarOf(revision);
  switch (envelope.kind) {
    case 'invalid':
      return envelope.why;
    case 'request': {
      const { method, params } = envelope.message;
      const known = find(grammar.requests[side], method);
      return known === undefined ? `${side}s send no request ${method}` : known.params(params, 'params');
    }
    case 'notification': {
      const { method, params } = envelope.message;
      const known = find(grammar.notifications[side], method);
      return known === undefined ? `${side}s send no notification ${method}` : known(params, 'params');
    }
    case 'result':
      return meta(revision)(envelope.message.result, 'result');
    case 'error':
      if (envelope.message.error.code === -32042 && since(revision, '2025-11-25') && side === 'server') {
        return envelope.message.id === null ? 'id must be that of the request' : urlRequired(envelope.message.error.data, 'error.data');
      }
      return undefined;
  }
}

/** Why a result does not answer the method; undefined when it does. `method#task` names the answer to a request sent as a task. */
export function misanswer(revision: Revision, method: string, result: unknown): string | undefined {
  const grammar = grammarOf(revision);
  if (method.endsWith('#task')) return grammar.taskResult(result, 'result');
  const known = find(grammar.requests.client, method) ?? find(grammar.requests.server, method);
  return known === undefined ? `there is no method ${method}` : known.result(result, 'result');
}

function isAnswer(value: unknown): boolean {
  return isRecord(value) && !('method' in value);
}

function isInitialize(value: unknown): boolean {
  return isRecord(value) && value.method === 'initialize';
}

function find<T>(table: Readonly<Record<string, T>>, name: string): T | undefined {
  return Object.hasOwn(table, name) ? table[name] : undefined;
}

function build(revision: Revision): Grammar {
  const parts = partsOf(revision);
  const { tool, resource, withMeta, taskFields } = parts;
  return {
    tool,
    resource,
    taskResult: shape({ ...withMeta, task: shape(taskFields) }),
    requests: requestsOf(parts),
    notifications: notificationsOf(parts),
  };
}
