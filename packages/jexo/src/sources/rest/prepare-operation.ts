import { propertiesOf } from '../../protocol/json-schema.js';
import type { Answer } from '../../offers/answer.js';
import type { Call } from '../../offers/call.js';
import { lazySchema, type CompiledSchema } from '../../offers/schema.js';
import type { Settings } from '../../offers/source.js';
import { JexoError, messageOf } from '../../errors.js';
import { isRecord } from '../../protocol/is-record.js';
import type { JsonSchema } from '../../protocol/types.js';
import { followPages, type PageSource } from '../http/follow-pages.js';
import { guarded } from '../http/guarded.js';
import type { AskedBy, Received } from '../http/http-call.js';
import { pagingOf, type Paging } from '../http/pages.js';
import { cutMark, jsonOf, readAnswer, structured, type AnswerContext } from '../http/read-answer.js';
import type { Upstream } from '../http/upstream.js';
import { join } from './address.js';
import { buildRequest } from './build-request.js';
import type { Operation } from './operation.js';
import type { OperationInput } from './operation-input.js';
import type { WrapRestOptions } from './wrap-rest.js';

/** An operation, ready to be called. */
export interface Prepared {
  readonly input: CompiledSchema;
  readonly output: CompiledSchema | undefined;
  readonly run: (input: Record<string, unknown>, call: Call) => Promise<Answer>;
  /** Reads it as a resource. */
  readonly read: (input: Record<string, unknown>, call: Call) => Promise<unknown>;
}

interface Preparation {
  readonly operation: Operation;
  readonly makeInput: () => OperationInput;
  readonly promise: (() => JsonSchema) | undefined;
  readonly upstream: Upstream;
  readonly options: WrapRestOptions;
  readonly settings: Settings;
  /** Where the operation is. @throws JexoError JEXO_DEFINITION, JEXO_SETTING */
  readonly base: () => URL;
}

const mostPages = 20;

export function prepareOperation(preparation: Preparation): Prepared {
  const { operation, promise, upstream, options } = preparation;
  const { pages = mostPages, jmespath = false } = options;
  const { answer: promised } = operation;
  const queries = operation.parameters.flatMap((parameter) => (parameter.in === 'query' ? [parameter.name] : []));
  const paging =
    pages > 1 && operation.method === 'GET' && promised !== undefined ? pagingOf(queries, promised.linked ?? false) : undefined;
  const own = once(preparation.makeInput);
  const extra = once(() => extraInputs(own().schema, paging === undefined ? undefined : pages, jmespath && promise !== undefined));
  const place = `${operation.method} ${operation.path}`;
  // A default in a document says what the API does without the value; sending it could overwrite what nobody meant to change.
  const input = lazySchema(() => withProperties(own().schema, extra()), place, { fillDefaults: false });
  const isJson = /json/i.test(promised?.mediaType ?? '');
  const root = jmespath || promise === undefined || !isJson ? undefined : once(() => rooted(promise()));
  const output = root === undefined ? undefined : lazySchema(() => root().schema, place, { fillDefaults: false });
  const context: AnswerContext = {
    upstream,
    method: operation.method,
    path: operation.path,
    mediaType: promised?.mediaType,
    output,
    get wrapped() {
      return root?.().wrapped ?? false;
    },
  };
  const requests = requester(preparation, own);
  const run = async (given: Record<string, unknown>, call: Call): Promise<Answer> => {
    const received = await requests.first(given, call);
    const wanted = 'pages' in extra() ? Number(given.pages ?? 1) : 1;
    const expression = 'jmespath' in extra() ? (given.jmespath as string | undefined) : undefined;
    if (received.status >= 400 || (wanted <= 1 && expression === undefined)) return readAnswer(received, context);
    const first = jsonOf(received, upstream.clean);
    if (first === undefined) return readAnswer(received, context);
    const { value, note } =
      wanted > 1
        ? await followPages(first.value, received.headers, requests.pages(paging!, given, call), wanted, (count, items) =>
            call.progress(count, wanted, `${items} items`),
          )
        : { value: first.value, note: '' };
    const made = await structured(expression === undefined ? value : await chosen(value, expression), context);
    return note === '' ? made : { ...made, content: [...made.content, { type: 'text', text: note }] };
  };
  return {
    input,
    output,
    run: (given, call) => guarded(() => run(given, call), call.signal, upstream.clean),
    async read(given, call) {
      const received = await requests.first(given, call);
      const mimeType = received.headers.get('content-type')?.split(';')[0]?.trim();
      if (received.status === 404) return undefined;
      if (received.status >= 400) {
        const [block] = (await readAnswer(received, context)).content;
        throw new JexoError('JEXO_REST', block?.type === 'text' ? block.text : `HTTP ${received.status}`);
      }
      const isText = mimeType === undefined || /json|^text\/|xml|yaml/.test(mimeType);
      return isText ? upstream.clean(new TextDecoder().decode(received.bytes)) : received.bytes;
    },
  };
}

/** The requests of one operation: the first one, and those for further pages. */
function requester({ operation, upstream, options, settings, base }: Preparation, own: () => OperationInput) {
  const { security } = operation;
  const first = async (input: Record<string, unknown>, { signal, caller }: AskedBy): Promise<Received> => {
    const { path, ...built } = buildRequest(operation, own(), input, settings);
    const address = base();
    const headers = { ...built.headers, ...upstream.headers() };
    return upstream.send({ ...built, headers, url: join(address, path), signal, ...(caller && { caller }), home: address.host, security });
  };
  /** A page by its address, which may lie on the API's own host or a declared one only. */
  const at = async (address: string, { signal, caller }: AskedBy): Promise<Received> => {
    const home = base();
    const url = new URL(address, home);
    if (url.host !== home.host && !(options.hosts ?? []).includes(url.host))
      throw new JexoError('JEXO_REST', `${upstream.title} names ${url.host} for the next page, a host that was not declared.`, {
        next: `If it is right, allow it: hosts: ['${url.host}'].`,
      });
    const headers = { Accept: 'application/json', ...(url.host === home.host && upstream.headers()) };
    return upstream.send({ method: 'GET', url, headers, signal, ...(caller && { caller }), home: home.host, security });
  };
  const pages = (paging: Paging, input: Record<string, unknown>, by: AskedBy): PageSource => {
    const parameter = paging.kind === 'link' ? undefined : inputFor(own(), paging.parameter);
    const documented = parameter === undefined ? undefined : propertiesOf(own().schema)[parameter]?.default;
    return {
      paging,
      // Without the value, the document's default says where counting starts.
      sent: parameter === undefined ? undefined : (input[parameter] ?? own().defaults.get(parameter) ?? documented),
      again: (value) => first({ ...input, [parameter!]: value }, by),
      at: (address) => at(address, by),
      read: (received) => jsonOf(received, upstream.clean),
    };
  };
  return { first, pages };
}

/** What a caller may say beside the operation's own inputs, which go before. */
function extraInputs(schema: JsonSchema, pages: number | undefined, choosesFields: boolean): Record<string, JsonSchema> {
  const taken = propertiesOf(schema);
  const about = 'how many pages to fetch, one after the other';
  return {
    ...(pages !== undefined &&
      !('pages' in taken) && { pages: { type: 'integer', minimum: 1, maximum: pages, default: 1, description: about } }),
    ...(choosesFields &&
      !('jmespath' in taken) && {
        jmespath: { type: 'string', description: 'a JMESPath expression that chooses fields of the answer, as items[].id' },
      }),
  };
}

function withProperties(schema: JsonSchema, extra: Readonly<Record<string, JsonSchema>>): JsonSchema {
  return Object.keys(extra).length === 0 ? schema : { ...schema, properties: { ...propertiesOf(schema), ...extra } };
}

/** Makes a value when it is first wanted. */
function once<T>(make: () => T): () => T {
  let made: { readonly value: T } | undefined;
  return () => (made ??= { value: make() }).value;
}

/** The name a caller knows a query parameter by. */
function inputFor({ targets }: OperationInput, parameter: string): string {
  for (const [name, target] of targets)
    if ('parameter' in target && target.parameter.in === 'query' && target.parameter.name === parameter) return name;
  return parameter;
}

/** The protocol wants an object at the root of an output schema. */
function rooted(schema: JsonSchema): { readonly wrapped: boolean; readonly schema: JsonSchema } {
  const { $defs, ...own } = schema;
  if ([own.type].flat().includes('object') && own.anyOf === undefined)
    return {
      wrapped: false,
      schema: {
        ...schema,
        type: 'object',
        // Where other fields have a schema, the mark of a cut answer needs one of its own.
        ...(isRecord(own.additionalProperties) && { properties: { ...propertiesOf(own), [cutMark]: { type: 'array' } } }),
      },
    };
  return {
    wrapped: true,
    schema: { type: 'object', properties: { result: own }, required: ['result'], ...($defs !== undefined && { $defs }) },
  };
}

async function chosen(value: unknown, expression: string): Promise<unknown> {
  const { default: jmespath } = await import('jmespath');
  try {
    return jmespath.search(value, expression) as unknown;
  } catch (error) {
    throw new TypeError(`jmespath: ${JSON.stringify(expression)} is no JMESPath expression: ${messageOf(error)}`, { cause: error });
  }
}
