import type { Omission } from '../../offers/source.js';
import { JexoError, messageOf } from '../../errors.js';
import { isRecord } from '../../protocol/is-record.js';
import { glob } from '../../offers/choose.js';
import type { Api, Body, Operation, Parameter, Place, Server, Style } from './operation.js';
import type { SecurityScheme } from '../http/security.js';
import type { RestDocument } from './read-document.js';
import { upgraded } from './swagger-2.js';

const methods = new Set(['get', 'put', 'post', 'delete', 'options', 'head', 'patch', 'trace']);
const defaultStyles: Record<Place, Style> = { path: 'simple', query: 'form', header: 'simple', cookie: 'form' };
const styles: Record<Place, readonly Style[]> = {
  path: ['simple', 'label', 'matrix'],
  query: ['form', 'spaceDelimited', 'pipeDelimited', 'deepObject'],
  header: ['simple'],
  cookie: ['form'],
};

type Node = Readonly<Record<string, unknown>>;

/**
 * The operations of a document: OpenAPI 3.0, 3.1 or Swagger 2.0. An operation that cannot be read is reported; the others are read.
 * @param bodyTypes the media type of a body where an operation takes several, by operationId or `POST /hives`
 * @param asked patterns of `only`: HEAD and OPTIONS are read only where one of them asks for them, as `HEAD *` or an operationId
 * @throws JexoError JEXO_DOCUMENT when it is no such document
 */
export function readApi(document: RestDocument, bodyTypes: Readonly<Record<string, string>> = {}, asked: readonly string[] = []): Api {
  const { root, shown } = document;
  const version = String(root.openapi ?? root.swagger ?? '');
  if (!/^(?:3\.[01]|2\.0)/.test(version))
    throw new JexoError(
      'JEXO_DOCUMENT',
      version === ''
        ? `${shown} is no OpenAPI document: it says neither openapi nor swagger.`
        : `${shown} is of version ${version}; 3.0, 3.1 and Swagger 2.0 are read.`,
      { where: shown },
    );
  const follow = follower(document);
  const paths = follow(root.paths) ?? {};
  const isOld = version.startsWith('2');
  const operations: Operation[] = [];
  const problems: Omission[] = [];
  const servers = isOld ? upgraded.servers(root, document.url) : serversOf(root.servers, document.url);
  const rootSecurity = root.security;
  for (const [path, given] of Object.entries(paths)) {
    if (!path.startsWith('/')) continue;
    const item = follow(given);
    if (item === undefined) continue;
    for (const method of Object.keys(item)) {
      if (!methods.has(method)) continue;
      const operation = follow(item[method]);
      if (operation === undefined) continue;
      // A place is looked for when somebody asks: that reads the whole text once.
      const whereOf = () => document.whereOf(['paths', path, method]);
      const name = typeof operation.operationId === 'string' ? operation.operationId : `${method.toUpperCase()} ${path}`;
      const at = `${method.toUpperCase()} ${path}`;
      if (method === 'trace' || ((method === 'options' || method === 'head') && !isAskedFor(asked, name, at))) {
        const [why, next] =
          method === 'trace'
            ? ['TRACE sends back what it was sent, secrets too', 'Nothing needs to be done.']
            : [`${method.toUpperCase()} answers with headers alone`, `If you want it, ask for it: only: ['*', ${JSON.stringify(at)}].`];
        problems.push(problemAt(whereOf, { name, why, next }));
        continue;
      }
      try {
        const plain = isOld ? upgraded.operation(operation, item, root, follow) : operation;
        const own = plain.servers ?? item.servers;
        operations.push(
          readOperation({
            method,
            path,
            operation: plain,
            item: isOld ? {} : item,
            whereOf,
            follow,
            security: plain.security ?? rootSecurity,
            servers: own === undefined ? servers : serversOf(own, document.url),
            bodyType: bodyTypes[name] ?? bodyTypes[at],
          }),
        );
      } catch (error) {
        problems.push(problemAt(whereOf, { name, why: messageOf(error), next: 'Fix the document, or exclude the operation with except.' }));
      }
    }
  }
  const info = follow(root.info) ?? {};
  const schemes = isOld ? upgraded.schemes(root) : (follow(follow(root.components)?.securitySchemes) ?? {});
  return {
    title: text(info.title) ?? 'API',
    version: text(info.version) ?? '0.0.0',
    ...(text(info.description) !== undefined && { description: text(info.description)! }),
    operations,
    schemes: Object.fromEntries(
      Object.entries(schemes).flatMap(([name, scheme]) => {
        const read = schemeOf(follow(scheme));
        return read === undefined ? [] : [[name, read]];
      }),
    ),
    servers,
    isRemote: document.url !== undefined,
    problems,
  };
}

/** A problem whose place is looked for only when it is shown. */
function problemAt(whereOf: () => string, problem: Pick<Omission, 'name' | 'why' | 'next'>): Omission {
  return Object.defineProperty({ ...problem, what: 'operation', code: 'JEXO_DOCUMENT', where: '' } as Omission, 'where', {
    get: whereOf,
    enumerable: true,
  });
}

/** `*` alone asks for nothing in particular. */
export function isAskedFor(asked: readonly string[], name: string, at: string): boolean {
  const [method] = at.split(' ');
  return asked.some((pattern) => pattern === name || (pattern.startsWith(`${method} `) && glob(pattern).test(at)));
}

/** Follows references until there is a value; undefined when it is no object. */
export function follower(document: RestDocument): (value: unknown) => Node | undefined {
  return (value) => {
    let found = value;
    for (let step = 0; isRecord(found) && typeof found.$ref === 'string'; step++) {
      if (step > 50) throw new JexoError('JEXO_DOCUMENT', `${found.$ref} refers to itself and nothing else.`, { where: document.shown });
      found = document.resolve(found.$ref);
    }
    return isRecord(found) ? found : undefined;
  };
}

interface Reading {
  readonly method: string;
  readonly path: string;
  readonly operation: Node;
  readonly item: Node;
  readonly whereOf: () => string;
  readonly follow: (value: unknown) => Node | undefined;
  readonly security: unknown;
  readonly servers: readonly Server[];
  readonly bodyType: string | undefined;
}

function readOperation({ method, path, operation, item, whereOf, follow, security, servers, bodyType }: Reading): Operation {
  const parameters = new Map<string, Parameter>();
  for (const each of [...list(item.parameters), ...list(operation.parameters)]) {
    const parameter = readParameter(follow(each), follow);
    if (parameter !== undefined) parameters.set(`${parameter.in} ${parameter.name}`, parameter);
  }
  for (const [, name] of path.matchAll(/\{([^}]+)\}/g))
    if (!parameters.has(`path ${name}`))
      parameters.set(`path ${name}`, {
        name: name!,
        in: 'path',
        required: true,
        schema: { type: 'string' },
        style: 'simple',
        explode: false,
        allowReserved: false,
      });
  const body = readBody(follow(operation.requestBody), bodyType, follow);
  const promised = readAnswer(follow(operation.responses) ?? {}, follow);
  // The answer to HEAD never has a body (RFC 9110, 9.3.2), whatever the document copies from GET.
  const answer = method === 'head' && promised !== undefined ? { status: promised.status, description: promised.description } : promised;
  const summary = text(operation.summary) ?? text(item.summary);
  const description = text(operation.description) ?? text(item.description);
  return {
    method: method.toUpperCase(),
    path,
    ...(text(operation.operationId) !== undefined && { id: text(operation.operationId)! }),
    ...(summary !== undefined && { summary }),
    ...(description !== undefined && { description }),
    tags: list(operation.tags).filter((tag): tag is string => typeof tag === 'string'),
    deprecated: operation.deprecated === true,
    parameters: [...parameters.values()],
    ...(body && { body }),
    ...(answer && { answer }),
    security: list(security).map((need) =>
      Object.entries(isRecord(need) ? need : {}).map(([scheme, scopes]) => ({ scheme, scopes: list(scopes).map(String) })),
    ),
    servers,
    get where() {
      return whereOf();
    },
  };
}

/** Headers that are not for a caller to choose (OpenAPI, "Parameter Object"). */
const notParameters = new Set(['accept', 'content-type', 'authorization']);

function readParameter(parameter: Node | undefined, follow: Reading['follow']): Parameter | undefined {
  if (parameter === undefined) return undefined;
  const { name, in: place } = parameter;
  if (typeof name !== 'string' || !['path', 'query', 'header', 'cookie'].includes(place as string))
    throw new Error(`a parameter has no name, or is in ${String(place)}`);
  if (place === 'header' && notParameters.has(name.toLowerCase())) return undefined;
  const [content, media] = Object.entries(follow(parameter.content) ?? {})[0] ?? [];
  const own = text(parameter.style) as Style | undefined;
  const style = own ?? defaultStyles[place as Place];
  if (!styles[place as Place].includes(style))
    throw new Error(`the parameter ${name} is in ${String(place)}, where the style ${style} has no meaning`);
  const description = text(parameter.description);
  return {
    name,
    in: place as Place,
    required: place === 'path' || parameter.required === true,
    ...(description !== undefined && { description }),
    schema: media === undefined ? withExample(parameter) : (follow(media)?.schema ?? {}),
    style,
    explode: typeof parameter.explode === 'boolean' ? parameter.explode : style === 'form' || style === 'deepObject',
    allowReserved: parameter.allowReserved === true,
    ...(content !== undefined && { content }),
  };
}

function withExample({ schema, example }: Node): unknown {
  return example === undefined || !isRecord(schema) || schema.$ref !== undefined ? (schema ?? {}) : { example, ...schema };
}

const preferred = [/^application\/json\b/i, /\+json\b/i, /^application\/x-www-form-urlencoded\b/i, /^multipart\//i, /^text\//i, /./];

function readBody(body: Node | undefined, wanted: string | undefined, follow: Reading['follow']): Body | undefined {
  if (body === undefined) return undefined;
  const types = Object.entries(follow(body.content) ?? {});
  if (types.length === 0) return undefined;
  const chosen = wanted === undefined ? best(types) : types.find(([type]) => type.toLowerCase().startsWith(wanted.toLowerCase()));
  if (chosen === undefined) throw new Error(`its body is not sent as ${wanted}; it takes ${types.map(([type]) => type).join(', ')}`);
  const [named, media] = chosen;
  // `*/*` says that any type will do; a request has to name one.
  const found = follow(media) ?? {};
  const mediaType = named.includes('*') ? openType(named, follow(found.schema)) : named;
  const description = text(body.description);
  return {
    required: body.required === true,
    ...(description !== undefined && { description }),
    mediaType,
    schema: found.schema ?? {},
    encoding: (follow(found.encoding) ?? {}) as Body['encoding'],
    others: types
      .filter(
        ([type, each]) => wanted === undefined && type !== named && JSON.stringify(follow(each)?.schema) !== JSON.stringify(found.schema),
      )
      .map(([type]) => type),
  };
}

/** What is sent where a document leaves the type open, in whole or in part. */
function openType(range: string, schema: Node | undefined): string {
  const [kind] = range.split('/');
  if (kind === 'text') return 'text/plain';
  const isBytes = schema?.type === 'string' && (schema.format === 'binary' || schema.contentEncoding !== undefined);
  return (kind === '*' || kind === 'application') && !isBytes ? 'application/json' : 'application/octet-stream';
}

function best<T>(types: readonly (readonly [string, T])[]): readonly [string, T] {
  for (const pattern of preferred) {
    const found = types.find(([type]) => pattern.test(type));
    if (found !== undefined) return found;
  }
  return types[0]!;
}

function readAnswer(responses: Node, follow: Reading['follow']): Operation['answer'] {
  const status =
    Object.keys(responses)
      .filter((each) => /^2(?:\d\d|XX)$/i.test(each))
      .sort()[0] ?? ('default' in responses ? 'default' : undefined);
  if (status === undefined) return undefined;
  const response = follow(responses[status]) ?? {};
  const types = Object.entries(follow(response.content) ?? {});
  const linked = Object.keys(follow(response.headers) ?? {}).some((name) => /^link$/i.test(name));
  const description = text(response.description) ?? '';
  if (types.length === 0) return { status, description };
  const [mediaType, media] = best(types);
  const schema = follow(media)?.schema;
  return { status, description, mediaType, ...(schema !== undefined && { schema }), ...(linked && { linked }) };
}

function serversOf(given: unknown, from: string | undefined): Server[] {
  return list(given).flatMap((each) => {
    if (!isRecord(each) || typeof each.url !== 'string') return [];
    const url = from !== undefined && !/^[a-z]+:|^\{/i.test(each.url) ? new URL(each.url, from).href : each.url;
    return [{ url, variables: (isRecord(each.variables) ? each.variables : {}) as Server['variables'] }];
  });
}

function schemeOf(scheme: Node | undefined): SecurityScheme | undefined {
  switch (scheme?.type) {
    case 'apiKey':
      return { type: 'apiKey', in: scheme.in as 'header', name: String(scheme.name) };
    case 'http':
      return { type: 'http', scheme: String(scheme.scheme ?? 'bearer').toLowerCase() };
    case 'oauth2': {
      const flow = isRecord(scheme.flows) && isRecord(scheme.flows.clientCredentials) ? scheme.flows.clientCredentials : {};
      return {
        type: 'oauth2',
        ...(typeof flow.tokenUrl === 'string' && { tokenUrl: flow.tokenUrl }),
        scopes: isRecord(flow.scopes) ? Object.keys(flow.scopes) : [],
      };
    }
    case 'openIdConnect':
    case 'mutualTLS':
      return { type: scheme.type };
    default:
      return undefined;
  }
}

const list = (value: unknown): unknown[] => (Array.isArray(value) ? value : []);
const text = (value: unknown): string | undefined => (typeof value === 'string' && value.trim() !== '' ? value.trim() : undefined);
