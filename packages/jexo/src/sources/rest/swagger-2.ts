import { isRecord } from '../../protocol/is-record.js';
import { limits } from './convert-schema.js';
import type { Server } from './operation.js';

type Node = Readonly<Record<string, unknown>>;
type Follow = (value: unknown) => Node | undefined;

/** What a parameter of Swagger 2.0 says of its value, beside where it is. */
/** In 2.0 these stand on a parameter itself. */
const schemaKeywords = ['type', 'items', 'example', 'x-nullable', 'x-example', ...limits];

const list = (value: unknown): unknown[] => (Array.isArray(value) ? value : []);

/** The parts of Swagger 2.0 that 3.x writes differently, as 3.x writes them. */
export const upgraded = {
  servers(root: Node, from: string | undefined): Server[] {
    const { host, basePath = '', schemes } = root as { host?: string; basePath?: string; schemes?: string[] };
    const origin = from === undefined ? undefined : new URL(from);
    const name = host ?? origin?.host;
    if (name === undefined) return [];
    const scheme = schemes?.includes('https') ? 'https' : (schemes?.[0] ?? origin?.protocol.replace(':', '') ?? 'https');
    return [{ url: `${scheme}://${name}${basePath.replace(/\/$/, '')}`, variables: {} }];
  },

  operation(operation: Node, item: Node, root: Node, follow: Follow): Node {
    const all = new Map<string, Node>();
    for (const each of [...list(item.parameters), ...list(operation.parameters)]) {
      const parameter = follow(each);
      if (parameter !== undefined) all.set(`${String(parameter.in)} ${String(parameter.name)}`, parameter);
    }
    const parameters = [...all.values()];
    const consumes = list(operation.consumes ?? root.consumes).map(String);
    const produces = list(operation.produces ?? root.produces).map(String);
    const body = parameters.find((each) => each.in === 'body');
    const form = parameters.filter((each) => each.in === 'formData');
    const requestBody = body !== undefined ? bodyOf(body, consumes) : form.length > 0 ? formOf(form, consumes) : undefined;
    const types = produces.length > 0 ? produces : ['application/json'];
    return {
      ...operation,
      parameters: parameters.filter((each) => each.in !== 'body' && each.in !== 'formData').map(parameterOf),
      ...(requestBody && { requestBody }),
      responses: Object.fromEntries(
        Object.entries(follow(operation.responses) ?? {}).map(([status, given]) => {
          const { schema, ...response } = follow(given) ?? {};
          return [
            status,
            schema === undefined ? response : { ...response, content: Object.fromEntries(types.map((type) => [type, { schema }])) },
          ];
        }),
      ),
    };
  },

  schemes(root: Node): Node {
    const definitions = isRecord(root.securityDefinitions) ? root.securityDefinitions : {};
    return Object.fromEntries(
      Object.entries(definitions).map(([name, given]) => {
        const scheme = given as Node;
        if (scheme.type === 'basic') return [name, { type: 'http', scheme: 'basic' }];
        if (scheme.type !== 'oauth2') return [name, scheme];
        return [
          name,
          {
            type: 'oauth2',
            flows: { clientCredentials: { tokenUrl: scheme.flow === 'application' ? scheme.tokenUrl : undefined, scopes: scheme.scopes } },
          },
        ];
      }),
    );
  },
};

function schemaOf(parameter: Node): Node {
  const schema = Object.fromEntries(schemaKeywords.filter((key) => parameter[key] !== undefined).map((key) => [key, parameter[key]]));
  return parameter.type === 'file' ? { type: 'string', format: 'binary' } : schema;
}

const separators: Readonly<Record<string, Node>> = {
  csv: { explode: false },
  multi: { explode: true },
  ssv: { style: 'spaceDelimited', explode: false },
  pipes: { style: 'pipeDelimited', explode: false },
};

function parameterOf(parameter: Node): Node {
  const { name, in: place, required, description } = parameter;
  const style = parameter.type === 'array' ? (separators[String(parameter.collectionFormat ?? 'csv')] ?? {}) : {};
  return { name, in: place, required, description, schema: schemaOf(parameter), ...(place === 'query' ? style : { explode: false }) };
}

function bodyOf({ schema, required, description }: Node, consumes: readonly string[]): Node {
  const types = consumes.length > 0 ? consumes : ['application/json'];
  return { required, description, content: Object.fromEntries(types.map((type) => [type, { schema }])) };
}

function formOf(parameters: readonly Node[], consumes: readonly string[]): Node {
  const hasFile = parameters.some(({ type }) => type === 'file');
  const type = hasFile ? 'multipart/form-data' : (consumes.find((each) => /form/.test(each)) ?? 'application/x-www-form-urlencoded');
  const schema = {
    type: 'object',
    properties: Object.fromEntries(parameters.map((each) => [each.name, { ...schemaOf(each), description: each.description }])),
    required: parameters.filter(({ required }) => required).map(({ name }) => name),
  };
  const encoding = Object.fromEntries(
    parameters
      .filter((each) => each.type === 'array')
      .map((each) => [each.name, { style: 'form', ...separators[String(each.collectionFormat ?? 'csv')] }]),
  );
  return { required: parameters.some(({ required }) => required), content: { [type]: { schema, encoding } } };
}
