import { boolean, byMember, integer, list, mapOf, matching, object, oneOf, opt, shape, text } from '../check.js';
import type { Grammar } from '../grammar.js';
import { logLevels } from '../types.js';
import { role, uri, when, maybe, pageOf } from './base.js';
import type { Parts } from './parts.js';

/** What the requests of both sides have in common. */
function commonOf(parts: Parts) {
  const { withMeta, request, title, taskFields, task, byTask } = parts;
  const done = shape(withMeta);
  const page = maybe(shape({ ...request, cursor: opt(text) }));
  const bare = maybe(shape(request));
  const byUri = shape({ ...request, uri });
  const ping = { params: bare, result: done };
  const reference = byMember('type', { 'ref/prompt': shape({ name: text, ...title }), 'ref/resource': shape({ uri: text }) });
  const tasks = {
    'tasks/get': { params: byTask, result: task },
    'tasks/result': { params: byTask, result: done },
    'tasks/cancel': { params: byTask, result: task },
    'tasks/list': { params: page, result: pageOf('tasks', shape(taskFields), withMeta) },
  };
  return { done, page, bare, byUri, ping, reference, tasks };
}
type Common = ReturnType<typeof commonOf>;

/** What clients ask of servers. */
function clientRequests(parts: Parts, common: Common) {
  const {
    r3,
    r4,
    withMeta,
    request,
    asTask,
    implementation,
    contents,
    content,
    tool,
    resource,
    template,
    prompt,
    toolResult,
    clientCapabilities,
    serverCapabilities,
  } = parts;
  const { done, page, byUri, ping, reference, tasks } = common;
  return {
    initialize: {
      params: shape({ ...request, protocolVersion: text, capabilities: clientCapabilities, clientInfo: implementation }),
      result: shape({
        ...withMeta,
        protocolVersion: text,
        capabilities: serverCapabilities,
        serverInfo: implementation,
        instructions: opt(text),
      }),
    },
    ping,
    'tools/list': { params: page, result: pageOf('tools', tool, withMeta) },
    'tools/call': {
      params: shape({ ...request, ...asTask, name: text, arguments: opt(object) }),
      result: shape({ ...withMeta, ...toolResult }),
    },
    'resources/list': { params: page, result: pageOf('resources', resource, withMeta) },
    'resources/templates/list': { params: page, result: pageOf('resourceTemplates', template, withMeta) },
    'resources/read': { params: byUri, result: shape({ ...withMeta, contents: list(contents) }) },
    'resources/subscribe': { params: byUri, result: done },
    'resources/unsubscribe': { params: byUri, result: done },
    'prompts/list': { params: page, result: pageOf('prompts', prompt, withMeta) },
    'prompts/get': {
      params: shape({ ...request, name: text, arguments: opt(mapOf(text)) }),
      result: shape({ ...withMeta, description: opt(text), messages: list(shape({ role, content })) }),
    },
    'completion/complete': {
      params: shape({
        ...request,
        ref: reference,
        argument: shape({ name: text, value: text }),
        ...when(r3, { context: opt(shape({ arguments: opt(mapOf(text)) })) }),
      }),
      result: shape({ ...withMeta, completion: shape({ values: list(text, 100), total: opt(integer), hasMore: opt(boolean) }) }),
    },
    'logging/setLevel': { params: shape({ ...request, level: oneOf(...logLevels) }), result: done },
    ...(r4 && tasks),
  };
}

/** What servers ask of clients. */
function serverRequests(parts: Parts, common: Common) {
  const { r3, r4, withMeta, innerMeta, samplingContent, samplingParams, elicitParams, primitive } = parts;
  const { bare, ping, tasks } = common;
  return {
    ping,
    'roots/list': {
      params: bare,
      result: shape({
        ...withMeta,
        roots: list(shape({ uri: matching('a file:// URI', /^file:\/\//), name: opt(text), ...innerMeta })),
      }),
    },
    'sampling/createMessage': {
      params: samplingParams,
      result: shape({ ...withMeta, role, content: samplingContent, model: text, stopReason: opt(text) }),
    },
    ...(r3 && {
      'elicitation/create': {
        params: elicitParams,
        result: shape({ ...withMeta, action: oneOf('accept', 'decline', 'cancel'), content: opt(mapOf(primitive)) }),
      },
    }),
    ...(r4 && tasks),
  };
}

/** By method: what its params must be, and what answers it. */
export function requestsOf(parts: Parts): Grammar['requests'] {
  const common = commonOf(parts);
  return { client: clientRequests(parts, common), server: serverRequests(parts, common) };
}
