import type { JsonType } from '../protocol/json-schema.js';
import { isRecord } from '../protocol/is-record.js';
import { isSecretSetting } from '../protocol/secret-names.js';
import type { JsonSchema } from '../protocol/types.js';
import { snakeCase } from '../sources/functions/snake-case.js';
import type { RecordedRequest } from './parse-curl.js';

/** An endpoint as it was guessed, ready to be written down. */
export interface GuessedEndpoint {
  readonly at: string;
  readonly description: string;
  readonly path?: Readonly<Record<string, JsonSchema>>;
  readonly query?: Readonly<Record<string, JsonSchema>>;
  readonly body?: JsonSchema | { readonly type: string; readonly schema: JsonSchema };
  readonly answer?: JsonSchema;
}

export interface Guessed {
  readonly base: string;
  readonly endpoints: readonly GuessedEndpoint[];
  /** How the API was told who calls: the code for it, and the variables it reads with what they held. */
  readonly auth?: string;
  readonly headers: Readonly<Record<string, string>>;
  readonly inputs: Readonly<Record<string, string>>;
  readonly secrets: Readonly<Record<string, string>>;
}

/** Headers a browser or a client sends by itself. */
const ordinary =
  /^(?:accept(?:-.*)?|user-agent|referer|origin|host|connection|content-(?:type|length)|cache-control|pragma|sec-.*|priority|dnt|te|upgrade-insecure-requests|if-.*|:.*|x-requested-with|authorization|cookie)$/i;

/** Guesses endpoints, with schemas, from requests that were made. Secrets are moved to variables; none stays in what is written. */
export function guessEndpoints(requests: readonly RecordedRequest[]): Guessed {
  const origin = requests[0]!.url.origin;
  const shapes = shapePaths(requests.map(({ url }) => url.pathname));
  const groups = new Map<string, { requests: RecordedRequest[]; values: Record<string, string>[] }>();
  requests.forEach((request, index) => {
    const { path, values } = shapes[index]!;
    const key = `${request.method} ${path}`;
    const group = groups.get(key) ?? { requests: [], values: [] };
    group.requests.push(request);
    group.values.push(values);
    groups.set(key, group);
  });
  const secrets: Record<string, string> = {};
  const inputs: Record<string, string> = {};
  const headers: Record<string, string> = {};
  let auth: string | undefined;
  for (const { headers: sent } of requests)
    for (const [name, value] of sent) {
      const lower = name.toLowerCase();
      const [, scheme = '', rest = ''] = /^(\w+)\s+(.*)$/.exec(value) ?? [];
      if (lower === 'authorization' && /^bearer$/i.test(scheme)) {
        auth = "bearer(env('API_TOKEN'))";
        secrets.API_TOKEN = rest;
      } else if (lower === 'authorization' && /^basic$/i.test(scheme)) {
        auth = "basic(env('API_USER'), env('API_PASSWORD'))";
        const [user = '', ...password] = decodeBase64(rest).split(':');
        Object.assign(secrets, { API_USER: user, API_PASSWORD: password.join(':') });
      } else if (lower === 'authorization' || lower === 'cookie' || (!ordinary.test(lower) && isSecretSetting(lower))) {
        const variable = variableFor(lower, value, secrets);
        headers[name] = variable;
      }
    }
  const endpoints = [...groups].map(([at, group]): GuessedEndpoint => {
    const queries = group.requests.map(({ url }) => url.searchParams);
    const names = [...new Set(queries.flatMap((each) => [...each.keys()]))];
    const query: Record<string, JsonSchema> = {};
    for (const name of names) {
      const values = queries.flatMap((each) => each.getAll(name));
      if (isSecretSetting(name)) {
        inputs[`*.${name}`] = variableFor(name, values[0]!, secrets);
        query[name] = { type: 'string' };
        continue;
      }
      const isList = queries.some((each) => each.getAll(name).length > 1);
      const schema = textSchema(values);
      query[name] = isList ? { type: 'array', items: schema } : schema;
    }
    const path = Object.fromEntries(
      Object.keys(group.values[0]!).map((name) => [name, textSchema(group.values.map((each) => each[name]!))]),
    );
    const bodies = group.requests.flatMap(({ body }) => (body === undefined ? [] : [body]));
    const answers = group.requests
      .flatMap(({ answer }) => (answer === undefined ? [] : [parsed(answer.text)]))
      .filter((each) => each !== undefined);
    const body = bodies.length === 0 ? undefined : bodySchema(bodies);
    return {
      at,
      description: `Describe here what ${at} does, and when to use it.`,
      ...(Object.keys(path).length > 0 && { path: toDescribe(path) }),
      ...(Object.keys(query).length > 0 && { query: toDescribe(query) }),
      ...(body !== undefined && { body: bodyToDescribe(body) }),
      ...(answers.length > 0 && { answer: jsonSchema(answers, false) }),
    };
  });
  return { base: origin, endpoints, ...(auth !== undefined && { auth }), headers, inputs, secrets };
}

/** A place for the words that a recording cannot hold. */
function toDescribe(fields: Readonly<Record<string, JsonSchema>>): Record<string, JsonSchema> {
  return Object.fromEntries(
    Object.entries(fields).map(([name, schema]) => [name, { description: `Describe here what ${name} is.`, ...schema }]),
  );
}

function bodyToDescribe(body: NonNullable<GuessedEndpoint['body']>): NonNullable<GuessedEndpoint['body']> {
  if (isRecord((body as { schema?: unknown }).schema) && typeof (body as { type?: unknown }).type === 'string') {
    const { type, schema } = body as { type: string; schema: JsonSchema };
    return { type, schema: fieldsToDescribe(schema) };
  }
  return fieldsToDescribe(body as JsonSchema);
}

function fieldsToDescribe(schema: JsonSchema): JsonSchema {
  return isRecord(schema.properties) ? { ...schema, properties: toDescribe(schema.properties as Record<string, JsonSchema>) } : schema;
}

/** A variable for a secret, named after where it stood; one that holds something else already gets a number. */
function variableFor(name: string, value: string, secrets: Record<string, string>): string {
  const base = `API_${snakeCase(name.replaceAll(/\W+/g, '_')).toUpperCase()}`.replace('API_X_', 'API_').replace('API_API_', 'API_');
  let variable = base;
  for (let count = 2; Object.hasOwn(secrets, variable) && secrets[variable] !== value; count++) variable = `${base}_${count}`;
  secrets[variable] = value;
  return variable;
}

const looksLikeId = (segment: string) =>
  /^\d+$|^[0-9a-f]{8}-[0-9a-f-]{27}$|^[0-9a-f]{12,}$|^[A-Za-z]{1,6}-\d+$|^(?=.*\d)[A-Za-z0-9_-]{16,}$/i.test(segment);

/** Paths with variables where a segment is an id, named by what stands before it. */
function shapePaths(paths: readonly string[]): { path: string; values: Record<string, string> }[] {
  return paths.map((path) => {
    const values: Record<string, string> = {};
    let before = 'item';
    const segments = path.split('/').map((segment) => {
      if (segment === '' || !looksLikeId(decodeURIComponent(segment))) {
        if (segment !== '') before = segment;
        return segment;
      }
      const noun = snakeCase(before.replaceAll(/\W+/g, '_'))
        .replace(/ies$/, 'y')
        .replace(/([^s])s$/, '$1');
      let name = noun;
      for (let count = 2; Object.hasOwn(values, name); count++) name = `${noun}_${count}`;
      values[name] = decodeURIComponent(segment);
      return `{${name}}`;
    });
    return { path: segments.join('/') || '/', values };
  });
}

function textSchema(values: readonly string[]): JsonSchema {
  const all = (pattern: RegExp) => values.length > 0 && values.every((value) => pattern.test(value));
  const examples = [...new Set(values)].slice(0, 3);
  if (all(/^-?(?:0|[1-9]\d{0,14})$/)) return { type: 'integer', examples: examples.map(Number) };
  if (all(/^-?\d+\.\d+$/)) return { type: 'number', examples: examples.map(Number) };
  if (all(/^(?:true|false)$/)) return { type: 'boolean' };
  return { type: 'string', ...formatOf(values), examples };
}

function formatOf(values: readonly string[]): JsonSchema {
  const all = (pattern: RegExp) => values.length > 0 && values.every((value) => pattern.test(value));
  if (all(/^\d{4}-\d\d-\d\d$/)) return { format: 'date' };
  if (all(/^\d{4}-\d\d-\d\dT\d\d:\d\d(?::\d\d(?:\.\d+)?)?(?:Z|[+-]\d\d:\d\d)$/)) return { format: 'date-time' };
  if (all(/^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/i)) return { format: 'uuid' };
  return {};
}

/** A schema all of these values fit; with examples for inputs, without them for answers, which may hold anybody's data. */
export function jsonSchema(values: readonly unknown[], withExamples: boolean): JsonSchema {
  const kinds = new Set(values.map((value) => (value === null ? 'null' : Array.isArray(value) ? 'array' : typeof value)));
  const nullable = kinds.delete('null');
  const [kind, another] = [...kinds];
  const typed = (type: JsonType): JsonSchema => (nullable ? { type: [type, 'null'] } : { type });
  if (kind === undefined) return {};
  if (another !== undefined) return {};
  const present = values.filter((value) => value !== null);
  if (kind === 'object') {
    const objects = present as Record<string, unknown>[];
    const names = [...new Set(objects.flatMap((each) => Object.keys(each)))];
    const required = names.filter((name) => objects.every((each) => Object.hasOwn(each, name)));
    const properties: Record<string, JsonSchema> = Object.fromEntries(
      names.map((name) => [
        name,
        jsonSchema(
          objects.flatMap((each) => (Object.hasOwn(each, name) ? [each[name]] : [])),
          withExamples && !isSecretSetting(name),
        ),
      ]),
    );
    return { ...typed('object'), properties, ...(required.length > 0 && { required }) };
  }
  if (kind === 'array') return { ...typed('array'), items: jsonSchema((present as unknown[][]).flat().slice(0, 200), withExamples) };
  if (kind === 'number')
    return {
      ...typed(present.every(Number.isInteger) ? 'integer' : 'number'),
      ...(withExamples && { examples: [...new Set(present)].slice(0, 3) }),
    };
  if (kind === 'boolean') return typed('boolean');
  return { ...typed('string'), ...formatOf(present as string[]), ...(withExamples && { examples: [...new Set(present)].slice(0, 3) }) };
}

function bodySchema(bodies: readonly NonNullable<RecordedRequest['body']>[]): GuessedEndpoint['body'] {
  const [{ type }] = bodies as [NonNullable<RecordedRequest['body']>];
  if (/json/i.test(type)) {
    const values = bodies.flatMap((body) => ('text' in body ? [parsed(body.text)] : [])).filter((value) => value !== undefined);
    return jsonSchema(values, true);
  }
  const objects = bodies.map((body) =>
    'fields' in body ? body.fields : [...new URLSearchParams(body.text)].map(([name, value]) => [name, value, false] as const),
  );
  if (!/form/i.test(type)) return { type, schema: { type: 'string' } };
  const names = [...new Set(objects.flatMap((fields) => fields.map(([name]) => name)))];
  const properties: Record<string, JsonSchema> = Object.fromEntries(
    names.map((name): [string, JsonSchema] => {
      const mine = objects.flatMap((fields) => fields.filter(([each]) => each === name));
      const isFile = mine.some(([, , file]) => file);
      return [
        name,
        isFile
          ? { type: 'string', format: 'binary' }
          : isSecretSetting(name)
            ? { type: 'string' }
            : textSchema(mine.map(([, value]) => value)),
      ];
    }),
  );
  return {
    type,
    schema: {
      type: 'object',
      properties,
      required: names.filter((name) => objects.every((fields) => fields.some(([each]) => each === name))),
    },
  };
}

function parsed(text: string): unknown {
  try {
    const value: unknown = JSON.parse(text);
    return isRecord(value) || Array.isArray(value) ? value : undefined;
  } catch {
    return undefined; // cut short, or no JSON after all
  }
}

function decodeBase64(text: string): string {
  try {
    return atob(text);
  } catch {
    return '';
  }
}
