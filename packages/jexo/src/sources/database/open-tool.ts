import { JexoError } from '../../errors.js';
import type { Call } from '../../offers/call.js';
import { nearest } from '../../offers/nearest.js';
import type { ToolOffer } from '../../offers/offer.js';
import { tool } from '../../offers/tool.js';
import { cursorFor, readCursor, rowsAnswer, type RowsAnswer } from './answer-rows.js';
import type { Driver } from './driver.js';
import { pass } from './gate.js';
import { guideOf, tableGuide, type Guide, type Samples } from './guide.js';
import type { DatabaseContext } from './query-tool.js';
import { overSeen, type Seen, type SeenTable } from './restrict.js';

/** What the open tool is made of. */
export interface OpenToolContext extends DatabaseContext {
  /** In the names of the tools: `query_scales`. */
  readonly name: string;
  readonly functions: ReadonlySet<string>;
  /** Schemas and databases that may not stand before a table. */
  readonly schemas: ReadonlySet<string>;
  readonly guideTokens: number;
  readonly samples: ReadonlyMap<string, Samples>;
  /** What it is about, in a sentence. */
  readonly about?: string;
}

const dialectWords = { sqlite: 'SQLite', postgres: 'PostgreSQL', mysql: 'MariaDB/MySQL' } as const;

/** The tool that runs a statement of the model's own, and the one that tells the columns of tables. */
export function openTools(context: OpenToolContext): { readonly offers: readonly ToolOffer[]; readonly guide: Guide } {
  const guide = guideOf(context.seen.tables, context.guideTokens, context.samples);
  return { offers: guide.isWhole ? [queryTool(context, guide)] : [queryTool(context, guide), describeTool(context)], guide };
}

const describeName = (name: string) => `describe_${name}_tables`;

function queryTool(context: OpenToolContext, guide: Guide): ToolOffer {
  const { driver, seen, name, limits, functions, schemas, about } = context;
  const { dialect } = driver.place;
  const seconds = limits.timeoutMs / 1000;
  const description = [
    `Answers a question from the database ${name} with one SELECT statement in ${dialectWords[dialect]}'s SQL. It only reads.`,
    ...(about === undefined ? [] : [about]),
    `At most ${limits.maxRows} rows come at once, and a statement may run ${seconds} s; aggregate in the statement rather than fetch many rows.`,
    guide.isWhole ? 'Tables:' : `Ask ${describeName(name)} for the columns of a table first. Tables:`,
    guide.text,
  ].join('\n');
  const rules = { dialect, functions, hidden: seen.hidden, schemas };
  const run = async (
    { sql, cursor, explain = false }: { sql: string; cursor?: string; explain?: boolean },
    call: Call,
  ): Promise<Partial<RowsAnswer> & { plan?: string }> => {
    try {
      const passed = pass(sql, rules);
      const bound = overSeen(passed.sql, [], seen, driver, call.caller);
      const how = { ...limits, signal: call.signal };
      if (explain || passed.explain) return { plan: await driver.explain(bound.sql, bound.values, how) };
      const { skip = 0 } = cursor === undefined ? {} : readCursor(cursor, passed.sql);
      const found = await driver.readUntrusted(bound.sql, bound.values, { ...how, ...(skip > 0 && { skip }) });
      return rowsAnswer(found, () => cursorFor(passed.sql, { skip: skip + found.rows.length }));
    } catch (error) {
      throw forModel(withHints(error, seen, sql));
    }
  };
  const made: ToolOffer = tool(
    `query_${name}`,
    {
      title: `Query ${name}`,
      description,
      input: {
        type: 'object',
        properties: {
          sql: { type: 'string', description: 'one SELECT statement, without a semicolon', minLength: 1, maxLength: 20_000 },
          cursor: { type: 'string', description: 'the cursor of the last answer to the same statement, for the rows that follow' },
          explain: { type: 'boolean', description: "true answers with the database's plan instead of rows" },
        },
        required: ['sql'],
        additionalProperties: false,
      },
      output: {
        type: 'object',
        properties: {
          rows: { type: 'array', items: { type: 'object' } },
          note: { type: 'string', description: 'why the rows end here' },
          cursor: { type: 'string' },
          plan: { type: 'string' },
        },
      },
      annotations: { readOnlyHint: true, openWorldHint: false },
    },
    async (input, call) => ({ ...(await run(input, call)) }) as never,
  );
  return { ...made, where: driver.place.shown };
}

/** The database's own message, with the names that are most like those it does not know. */
function withHints(error: unknown, { tables, isReduced }: Seen, sql: string): unknown {
  if (!(error instanceof JexoError) || error.code !== 'JEXO_SQL') return error;
  const unknown = unknownName(error.message);
  if (unknown === undefined) return error;
  const bare = unknown.replace(/^.*\./, '');
  const mentioned = tables.filter(({ name }) => sql.toLowerCase().includes(name.toLowerCase()));
  const columns = (mentioned.length > 0 ? mentioned : tables).flatMap(({ columns: own }) => own.map(({ name }) => name));
  const isTable = /table|relation/i.test(error.message);
  const like = isTable
    ? nearest(
        bare,
        tables.map(({ name }) => name),
      )
    : nearest(bare, columns);
  const listed = isTable
    ? `The tables are: ${tables
        .slice(0, 30)
        .map(({ name }) => name)
        .join(', ')}.`
    : mentioned
        .slice(0, 3)
        .map(({ name, columns: own }) => `${name} has: ${own.map((column) => column.name).join(', ')}.`)
        .join(' ');
  return new JexoError('JEXO_SQL', error.message, {
    // Among what stands before a reduced statement, a place would mean nothing.
    ...(error.where !== undefined && !isReduced && { where: error.where }),
    next: [...(like === undefined ? [] : [`Did you mean ${like}?`]), listed].filter(Boolean).join(' ') || error.next,
    cause: error,
  });
}

/** What to do next stands in the message: it is all that a model reads. */
function forModel(error: unknown): unknown {
  if (!(error instanceof JexoError) || !['JEXO_SQL', 'JEXO_INPUT_INVALID'].includes(error.code)) return error;
  const place = error.where === undefined || error.message.includes(error.where) ? '' : ` (${error.where})`;
  const message = /[.!?]$/.test(error.message) ? error.message.replace(/([.!?])$/, `${place}$1`) : `${error.message}${place}.`;
  return new JexoError(error.code, `${message} ${error.next}`, {
    ...(error.where !== undefined && { where: error.where }),
    next: error.next,
    cause: error,
  });
}

function unknownName(message: string): string | undefined {
  const found =
    /no such (?:table|column): ([\w.$]+)/.exec(message) ??
    /(?:relation|column) "?([\w.$]+)"? does not exist/.exec(message) ??
    /Unknown column '([^']+)'/.exec(message) ??
    /Table '([^']+)' doesn't exist/.exec(message);
  return found?.[1];
}

function describeTool({ driver, seen, name, samples }: OpenToolContext): ToolOffer {
  const most = 20;
  const made = tool(
    describeName(name),
    {
      title: `Tables of ${name}`,
      description: `Tells the columns, keys and relations of tables of the database ${name}: those that are named, or those whose names, columns or comments hold a word.`,
      input: {
        type: 'object',
        properties: {
          tables: { type: 'array', items: { type: 'string' }, description: 'names of tables' },
          words: { type: 'string', description: 'words to find tables by' },
        },
        additionalProperties: false,
      },
      annotations: { readOnlyHint: true, openWorldHint: false },
    },
    ({ tables = [], words = '' }: { tables?: readonly string[]; words?: string }) => {
      const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
      const text = (table: SeenTable) =>
        [table.name, table.comment, ...table.columns.flatMap((column) => [column.name, column.comment])].join(' ').toLowerCase();
      const missing = tables.find((each) => !seen.tables.some(({ name: own, schema }) => [own, `${schema}.${own}`].includes(each)));
      if (missing !== undefined) {
        const like = nearest(
          missing,
          seen.tables.map((table) => table.name),
        );
        throw new JexoError('JEXO_INPUT_INVALID', `There is no table ${missing}.`, {
          where: 'tables',
          next: like === undefined ? 'Find tables by words.' : `Did you mean ${like}?`,
        });
      }
      const found = seen.tables.filter(
        (table) =>
          tables.some((each) => each === table.name || each === `${table.schema}.${table.name}`) ||
          (wanted.length > 0 && wanted.every((word) => text(table).includes(word))) ||
          (wanted.length === 0 && tables.length === 0),
      );
      const lines = found.slice(0, most).map((table) => tableGuide(table, 'full', samples.get(table.name)));
      const rest = found.slice(most).map((table) => table.name);
      if (lines.length === 0) return 'No table fits these words.';
      return [...lines, ...(rest.length > 0 ? [`${rest.length} more: ${rest.join(', ')}`] : [])].join('\n');
    },
  );
  return { ...made, where: driver.place.shown };
}

const sampledKinds = new Set(['text', 'enum', 'date', 'timestamp', 'timestamptz', 'any']);

/** Two values of each column of texts and dates, so that a model sees how they are written. Masked and filtered tables give none. */
export async function readSamples(
  driver: Driver,
  tables: readonly SeenTable[],
  signal: AbortSignal,
): Promise<ReadonlyMap<string, Samples>> {
  const found = new Map<string, Samples>();
  for (const table of tables.slice(0, 40)) {
    if (table.filter !== undefined) continue;
    const columns = table.columns.filter(({ name, type }) => !table.masked.has(name) && sampledKinds.has(type.kind));
    if (columns.length === 0) continue;
    const from = table.schema === undefined ? driver.quote(table.name) : `${driver.quote(table.schema)}.${driver.quote(table.name)}`;
    const { rows } = await driver.read(`select ${columns.map(({ name }) => driver.quote(name)).join(', ')} from ${from} limit 20`, [], {
      maxRows: 20,
      maxBytes: 100_000,
      timeoutMs: 5000,
      signal,
    });
    found.set(
      table.name,
      new Map(
        columns.map(({ name }, index) => {
          const values = rows.map((row) => row[index]).filter((value) => value !== null && value !== '' && String(value).length <= 40);
          return [name, [...new Set(values)].slice(0, 2)];
        }),
      ),
    );
  }
  return found;
}
