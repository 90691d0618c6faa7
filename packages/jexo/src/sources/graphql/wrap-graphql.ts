import { basename, relative } from 'node:path';
import { fileURLToPath } from 'node:url';
import { JexoError } from '../../errors.js';
import { choose, type Choice } from '../../offers/choose.js';
import type { Offer } from '../../offers/offer.js';
import type { ReadContext, Settings, Source, SourceContents } from '../../offers/source.js';
import type { Auth } from '../http/auth.js';
import { createUpstream, neededFor, type Upstream, type UpstreamOptions } from '../http/upstream.js';
import { isEnvSetting, readSetting, type Setting } from '../setting.js';
import { watchFolder } from '../watch-folder.js';
import { exploreTools } from './explore-tools.js';
import type { ExploreOptions } from './graphql-options.js';
import type { ScalarSchemas } from './graphql-options.js';
import { loadGraphql, type GraphQL } from './library.js';
import { operationTool, type GraphqlContext } from './operation-tool.js';
import { operationsFolder, operationTexts, readOperations } from './read-operations.js';
import type { OperationsPlace } from './graphql-options.js';
import { isEndpoint, readSchema } from './read-schema.js';
import type { SchemaPlace } from './graphql-options.js';
import { endpointUrl, graphqlSender } from './send-graphql.js';
import { starterOperations } from './starter-operations.js';
import { subscriptionOffers } from './subscriptions.js';

/** How `wrapGraphql` calls a service, and what it offers of it. */
export interface WrapGraphqlOptions extends Choice, Omit<UpstreamOptions, 'auth' | 'secrets'> {
  /** Shown beside the offers, and part of some names. Default: the file's name, or the host's. */
  readonly name?: string;
  /** Named operations: a folder or file of `.graphql`, or texts by name. Each is a tool; subscriptions are live resources. Default: none. */
  readonly operations?: OperationsPlace;
  /** Where the service is. Default: the address the schema was read from, if it is an endpoint. */
  readonly endpoint?: Setting;
  /** Where subscriptions go: `wss://…` for WebSocket, `https://…` for server-sent events. Default: server-sent events at the endpoint. */
  readonly subscriptions?: Setting;
  /** How to prove who we are. A caller's own token is never passed on. */
  readonly auth?: Auth;
  /** JSON Schema for custom scalars, by their names. Default: any value. */
  readonly scalars?: ScalarSchemas;
  /** Lets a model find types and fields, and run operations of its own. Default false. */
  readonly explore?: boolean | ExploreOptions;
  /** Pages a caller may have followed at once where an operation selects `pageInfo`; 0 offers none. Default 20. */
  readonly pages?: number;
  /** Sends the digest of a document (`documentId`) in place of its text, or an id by the operation's name. Default false. */
  readonly persisted?: boolean | Readonly<Record<string, string>>;
}

/**
 * Offers a GraphQL service: each named operation is a tool, each subscription a live resource. Needs the package `graphql`.
 *
 * @param schema the path or address of SDL or of an introspection, the SDL, the introspection, or the service's own address
 * @throws when it is read: JexoError JEXO_PACKAGE_MISSING, JEXO_TARGET_MISSING, JEXO_SYNTAX, JEXO_DOCUMENT, JEXO_CHOICE, JEXO_SETTING, JEXO_REST
 * @example
 * wrapGraphql('./ledger.graphql', { operations: './operations', endpoint: env('LEDGER_URL'), auth: bearer(env('LEDGER_TOKEN')) })
 */
export function wrapGraphql(schema: SchemaPlace, options: WrapGraphqlOptions = {}): Source {
  return graphqlSource(schema, options, undefined);
}

interface Frozen {
  readonly schema: string;
  readonly operations: Readonly<Record<string, string>>;
}

function graphqlSource(place: SchemaPlace, options: WrapGraphqlOptions, frozen: Frozen | undefined): Source {
  const name = options.name ?? nameOf(place);
  const folder = frozen === undefined && options.operations !== undefined ? operationsFolder(options.operations) : undefined;
  const texts = async () => frozen?.operations ?? (options.operations === undefined ? {} : await operationTexts(options.operations));
  const prepare = async (context: ReadContext) => {
    const g = await loadGraphql();
    const endpoint = () =>
      endpointUrl(
        options.endpoint === undefined
          ? isEndpoint(place)
            ? String(place)
            : undefined
          : readSetting(options.endpoint, `The address of ${name}`, context.settings),
        name,
      );
    const upstream = upstreamOf(name, options, context.settings);
    const sender = graphqlSender(upstream, endpoint);
    const read = await readSchema(g, place, {
      signal: context.signal,
      ...(frozen && { frozen: frozen.schema }),
      introspect: () => introspect(g, sender, context.signal, name),
    });
    return { g, upstream, sender, endpoint, ...read };
  };
  return {
    name,
    async read(context): Promise<SourceContents> {
      context.progress(0, 2, `reading the schema of ${name}`);
      const { g, upstream, sender, endpoint, schema, files, fault } = await prepare(context);
      context.progress(1, 2, 'reading the operations');
      const written = await texts();
      const { operations, omitted } = readOperations(g, schema, written);
      const { scalars = {}, pages = 20, persisted = false, explore = false } = options;
      const shared: GraphqlContext = { g, schema, upstream, sender, scalars, pages, persisted };
      const isLive = (kind: string) => kind === 'subscription';
      const tools = operations.filter(({ operation }) => !isLive(operation.operation)).map((each) => operationTool(shared, each));
      const live = operations.filter(({ operation }) => isLive(operation.operation));
      const streams = () =>
        options.subscriptions === undefined
          ? endpoint().href
          : readSetting(options.subscriptions, `The address of subscriptions of ${name}`, context.settings);
      const chosen = choose({ offers: [...tools, ...subscriptionOffers(shared, live, slugOf(name), streams)], omitted }, options, name);
      const offers: Offer[] = [
        ...chosen.offers,
        ...(explore === false ? [] : exploreTools(shared, slugOf(name).replaceAll('-', '_'), explore === true ? {} : explore)),
      ];
      context.progress(2, 2);
      if (offers.length === 0 && omitted.length === 0)
        throw new JexoError('JEXO_NOTHING_OFFERED', `Nothing of ${name} is offered: it has no operations, and exploring is off.`, {
          where: name,
          next: 'Give operations (--operations folder), write a starting set with jexo new --from, or let a model explore it (--explore).',
        });
      return {
        ...chosen,
        offers: [...offers, ...(upstream.longAnswers === undefined ? [] : [upstream.longAnswers])],
        files: [...files, ...(folder === undefined ? [] : Object.keys(written))],
        settings: settingsOf(upstream, options, name),
        notes: fault === undefined ? [] : [fault],
        whenTooMany: 'Offer fewer operations (--only), or split them into two servers.',
      };
    },
    ...(folder !== undefined && {
      watch: (changed: () => void) => watchFolder(folder, changed, (file) => /\.(?:graphqls?|gql)$/i.test(file)),
    }),
    async freeze(context) {
      const { g, schema } = await prepare(context);
      const base = folder ?? '';
      // Paths of this machine stay here.
      const operations = Object.fromEntries(
        Object.entries(await texts()).map(([file, text]) => [relative(base, file) || basename(file), text]),
      );
      return { schema: g.printSchema(schema), operations } satisfies Frozen;
    },
    thaw: (value) => graphqlSource(place, options, value as Frozen),
  };
}

/** A schema as SDL with a first set of operations, for a new project. @throws as `wrapGraphql` when it is read */
export async function starterFrom(
  place: string,
): Promise<{ readonly schema: string; readonly operations: Readonly<Record<string, string>> }> {
  const g = await loadGraphql();
  const { signal } = new AbortController();
  const name = nameOf(place);
  const sender = graphqlSender(upstreamOf(name, {}, process.env), () => endpointUrl(place, name));
  const { schema } = await readSchema(g, place, { signal, introspect: () => introspect(g, sender, signal, name) });
  return { schema: g.printSchema(schema), operations: starterOperations(g, schema) };
}

const slugOf = (name: string) =>
  name
    .toLowerCase()
    .replaceAll(/[^a-z0-9]+/g, '-')
    .replaceAll(/^-+|-+$/g, '')
    .replace(/^(?![a-z])/, 'g-');

function nameOf(place: SchemaPlace): string {
  if (typeof place === 'object' && !(place instanceof URL)) return 'graphql';
  const text = place instanceof URL && place.protocol === 'file:' ? fileURLToPath(place) : String(place);
  if (/[\n{]/.test(text)) return 'graphql';
  if (isEndpoint(text)) return new URL(text).hostname.replace(/^www\./, '').replace(/^[\d.]+$|^localhost$/, 'graphql');
  return basename(text).replace(/(?:\.introspection)?\.\w+$/, '');
}

function upstreamOf(title: string, options: WrapGraphqlOptions, settings: Settings): Upstream {
  return createUpstream({ title, schemes: {}, isRemote: false }, slugOf(title), options, settings);
}

async function introspect(g: GraphQL, sender: ReturnType<typeof graphqlSender>, signal: AbortSignal, name: string): Promise<unknown> {
  const text = g.getIntrospectionQuery({ descriptions: true, specifiedByUrl: true, inputValueDeprecation: true });
  const shorter = g.getIntrospectionQuery({ descriptions: true });
  for (const query of [text, shorter]) {
    const { answer, received } = await sender.send(
      { name: 'IntrospectionQuery', text: query, variables: {}, isRepeatable: true },
      { signal },
    );
    if (answer?.data) return answer.data;
    if (query === shorter || answer === undefined)
      throw new JexoError(
        'JEXO_DOCUMENT',
        `${name} does not say what it offers: ${answer?.errors?.[0]?.message ?? `HTTP ${received.status}`}.`,
        {
          where: sender.endpoint().href,
          next: 'Many services have introspection switched off. Give the schema as a file, and the address as endpoint.',
        },
      );
  }
  return undefined;
}

function settingsOf(upstream: Upstream, { endpoint, subscriptions }: WrapGraphqlOptions, name: string) {
  const host = typeof endpoint === 'string' && URL.canParse(endpoint) ? new URL(endpoint).host : undefined;
  return [
    ...neededFor(endpoint, `the address of ${name}`, false),
    ...neededFor(isEnvSetting(subscriptions) ? subscriptions : undefined, `the address of subscriptions of ${name}`, false),
    ...upstream.needed([[]], host),
  ];
}
