import { isJexoError, JexoError, messageOf } from '../../errors.js';
import { answer, isRecord } from '../../offers/answer.js';
import type { Call } from '../../offers/call.js';
import { lazySchema, type CompiledSchema } from '../../offers/schema.js';
import type { JsonSchema } from '../../protocol/types.js';
import type { NeededSetting } from '../../offers/offer.js';
import { isEnvSetting, readSetting } from '../setting.js';
import { baseOf, join } from './address.js';
import { createProver } from './auth.js';
import { buildRequest } from './build-request.js';
import { followPages, type PageSource } from './follow-pages.js';
import { createLongAnswers } from './long-answers.js';
import { slugOf } from './name-operations.js';
import type { Api, Operation } from './operation.js';
import type { OperationInput } from './operation-input.js';
import { pagingOf } from './pages.js';
import { cutMark, jsonOf, readAnswer, structured, type AnswerContext } from './read-answer.js';
import { createSender, type Received } from './send.js';
import type { WrapRestOptions } from './wrap-rest.js';

/** An operation, ready to be called. */
export interface Prepared {
  readonly input: CompiledSchema;
  readonly output: CompiledSchema | undefined;
  readonly run: (input: Record<string, unknown>, call: Call) => Promise<ReturnType<typeof answer>>;
  /** Reads it as a resource. */
  readonly read: (input: Record<string, unknown>, call: Call) => Promise<unknown>;
}

/** Headers whose values are kept out of answers. */
const namesSecret = /auth|cookie|key|token|secret|password/i;

/** One API as it is called: where it is, who we are, what was answered at length. */
export function createService(api: Api, options: WrapRestOptions) {
  const { pages: mostPages = 20, pick = false, answerCharacters = 24_000, headers = {}, send: fetchOne = fetch } = options;
  const title = options.name ?? api.title;
  const prover = createProver(api, options, fetchOne);
  const sender = createSender(prover, title, fetchOne, options);
  const long = createLongAnswers(title, slugOf(title), answerCharacters);
  let sent: Record<string, string> | undefined;
  const ownHeaders = () =>
    (sent ??= Object.fromEntries(Object.entries(headers).map(([name, value]) => [name, readSetting(value, `The header ${name}`)])));
  const ownSecrets = () =>
    Object.entries(sent ?? {})
      .filter(([name]) => namesSecret.test(name))
      .map(([, value]) => value);
  const clean = (text: string) =>
    [...prover.secrets(), ...ownSecrets()].reduce(
      (whole, secret) => (secret.length >= 6 ? whole.replaceAll(secret, '(masked)') : whole),
      text,
    );

  /** @param makeInput and `promise` convert schemas of the document, when the operation is first listed or called */
  const prepare = (operation: Operation, makeInput: () => OperationInput, promise: (() => JsonSchema) | undefined): Prepared => {
    const paging = mostPages > 1 ? pagingOf(operation, operation.answer?.linked ?? false) : undefined;
    const place = `${operation.method} ${operation.path}`;
    const own = once(makeInput);
    const propertiesOf = () => own().schema.properties as Record<string, JsonSchema>;
    const extraInputs = once((): Record<string, JsonSchema> => {
      const properties = propertiesOf();
      return {
        ...(paging !== undefined &&
          !('pages' in properties) && {
            pages: {
              type: 'integer',
              minimum: 1,
              maximum: mostPages,
              default: 1,
              description: 'how many pages to fetch, one after the other',
            },
          }),
        ...(pick &&
          promise !== undefined &&
          !('pick' in properties) && {
            pick: { type: 'string', description: 'a JMESPath expression: what of the answer is wanted, as items[].id' },
          }),
      };
    });
    // A default in a document says what the API does without the value; sending it could overwrite what nobody meant to change.
    const input = lazySchema(
      () => {
        const extra = extraInputs();
        const { schema } = own();
        return Object.keys(extra).length === 0 ? schema : { ...schema, properties: { ...propertiesOf(), ...extra } };
      },
      place,
      { fillDefaults: false },
    );
    const promised =
      pick || promise === undefined || !/json/i.test(operation.answer?.mediaType ?? '') ? undefined : once(() => rooted(promise()));
    const compiled = promised === undefined ? undefined : lazySchema(() => promised().schema, place);
    const context: AnswerContext = {
      title,
      operation,
      output: compiled,
      get wrapped() {
        return promised?.().wrapped ?? false;
      },
      most: answerCharacters,
      keep: long.keep,
      clean,
      variables: prover.variables,
    };
    const request = async (input: Record<string, unknown>, signal: AbortSignal): Promise<Received> => {
      const built = buildRequest(operation, own(), input);
      Object.assign(built.headers, ownHeaders());
      const base = baseOf(operation, api, options);
      return sender.send(operation, join(base, built.path), built, signal, base.host);
    };
    /** A page by its address, which may lie on the API's own host or a declared one only. */
    const fetchNext = (address: string, signal: AbortSignal): Promise<Received> => {
      const base = baseOf(operation, api, options);
      const url = new URL(address, base);
      if (url.host !== base.host && !(options.hosts ?? []).includes(url.host))
        throw new JexoError('JEXO_REST', `${title} names ${url.host} for the next page, a host that was not declared.`, {
          next: `If it is right, allow it: hosts: ['${url.host}'].`,
        });
      const sentAlong = url.host === base.host ? ownHeaders() : {};
      return sender.send(
        operation,
        url,
        { method: 'GET', path: '', headers: { Accept: 'application/json', ...sentAlong }, cookies: [] },
        signal,
        base.host,
      );
    };
    const pagesOf = (input: Record<string, unknown>, signal: AbortSignal): PageSource => {
      const parameter = paging === undefined || paging.kind === 'link' ? undefined : inputFor(own(), paging.parameter);
      return {
        paging: paging!,
        // Without the value, the document's default says where counting starts.
        sent:
          parameter === undefined ? undefined : (input[parameter] ?? own().defaults.get(parameter) ?? propertiesOf()[parameter]?.default),
        again: (value) => request({ ...input, [parameter!]: value }, signal),
        at: (address) => fetchNext(address, signal),
        read: (received) => jsonOf(received, clean),
      };
    };
    const guarded = async (work: () => Promise<ReturnType<typeof answer>>, signal: AbortSignal) => {
      try {
        return await work();
      } catch (error) {
        signal.throwIfAborted();
        const known = error instanceof TypeError || isJexoError(error);
        if (!known) throw error;
        return answer({
          content: [{ type: 'text', text: clean(isJexoError(error) ? `${error.message}\n${error.next}` : messageOf(error)) }],
          isError: true,
        });
      }
    };
    return {
      input,
      output: compiled,
      run: (input, call) =>
        guarded(async () => {
          const received = await request(input, call.signal);
          const extra = extraInputs();
          const wanted = 'pages' in extra ? Number(input.pages ?? 1) : 1;
          const expression = 'pick' in extra ? (input.pick as string | undefined) : undefined;
          if (received.status >= 400 || (wanted <= 1 && expression === undefined)) return readAnswer(received, context);
          const first = jsonOf(received, clean);
          if (first === undefined) return readAnswer(received, context);
          const { value, note } =
            wanted > 1
              ? await followPages(first.value, received.headers, pagesOf(input, call.signal), wanted, (count, items) =>
                  call.progress(count, wanted, `${items} items`),
                )
              : { value: first.value, note: '' };
          const made = await structured(expression === undefined ? value : await picked(value, expression), context);
          return note === '' ? made : { ...made, content: [...made.content, { type: 'text', text: note }] };
        }, call.signal),
      async read(input, call) {
        const received = await request(input, call.signal);
        const mimeType = received.headers.get('content-type')?.split(';')[0]?.trim();
        if (received.status === 404) return undefined;
        if (received.status >= 400) {
          const [block] = (await readAnswer(received, context)).content;
          throw new JexoError('JEXO_REST', block?.type === 'text' ? block.text : `HTTP ${received.status}`);
        }
        const isText = mimeType === undefined || /json|^text\/|xml|yaml/.test(mimeType);
        return isText ? clean(new TextDecoder().decode(received.bytes)) : received.bytes;
      },
    };
  };

  const settingsFor = (operations: readonly Operation[]): NeededSetting[] => {
    const own = [
      { setting: options.base, purpose: `the address of ${title}`, secret: false },
      ...Object.entries(headers).map(([name, setting]) => ({ setting, purpose: `the header ${name} of ${title}`, secret: true })),
    ].flatMap(({ setting, purpose, secret }) =>
      isEnvSetting(setting) && setting.fallback === undefined ? [{ variable: setting.variable, purpose, secret }] : [],
    );
    const sentTo = hostOf(operations[0], api, options);
    const proofs = prover
      .needed(operations)
      .map((variable) => ({ variable, purpose: `access to ${title}`, secret: true, ...(sentTo !== undefined && { sentTo }) }));
    return [...own, ...proofs];
  };

  return {
    prepare,
    settingsFor,
    notTrusted: prover.notTrusted,
    /** Where long answers can be read on; none when answers are never cut. */
    rest: Number.isFinite(answerCharacters) ? long.offer : undefined,
  };
}

/** Where requests go; undefined while nothing says so. */
function hostOf(operation: Operation | undefined, api: Api, options: WrapRestOptions): string | undefined {
  try {
    return operation === undefined ? undefined : baseOf(operation, api, options).host;
  } catch {
    return undefined; // calls will say that the address is missing
  }
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
        ...(isRecord(own.additionalProperties) && {
          properties: { ...(own.properties as object | undefined), [cutMark]: { type: 'array' } },
        }),
      },
    };
  return {
    wrapped: true,
    schema: { type: 'object', properties: { result: own }, required: ['result'], ...($defs !== undefined && { $defs }) },
  };
}

async function picked(value: unknown, expression: string): Promise<unknown> {
  const { default: jmespath } = await import('jmespath');
  try {
    return jmespath.search(value, expression) as unknown;
  } catch (error) {
    throw new TypeError(`pick: ${JSON.stringify(expression)} is no JMESPath expression: ${messageOf(error)}`, { cause: error });
  }
}
