import { isRecord } from './is-record.js';
import {
  boolean,
  byMember,
  either,
  identifier,
  integer,
  list,
  mapOf,
  matching,
  milliseconds,
  number,
  object,
  oneOf,
  oneOrMany,
  opt,
  shape,
  share,
  text,
  type Check,
  type Optional,
} from './check.js';
import { readEnvelope } from './json-rpc.js';
import { since, type Revision } from './revisions.js';
import { logLevels } from './types.js';

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

const maybe =
  (check: Check): Check =>
  (value, path) =>
    value === undefined ? undefined : check(value, path);
const uri = matching('a URI', /^[A-Za-z][A-Za-z0-9+.-]*:\S*$/);
const base64 = text;
const role = oneOf('user', 'assistant');
const pageOf = (key: string, item: Check, metaFields: Record<string, Optional>) =>
  shape({ ...metaFields, nextCursor: opt(text), [key]: list(item) });

const relatedTask = shape({ taskId: text });
function metaFields(revision: Revision): Record<string, Optional> {
  return { _meta: opt(since(revision, '2025-11-25') ? shape({ 'io.modelcontextprotocol/related-task': opt(relatedTask) }) : object) };
}
function meta(revision: Revision): Check {
  return shape(metaFields(revision));
}
const urlRequired = shape({ elicitations: list(shape({ mode: oneOf('url'), message: text, elicitationId: text, url: uri })) });

function build(revision: Revision): Grammar {
  const r2 = since(revision, '2025-03-26');
  const r3 = since(revision, '2025-06-18');
  const r4 = since(revision, '2025-11-25');
  type Fields = Record<string, Check | Optional>;
  const when = (known: boolean, fields: Fields): Fields => (known ? fields : {});

  const withMeta = metaFields(revision);
  const innerMeta = when(r3, withMeta as Fields);
  const request: Fields = {
    _meta: opt(shape({ progressToken: opt(identifier), ...when(r4, { 'io.modelcontextprotocol/related-task': opt(relatedTask) }) })),
  };
  const asTask = when(r4, { task: opt(shape({ ttl: opt(number) })) });
  const title = when(r3, { title: opt(text) });
  const icon = shape({ src: uri, mimeType: opt(text), sizes: opt(list(text)), theme: opt(oneOf('light', 'dark')) });
  const icons = when(r4, { icons: opt(list(icon)) });
  const annotations = opt(shape({ audience: opt(list(role)), priority: opt(share), ...when(r3, { lastModified: opt(text) }) }));
  const implementation = shape({
    name: text,
    version: text,
    ...title,
    ...when(r4, { description: opt(text), websiteUrl: opt(uri), icons: opt(list(icon)) }),
  });

  // Content
  const block = (type: string, fields: Fields) => shape({ type: oneOf(type), ...fields, annotations, ...innerMeta });
  const contents = either((value) =>
    shape({ uri, mimeType: opt(text), ...('blob' in value && !('text' in value) ? { blob: base64 } : { text }), ...innerMeta }),
  );
  const resourceFields: Fields = {
    uri,
    name: text,
    ...title,
    ...icons,
    description: opt(text),
    mimeType: opt(text),
    size: opt(integer),
    annotations,
    ...innerMeta,
  };
  const media = { data: base64, mimeType: text };
  const plain = { text: block('text', { text }), image: block('image', media), ...(r2 && { audio: block('audio', media) }) };
  const content = byMember('type', {
    ...plain,
    resource: block('resource', { resource: contents }),
    ...(r3 && { resource_link: shape({ type: oneOf('resource_link'), ...resourceFields }) }),
  });

  // Offers
  const rootSchema = shape({ $schema: opt(text), type: oneOf('object'), properties: opt(mapOf(object)), required: opt(list(text)) });
  const hints = {
    title: opt(text),
    readOnlyHint: opt(boolean),
    destructiveHint: opt(boolean),
    idempotentHint: opt(boolean),
    openWorldHint: opt(boolean),
  };
  const tool = shape({
    name: text,
    ...title,
    ...icons,
    description: opt(text),
    inputSchema: rootSchema,
    ...when(r3, { outputSchema: opt(rootSchema) }),
    ...when(r2, { annotations: opt(shape(hints)) }),
    ...when(r4, { execution: opt(shape({ taskSupport: opt(oneOf('forbidden', 'optional', 'required')) })) }),
    ...innerMeta,
  });
  const resource = shape(resourceFields);
  const template = shape({
    uriTemplate: text,
    name: text,
    ...title,
    ...icons,
    description: opt(text),
    mimeType: opt(text),
    annotations,
    ...innerMeta,
  });
  const argument = shape({ name: text, ...title, description: opt(text), required: opt(boolean) });
  const prompt = shape({ name: text, ...title, ...icons, description: opt(text), arguments: opt(list(argument)), ...innerMeta });
  const toolResult: Fields = { content: list(content), ...when(r3, { structuredContent: opt(object) }), isError: opt(boolean) };

  // Capabilities
  const listChanged = shape({ listChanged: opt(boolean) });
  const clientCapabilities = shape({
    experimental: opt(mapOf(object)),
    roots: opt(listChanged),
    sampling: opt(r4 ? shape({ context: opt(object), tools: opt(object) }) : object),
    ...when(r3, { elicitation: opt(r4 ? shape({ form: opt(object), url: opt(object) }) : object) }),
    ...when(r4, {
      tasks: opt(
        shape({
          list: opt(object),
          cancel: opt(object),
          requests: opt(shape({ sampling: opt(shape({ createMessage: opt(object) })), elicitation: opt(shape({ create: opt(object) })) })),
        }),
      ),
    }),
  });
  const serverCapabilities = shape({
    experimental: opt(mapOf(object)),
    logging: opt(object),
    ...when(r2, { completions: opt(object) }),
    prompts: opt(listChanged),
    resources: opt(shape({ subscribe: opt(boolean), listChanged: opt(boolean) })),
    tools: opt(listChanged),
    ...when(r4, {
      tasks: opt(shape({ list: opt(object), cancel: opt(object), requests: opt(shape({ tools: opt(shape({ call: opt(object) })) })) })),
    }),
  });

  // Sampling
  const samplingBlock = byMember('type', {
    ...plain,
    ...(r4 && {
      tool_use: shape({ type: oneOf('tool_use'), id: text, name: text, input: object, ...withMeta }),
      tool_result: shape({ type: oneOf('tool_result'), toolUseId: text, ...toolResult, ...withMeta }),
    }),
  });
  const samplingContent = r4 ? oneOrMany(samplingBlock) : samplingBlock;
  const samplingMessage = shape({ role, content: samplingContent, ...when(r4, withMeta as Fields) });
  const samplingParams = shape({
    ...request,
    ...asTask,
    messages: list(samplingMessage),
    modelPreferences: opt(
      shape({
        hints: opt(list(shape({ name: opt(text) }))),
        costPriority: opt(share),
        speedPriority: opt(share),
        intelligencePriority: opt(share),
      }),
    ),
    systemPrompt: opt(text),
    includeContext: opt(oneOf('none', 'thisServer', 'allServers')),
    temperature: opt(number),
    maxTokens: integer,
    stopSequences: opt(list(text)),
    metadata: opt(object),
    ...when(r4, { tools: opt(list(tool)), toolChoice: opt(shape({ mode: opt(oneOf('auto', 'required', 'none')) })) }),
  });

  // Elicitation
  const named = { title: opt(text), description: opt(text) };
  const choice = shape({ const: text, title: text });
  const stringField = (value: Record<string, unknown>): Check => {
    const fallback = when(r4, { default: opt(text) });
    if (r4 && 'oneOf' in value && !('enumNames' in value)) return shape({ ...named, oneOf: list(choice), ...fallback });
    if ('enum' in value) return shape({ ...named, enum: list(text), enumNames: opt(list(text)), ...fallback });
    return shape({
      ...named,
      minLength: opt(integer),
      maxLength: opt(integer),
      format: opt(oneOf('email', 'uri', 'date', 'date-time')),
      ...fallback,
    });
  };
  const numberField = shape({ ...named, minimum: opt(number), maximum: opt(number), ...when(r4, { default: opt(number) }) });
  const listField = either(({ items }) =>
    shape({
      ...named,
      minItems: opt(integer),
      maxItems: opt(integer),
      items: isRecord(items) && 'anyOf' in items ? shape({ anyOf: list(choice) }) : shape({ type: oneOf('string'), enum: list(text) }),
      default: opt(list(text)),
    }),
  );
  const formField = byMember('type', {
    string: either(stringField),
    number: numberField,
    integer: numberField,
    boolean: shape({ ...named, default: opt(boolean) }),
    ...(r4 && { array: listField }),
  });
  const form = shape({
    ...request,
    ...asTask,
    message: text,
    requestedSchema: shape({
      type: oneOf('object'),
      properties: mapOf(formField),
      required: opt(list(text)),
      ...when(r4, { $schema: opt(text) }),
    }),
  });
  const elicitParams = !r4
    ? form
    : either(({ mode }) =>
        mode === undefined
          ? form
          : byMember('mode', { form, url: shape({ ...request, ...asTask, message: text, elicitationId: text, url: uri }) }),
      );
  const primitive: Check = (value, path) =>
    ['string', 'number', 'boolean'].includes(typeof value) || (r4 && list(text)(value, path) === undefined)
      ? undefined
      : `${path} must be a string, a number, ${r4 ? 'a list of strings, ' : ''}true or false`;

  // Tasks
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
  const info = maybe(shape(withMeta));
  const shared = {
    'notifications/cancelled': shape({ ...withMeta, requestId: r4 ? opt(identifier) : identifier, reason: opt(text) }),
    'notifications/progress': shape({
      ...withMeta,
      progressToken: identifier,
      progress: number,
      total: opt(number),
      ...when(r2, { message: opt(text) }),
    }),
    ...(r4 && { 'notifications/tasks/status': task }),
  };

  return {
    tool,
    resource,
    taskResult: shape({ ...withMeta, task: shape(taskFields) }),
    requests: {
      client: {
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
      },
      server: {
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
      },
    },
    notifications: {
      client: { 'notifications/initialized': info, 'notifications/roots/list_changed': info, ...shared },
      server: {
        'notifications/tools/list_changed': info,
        'notifications/resources/list_changed': info,
        'notifications/prompts/list_changed': info,
        'notifications/resources/updated': shape({ ...withMeta, uri }),
        'notifications/message': shape({
          ...withMeta,
          level: oneOf(...logLevels),
          logger: opt(text),
          data: (value, path) => (value === undefined ? `${path} is missing` : undefined),
        }),
        ...(r4 && { 'notifications/elicitation/complete': shape({ ...withMeta, elicitationId: text }) }),
        ...shared,
      },
    },
  };
}
