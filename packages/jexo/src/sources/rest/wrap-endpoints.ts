import { JexoError } from '../../errors.js';
import type { Omission, Source } from '../../offers/source.js';
import { compileSchema, isStandardSchema, type Schema } from '../../offers/schema.js';
import type { JsonSchema } from '../../protocol/types.js';
import { isAskedFor } from './read-api.js';
import { wrapRest, type WrapRestOptions } from './wrap-rest.js';

/** A schema of an object, or its properties by name; of these, one is required that says `required: true`. */
type Fields = Schema | Readonly<Record<string, JsonSchema>>;

/** One endpoint of an API that has no document, or of an app in this process. */
export interface Endpoint {
  /** Method and path: `GET /hives/{hive}`; `:hive` stands for `{hive}` too. */
  readonly at: string;
  /** The tool's name. Default: made of method and path, `get_hive`. */
  readonly name?: string;
  /** In a few words, for people. */
  readonly summary?: string;
  /** What it does and when to use it: models read it. */
  readonly description?: string;
  /** Groups it; `only: ["tag:hives"]` chooses by them. */
  readonly tags?: readonly string[];
  /** Parameters in the path. */
  readonly path?: Fields;
  /** Query parameters. */
  readonly query?: Fields;
  /** Header parameters. */
  readonly headers?: Fields;
  /** What is sent, as JSON; or in another form: `{ type: 'multipart/form-data', schema }`. */
  readonly body?: Schema | { readonly type: string; readonly schema: Schema };
  /**
   * True when it takes a body and nobody has said what that holds, as `routesOf` finds it. It is offered only when `only` asks for
   * it by method and path, and then takes any JSON object. `body` takes its place.
   */
  readonly unknownBody?: true;
  /** What a success answers with, as JSON. */
  readonly answer?: Schema;
}

/**
 * Endpoints declared by hand become tools, with the same options as for a document.
 *
 * @param endpoints read when the server first lists what it offers, so a list that is still growing will do
 * @throws when it is read: JexoError JEXO_DEFINITION
 * @example
 * wrapEndpoints([
 *   { at: 'GET /hives', description: 'Hives of an apiary.', query: { apiary: { type: 'string' } } },
 *   { at: 'POST /inspections', description: 'Books an inspection.', body: z.object({ hive: z.string(), note: z.string() }) },
 * ], { baseUrl: env('REGISTRY_URL'), auth: bearer(env('REGISTRY_TOKEN')) })
 */
export function wrapEndpoints(endpoints: readonly Endpoint[], options: WrapRestOptions & { readonly name?: string } = {}): Source {
  const name = options.name ?? 'endpoints';
  return {
    name,
    async read(context) {
      const isUnknown = ({ unknownBody, body }: Endpoint) => unknownBody === true && body === undefined;
      const isOffered = (endpoint: Endpoint) => !isUnknown(endpoint) || isAskedFor(options.only ?? [], endpoint.at, endpoint.at);
      const offered = endpoints.filter(isOffered).map((each) => (isUnknown(each) ? { ...each, body: anyBody } : each));
      const found = await wrapRest(endpointsDocument(offered, name), { ...options, name }).read(context);
      const omitted = endpoints.filter((each) => !isOffered(each)).map(unknown);
      return { ...found, omitted: [...(found.omitted ?? []), ...omitted] };
    },
  };
}

const anyBody: JsonSchema = {
  type: 'object',
  description: 'the JSON body; the app does not say what it takes',
  additionalProperties: true,
};

function unknown({ at }: Endpoint): Omission {
  return {
    name: at,
    what: 'operation',
    code: 'JEXO_DEFINITION',
    where: at,
    why: 'the app does not say what its body holds',
    next: `Declare it: { at: ${JSON.stringify(at)}, body: … }. To offer it with any body: only: ['*', ${JSON.stringify(at)}].`,
  };
}

/** The endpoints as an OpenAPI 3.1 document. @throws JexoError JEXO_DEFINITION */
export function endpointsDocument(endpoints: readonly Endpoint[], title: string): Record<string, unknown> {
  const paths: Record<string, Record<string, unknown>> = {};
  for (const endpoint of endpoints) {
    const [, method = '', given = ''] = /^(GET|POST|PUT|PATCH|DELETE)\s+(\/\S*)$/i.exec(endpoint.at.trim()) ?? [];
    if (method === '')
      throw new JexoError('JEXO_DEFINITION', `${JSON.stringify(endpoint.at)} is no endpoint: it is written as method and path.`, {
        where: endpoint.at,
        next: 'As in: GET /hives/{hive}',
      });
    const path = given.replaceAll(/:(\w+)(?:\([^)]*\))?\??/g, '{$1}');
    const operations = (paths[path] ??= {});
    if (method.toLowerCase() in operations)
      throw new JexoError('JEXO_DEFINITION', `${method.toUpperCase()} ${path} is declared twice.`, { where: endpoint.at });
    operations[method.toLowerCase()] = operationOf(endpoint);
  }
  return { openapi: '3.1.0', info: { title, version: '1.0.0' }, paths };
}

function operationOf({ at, name, summary, description, tags, path, query, headers, body, answer }: Endpoint): object {
  const parameters = [...parametersOf('path', path, at), ...parametersOf('query', query, at), ...parametersOf('header', headers, at)];
  const sent =
    body === undefined
      ? undefined
      : 'schema' in body &&
          'type' in body &&
          typeof (body as { type: unknown }).type === 'string' &&
          /\//.test((body as { type: string }).type)
        ? (body as { type: string; schema: Schema })
        : { type: 'application/json', schema: body as Schema };
  return {
    ...(name !== undefined && { operationId: name }),
    ...(summary !== undefined && { summary }),
    ...(description !== undefined && { description }),
    ...(tags && { tags }),
    ...(parameters.length > 0 && { parameters }),
    ...(sent && { requestBody: { required: true, content: { [sent.type]: { schema: jsonSchema(sent.schema, 'input', at) } } } }),
    responses: {
      200: { description: 'OK', ...(answer && { content: { 'application/json': { schema: jsonSchema(answer, 'output', at) } } }) },
    },
  };
}

function parametersOf(place: string, fields: Fields | undefined, at: string): object[] {
  if (fields === undefined) return [];
  const isSchema = isStandardSchema(fields) || (fields as JsonSchema).type === 'object';
  const { properties = {}, required } = (isSchema ? jsonSchema(fields, 'input', at) : { properties: fields }) as {
    properties?: Record<string, JsonSchema>;
    required?: string[];
  };
  return Object.entries(properties).map(([name, schema]) => {
    const { required: own, ...rest } = schema as Omit<JsonSchema, 'required'> & { readonly required?: unknown };
    const isRequired = place === 'path' || (isSchema ? (required ?? []).includes(name) : own === true);
    return {
      name,
      in: place,
      required: isRequired,
      schema: typeof own === 'boolean' ? rest : schema,
      ...(typeof schema.description === 'string' && { description: schema.description }),
    };
  });
}

function jsonSchema(schema: Schema, direction: 'input' | 'output', at: string): JsonSchema {
  return isStandardSchema(schema) || schema.type === 'object' ? compileSchema(schema, direction, at).json : schema;
}
