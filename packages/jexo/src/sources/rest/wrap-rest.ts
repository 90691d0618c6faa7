import { isJexoError, JexoError, messageOf } from '../../errors.js';
import { answer } from '../../offers/answer.js';
import type { Call } from '../../offers/call.js';
import { choose, type Choice } from '../../offers/choose.js';
import type { Offer, Omission, Source, ToolOffer } from '../../offers/offer.js';
import { resource, template } from '../../offers/resource.js';
import { compileSchema, type CompiledSchema } from '../../offers/schema.js';
import { tool } from '../../offers/tool.js';
import type { JsonSchema, ToolAnnotations } from '../../protocol/types.js';
import { readSetting, type Setting } from '../setting.js';
import { createProver, type Auth } from './auth.js';
import { buildRequest } from './build-request.js';
import { cutText, schemaConverter } from './convert-schema.js';
import { nameOperations } from './name-operations.js';
import type { Api, Operation, Server } from './operation.js';
import { operationInput, type InputChange, type OperationInput } from './operation-input.js';
import { itemsOf, nextOf, pagingOf, type Paging } from './pages.js';
import { jsonOf, readAnswer, structured, type AnswerContext } from './read-answer.js';
import { readApi } from './read-api.js';
import { readDocument } from './read-document.js';
import { searchTools } from './search-tools.js';
import { createSender, type Received, type SendOptions } from './send.js';

export interface WrapRestOptions extends Choice, SendOptions {
  /** Shown beside the offers. Default: the document's title. */
  readonly name?: string;
  /** Where the API is. Default: the document's first server. */
  readonly base?: Setting;
  /** Values for the variables of the server's URL. */
  readonly variables?: Readonly<Record<string, string>>;
  /**
   * How to prove who we are: one way for all, or one for each security scheme by its name. Default: secrets are looked for in the
   * environment under the scheme's name, `registryToken` under REGISTRY_TOKEN. A caller's own token is never passed on.
   */
  readonly auth?: Auth | Readonly<Record<string, Auth>>;
  /** How a body is sent where an operation takes several types, by operationId or `POST /hives`. Default: JSON, else a form, else the first. */
  readonly bodyTypes?: Readonly<Record<string, string>>;
  /** Headers sent with every request. */
  readonly headers?: Readonly<Record<string, Setting>>;
  /** Changes of inputs, by `operation.input`, or `*.input` for all: fixed, defaulted, described, renamed, hidden. */
  readonly inputs?: Readonly<Record<string, InputChange>>;
  /** GET operations offered as resources too: all, or those named as in `only`. Default: none. */
  readonly resources?: boolean | readonly string[];
  /** `search` offers three tools in place of one for each operation: find one by words, show it, invoke it. Default `tools`. */
  readonly as?: 'tools' | 'search';
  /** Operations a person is asked to confirm, named as in `only`. */
  readonly confirm?: readonly string[];
  /** Pages a caller may have followed at once; 0 offers none. Default 20. */
  readonly pages?: number;
  /** Lets callers choose fields by a JMESPath expression; such tools promise no output schema. Default false. */
  readonly pick?: boolean;
  /** Characters an answer may have; the rest can be read as a resource. Default 24,000, about 8,000 tokens. */
  readonly answerCharacters?: number;
  /** Sends requests some other way than over the network; see `inProcess`. */
  readonly send?: typeof fetch;
}

/**
 * Every operation of an OpenAPI 3.0, 3.1 or Swagger 2.0 document becomes a tool.
 *
 * @param document a path, a URL, or the document itself
 * @throws when it is read: JexoError JEXO_DOCUMENT, JEXO_SYNTAX, JEXO_CHOICE, JEXO_DEFINITION
 * @example
 * wrapRest('./registry.openapi.yaml', { base: env('REGISTRY_URL'), auth: bearer(env('REGISTRY_TOKEN')), only: ['GET *', 'tag:inspections'] })
 */
export function wrapRest(document: string | URL | object, options: WrapRestOptions = {}): Source {
  const shown =
    options.name ?? (typeof document === 'object' && !(document instanceof URL) ? 'rest' : String(document).replace(/^.*[\\/]/, ''));
  return {
    name: shown,
    async read() {
      const found = await readDocument(document);
      const api = readApi(found, options.bodyTypes);
      const convert = schemaConverter(found);
      const service = createService(api, options);
      const names = nameOperations(api.operations);
      const omitted: Omission[] = [...api.problems];
      const made: { offer: ToolOffer; operation: Operation; call: ReturnType<typeof service.prepare> }[] = [];
      for (const operation of api.operations) {
        const name = names.get(operation)!;
        try {
          const changes = changesFor(options.inputs ?? {}, [name, ...aliasesOf(operation)]);
          const input = operationInput(operation, convert, changes.of);
          changes.check(name);
          const call = service.prepare(
            operation,
            input,
            operation.answer?.schema === undefined ? undefined : convert(operation.answer.schema, 'output'),
          );
          made.push({ offer: toTool(name, operation, call), operation, call });
        } catch (error) {
          omitted.push({
            name,
            where: operation.where,
            why: messageOf(error),
            next: isJexoError(error) ? error.next : 'Mend the document, or leave the operation out with except.',
          });
        }
      }
      checkInputs(
        options.inputs ?? {},
        api.operations.flatMap((operation) => [names.get(operation)!, ...aliasesOf(operation)]),
      );
      const confirmed = matching(
        made.map(({ offer }) => offer),
        options.confirm ?? [],
        'confirm',
      );
      const tools = made.map(({ offer }) => (confirmed.has(offer) ? { ...offer, confirm: confirmation(offer) } : offer));
      const chosen = choose({ offers: tools, omitted }, options, shown);
      const readable = resourcesOf(made, chosen.offers, options.resources ?? false, slugOf(options.name ?? api.title));
      const rest = service.rest();
      const kept = chosen.offers as readonly ToolOffer[];
      const offered: Offer[] = options.as === 'search' ? searchTools(kept) : [...kept];
      return { ...chosen, offers: [...offered, ...readable, ...(rest === undefined ? [] : [rest])] };
    },
  };
}

/** The names by which an operation may be chosen, beside its own. */
function aliasesOf({ id, method, path }: Operation): string[] {
  return [...(id === undefined ? [] : [id]), `${method} ${path}`, path];
}

function changesFor(inputs: Readonly<Record<string, InputChange>>, names: readonly string[]) {
  const used = new Set<string>();
  const mine = Object.keys(inputs).filter((key) => !key.startsWith('*.') && names.some((name) => key.startsWith(`${name}.`)));
  return {
    of(input: string): InputChange | undefined {
      const own = names.map((name) => `${name}.${input}`).find((key) => key in inputs);
      if (own !== undefined) used.add(own);
      return own === undefined ? inputs[`*.${input}`] : inputs[own];
    },
    check(name: string) {
      for (const key of mine)
        if (!used.has(key))
          throw new JexoError('JEXO_CHOICE', `inputs names ${key}, but ${name} has no such input.`, {
            where: `inputs.${key}`,
            next: `List its inputs with: jexo list <target>`,
          });
    },
  };
}

function checkInputs(inputs: Readonly<Record<string, InputChange>>, names: readonly string[]): void {
  for (const key of Object.keys(inputs))
    if (!key.startsWith('*.') && !names.some((name) => key.startsWith(`${name}.`)))
      throw new JexoError('JEXO_CHOICE', `inputs names ${key}, which begins with no operation.`, {
        where: `inputs.${key}`,
        next: 'Write it as operation.input, or *.input for all operations.',
      });
}

/** Chosen in the same way as by `only`. */
function matching(offers: readonly ToolOffer[], patterns: readonly string[], field: string): ReadonlySet<ToolOffer> {
  return patterns.length === 0 ? new Set() : new Set(choose({ offers }, { only: patterns }, field).offers as readonly ToolOffer[]);
}

function confirmation({ name, title }: ToolOffer): (input: never) => string {
  return (input) => `${title ?? name}: ${JSON.stringify(input)}?`;
}

/** A description longer than this costs more than it tells. */
const longest = 900;

function toTool(name: string, operation: Operation, call: Prepared): ToolOffer {
  const { summary, description, deprecated, answer: promised, where, tags } = operation;
  const title = summary !== undefined && summary.length <= 80 ? summary.replace(/\.$/, '') : undefined;
  const words = [
    ...(deprecated ? ['Deprecated: use another tool where there is one.'] : []),
    ...(summary === undefined || description?.startsWith(summary.replace(/\.$/, '')) ? [] : [sentence(summary)]),
    ...(description === undefined ? [] : [cutText(description, longest)]),
    ...(promised !== undefined && tellsMore(promised.description) ? [`Answers with: ${cutText(promised.description, 160)}`] : []),
  ];
  const made = tool(
    name,
    {
      ...(title !== undefined && { title }),
      ...(words.length > 0 && { description: words.join('\n') }),
      input: call.schema,
      annotations: annotationsOf(operation, name),
      tags: [...tags],
    },
    (input, context) => call.run(input as Record<string, unknown>, context),
  );
  return { ...made, ...(call.output && { output: call.output }), where, aliases: aliasesOf(operation) };
}

const sentence = (text: string) => (/[.!?]$/.test(text.trim()) ? text.trim() : `${text.trim()}.`);
const tellsMore = (text: string) =>
  text.length > 24 && !/^(?:ok|success|successful|created|no content|default|a? ?response|the response)\b/i.test(text);

/** What the method promises (RFC 9110, 9.2). */
function annotationsOf({ method }: Operation, name: string): ToolAnnotations {
  if (method === 'GET') return { readOnlyHint: true };
  if (method === 'PUT') return { destructiveHint: true, idempotentHint: true };
  if (method === 'DELETE') return { destructiveHint: true, idempotentHint: true };
  const takesAway = /(?:^|_)(?:delete|remove|withdraw|cancel|revoke|close|reset|replace|update|clear|archive|drop)(?:_|$)/.test(name);
  return { destructiveHint: method === 'PATCH' || takesAway };
}

interface Prepared {
  readonly schema: JsonSchema;
  readonly output: CompiledSchema | undefined;
  readonly run: (input: Record<string, unknown>, call: Call) => Promise<ReturnType<typeof answer>>;
  /** Reads it as a resource. */
  readonly read: (input: Record<string, unknown>, call: Call) => Promise<unknown>;
}

const keptAnswers = 20;
const keptCharacters = 20_000_000;

/** One API as it is called: where it is, who we are, what was answered at length. */
function createService(api: Api, options: WrapRestOptions) {
  const { pages: mostPages = 20, pick = false, answerCharacters = 24_000, headers = {}, send: fetchOne = fetch } = options;
  const title = options.name ?? api.title;
  const prover = createProver(api, options.auth, fetchOne);
  const sender = createSender(prover, title, fetchOne, options);
  const scheme = `${slugOf(title)}-answer`;
  const answers = new Map<string, string>();
  const keep = (text: string): string => {
    const id = crypto.randomUUID(); // what is kept for one caller is not to be guessed by another
    answers.set(id, text);
    let held = 0;
    for (const [key, each] of [...answers].reverse()) {
      held += each.length;
      if (key !== id && (held > keptCharacters || answers.size > keptAnswers)) answers.delete(key);
    }
    return `${scheme}://${id}/1`;
  };
  const clean = (text: string) =>
    prover.secrets().reduce((whole, secret) => (secret.length >= 6 ? whole.replaceAll(secret, '(masked)') : whole), text);
  let sent: Record<string, string> | undefined;
  const ownHeaders = () =>
    (sent ??= Object.fromEntries(Object.entries(headers).map(([name, value]) => [name, readSetting(value, `The header ${name}`)])));

  const prepare = (operation: Operation, own: OperationInput, promised: JsonSchema | undefined): Prepared => {
    const paging = mostPages > 1 ? pagingOf(operation, operation.answer?.linked ?? false) : undefined;
    const properties = own.schema.properties as Record<string, JsonSchema>;
    const extra: Record<string, JsonSchema> = {
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
        promised !== undefined &&
        !('pick' in properties) && {
          pick: { type: 'string', description: 'a JMESPath expression: what of the answer is wanted, as items[].id' },
        }),
    };
    const { wrapped, schema: output } =
      pick || promised === undefined || !/json/i.test(operation.answer?.mediaType ?? '')
        ? { wrapped: false, schema: undefined }
        : rooted(promised);
    const compiled = output === undefined ? undefined : compileSchema(output, 'output', operation.where);
    const context: AnswerContext = {
      title,
      operation,
      output: compiled,
      wrapped,
      most: answerCharacters,
      keep,
      clean,
      variables: prover.variables,
    };
    const request = async (input: Record<string, unknown>, signal: AbortSignal): Promise<Received> => {
      const built = buildRequest(operation, own, input);
      Object.assign(built.headers, ownHeaders());
      const base = baseOf(operation, api, options);
      return sender.send(operation, join(base, built.path), built, signal, base.host);
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
      schema: Object.keys(extra).length === 0 ? own.schema : { ...own.schema, properties: { ...properties, ...extra } },
      output: compiled,
      run: (input, call) =>
        guarded(async () => {
          const received = await request(input, call.signal);
          const wanted = 'pages' in extra ? Number(input.pages ?? 1) : 1;
          const expression = 'pick' in extra ? (input.pick as string | undefined) : undefined;
          if (received.status >= 400 || (wanted <= 1 && expression === undefined)) return readAnswer(received, context);
          const first = jsonOf(received, clean);
          if (first === undefined) return readAnswer(received, context);
          const { value, note } =
            wanted > 1 ? await follow(first.value, received, paging!, input, wanted, call) : { value: first.value, note: '' };
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

    /** Fetches the pages behind the first and puts their items together. What was fetched before a fault is not lost. */
    async function follow(
      first: unknown,
      received: Received,
      how: Paging,
      input: Record<string, unknown>,
      most: number,
      call: Call,
    ): Promise<{ value: unknown; note: string }> {
      let page = first;
      let { headers: from } = received;
      const start = itemsOf(first);
      if (start === undefined) return { value: first, note: '' };
      const items = [...start.items];
      let latest = start;
      let parameter = how.kind === 'link' ? undefined : input[nameOf(how.parameter)];
      let note = '';
      // An API that leads by address once does so to the end; one that counts ends with a page that is not full.
      let byAddress = false;
      for (let count = 1; count < most; count++) {
        const next = nextOf(byAddress ? { kind: 'link' } : how, page, from, parameter, latest.items.length);
        if (next === undefined || (how.kind !== 'cursor' && !('url' in next) && latest.items.length < start.items.length)) break;
        byAddress = 'url' in next;
        call.progress(count, most, `${items.length} items`);
        let following: Received;
        if ('url' in next) following = await fetchNext(next.url, call.signal);
        else {
          parameter = next.set;
          following = await request({ ...input, [nameOf((how as { parameter: string }).parameter)]: next.set }, call.signal);
        }
        const json = following.status >= 400 ? undefined : jsonOf(following, clean);
        const more = json === undefined ? undefined : itemsOf(json.value);
        if (more === undefined) {
          note = `Page ${count + 1} could not be fetched (HTTP ${following.status}); what came before it is here.`;
          break;
        }
        page = json!.value;
        from = following.headers;
        latest = more;
        if (more.items.length === 0) break;
        items.push(...more.items);
      }
      return { value: latest.with(items), note };
    }

    function nameOf(parameter: string): string {
      for (const [name, target] of own.targets)
        if ('parameter' in target && target.parameter.in === 'query' && target.parameter.name === parameter) return name;
      return parameter;
    }

    /** A page by its address, which may lie on the API's own host or a declared one only. */
    async function fetchNext(address: string, signal: AbortSignal): Promise<Received> {
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
    }
  };

  return {
    prepare,
    /** Where long answers can be read on; none when answers are never cut. */
    rest() {
      if (!Number.isFinite(answerCharacters)) return undefined;
      const rest = template(
        `${scheme}://{id}/{part}`,
        {
          name: `${scheme}`,
          title: `Long answers of ${title}`,
          description: 'What an answer that was cut holds, part by part. An answer names its own.',
        },
        ({ id, part }) => {
          const text = answers.get(String(id));
          const from = (Number(part) - 1) * answerCharacters;
          if (text === undefined || !(from >= 0) || from >= text.length) return undefined;
          const end = from + answerCharacters;
          return text.slice(from, end) + (end < text.length ? `\n(continued at ${scheme}://${String(id)}/${Number(part) + 1})` : '');
        },
      );
      return { ...rest, comesAlong: true };
    },
  };
}

/** The protocol wants an object at the root of an output schema. */
function rooted(schema: JsonSchema): { readonly wrapped: boolean; readonly schema: JsonSchema } {
  const { $defs, ...own } = schema;
  if ([own.type].flat().includes('object') && own.anyOf === undefined) return { wrapped: false, schema: { ...schema, type: 'object' } };
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

/** @throws JexoError JEXO_DEFINITION when nothing says where the API is */
function baseOf({ servers }: Operation, api: Api, { base, variables = {}, send }: WrapRestOptions): URL {
  const text =
    base !== undefined
      ? readSetting(base, `The address of ${api.title}`)
      : servers[0] === undefined
        ? undefined
        : fill(servers[0], variables);
  if (text !== undefined && /^https?:\/\//i.test(text) && URL.canParse(text)) return new URL(text);
  if (text === undefined && send !== undefined) return new URL('http://in-process');
  if (send !== undefined && text?.startsWith('/')) return new URL(text, 'http://in-process');
  throw new JexoError(
    'JEXO_DEFINITION',
    text === undefined ? `${api.title} does not say where it is.` : `${api.title} is at ${JSON.stringify(text)}, which is no address.`,
    { where: 'base', next: "Say it: base: env('API_URL') in code, --base <url> at the terminal." },
  );
}

function fill({ url, variables: declared }: Server, given: Readonly<Record<string, string>>): string {
  return url.replaceAll(/\{([^}]+)\}/g, (whole, name: string) => given[name] ?? declared[name]?.default ?? whole);
}

function join(base: URL, path: string): URL {
  return new URL(base.href.replace(/[?#].*$/, '').replace(/\/$/, '') + path);
}

function slugOf(text: string): string {
  const slug = text
    .toLowerCase()
    .replaceAll(/[^a-z0-9]+/g, '-')
    .replaceAll(/^-+|-+$/g, '')
    .slice(0, 40);
  return /^[a-z]/.test(slug) ? slug : `api-${slug}`.replace(/-$/, '');
}

/** GET operations as resources, and as templates where they have parameters. */
function resourcesOf(
  made: readonly { readonly offer: ToolOffer; readonly operation: Operation; readonly call: Prepared }[],
  chosen: readonly Offer[],
  wanted: boolean | readonly string[],
  slug: string,
): Offer[] {
  if (wanted === false) return [];
  const names = new Set(chosen.flatMap(({ aliases }) => aliases ?? []));
  const gets = made.filter(({ operation, offer }) => operation.method === 'GET' && offer.aliases!.some((alias) => names.has(alias)));
  const readable =
    wanted === true
      ? undefined
      : matching(
          gets.map(({ offer }) => offer),
          wanted,
          'resources',
        );
  return gets
    .filter(
      ({ offer, operation }) =>
        (readable === undefined || readable.has(offer)) &&
        operation.parameters.every((parameter) => parameter.in === 'path' || !parameter.required || parameter.in === 'query'),
    )
    .map(({ offer, operation, call }) => {
      const { title, description, tags } = offer;
      const about = {
        name: offer.name,
        ...(title !== undefined && { title }),
        ...(description !== undefined && { description }),
        ...(tags && { tags }),
        ...(operation.answer?.mediaType !== undefined && { mimeType: operation.answer.mediaType.split(';')[0]! }),
      };
      const query = operation.parameters
        .filter((parameter) => parameter.in === 'query' && /^\w+$/.test(parameter.name))
        .map(({ name }) => name);
      const path = operation.path.slice(1).replaceAll(/\{([^}]+)\}/g, (_, name: string) => `{${name.replaceAll(/\W/g, '_')}}`);
      const uri = `${slug}://${path}${query.length > 0 ? `{?${query.join(',')}}` : ''}`;
      const typed = (given: Record<string, unknown>) =>
        Object.fromEntries(
          Object.entries(given).map(([name, text]) => [name, numeric(offer.input.json, name) && text !== '' ? Number(text) : text]),
        );
      if (!uri.includes('{')) return resource(uri, about, (_request, context) => call.read({}, context) as Promise<string>);
      return template(uri, about, (variables: Record<string, unknown>, context) => call.read(typed(variables), context) as Promise<string>);
    });
}

function numeric({ properties }: JsonSchema, name: string): boolean {
  const type = (properties as Record<string, JsonSchema> | undefined)?.[name]?.type;
  return [type].flat().some((each) => each === 'integer' || each === 'number');
}
