import { JexoError } from '../errors.js';
import { chainTools, filled } from '../offers/chain-tools.js';
import { offers, type Choice } from '../offers/choose.js';
import type { ServerDefinition } from '../offers/define-server.js';
import type { Offer } from '../offers/offer.js';
import { prompt } from '../offers/prompt.js';
import { resource } from '../offers/resource.js';
import type { Source } from '../offers/source.js';
import type { ViewOffer } from '../offers/view.js';
import { withViews } from '../offers/with-views.js';
import { apiKey, basic, bearer, clientCredentials, tokenExchange, type Auth } from '../sources/http/auth.js';
import { wrapDatabase } from '../sources/database/wrap-database.js';
import { wrapFolder } from '../sources/folder/wrap-folder.js';
import { wrapGraphql } from '../sources/graphql/wrap-graphql.js';
import { wrapTopics } from '../sources/live/wrap-topics.js';
import { wrapEndpoints } from '../sources/rest/wrap-endpoints.js';
import { view } from '../sources/views/view.js';
import { wrapRest } from '../sources/rest/wrap-rest.js';
import { buildLayer } from './plan-middleware.js';
import { aboutOf, chainsOf, layersOf, partsOf, promptsOf, readText, resourcesOf, viewsOf, type PlanPart } from './plan-parts.js';
import type { Plan } from './read-plan.js';

/** What a plan needs of those who can load modules and reach servers. */
export interface PlanTools {
  /** The offers of a module: its functions, or the server it exports. */
  functions(file: string): Promise<readonly (Offer | Source)[]>;
  server(place: string | readonly string[], options: Readonly<Record<string, unknown>>): Source;
}

/**
 * Makes a server's definition of a plan.
 * @throws JexoError JEXO_SETTING for a variable that is missing, JEXO_NAME_CLASH, and what its sources throw
 */
export async function buildPlan(
  plan: Plan,
  tools: PlanTools,
  values: Readonly<Record<string, string | undefined>>,
): Promise<ServerDefinition> {
  const shown: (Offer | Source)[] = [];
  const hidden: (Offer | Source)[] = [];
  for (const part of partsOf(plan, values)) (part.isHidden ? hidden : shown).push(...(await sourcesOf(part, tools)));
  const chains = chainsOf(plan, values);
  const prompts = promptsOf(plan, values).map(({ name, definition, messages }) =>
    prompt(
      name,
      definition as never,
      ((input: Record<string, string>) =>
        messages.map(({ role, content }) => ({ role, content: filled(content, input) as string }))) as never,
    ),
  );
  const resources = resourcesOf(plan, values).map(({ uri, definition, text, file }) =>
    resource(uri, definition, () => text ?? readText(file!)),
  );
  return {
    ...aboutOf(plan, values),
    ...(plan.middleware && { middleware: layersOf(plan, values).map(buildLayer) }),
    offers: withViews(
      [...shown, ...(chains.length > 0 ? [chainTools([...shown, ...hidden], chains)] : []), ...prompts, ...resources],
      viewsFor(plan, values),
    ),
  };
}

/** The views of a plan by the names of the tools that they are for. */
function viewsFor(plan: Plan, values: Readonly<Record<string, string | undefined>>): Record<string, ViewOffer> {
  return Object.fromEntries(
    viewsOf(plan, values).flatMap(({ name, of, definition, ...place }) => {
      const made = view(name, { ...definition, ...place } as never);
      return of.map((tool) => [tool, made] as const);
    }),
  );
}

async function sourcesOf(part: PlanPart, tools: PlanTools): Promise<readonly (Offer | Source)[]> {
  const { kind, place, choice } = part;
  const made: readonly (Offer | Source)[] = kind === 'functions' ? await tools.functions(place as string) : [sourceOf(part, tools)];
  return Object.keys(choice).length > 0 ? [offers(made, choice as Choice)] : made;
}

function sourceOf({ kind, place, options, where }: PlanPart, tools: PlanTools): Source {
  const { auth, ...rest } = options as { auth?: Readonly<Record<string, unknown>> };
  const given = { ...rest, ...(auth && { auth: authOf(auth) }) } as never;
  switch (kind) {
    case 'rest':
      return wrapRest(place as string, given);
    case 'endpoints':
      return wrapEndpoints(place as never, given);
    case 'graphql':
      return wrapGraphql(place as string, given);
    case 'database':
      return wrapDatabase(place as string, databaseOptions(rest) as never);
    case 'folder':
      return wrapFolder(place as string, folderOptions(rest) as never);
    case 'topics':
      return wrapTopics(place as string, given);
    case 'server':
      return tools.server(place as string, rest);
    default:
      throw new JexoError('JEXO_DEFINITION', `${kind} is no source.`, { where });
  }
}

/** `only` and `except` of an entry choose offers; a database's own are tables, and a folder's are files. */
export const databaseOptions = ({ onlyTables, exceptTables, ...rest }: Readonly<Record<string, unknown>>) => ({
  ...rest,
  ...(onlyTables !== undefined && { only: onlyTables }),
  ...(exceptTables !== undefined && { except: exceptTables }),
});
export const folderOptions = ({ files, exceptFiles, ...rest }: Readonly<Record<string, unknown>>) => ({
  ...rest,
  ...(files !== undefined && { only: files }),
  ...(exceptFiles !== undefined && { except: exceptFiles }),
});

/** `{ bearer: … }` as a way to prove who we are. */
function authOf(given: Readonly<Record<string, unknown>>): Auth {
  const [[kind, value]] = Object.entries(given) as [[string, never]];
  const { user, password } = value as { user: never; password: never };
  if (kind === 'bearer') return bearer(value);
  if (kind === 'apiKey') return apiKey(value);
  if (kind === 'basic') return basic(user, password);
  return kind === 'tokenExchange' ? tokenExchange(value) : clientCredentials(value);
}
