import { readdir, readFile } from 'node:fs/promises';
import { basename, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { isJexoError, JexoError, messageOf } from '../../errors.js';
import type { Offer } from '../../offers/offer.js';
import type { Omission, ReadContext, Settings, Source, SourceContents } from '../../offers/source.js';
import { traced } from './traced.js';
import { isEnvSetting, readSetting, type EnvSetting } from '../setting.js';
import { watchFolder } from '../watch-folder.js';
import type { Driver } from './driver.js';
import { openDriver } from './open-driver.js';
import { readQuery, type QueryText } from './named-query.js';
import { remarksOn } from './remarks.js';
import { openTools, readSamples } from './open-tool.js';
import { readPlace, type Place } from './place.js';
import { queryTool, type DatabaseContext } from './query-tool.js';
import { restrict, type Restrictions } from './restrict.js';
import { tableResources } from './table-resources.js';

/** How the open query tool behaves. */
export interface OpenQueryOptions {
  /** What the database is about, in a sentence: it stands in the description. */
  readonly about?: string;
  /** Tokens the guide to the schema may take in the description. Default 1500. */
  readonly guideTokens?: number;
  /** Shows two values of each column of texts in the guide. Default true. */
  readonly samples?: boolean;
  /** Functions of your own that it may call, by their bare names. They must only read. */
  readonly functions?: readonly string[];
  /** Offers it although the user may do more than read and write rows. Default false. */
  readonly anyUser?: boolean;
}

/** What `wrapDatabase` offers of a database, and how it reaches it. */
export interface WrapDatabaseOptions extends Restrictions {
  /** Stands in the names of its tools and in the URIs of its rows. Default: the database's own name. */
  readonly name?: string;
  /** Named queries: a folder of `.sql` files, or their texts by name. Default: none. */
  readonly queries?: string | URL | Readonly<Record<string, string>>;
  /** Offers tables and views as resources. Default true. */
  readonly tables?: boolean;
  /** Offers a tool that runs one statement of the model's own, which only reads. Default true. */
  readonly query?: boolean | OpenQueryOptions;
  /** Rows in one answer of the open tool, and in one page of a table. Default 200. */
  readonly maxRows?: number;
  /** Bytes of the rows of one answer. Default 200,000. */
  readonly maxBytes?: number;
  /** Bytes of one blob in an answer; a longer one is answered by its length. Default 65,536. */
  readonly maxBlobBytes?: number;
  /** Milliseconds that a statement may run. Default 10,000. */
  readonly timeoutMs?: number;
  /** Milliseconds between two looks for changes while somebody is subscribed. PostgreSQL tells of them by itself. Default 1000. */
  readonly changesMs?: number;
  /** A SELECT whose answer differs when something has changed: asked every `changesMs` while somebody is subscribed, beside the database's own means. */
  readonly changesQuery?: string;
  /** Connections, which all sessions share. */
  readonly pool?: {
    /** At once. Default 10. */
    readonly connections?: number;
    /** Calls that wait for one; further ones are refused. Default 200. */
    readonly queue?: number;
    /** Milliseconds after which one that nobody uses is closed. Default 30,000. */
    readonly idleMs?: number;
    /** Milliseconds it may take to connect. Default 5000. */
    readonly connectMs?: number;
  };
}

/**
 * Offers a database: named queries as tools, tables and rows as resources, and one tool that runs a SELECT of the model's own.
 *
 * @param place a file of SQLite, or a URL that begins with `postgres://`, `mysql://` or `mariadb://`; `env('SCALES_DB')` keeps a password out of the code
 * @throws when it is read: JexoError JEXO_PACKAGE_MISSING, JEXO_TARGET_MISSING, JEXO_SETTING, JEXO_DATABASE, JEXO_CHOICE
 * @example
 * wrapDatabase(env('SCALES_DB'), { queries: './queries', except: ['keepers.phone'] })
 */
export function wrapDatabase(place: string | URL | EnvSetting, options: WrapDatabaseOptions = {}): Source {
  return databaseSource(place, options, undefined);
}

interface Frozen {
  readonly queries: Readonly<Record<string, string>>;
}

function databaseSource(given: string | URL | EnvSetting, options: WrapDatabaseOptions, frozen: Frozen | undefined): Source {
  let driver: Driver | undefined;
  const placeOf = (settings: Settings): Place => {
    if (isEnvSetting(given)) return readPlace(readSetting(given, 'The address of the database', settings));
    return readPlace(given instanceof URL ? given.href : given);
  };
  const shownName =
    options.name ?? (isEnvSetting(given) ? given.variable.toLowerCase().replace(/_(?:db|database|url)$/, '') : safePlace(String(given)));
  const folder = frozen === undefined ? folderOf(options.queries) : undefined;
  const settings = isEnvSetting(given)
    ? [{ variable: given.variable, purpose: `the address of the database ${shownName}`, secret: true }]
    : [];

  return {
    name: shownName,
    async read(context): Promise<SourceContents> {
      const place = placeOf(context.settings);
      if (driver === undefined || driver.place.address !== place.address) {
        await driver?.close();
        driver = traced(openDriver(place, options));
      }
      const texts = frozen?.queries ?? (await queryTexts(options.queries));
      const contents = await contentsOf(driver, slug(options.name ?? place.name), texts, options, context);
      return { ...contents, settings, files: folder === undefined ? [] : Object.keys(texts) };
    },
    ...(folder !== undefined && { watch: (changed: () => void) => watchFolder(folder, changed, (name) => name.endsWith('.sql')) }),
    async freeze() {
      // The path of their folder stays on this machine.
      const texts = Object.entries(await queryTexts(options.queries)).map(([place, text]) => [basename(place), text] as const);
      return texts.length === 0 ? undefined : ({ queries: Object.fromEntries(texts) } satisfies Frozen);
    },
    thaw: (value) => databaseSource(given, options, value as Frozen),
    gauges: () => (driver === undefined ? {} : { connections: driver.open(), waiting: driver.waiting() }),
    async close() {
      await driver?.close();
    },
  };
}

function safePlace(text: string): string {
  try {
    return readPlace(text).name;
  } catch {
    return 'database'; // what is wrong with the place is said when it is read
  }
}

/** A name for tools and URIs: letters, digits and underscores. */
const slug = (text: string) =>
  text
    .toLowerCase()
    .replaceAll(/[^a-z0-9]+/g, '_')
    .replace(/^_+|_+$/g, '')
    .replace(/^(?=\d)/, 'db_') || 'database';

const folderOf = (queries: WrapDatabaseOptions['queries']): string | undefined =>
  queries instanceof URL ? fileURLToPath(queries) : typeof queries === 'string' ? queries : undefined;

/** The texts of the queries, by their files or names. @throws JexoError JEXO_TARGET_MISSING */
async function queryTexts(queries: WrapDatabaseOptions['queries']): Promise<Readonly<Record<string, string>>> {
  const folder = folderOf(queries);
  if (folder === undefined) return (queries as Readonly<Record<string, string>> | undefined) ?? {};
  let names: string[];
  try {
    names = (await readdir(folder)).filter((name) => name.endsWith('.sql')).sort();
  } catch (error) {
    throw new JexoError('JEXO_TARGET_MISSING', `The folder of queries ${folder} cannot be read: ${messageOf(error)}`, {
      where: folder,
      cause: error,
    });
  }
  return Object.fromEntries(
    await Promise.all(names.map(async (name) => [join(folder, name), await readFile(join(folder, name), 'utf8')] as const)),
  );
}

async function contentsOf(
  driver: Driver,
  name: string,
  texts: Readonly<Record<string, string>>,
  options: WrapDatabaseOptions,
  { signal, progress }: ReadContext,
): Promise<SourceContents> {
  progress(0, 3, `reading the schema of ${driver.place.shown}`);
  const tables = await driver.tables(signal);
  const seen = restrict(tables, options);
  const { maxRows = 200, maxBytes = 200_000, timeoutMs = 10_000, changesMs = 1000 } = options;
  const context: DatabaseContext = { driver, seen, limits: { maxRows, maxBytes, timeoutMs } };
  progress(1, 3, 'reading the queries');
  const { offers: queries, omitted, read } = await readQueries(texts, context);
  progress(2, 3, 'making the guide');
  const open = options.query === false ? { offers: [], omitted: [], made: undefined } : await openOffers(context, name, options, signal);
  const resources =
    options.tables === false
      ? []
      : tableResources({
          ...context,
          scheme: name.replaceAll('_', '-'),
          pageRows: maxRows,
          changesMs,
          ...(options.changesQuery !== undefined && { changesQuery: options.changesQuery }),
        });
  progress(3, 3);
  return {
    offers: [...queries, ...open.offers, ...resources],
    omitted: [...omitted, ...open.omitted],
    excluded: [...seen.hidden],
    notes: notesOn(options, Object.keys(texts).length > 0, driver.place.shown, open.offers.length > 0 ? `query_${name}` : undefined),
    remarks: remarksOn(read, options.tables === false ? [] : seen.tables, open.made),
  };
}

/** Without a choice, a database is offered in a way that its owner should know of. */
function notesOn({ tables = true }: WrapDatabaseOptions, hasQueries: boolean, shown: string, open: string | undefined): string[] {
  if (hasQueries || (!tables && open === undefined)) return [];
  const what = [
    ...(tables ? ['its tables and rows as resources'] : []),
    ...(open === undefined ? [] : [`any SELECT statement by ${open}`]),
  ];
  return [`No named queries were given for ${shown}, so it offers ${what.join(' and ')}.`];
}

async function readQueries(
  texts: Readonly<Record<string, string>>,
  context: DatabaseContext,
): Promise<{ offers: Offer[]; omitted: Omission[]; read: QueryText[] }> {
  const offers: Offer[] = [];
  const read: QueryText[] = [];
  const omitted: Omission[] = [];
  for (const [place, text] of Object.entries(texts)) {
    const name = basename(place).replace(/\.sql$/, '');
    try {
      const query = readQuery(name, text, place, context.driver.place.dialect);
      offers.push(await queryTool(query, context));
      read.push(query);
    } catch (error) {
      // A query is omitted for what is wrong with it, not for a database that is away.
      if (!isJexoError(error) || !['JEXO_DEFINITION', 'JEXO_SQL', 'JEXO_SCHEMA_INVALID'].includes(error.code)) throw error;
      omitted.push({
        name,
        what: 'query',
        where: error.where ?? place,
        why: error.message.replace(/\.$/, ''),
        next: error.next,
        code: error.code,
      });
    }
  }
  return { offers, omitted, read };
}

async function openOffers(
  context: DatabaseContext,
  name: string,
  { query }: WrapDatabaseOptions,
  signal: AbortSignal,
): Promise<{ offers: readonly Offer[]; omitted: Omission[]; made?: Parameters<typeof remarksOn>[2] }> {
  const {
    about,
    guideTokens = 1500,
    samples = true,
    functions = [],
    anyUser = false,
  }: OpenQueryOptions = typeof query === 'object' ? query : {};
  const { driver, seen } = context;
  const power = anyUser ? undefined : await driver.power();
  if (power !== undefined)
    return {
      offers: [],
      omitted: [
        {
          name: `query_${name}`,
          what: 'tool',
          where: driver.place.shown,
          why: `the user of the connection ${power}, and a statement of a model's own could make use of it`,
          next: 'Connect as a user who may only read these tables (docs/databases.md has the grants), or insist: --any-user at the terminal, query: { anyUser: true } in code.',
          code: 'JEXO_DATABASE',
        },
      ],
    };
  const allowed = new Set([...(await driver.functions()), ...functions.map((each) => each.toLowerCase())]);
  const { own, others } = await driver.schemas();
  const found = openTools({
    ...context,
    name,
    functions: allowed,
    schemas: new Set(seen.isReduced ? [...own, ...others] : others),
    guideTokens,
    samples: samples ? await readSamples(driver, seen.tables, signal) : new Map(),
    ...(about !== undefined && { about }),
  });
  return { offers: found.offers, omitted: [], made: { guide: found.guide, name, budget: guideTokens } };
}
