import { isJexoError, JexoError, messageOf } from '../../errors.js';
import { choose, type Choice } from '../../offers/choose.js';
import type { Offer, ToolOffer } from '../../offers/offer.js';
import type { Omission, Settings, Source, SourceContents } from '../../offers/source.js';
import type { Setting } from '../setting.js';
import type { UpstreamOptions } from '../http/upstream.js';
import type { Auth } from '../http/auth.js';
import { schemaConverter } from './convert-schema.js';
import { nameOperations, slugOf } from './name-operations.js';
import { aliasesOf, type Operation } from './operation.js';
import { operationInput, type InputChange } from './operation-input.js';
import { readApi } from './read-api.js';
import { readDocument, type DocumentTexts, type ReadDocumentOptions, type RestDocument } from './read-document.js';
import { searchTools } from './search-tools.js';
import type { Prepared } from './prepare-operation.js';
import { createService, type Service } from './service.js';
import { matching, resourcesOf } from './to-resources.js';
import { toTool } from './to-tool.js';

/** How `wrapRest` calls an API and offers it. */
export interface WrapRestOptions extends Choice, UpstreamOptions {
  /** Shown beside the offers. Default: the document's title. */
  readonly name?: string;
  /** Where the API is. Default: the document's first server. */
  readonly baseUrl?: Setting;
  /** Values for the variables of the server's URL. */
  readonly variables?: Readonly<Record<string, string>>;
  /**
   * How to prove who we are: one way for all, or one for each security scheme by its name. Default: secrets are looked for in the
   * environment under the scheme's name, `registryToken` under REGISTRY_TOKEN, if the document is on this disk. A caller's own token
   * is never passed on.
   */
  readonly auth?: Auth | Readonly<Record<string, Auth>>;
  /**
   * The variables that secrets are read from, by the name of the security scheme: `{ registryToken: 'REGISTRY_TOKEN' }`. A document
   * from a URL gets no secret that is not named here or in `auth`: it could name any variable and have it sent to its own server.
   */
  readonly secrets?: Readonly<Record<string, string>>;
  /** How a body is sent where an operation takes several types, by operationId or `POST /hives`. Default: JSON, else a form, else the first. */
  readonly bodyTypes?: Readonly<Record<string, string>>;
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
  readonly jmespath?: boolean;
}

/**
 * Every operation of an OpenAPI 3.0, 3.1 or Swagger 2.0 document becomes a tool.
 *
 * @param document a path, a URL, or the document itself
 * @throws when it is read: JexoError JEXO_DOCUMENT, JEXO_SYNTAX, JEXO_CHOICE, JEXO_DEFINITION
 * @example
 * wrapRest('./registry.openapi.yaml', { baseUrl: env('REGISTRY_URL'), auth: bearer(env('REGISTRY_TOKEN')), only: ['GET *', 'tag:inspections'] })
 */
export function wrapRest(document: string | URL | object, options: WrapRestOptions = {}): Source {
  const isValue = typeof document === 'object' && !(document instanceof URL);
  const name = options.name ?? (isValue ? 'rest' : lastPart(String(document)));
  return restSource((how) => readDocument(document, how), name, options, !isValue && !/^https?:/i.test(String(document)));
}

/** The file's name of a path or an address. */
function lastPart(place: string): string {
  const last = place.replace(/^.*[\\/]/, '');
  return /^[a-z]+:\/\//i.test(place) ? decodeURIComponent(last) : last;
}

type ReadOne = (how: ReadDocumentOptions) => Promise<RestDocument>;

/**
 * The operations of a document that the caller reads, each time the source is read.
 * @param isFile true when a pack has to carry the text of the document
 */
export function restSource(readOne: ReadOne, name: string, options: WrapRestOptions, isFile: boolean): Source {
  return {
    name,
    read: async ({ settings, signal }) => contentsOf(await readOne({ signal }), name, options, settings),
    ...(isFile && {
      async freeze({ signal }) {
        const texts: Record<string, string> = {};
        await readOne({ signal, onText: (path, text) => (texts[path] = text) });
        return texts;
      },
      thaw: (frozen) => restSource((how) => readOne({ ...how, frozen: frozen as DocumentTexts }), name, options, false),
    }),
  };
}

interface Made {
  readonly offer: ToolOffer;
  readonly operation: Operation;
  readonly call: Prepared;
}

function contentsOf(document: RestDocument, shown: string, options: WrapRestOptions, settings: Settings): SourceContents {
  const { inputs = {} } = options;
  const api = readApi(document, options.bodyTypes, options.only);
  const service = createService(api, options, settings);
  const names = nameOperations(api.operations);
  const { made, unreadable } = makeTools(api.operations, names, document, service, inputs);
  checkInputs(
    inputs,
    api.operations.flatMap((operation) => [names.get(operation)!, ...aliasesOf(operation)]),
  );
  const confirmed = matching(
    made.map(({ offer }) => offer),
    options.confirm ?? [],
    'confirm',
  );
  const tools = made.map(({ offer }) => (confirmed.has(offer) ? { ...offer, confirm: confirmation(offer) } : offer));
  const chosen = choose({ offers: tools, omitted: [...api.problems, ...unreadable] }, options, shown);
  const readable = resourcesOf(made, chosen.offers, options.resources ?? false, slugOf(options.name ?? api.title));
  const { longAnswers, notTrusted } = service.upstream;
  const kept = chosen.offers as readonly ToolOffer[];
  const offered: Offer[] = options.as === 'search' ? searchTools(kept) : [...kept];
  return {
    ...chosen,
    omitted: [...(chosen.omitted ?? []), ...otherBodies(made, kept), ...withheld(notTrusted, shown)],
    settings: service.settingsFor(offeredOperations(made, kept)),
    files: document.files,
    offers: [...offered, ...readable, ...(longAnswers === undefined ? [] : [longAnswers])],
    ...(options.as !== 'search' && {
      whenTooMany: 'Offer fewer operations (--only), or all of them through three tools that find, show and call them: --search-tools.',
    }),
  };
}

function makeTools(
  operations: readonly Operation[],
  names: ReadonlyMap<Operation, string>,
  document: RestDocument,
  service: Service,
  inputs: Readonly<Record<string, InputChange>>,
): { readonly made: readonly Made[]; readonly unreadable: readonly Omission[] } {
  const convert = schemaConverter(document);
  const mustConvert = document.brokenRefs.length > 0 || Object.keys(inputs).length > 0;
  const made: Made[] = [];
  const unreadable: Omission[] = [];
  for (const operation of operations) {
    const name = names.get(operation)!;
    try {
      const changes = changesFor(inputs, [name, ...aliasesOf(operation)]);
      const makeInput = () => operationInput(operation, convert, changes.of);
      const { answer } = operation;
      const promise = answer?.schema === undefined ? undefined : () => convert(answer.schema, 'output');
      // Faults are found now where there can be some, so that they are reported before anybody calls.
      if (mustConvert) {
        makeInput();
        promise?.();
        changes.check(name);
      }
      const call = service.prepare(operation, makeInput, promise);
      made.push({ offer: toTool(name, operation, call), operation, call });
    } catch (error) {
      unreadable.push({
        name,
        what: 'operation',
        code: 'JEXO_DOCUMENT',
        where: operation.where,
        why: messageOf(error),
        next: isJexoError(error) ? error.next : 'Fix the document, or exclude the operation with except.',
      });
    }
  }
  return { made, unreadable };
}

function offeredOperations(made: readonly { readonly operation: Operation }[], kept: readonly ToolOffer[]): Operation[] {
  const names = new Set(kept.flatMap(({ aliases = [] }) => aliases));
  return made.flatMap(({ operation }) => (names.has(`${operation.method} ${operation.path}`) ? [operation] : []));
}

/** Secrets of a document from elsewhere that nobody has named. */
function withheld(schemes: readonly string[], shown: string): Omission[] {
  return schemes.map((scheme) => ({
    name: `the secret of ${scheme}`,
    what: 'operation',
    code: 'JEXO_DOCUMENT',
    where: shown,
    why: 'the document is not on this disk, so it may not say which variable of this machine is sent to its server',
    next: `Name the variable: --secret ${scheme}=NAME, or secrets: { ${JSON.stringify(scheme)}: 'NAME' } in code.`,
    partial: true,
  }));
}

/** Bodies with other types and other fields, of operations that are offered: a choice that was made by default is reported. */
function otherBodies(made: readonly { readonly operation: Operation }[], kept: readonly ToolOffer[]): Omission[] {
  const offered = new Map(kept.flatMap(({ aliases = [], name }) => aliases.map((alias) => [alias, name])));
  return made.flatMap(({ operation }) => {
    const { body, id, method, path } = operation;
    const name = offered.get(`${method} ${path}`);
    if (body === undefined || body.others.length === 0 || name === undefined) return [];
    return body.others.map((type) => ({
      name: `${name} as ${type}`,
      what: 'operation',
      code: 'JEXO_DOCUMENT' as const,
      get where() {
        return operation.where;
      },
      why: `its body is sent as ${body.mediaType}, and not as ${type}, which has other fields`,
      next: `Choose by bodyTypes: { ${JSON.stringify(id ?? `${method} ${path}`)}: ${JSON.stringify(type)} }, or --body-type '${id ?? `${method} ${path}`}=${type}'.`,
      partial: true,
    }));
  });
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

function confirmation({ name, title }: ToolOffer): (input: never) => string {
  return (input) => `${title ?? name}: ${JSON.stringify(input)}?`;
}
